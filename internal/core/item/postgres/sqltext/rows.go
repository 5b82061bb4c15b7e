package sqltext

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"regexp"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// LobPiece is the number of bytes of a large object in one statement.
const LobPiece = 1 << 18

// The statements in sealed rows, besides COPY.
var (
	Fixed      = map[string]bool{"SET client_encoding = 'UTF8'": true, "SET standard_conforming_strings = on": true, "SET search_path = ''": true}
	copyIn     = regexp.MustCompile(`^COPY ` + Identifier + `\.` + Identifier + `(?: \(` + Identifier + `(?:, ` + Identifier + `)*\))? FROM stdin$`)
	CopyTo     = regexp.MustCompile(`^COPY ` + Identifier + `\.` + Identifier)
	SetValue   = regexp.MustCompile(`^SELECT pg_catalog\.setval\('((?:[^']|'')*)', (-?[0-9]+), (true|false)\)$`)
	CreateLob  = regexp.MustCompile(`^SELECT pg_catalog\.lo_create\('([0-9]+)'\)$`)
	PutLob     = regexp.MustCompile(`^SELECT pg_catalog\.lo_put\('([0-9]+)', ([0-9]+), '\\x([0-9a-f]*)'\)$`)
	OwnLob     = regexp.MustCompile(`^ALTER LARGE OBJECT [0-9]+ OWNER TO ` + Identifier + `$`)
	GrantLob   = regexp.MustCompile(`^GRANT (?:SELECT|UPDATE) ON LARGE OBJECT [0-9]+ TO (?:PUBLIC|` + Identifier + `)(?: WITH GRANT OPTION)?$`)
	RevokeLob  = regexp.MustCompile(`^REVOKE ALL ON LARGE OBJECT [0-9]+ FROM ` + Identifier + `$`)
	commentLob = regexp.MustCompile(`^COMMENT ON LARGE OBJECT [0-9]+ IS E'(?:[^'\\]|''|\\.)*'$`)
)

// View matches the name of a materialized view.
var View = regexp.MustCompile(`^` + Identifier + `\.` + Identifier + `$`)

// isReplayed reports whether a line of the sealed rows, without its semicolon, is a statement that
// Seal writes.
func isReplayed(sql string) bool {
	for _, one := range []*regexp.Regexp{SetValue, CreateLob, PutLob, OwnLob, GrantLob, RevokeLob, commentLob} {
		if one.MatchString(sql) {
			return true
		}
	}
	return Fixed[sql]
}

// MaxStatement limits a statement in the sealed rows, in bytes. A piece of a large object is the
// longest.
const MaxStatement = 4*LobPiece + 1<<16

// Scan parses the data that Seal wrote: comments and statements of one line each, and COPY followed
// by rows.
func Scan(data io.Reader, comment, run func(line string) error, rows func(sql string, rows io.Reader) error) error {
	r := bufio.NewReaderSize(data, 1<<20)
	for {
		line, err := readStatement(r)
		if errors.Is(err, io.EOF) && line == "" {
			return nil
		}
		if fault.KindOf(err) == fault.Hostile {
			return err
		}
		if err != nil {
			return fault.Wrap(fault.Damaged, err, "the sealed rows are incomplete")
		}
		sql := strings.TrimSuffix(strings.TrimSuffix(line, "\n"), ";")
		switch {
		case sql == "":
		case strings.HasPrefix(sql, "-- "):
			if err := comment(sql); err != nil {
				return err
			}
		case copyIn.MatchString(sql):
			c := &copied{r: r, start: true}
			if err := rows(sql, c); err != nil {
				return err
			}
			if _, err := io.Copy(io.Discard, c); err != nil {
				return err
			}
		case isReplayed(sql):
			if err := run(sql); err != nil {
				return err
			}
		default:
			return fault.New(fault.Hostile, "the sealed rows contain a statement that Move Kit does not write")
		}
	}
}

// readStatement reads a line, up to MaxStatement bytes.
func readStatement(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		piece, err := r.ReadSlice('\n')
		if line = append(line, piece...); !errors.Is(err, bufio.ErrBufferFull) {
			return string(line), err
		}
		if len(line) > MaxStatement {
			return "", fault.New(fault.Hostile, "the sealed rows contain a statement of more than %d bytes", MaxStatement)
		}
	}
}

// copied reads the rows after a COPY, up to the line that ends them.
type copied struct {
	r     *bufio.Reader
	start bool   // at the start of a line
	rest  []byte // rest of a line that was not returned yet
	done  bool
}

func (c *copied) Read(p []byte) (n int, err error) {
	for n < len(p) {
		if len(c.rest) == 0 {
			if c.done {
				break
			}
			line, err := c.r.ReadSlice('\n')
			if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
				return n, fault.Wrap(fault.Damaged, err, "the sealed rows are incomplete")
			}
			if c.start && string(line) == "\\.\n" {
				c.done = true
				break
			}
			c.start = err == nil
			c.rest = line
		}
		m := copy(p[n:], c.rest)
		c.rest = c.rest[m:]
		n += m
	}
	if n == 0 && c.done {
		return 0, io.EOF
	}
	return n, nil
}

// Lines passes on the rows of a COPY one by one. The pieces it gets need not end at the end of a row.
type Lines struct {
	Each func(line []byte) error // without the newline
	rest []byte
}

// Write takes a piece.
func (l *Lines) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		i := bytes.IndexByte(p, '\n')
		if i < 0 {
			l.rest = append(l.rest, p...)
			break
		}
		line := p[:i]
		if len(l.rest) > 0 {
			l.rest = append(l.rest, line...)
			line = l.rest
		}
		if err := l.Each(line); err != nil {
			return 0, err
		}
		l.rest, p = l.rest[:0], p[i+1:]
	}
	return n, nil
}

// RowOf parses a line of COPY text.
func RowOf(line []byte) dbprint.Row {
	return dbprint.Row{Hash: digest.Of(line), Cells: func() []string {
		cells := strings.Split(string(line), "\t")
		for i, c := range cells {
			if c == `\N` {
				cells[i] = "NULL"
			}
		}
		return cells
	}}
}
