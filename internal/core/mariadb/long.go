package mariadb

import (
	"bufio"
	"context"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/served"
)

// A row of more than longRow bytes is read, and loaded, in pieces of its cells:
// so that it need not be held in memory, not even once.
const (
	longRow = 8 << 20
	piece   = 8 << 20 // bytes of a cell at once: a server reads all of it for each
)

// large reports whether cells of a type can make a row long.
func large(dataType string) bool {
	switch dataType {
	case "mediumtext", "longtext", "mediumblob", "longblob", "json":
		return true
	}
	return false
}

// longKeys returns the keys of a table's long rows, each as a condition. A table
// without a key has none: its rows are read whole.
func (c *session) longKeys(ctx context.Context, t *table) (where string, keys []string, err error) {
	var sizes []string
	for _, col := range t.cols {
		if col.large {
			sizes = append(sizes, "coalesce(length("+quoted(col.name)+"), 0)")
		}
	}
	if len(sizes) == 0 || len(t.Key) == 0 {
		return "", nil, nil
	}
	size := strings.Join(sizes, " + ")
	var conditions []string
	for _, k := range t.Key {
		value := "quote(" + quoted(k) + ")"
		if i := slices.IndexFunc(t.cols, func(col column) bool { return col.name == k }); i >= 0 && t.cols[i].sort == binary {
			value = "concat('x\\'', hex(" + quoted(k) + "), '\\'')"
		}
		conditions = append(conditions, "concat("+literal(quoted(k)+" = ")+", "+value+")")
	}
	keys, err = c.column(ctx, fmt.Sprintf("SELECT concat_ws(' AND ', %s) FROM %s WHERE %s > %d", strings.Join(conditions, ", "), quoted(t.Name), size, longRow))
	if len(keys) > 0 {
		where = fmt.Sprintf(" WHERE %s <= %d", size, longRow)
	}
	return where, keys, err
}

// long writes a long row, and returns its hash and its length.
func (c *session) long(ctx context.Context, t *table, key string, w io.Writer) (digest.Sum, int64, error) {
	h := digest.New()
	n := int64(0)
	put := func(b []byte) error {
		h.Write(b)
		n += int64(len(b))
		_, err := w.Write(b)
		return err
	}
	var buf []byte
	for i, col := range t.cols {
		before := byte(',')
		if i == 0 {
			before = '('
		}
		if err := put([]byte{before}); err != nil {
			return digest.Sum{}, 0, err
		}
		if col.large {
			if err := c.longCell(ctx, t, col, key, put); err != nil {
				return digest.Sum{}, 0, err
			}
			continue
		}
		err := c.raw(ctx, "SELECT "+col.read()+" FROM "+quoted(t.Name)+" WHERE "+key, func(cells []driver.Value) (err error) {
			if buf, err = appendRow(buf[:0], []column{col}, cells); err != nil {
				return err
			}
			return put(buf[1 : len(buf)-1])
		})
		if err != nil {
			return digest.Sum{}, 0, err
		}
	}
	err := put([]byte{')'})
	return h.Sum(), n, err
}

// longCell writes one cell piece by piece.
func (c *session) longCell(ctx context.Context, t *table, col column, key string, put func([]byte) error) error {
	bytes := quoted(col.name)
	if col.sort != binary {
		bytes = "cast(convert(" + bytes + " USING utf8mb4) AS binary)"
	}
	from := " FROM " + quoted(t.Name) + " WHERE " + key
	size, err := c.one(ctx, "SELECT coalesce(length("+bytes+"), -1)"+from)
	if err != nil {
		return err
	}
	n, err := strconv.ParseInt(size[0], 10, 64)
	if err != nil || n < 0 {
		return put([]byte("NULL"))
	}
	open := "'"
	if col.sort == binary {
		open = "x'"
	}
	if err := put([]byte(open)); err != nil {
		return err
	}
	var buf []byte
	for at := int64(1); at <= n; at += piece {
		err := c.raw(ctx, fmt.Sprintf("SELECT substring(%s, %d, %d)%s", bytes, at, piece, from), func(cells []driver.Value) error {
			v, _ := cells[0].([]byte)
			if col.sort == binary {
				buf = hex.AppendEncode(buf[:0], v)
				return put(buf)
			}
			buf = appendText(buf[:0], v)
			return put(buf[1 : len(buf)-1])
		})
		if err != nil {
			return err
		}
	}
	return put([]byte("'"))
}

// longLine is a row that is too long to be read at once: its beginning, and the
// rest where it is read from.
type longLine struct {
	begin []byte
	r     *bufio.Reader
}

func (l *longLine) next() (byte, error) {
	if len(l.begin) > 0 {
		b := l.begin[0]
		l.begin = l.begin[1:]
		return b, nil
	}
	b, err := l.r.ReadByte()
	if err != nil {
		err = fault.Wrap(fault.Damaged, err, "the rows of the sealed database end early")
	}
	return b, err
}

// insertLong loads a long row: each of its long cells grows in a variable of the
// server's session. It returns whether a statement ends with the row.
func insertLong(ctx context.Context, c *session, head string, cols map[string]sort, l *longLine) (last bool, err error) {
	refused := fault.New(fault.Hostile, "the rows of the sealed database hold something that Move Kit does not write")
	names := namesIn(head)
	if b, err := l.next(); err != nil || b != '(' {
		return false, orRefused(err, refused)
	}
	sql := []byte(strings.TrimSuffix(head, "\n") + " (")
	var variables []string
	for i := 0; ; i++ {
		cell, used, end, err := longLiteral(ctx, c, i, l)
		if err != nil {
			return false, err
		}
		switch {
		case used != "" && i < len(names) && cols[names[i]] != binary:
			cell = []byte("convert(" + used + " USING utf8mb4)")
		case used != "":
			cell = []byte(used)
		case literalEnd(cell, 0) != len(cell):
			return false, refused
		}
		if used != "" {
			variables = append(variables, used+" = NULL")
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
	if err := c.run(ctx, string(append(sql, ')'))); err != nil {
		return false, err
	}
	if len(variables) > 0 {
		if err := c.run(ctx, "SET "+strings.Join(variables, ", ")); err != nil {
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

// longLiteral reads a literal and the byte after it. A long one is put into a
// variable of the session, piece by piece.
func longLiteral(ctx context.Context, c *session, i int, l *longLine) (cell []byte, variable string, end byte, err error) {
	inside, hexed := false, false
	flush := func() error {
		digits := cell
		if hexed && len(digits)%2 == 1 {
			digits = digits[:len(digits)-1]
		}
		rest := string(cell[len(digits):])
		start := "_binary '"
		if hexed {
			start = "x'"
		}
		from := "''"
		if variable != "" {
			from = variable
		}
		variable = fmt.Sprintf("@movekit_%d", i)
		sql := "SET " + variable + " = concat(" + from + ", " + start + string(digits) + "')"
		cell = append(cell[:0], rest...)
		return c.run(ctx, sql)
	}
	for {
		b, err := l.next()
		if err != nil {
			return nil, "", 0, err
		}
		switch {
		case !inside && b == '\'' && (len(cell) == 0 || string(cell) == "x"):
			inside, hexed = true, len(cell) == 1
			cell = cell[:0]
		case !inside && (b == ',' || b == ')'):
			return cell, "", b, nil
		case !inside:
			if cell = append(cell, b); len(cell) > 1000 {
				return nil, "", 0, fault.New(fault.Hostile, "the rows of the sealed database hold something that Move Kit does not write")
			}
		case b == '\'':
			if variable != "" {
				if err := flush(); err != nil {
					return nil, "", 0, err
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
			return cell, variable, end, err
		case hexed && !(b >= '0' && b <= '9' || b >= 'a' && b <= 'f'):
			return nil, "", 0, fault.New(fault.Hostile, "the rows of the sealed database hold something that Move Kit does not write")
		default:
			cell = append(cell, b)
			if b == '\\' {
				if b, err = l.next(); err != nil {
					return nil, "", 0, err
				}
				cell = append(cell, b)
			}
			if len(cell) >= piece {
				if err := flush(); err != nil {
					return nil, "", 0, err
				}
			}
		}
	}
}

// namesIn returns the columns of INSERT INTO `t` (`a`,`b`) VALUES.
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

// sorts returns how the cells of a table's columns are written.
func (c *session) sorts(ctx context.Context, s served.Server, name string) (map[string]sort, error) {
	cols, err := c.table(ctx, "SELECT column_name, data_type FROM information_schema.columns WHERE table_schema = ? AND table_name = ?", s.Database, name)
	out := map[string]sort{}
	for _, col := range cols {
		out[col[0]] = sortOf(col[1])
	}
	return out, err
}
