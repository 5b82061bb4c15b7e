package sqltext

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"fmt"
	"strings"

	"movekit/internal/core/fault"
)

// A row of more than LongRow bytes is read, and loaded, in pieces, so that it is never in memory as
// a whole.
const (
	LongRow = 8 << 20
	Piece   = 12 << 20 // bytes of a cell at once; the server reads all of it for each piece
)

// LongLine is a row that is too long to be read at once: its beginning, and a reader for the rest.
type LongLine struct {
	begin []byte
	r     *bufio.Reader
}

func (l *LongLine) next() (byte, error) {
	if len(l.begin) > 0 {
		b := l.begin[0]
		l.begin = l.begin[1:]
		return b, nil
	}
	b, err := l.r.ReadByte()
	if err != nil {
		err = fault.Wrap(fault.Damaged, err, "the sealed rows are incomplete")
	}
	return b, err
}

// plain returns the next buffered part of a literal that has no special characters, at most most
// bytes.
func (l *LongLine) plain(hexed bool, most int) []byte {
	from := l.begin
	if len(from) == 0 {
		from, _ = l.r.Peek(l.r.Buffered())
	}
	from = from[:min(len(from), max(0, most))]
	n := 0
	if hexed {
		for n < len(from) && (from[n] >= '0' && from[n] <= '9' || from[n] >= 'a' && from[n] <= 'f') {
			n++
		}
	} else if n = bytes.IndexAny(from, `'\\`); n < 0 {
		n = len(from)
	}
	if len(l.begin) > 0 {
		l.begin = l.begin[n:]
	} else {
		l.r.Discard(n) //nolint:errcheck // it is buffered
	}
	return from[:n]
}

// Insert loads the row with statements that it passes to run. The pieces of each long cell are put into
// session variables first. sorts has the sort of each column. It returns whether the statement ends with
// the row.
func (l *LongLine) Insert(head string, sorts map[string]Sort, run func(sql string) error) (last bool, err error) {
	refused := fault.New(fault.Hostile, "the sealed rows contain something that Move Kit does not write")
	names := namesIn(head)
	if b, err := l.next(); err != nil || b != '(' {
		return false, orRefused(err, refused)
	}
	sql := []byte(strings.TrimSuffix(head, "\n") + " (")
	var variables []string
	for i := 0; ; i++ {
		cell, used, end, err := l.literal(i, run)
		if err != nil {
			return false, err
		}
		switch {
		case used != nil && i < len(names) && sorts[names[i]] != Binary:
			cell = []byte("convert(concat(" + strings.Join(used, ", ") + ") USING utf8mb4)")
		case used != nil:
			cell = []byte("concat(" + strings.Join(used, ", ") + ")")
		case literalEnd(cell, 0) != len(cell):
			return false, refused
		}
		for _, v := range used {
			variables = append(variables, v+" = NULL")
		}
		sql = append(sql, cell...)
		if end == ')' {
			break
		}
		if end != ',' {
			return false, refused
		}
		sql = append(sql, ',')
	}
	if err := run(string(append(sql, ')'))); err != nil {
		return false, err
	}
	if len(variables) > 0 {
		if err := run("SET " + strings.Join(variables, ", ")); err != nil {
			return false, err
		}
	}
	b, err := l.next()
	if err != nil || b != ',' && b != ';' {
		return false, orRefused(err, refused)
	}
	if n, err := l.next(); err != nil || n != '\n' {
		return false, orRefused(err, refused)
	}
	return b == ';', nil
}

func orRefused(err, refused error) error {
	if err != nil {
		return err
	}
	return refused
}

// literal parses a literal and the byte after it. The pieces of a long literal are put into session
// variables.
func (l *LongLine) literal(i int, run func(sql string) error) (cell []byte, variables []string, end byte, err error) {
	inside, hexed := false, false
	var sql []byte
	flush := func() error {
		variables = append(variables, fmt.Sprintf("@movekit_%d_%d", i, len(variables)))
		sql = append(sql[:0], "SET "+variables[len(variables)-1]+" = _binary "...)
		used := len(cell)
		if hexed {
			used -= used % 2
			n, _ := hex.Decode(cell, cell[:used]) // into the same memory; it has only digits
			sql = AppendText(sql, cell[:n])
		} else {
			sql = append(append(append(sql, '\''), cell...), '\'')
		}
		cell = append(cell[:0], cell[used:]...)
		return run(string(sql))
	}
	for {
		b, err := l.next()
		if err != nil {
			return nil, nil, 0, err
		}
		switch {
		case !inside && b == '\'' && (len(cell) == 0 || string(cell) == "x"):
			inside, hexed = true, len(cell) == 1
			cell = cell[:0]
		case !inside && (b == ',' || b == ')'):
			return cell, nil, b, nil
		case !inside:
			if cell = append(cell, b); len(cell) > 1000 {
				return nil, nil, 0, fault.New(fault.Hostile, "the sealed rows contain something that Move Kit does not write")
			}
		case b == '\'':
			if variables != nil {
				if err := flush(); err != nil {
					return nil, nil, 0, err
				}
				cell = nil
			} else {
				open := "'"
				if hexed {
					open = "x'"
				}
				cell = append(append([]byte(open), cell...), '\'')
			}
			end, err := l.next()
			return cell, variables, end, err
		case hexed && !(b >= '0' && b <= '9' || b >= 'a' && b <= 'f'):
			return nil, nil, 0, fault.New(fault.Hostile, "the sealed rows contain something that Move Kit does not write")
		default:
			cell = append(cell, b)
			if b == '\\' {
				if b, err = l.next(); err != nil {
					return nil, nil, 0, err
				}
				cell = append(cell, b)
			}
			cell = append(cell, l.plain(hexed, Piece-len(cell))...)
			if len(cell) >= Piece {
				if err := flush(); err != nil {
					return nil, nil, 0, err
				}
			}
		}
	}
}

// namesIn returns the columns in INSERT INTO `t` (`a`,`b`) VALUES.
func namesIn(head string) (out []string) {
	_, rest := cutName([]byte(head)[len("INSERT INTO "):])
	for len(rest) > 2 {
		var name string
		if name, rest = cutName(rest[strings.IndexByte(string(rest), '`'):]); name == "" {
			break
		}
		out = append(out, name)
		if !strings.HasPrefix(string(rest), ",") {
			break
		}
	}
	return out
}
