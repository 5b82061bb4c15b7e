package mariadb

import (
	"context"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"

	"movekit/internal/core/digest"
	"movekit/internal/core/item/served"
)

// longKeys returns conditions that select each of a table's long rows. A table without a key
// returns none, so its rows are read as a whole.
func (c *conn) longKeys(ctx context.Context, t *schema.Table) (where string, keys []string, err error) {
	var sizes []string
	for _, col := range t.Cols {
		if col.Large {
			sizes = append(sizes, "coalesce(length("+sqltext.Quoted(col.Name)+"), 0)")
		}
	}
	if len(sizes) == 0 || len(t.Key) == 0 {
		return "", nil, nil
	}
	size := strings.Join(sizes, " + ")
	var conditions []string
	for _, k := range t.Key {
		value := "quote(" + sqltext.Quoted(k) + ")"
		if i := slices.IndexFunc(t.Cols, func(col sqltext.Column) bool { return col.Name == k }); i >= 0 && t.Cols[i].Sort == sqltext.Binary {
			value = "concat('x\\'', hex(" + sqltext.Quoted(k) + "), '\\'')"
		}
		conditions = append(conditions, "concat("+sqltext.Literal(sqltext.Quoted(k)+" = ")+", "+value+")")
	}
	keys, err = c.column(ctx, fmt.Sprintf("SELECT concat_ws(' AND ', %s) FROM %s WHERE %s > %d", strings.Join(conditions, ", "), sqltext.Quoted(t.Name), size, sqltext.LongRow))
	if len(keys) > 0 {
		where = fmt.Sprintf(" WHERE %s <= %d", size, sqltext.LongRow)
	}
	return where, keys, err
}

// long writes a long row, and returns its hash and length.
func (c *conn) long(ctx context.Context, t *schema.Table, key string, w io.Writer) (digest.Sum, int64, error) {
	h := digest.New()
	n := int64(0)
	put := func(b []byte) error {
		h.Write(b)
		n += int64(len(b))
		_, err := w.Write(b)
		return err
	}
	var buf []byte
	for i, col := range t.Cols {
		before := byte(',')
		if i == 0 {
			before = '('
		}
		if err := put([]byte{before}); err != nil {
			return digest.Sum{}, 0, err
		}
		if col.Large {
			if err := c.longCell(ctx, t, col, key, put); err != nil {
				return digest.Sum{}, 0, err
			}
			continue
		}
		err := c.raw(ctx, "SELECT "+col.Read()+" FROM "+sqltext.Quoted(t.Name)+" WHERE "+key, func(cells []driver.Value) (err error) {
			if buf, err = sqltext.AppendRow(buf[:0], []sqltext.Column{col}, cells); err != nil {
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

// longCell writes one cell piece by piece, from a session variable. Without the variable the server
// would read and convert the whole cell for each piece.
func (c *conn) longCell(ctx context.Context, t *schema.Table, col sqltext.Column, key string, put func([]byte) error) error {
	bytes := sqltext.Quoted(col.Name)
	switch {
	case col.Sort == sqltext.Binary:
	case col.UTF8:
		bytes = "cast(" + bytes + " AS binary)"
	default:
		bytes = "cast(convert(" + bytes + " USING utf8mb4) AS binary)"
	}
	if err := c.run(ctx, "SELECT "+bytes+" INTO @movekit_cell FROM "+sqltext.Quoted(t.Name)+" WHERE "+key); err != nil {
		return err
	}
	defer c.run(context.WithoutCancel(ctx), "SET @movekit_cell = NULL") //nolint:errcheck // the session ends soon
	size, err := c.one(ctx, "SELECT coalesce(length(@movekit_cell), -1)")
	if err != nil {
		return err
	}
	n, err := strconv.ParseInt(size[0], 10, 64)
	if err != nil || n < 0 {
		return put([]byte("NULL"))
	}
	open := "'"
	if col.Sort == sqltext.Binary {
		open = "x'"
	}
	if err := put([]byte(open)); err != nil {
		return err
	}
	var buf []byte
	for at := int64(1); at <= n; at += sqltext.Piece {
		err := c.raw(ctx, fmt.Sprintf("SELECT substring(@movekit_cell, %d, %d)", at, sqltext.Piece), func(cells []driver.Value) error {
			v, _ := cells[0].([]byte)
			if col.Sort == sqltext.Binary {
				buf = hex.AppendEncode(buf[:0], v)
				return put(buf)
			}
			buf = sqltext.AppendText(buf[:0], v)
			return put(buf[1 : len(buf)-1])
		})
		if err != nil {
			return err
		}
	}
	return put([]byte("'"))
}

// sorts returns how to write the cells of a table's columns.
func (c *conn) sorts(ctx context.Context, s served.Server, name string) (map[string]sqltext.Sort, error) {
	cols, err := c.table(ctx, "SELECT column_name, data_type FROM information_schema.columns WHERE table_schema = ? AND table_name = ?", s.Database, name)
	out := map[string]sqltext.Sort{}
	for _, col := range cols {
		out[col[0]] = sqltext.SortOf(col[1])
	}
	return out, err
}
