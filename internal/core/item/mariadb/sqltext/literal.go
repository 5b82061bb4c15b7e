// Package sqltext writes and parses the SQL lines of a sealed MariaDB or MySQL database: literals,
// rows of any length, and the statements around them. It needs no server. Parsed text runs on the
// new computer's server, so anything but literals is rejected.
package sqltext

import (
	"bytes"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Column is a column whose cells are moved. Generated columns are computed again.
type Column struct {
	Name  string
	Sort  Sort
	Large bool // a cell may be long
	Bytes bool // a text in a character set other than UTF-8: its bytes are read and written
}

// ColumnOf returns a column of a type (information_schema.columns.data_type) and character set, "" if it
// has none. Not every byte of a text has an equivalent in Unicode, so other character sets are not
// converted. Members of an enum or set are moved by their numbers, because 0 has no name.
func ColumnOf(name, dataType, charset string) Column {
	c := Column{Name: name, Sort: SortOf(dataType), Large: Large(dataType)}
	if c.Sort == Text && charset != "" && charset != "utf8mb4" && charset != "utf8mb3" && charset != "utf8" {
		c.Sort, c.Bytes = Binary, true
	}
	return c
}

// Sort is the way to write the cells of a column.
type Sort int

// The values of Sort.
const (
	Text   Sort = iota // '…'; also dates and times
	Number             // as the server writes it
	Float              // as a double, with all needed digits
	Bits               // as a whole number
	Binary             // x'…'
)

// SortOf returns the Sort for a column type (information_schema.columns.data_type).
func SortOf(dataType string) Sort {
	switch dataType {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "year":
		return Number
	case "float", "double":
		return Float
	case "bit", "enum", "set":
		return Bits
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob",
		"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection", "geomcollection":
		return Binary
	}
	return Text
}

// Read returns the expression that reads a column. A float is read as an equal double, because as a
// float it would lose digits.
func (c Column) Read() string {
	switch c.Sort {
	case Float:
		return Quoted(c.Name) + "*1e0"
	case Bits:
		return Quoted(c.Name) + "+0"
	}
	if c.Bytes {
		return "CAST(" + Quoted(c.Name) + " AS BINARY)"
	}
	return Quoted(c.Name)
}

// Condition returns an expression whose value is a condition in SQL: that the column has the value of the current row.
func (c Column) Condition() string {
	reads := c.Read()
	value := "quote(" + reads + ")"
	switch c.Sort {
	case Binary:
		value = "concat('x\\'', hex(" + reads + "), '\\'')"
	case Float, Bits:
		value = reads
	}
	return "concat(" + Literal(reads+" = ") + ", " + value + ")"
}

// AppendRow writes a row as SQL: (1,'x',NULL). It never contains a newline.
func AppendRow(b []byte, cols []Column, cells []driver.Value) ([]byte, error) {
	b = append(b, '(')
	for i, cell := range cells {
		if i > 0 {
			b = append(b, ',')
		}
		switch v := cell.(type) {
		case nil:
			b = append(b, "NULL"...)
		case int64:
			b = strconv.AppendInt(b, v, 10)
		case uint64:
			b = strconv.AppendUint(b, v, 10)
		case float64:
			b = strconv.AppendFloat(b, v, 'e', -1, 64)
		case float32:
			b = strconv.AppendFloat(b, float64(v), 'e', -1, 64)
		case string:
			b = appendCell(b, cols[i].Sort, []byte(v))
		case []byte:
			b = appendCell(b, cols[i].Sort, v)
		default:
			return nil, fault.New(fault.Internal, "the driver returned a %T", v)
		}
	}
	return append(b, ')'), nil
}

func appendCell(b []byte, s Sort, v []byte) []byte {
	switch s {
	case Number, Bits, Float:
		return append(b, v...)
	case Binary:
		b = append(b, "x'"...)
		return append(hex.AppendEncode(b, v), '\'')
	}
	return AppendText(b, v)
}

// escapes are the bytes of a text that are escaped with a backslash.
var escapes = [256]byte{'\\': '\\', '\'': '\'', '\n': 'n', '\r': 'r', 0: '0', 26: 'Z'}

// AppendText writes a text in quotes.
func AppendText(b, v []byte) []byte {
	b = append(b, '\'')
	from := 0
	for i, c := range v {
		if e := escapes[c]; e != 0 {
			b = append(append(b, v[from:i]...), '\\', e)
			from = i + 1
		}
	}
	return append(append(b, v[from:]...), '\'')
}

// skipRow returns the text after a row from AppendRow. It rejects anything but literals, because
// the text runs on the new server.
func skipRow(line []byte, cell func([]byte)) ([]byte, error) {
	refused := fault.New(fault.Hostile, "the sealed rows contain something that Move Kit does not write")
	if len(line) == 0 || line[0] != '(' {
		return nil, refused
	}
	if bytes.HasPrefix(line, []byte("()")) {
		return line[2:], nil
	}
	for at := 1; ; {
		end := literalEnd(line, at)
		if end < 0 || end >= len(line) {
			return nil, refused
		}
		if cell != nil {
			cell(line[at:end])
		}
		switch line[end] {
		case ',':
			at = end + 1
		case ')':
			return line[end+1:], nil
		default:
			return nil, refused
		}
	}
}

// literalEnd returns the end of the literal at an offset, or -1.
func literalEnd(b []byte, at int) int {
	switch {
	case at >= len(b):
		return -1
	case b[at] == '\'':
		for i := at + 1; i < len(b); i++ {
			switch b[i] {
			case '\\':
				i++
			case '\'':
				return i + 1
			}
		}
		return -1
	case b[at] == 'x' && at+1 < len(b) && b[at+1] == '\'':
		i := at + 2
		for i < len(b) && (b[i] >= '0' && b[i] <= '9' || b[i] >= 'a' && b[i] <= 'f') {
			i++
		}
		if i == len(b) || b[i] != '\'' {
			return -1
		}
		return i + 1
	case bytes.HasPrefix(b[at:], []byte("NULL")):
		return at + 4
	}
	i := at
	for i < len(b) && (b[i] >= '0' && b[i] <= '9' || b[i] == '.' || b[i] == '-' && (i == at || b[i-1] == 'e') || b[i] == 'e' && i > at || b[i] == '+' && i > at && b[i-1] == 'e') {
		i++
	}
	if i == at {
		return -1
	}
	return i
}

// RowOf parses a line from AppendRow.
func RowOf(line []byte) dbprint.Row {
	return dbprint.Row{Hash: digest.Of(line), Cells: func() []string {
		var out []string
		skipRow(line, func(cell []byte) { out = append(out, shown(cell)) })
		return out
	}}
}

// shown formats a literal for display.
func shown(cell []byte) string {
	if text, err := hex.DecodeString(strings.TrimSuffix(strings.TrimPrefix(string(cell), "x'"), "'")); err == nil && len(cell) > 3 && cell[0] == 'x' && !bytes.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' }) {
		return string(text)
	}
	if len(cell) < 2 || cell[0] != '\'' {
		return string(cell)
	}
	var b []byte
	for i := 1; i < len(cell)-1; i++ {
		c := cell[i]
		if c == '\\' && i+1 < len(cell)-1 {
			i++
			switch c = cell[i]; c {
			case 'n', 'r':
				c = ' '
			case '0', 'Z':
				b = append(b, fmt.Sprintf("\\%c", c)...)
				continue
			}
		}
		b = append(b, c)
	}
	return string(b)
}

// Large reports whether cells of a type can make a row long.
func Large(dataType string) bool {
	switch dataType {
	case "mediumtext", "longtext", "mediumblob", "longblob", "json":
		return true
	}
	return false
}

// Quoted returns a name in backticks.
func Quoted(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// Literal returns a text as a literal.
func Literal(s string) string { return string(AppendText(nil, []byte(s))) }

// Unquoted parses a quoted name.
func Unquoted(name string) string {
	return strings.ReplaceAll(strings.TrimSuffix(strings.TrimPrefix(name, "`"), "`"), "``", "`")
}
