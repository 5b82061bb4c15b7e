package mariadb

import (
	"context"
	"database/sql/driver"
	"strings"
	"unicode/utf8"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/sqltext"
)

// Texts reads a column of a table. It skips values that are not text.
func (s *session) Texts(ctx context.Context, database string, t dbprint.Table, column string, each func(key, text string) error) error {
	key := "''"
	if len(t.Key) > 0 {
		cols := make([]string, len(t.Key))
		for i, k := range t.Key {
			cols[i] = sqltext.Quoted(k)
		}
		key = "concat_ws(', ', " + strings.Join(cols, ", ") + ")"
	}
	return s.on(ctx, database, func(c *conn) error {
		return c.Each(ctx, "SELECT "+key+", "+sqltext.Quoted(column)+" FROM "+sqltext.Quoted(t.Name)+" WHERE "+sqltext.Quoted(column)+" IS NOT NULL", func(cells []driver.Value) error {
			text := client.Text(cells[1])
			if !utf8.ValidString(text) {
				return nil
			}
			return each(client.Text(cells[0]), text)
		})
	})
}

// Rewrite changes texts in a column. Triggers cannot be disabled here, and a system-versioned table
// would record the change.
func (s *session) Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error {
	return s.on(ctx, database, func(c *conn) error {
		own, err := c.Column(ctx, "SELECT concat('it has the trigger ', trigger_name) FROM information_schema.triggers WHERE event_object_schema = database() AND event_object_table = ? AND event_manipulation = 'UPDATE' UNION ALL SELECT 'it keeps its history' FROM information_schema.tables WHERE table_schema = database() AND table_name = ? AND table_type = 'SYSTEM VERSIONED'", t.Name, t.Name)
		if err != nil {
			return err
		}
		if len(own) > 0 {
			return fault.New(fault.ServerRefused, "%s, which would run", own[0])
		}
		stamps, err := c.Column(ctx, "SELECT column_name FROM information_schema.columns WHERE table_schema = database() AND table_name = ? AND extra LIKE '%on update%' AND column_name <> ?", t.Name, column)
		if err != nil {
			return err
		}
		set := sqltext.Quoted(column) + " = ?"
		for _, stamp := range stamps { // the server would set them to the current time
			set += ", " + sqltext.Quoted(stamp) + " = " + sqltext.Quoted(stamp)
		}
		if err := c.Run(ctx, "START TRANSACTION"); err != nil {
			return err
		}
		for was, is := range now {
			if _, err := c.ExecContext(ctx, "UPDATE "+sqltext.Quoted(t.Name)+" SET "+set+" WHERE CAST(CONVERT("+sqltext.Quoted(column)+" USING utf8mb4) AS BINARY) = CAST(? AS BINARY)", is, was); err != nil {
				return client.Explain(c.Server, err)
			}
		}
		return c.Run(ctx, "COMMIT")
	})
}
