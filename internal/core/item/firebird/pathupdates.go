package firebird

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
)

// writing calls do on its own connection, which uses UTF-8.
func (o *session) writing(ctx context.Context, database string, do func(*tx) error) error {
	s := o.server.On(database)
	o.kept.Leave(database)
	db, err := open(ctx, s, "UTF8")
	if err != nil {
		return err
	}
	defer db.Close()
	t, err := db.BeginTx(ctx, nil)
	if err != nil {
		return explain(s, err)
	}
	c := &tx{s, t, func() {}}
	if err := do(c); err != nil {
		t.Rollback()
		return err
	}
	return explain(s, t.Commit())
}

// Texts reads a column of a table.
func (o *session) Texts(ctx context.Context, database string, t dbprint.Table, column string, each func(key, text string) error) error {
	c, err := connect(ctx, o.server.On(database), "UTF8")
	if err != nil {
		return err
	}
	defer c.close()
	cols := []string{quoted(column)}
	for _, k := range t.Key {
		cols = append(cols, quoted(k))
	}
	rows, err := c.QueryContext(ctx, "SELECT "+strings.Join(cols, ", ")+" FROM "+quoted(t.Name)+" WHERE "+quoted(column)+" IS NOT NULL")
	if err != nil {
		return explain(c.server, err)
	}
	defer rows.Close()
	cells, into := make([]any, len(cols)), make([]any, len(cols))
	for i := range cells {
		into[i] = &cells[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return explain(c.server, err)
		}
		key := make([]string, len(t.Key))
		for i := range key {
			key[i] = textOf(cells[i+1])
		}
		if err := each(strings.Join(key, ", "), textOf(cells[0])); err != nil {
			return err
		}
	}
	return explain(c.server, rows.Err())
}

func textOf(v any) string {
	if b, is := v.([]byte); is {
		return string(b)
	}
	return strings.TrimRight(fmt.Sprint(v), " ")
}

// Rewrite changes texts in a column, row by row, because the server's comparison of texts depends
// on its collation. Triggers cannot be disabled here.
func (o *session) Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error {
	return o.writing(ctx, database, func(c *tx) error {
		own, err := c.column(ctx, "SELECT RDB$TRIGGER_NAME FROM RDB$TRIGGERS WHERE RDB$RELATION_NAME = ? AND RDB$TRIGGER_INACTIVE = 0 AND RDB$SYSTEM_FLAG = 0", t.Name)
		if err != nil {
			return err
		}
		if len(own) > 0 {
			return fault.New(fault.ServerRefused, "it has the trigger %s, which would run", own[0])
		}
		type row struct {
			key []byte
			now string
		}
		var all []row
		rows, err := c.QueryContext(ctx, "SELECT RDB$DB_KEY, "+quoted(column)+" FROM "+quoted(t.Name)+" WHERE "+quoted(column)+" IS NOT NULL")
		if err != nil {
			return explain(c.server, err)
		}
		defer rows.Close()
		for rows.Next() {
			var key sql.RawBytes
			var text any
			if err := rows.Scan(&key, &text); err != nil {
				return explain(c.server, err)
			}
			if is, changes := now[textOf(text)]; changes {
				all = append(all, row{[]byte(string(key)), is})
			}
		}
		if err := rows.Err(); err != nil {
			return explain(c.server, err)
		}
		for _, r := range all {
			if _, err := c.ExecContext(ctx, "UPDATE "+quoted(t.Name)+" SET "+quoted(column)+" = ? WHERE RDB$DB_KEY = ?", r.now, r.key); err != nil {
				return explain(c.server, err)
			}
		}
		return nil
	})
}
