package mariadb

import (
	"bytes"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"strconv"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// column is a column whose cells are moved: generated ones are computed again.
type column struct {
	name  string
	sort  sort
	large bool // a cell may be long
}

// sort is how the cells of a column are written.
type sort int

const (
	text   sort = iota // '…'; also dates and times
	number             // as the server writes it
	float              // as a double, with as many digits as it takes
	bits               // as a whole number
	binary             // x'…'
)

// sortOf sorts the types of columns (information_schema.columns.data_type).
func sortOf(dataType string) sort {
	switch dataType {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "year":
		return number
	case "float", "double":
		return float
	case "bit":
		return bits
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob",
		"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection", "geomcollection":
		return binary
	}
	return text
}

// read is the expression that reads a column. A float is read as the double
// that it is equal to: as a float it would lose digits.
func (c column) read() string {
	switch c.sort {
	case float:
		return quoted(c.name) + "*1e0"
	case bits:
		return quoted(c.name) + "+0"
	}
	return quoted(c.name)
}

// appendRow writes a row as SQL: (1,'x',NULL). It never holds a newline.
func appendRow(b []byte, cols []column, cells []driver.Value) ([]byte, error) {
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
			b = appendCell(b, cols[i].sort, []byte(v))
		case []byte:
			b = appendCell(b, cols[i].sort, v)
		default:
			return nil, fault.New(fault.Internal, "the driver gave a %T", v)
		}
	}
	return append(b, ')'), nil
}

func appendCell(b []byte, s sort, v []byte) []byte {
	switch s {
	case number, bits, float:
		return append(b, v...)
	case binary:
		b = append(b, "x'"...)
		return append(hex.AppendEncode(b, v), '\'')
	}
	return appendText(b, v)
}

// escapes are the bytes of a text that are written with a backslash.
var escapes = [256]byte{'\\': '\\', '\'': '\'', '\n': 'n', '\r': 'r', 0: '0', 26: 'Z'}

func appendText(b, v []byte) []byte {
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

// skipRow returns what follows a row that appendRow wrote. Anything but
// literals is refused: what is loaded runs on the new server.
func skipRow(line []byte, cell func([]byte)) ([]byte, error) {
	refused := fault.New(fault.Hostile, "the rows of the sealed database hold something that Move Kit does not write")
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

// literalEnd returns where the literal that starts at a place ends, or -1.
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

// rowOf makes a row of a line that appendRow wrote.
func rowOf(line []byte) dbprint.Row {
	return dbprint.Row{Hash: digest.Of(line), Cells: func() []string {
		var out []string
		skipRow(line, func(cell []byte) { out = append(out, shown(cell)) })
		return out
	}}
}

// shown writes a literal for a person.
func shown(cell []byte) string {
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
