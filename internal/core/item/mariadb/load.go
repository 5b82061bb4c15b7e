package mariadb

import (
	"context"
	"database/sql/driver"
	"io"
	"strings"

	"golang.org/x/sync/errgroup"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// statement inserts rows of a table: as SQL, or as one long row, which is read while it is loaded.
type statement struct {
	table string
	sql   []byte
	long  func(*conn) error
}

// load loads the rows that take wrote. One connection fills the tables, each in one transaction,
// because the server does not log the filling of an empty table for rollback. At the same time,
// another connection adds the keys of filled tables.
func load(ctx context.Context, s served.Server, d *schema.Sealed, p served.Loading) error {
	rows, err := p.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	g, ctx := errgroup.WithContext(ctx)
	filled := make(chan statement)
	used := make(chan []byte, 3) // buffers
	for range cap(used) {
		used <- nil
	}
	full := make(chan string, len(d.Make))
	g.Go(func() error {
		defer close(filled)
		return read(ctx, rows, used, filled, p.Progress)
	})
	g.Go(func() error {
		defer close(full)
		return fill(ctx, s, filled, used, full)
	})
	g.Go(func() error { return addKeys(ctx, s, d, full) })
	return g.Wait()
}

// read reads the statements.
func read(ctx context.Context, rows io.Reader, used <-chan []byte, filled chan<- statement, progress func(int64)) error {
	var now statement
	send := func(st statement) error {
		select {
		case filled <- st:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	long := func(table, head string, l *sqltext.LongLine) (last bool, err error) {
		if now.sql != nil {
			now.sql = now.sql[:len(now.sql)-1] // without the comma: the statement ends here
			if err := send(now); err != nil {
				return false, err
			}
			now = statement{}
		}
		done := make(chan struct{})
		err = send(statement{table: table, long: func(c *conn) (err error) {
			defer close(done)
			sorts, err := c.sorts(ctx, c.Server, table)
			if err == nil {
				last, err = l.Insert(head, sorts, func(sql string) error { return c.Run(ctx, sql) })
			}
			return err
		}})
		if err != nil {
			return false, err
		}
		select {
		case <-done:
			return last, nil
		case <-ctx.Done():
			return false, ctx.Err()
		}
	}
	return sqltext.Scan(rows, long, func(table, head string, line []byte, last bool) error {
		if now.sql == nil {
			select {
			case b := <-used:
				now = statement{table: table, sql: append(b[:0], head...)}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if progress != nil {
			progress(int64(len(line)) + 2)
		}
		now.sql = append(now.sql, line...)
		if !last {
			now.sql = append(now.sql, ',')
			return nil
		}
		st := now
		now = statement{}
		return send(st)
	})
}

// fill runs the statements, and reports which tables are filled.
func fill(ctx context.Context, s served.Server, filled <-chan statement, used chan<- []byte, full chan<- string) error {
	c, err := connect(ctx, s)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.Run(ctx, "SET autocommit = 0"); err != nil {
		return err
	}
	table := ""
	end := func() error {
		if table == "" {
			return nil
		}
		if err := c.Run(ctx, "COMMIT"); err != nil {
			return err
		}
		full <- table
		return nil
	}
	for st := range filled {
		if st.table != table {
			if err := end(); err != nil {
				return err
			}
			table = st.table
		}
		if st.long != nil {
			err = st.long(c)
		} else {
			err = c.Raw(func(conn any) error {
				_, err := conn.(driver.ExecerContext).ExecContext(ctx, string(st.sql), nil)
				return err
			})
			used <- st.sql
		}
		if err != nil {
			err = client.Explain(s, err)
			return fault.Wrap(fault.KindOf(err), err, "the rows of the table %s cannot be loaded", table)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return end()
}

// addKeys adds the keys of each table once it is filled, and finally the keys of empty tables.
func addKeys(ctx context.Context, s served.Server, d *schema.Sealed, full <-chan string) error {
	c, err := connect(ctx, s)
	if err != nil {
		return err
	}
	defer c.Close()
	left := map[string]string{}
	for _, m := range d.Make {
		if len(m.Keys) > 0 {
			left[m.Name] = "ALTER TABLE " + sqltext.Quoted(m.Name) + " " + strings.Join(m.Keys, ", ")
		}
	}
	add := func(table string) error {
		sql := left[table]
		delete(left, table)
		if sql == "" {
			return nil
		}
		return c.Run(ctx, sql)
	}
	for table := range full {
		if err := add(table); err != nil {
			return err
		}
	}
	for _, m := range d.Make {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := add(m.Name); err != nil {
			return err
		}
	}
	return nil
}
