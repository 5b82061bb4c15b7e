package mariadb

import (
	"cmp"
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
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
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
		i := slices.IndexFunc(t.Cols, func(col sqltext.Column) bool { return col.Name == k })
		if i < 0 {
			return "", nil, nil // a generated column: read the rows as a whole
		}
		conditions = append(conditions, t.Cols[i].Condition())
	}
	keys, err = c.Column(ctx, fmt.Sprintf("SELECT concat_ws(' AND ', %s) FROM %s WHERE %s > %d", strings.Join(conditions, ", "), sqltext.Quoted(t.Name), size, sqltext.LongRow))
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
	if found, err := c.One(ctx, "SELECT count(*) FROM "+sqltext.Quoted(t.Name)+" WHERE "+key); err != nil || found[0] != "1" {
		return digest.Sum{}, 0, cmp.Or(err, error(fault.New(fault.Internal, "%s rows of the table %s have the key of a long row (%s)", strings.Join(found, ""), t.Name, key)))
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
		err := c.Each(ctx, "SELECT "+col.Read()+" FROM "+sqltext.Quoted(t.Name)+" WHERE "+key, func(cells []driver.Value) (err error) {
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
	if err := c.Run(ctx, "SELECT CAST("+sqltext.Quoted(col.Name)+" AS BINARY) INTO @movekit_cell FROM "+sqltext.Quoted(t.Name)+" WHERE "+key); err != nil {
		return err
	}
	defer c.Run(context.WithoutCancel(ctx), "SET @movekit_cell = NULL") //nolint:errcheck // the session ends soon
	size, err := c.One(ctx, "SELECT coalesce(length(@movekit_cell), -1)")
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
		err := c.Each(ctx, fmt.Sprintf("SELECT substring(@movekit_cell, %d, %d)", at, sqltext.Piece), func(cells []driver.Value) error {
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
	cols, err := c.Table(ctx, "SELECT column_name, data_type, coalesce(character_set_name, '') FROM information_schema.columns WHERE table_schema = ? AND table_name = ?", s.Database, name)
	out := map[string]sqltext.Sort{}
	for _, col := range cols {
		out[col[0]] = sqltext.ColumnOf(col[0], col[1], col[2]).Sort
	}
	return out, err
}
