package sqltext

import (
	"bufio"
	"bytes"
	"errors"
	"io"

	"movekit/internal/core/fault"
)

// Scan parses the sealed SQL: it skips definitions, and passes rows to row. last means that a
// statement ends with the row. long, if not nil, gets the long rows.
func Scan(data io.Reader, long func(table, head string, l *LongLine) (last bool, err error), row func(table, head string, line []byte, last bool) error) error {
	r := bufio.NewReaderSize(data, 1<<20)
	early := func(err error) error {
		return fault.Wrap(fault.Damaged, err, "the sealed rows are incomplete")
	}
	var line []byte
	var err error
	head, table, delimiter := "", "", ""
	for {
		most := 0
		if long != nil && head != "" && delimiter == "" {
			most = LongRow
		}
		if line, err = readLine(r, line[:0], most); errors.Is(err, errLong) {
			last, err := long(table, head, &LongLine{line, r})
			if err != nil {
				return err
			}
			if last {
				head = ""
			}
			continue
		}
		if errors.Is(err, io.EOF) && len(line) == 0 {
			if head != "" || delimiter != "" {
				return early(io.ErrUnexpectedEOF)
			}
			return nil
		}
		if err != nil {
			return early(err)
		}
		switch {
		case delimiter != "":
			if bytes.Equal(line, []byte(delimiter)) {
				delimiter = ""
			}
		case head != "":
			rest, err := skipRow(line, nil)
			if err != nil {
				return err
			}
			if len(rest) != 1 || rest[0] != ',' && rest[0] != ';' {
				return fault.New(fault.Hostile, "the sealed rows contain something that Move Kit does not write")
			}
			last := rest[0] == ';'
			if err := row(table, head, line[:len(line)-1], last); err != nil {
				return err
			}
			if last {
				head = ""
			}
		case bytes.HasPrefix(line, []byte("INSERT INTO `")):
			if table = insertedInto(line); table == "" {
				return fault.New(fault.Hostile, "the sealed rows contain a statement that Move Kit does not write")
			}
			head = string(line)
		case bytes.HasPrefix(line, []byte("DELIMITER ")):
			if delimiter = string(line[len("DELIMITER "):]); delimiter == ";" {
				delimiter = ""
			}
		}
	}
}

// errLong means that a line exceeds the requested length.
var errLong = errors.New("the line is long")

// readLine reads a line without its newline. If the line is longer than most bytes (0 means no
// limit), it returns the beginning and errLong.
func readLine(r *bufio.Reader, line []byte, most int) ([]byte, error) {
	for {
		piece, err := r.ReadSlice('\n')
		line = append(line, piece...)
		switch {
		case most > 0 && len(line) > most && err != nil:
			return line, errLong
		case err == nil:
			return line[:len(line)-1], nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return line, err
		}
	}
}

// insertedInto returns the table in INSERT INTO `t` (`a`,`b`) VALUES, or "" for any other
// statement.
func insertedInto(line []byte) string {
	rest := line[len("INSERT INTO "):]
	table, rest := cutName(rest)
	rest, ok := bytes.CutPrefix(rest, []byte(" ("))
	for ok && !bytes.Equal(rest, []byte(") VALUES")) {
		var name string
		if name, rest = cutName(rest); name == "" {
			return ""
		}
		rest = bytes.TrimPrefix(rest, []byte(","))
	}
	if !ok {
		return ""
	}
	return table
}

// cutName splits off a quoted name. If there is none, it returns "" and nothing.
func cutName(b []byte) (string, []byte) {
	if len(b) == 0 || b[0] != '`' {
		return "", nil
	}
	for i := 1; i < len(b); i++ {
		if b[i] != '`' {
			continue
		}
		if i+1 < len(b) && b[i+1] == '`' {
			i++
			continue
		}
		return Unquoted(string(b[:i+1])), b[i+1:]
	}
	return "", nil
}
