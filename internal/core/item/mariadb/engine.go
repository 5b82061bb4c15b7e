// Package mariadb moves databases of MariaDB (10.3 and newer) and MySQL (8 and newer). Schema and
// rows are sealed as one SQL text, which the server's own client can load. Every row is one line of
// literals. The fingerprint is computed from these lines.
package mariadb

import (
	"bufio"
	"context"
	"io"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// New returns the parts for databases on MariaDB and MySQL servers.
var New = served.New[*schema.Sealed](Engine{}, served.KindOf{InUse: true})

// conn is one connection to a server.
type conn struct {
	*client.Conn
	pinned bool // it is in the transaction of a snapshot
}

func connect(ctx context.Context, s served.Server) (*conn, error) {
	c, err := client.Connect(ctx, s)
	if err != nil {
		return nil, err
	}
	return &conn{Conn: c}, nil
}

// Engine is the MariaDB and MySQL engine.
type Engine struct{}

var _ served.Engine[*schema.Sealed] = Engine{}

// Endings returns the suffix for the SQL stream, which has both schema and rows.
func (Engine) Endings() (schema, rows string) { return "", ".sql" }

// Open prepares a session.
func (Engine) Open(s served.Server, _ func() (string, error)) served.Session[*schema.Sealed] {
	return &session{server: s}
}

// Named appends a suffix to a name of at most 64 bytes. In GRANT a name is a pattern, in which the server counts a backslash before
// each _ and % as well.
func (Engine) Named(database, ending string) string {
	name := served.Shortened(database, ending, 64)
	return served.Shortened(database, ending, 64-strings.Count(name, "_")-strings.Count(name, "%")-strings.Count(name, `\`))
}

// SealedRows reads one table of a sealed database.
func (Engine) SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows {
	return schema.Rows(open, t.Name)
}

// session works on one server, with one connection that stays open.
type session struct {
	server served.Server
	kept   *conn
	staged string // a database that this session created, so all its definitions are known to be valid
}

var _ served.Session[*schema.Sealed] = (*session)(nil)

// on calls use with the connection on a database; "" means none. It ends an open transaction. After
// an error the connection is not used again, because its settings may have changed.
func (s *session) on(ctx context.Context, database string, use func(*conn) error) (err error) {
	if s.kept != nil && s.kept.PingContext(ctx) != nil {
		s.Close()
	}
	if s.kept == nil {
		if s.kept, err = connect(ctx, s.server.On("")); err != nil {
			return err
		}
	}
	c := s.kept
	c.Server = s.server.On(database)
	if database != "" {
		err = c.Run(ctx, "USE "+sqltext.Quoted(database))
	}
	if err == nil {
		err = use(c)
	}
	if err == nil {
		err = c.Run(ctx, "ROLLBACK")
	}
	if err != nil {
		s.Close()
	}
	return err
}

// Close closes the connection.
func (s *session) Close() {
	if s.kept != nil {
		s.kept.Close()
		s.kept = nil
	}
}

// Look inspects a database.
func (s *session) Look(ctx context.Context, database string) (l *served.Look, err error) {
	err = s.on(ctx, database, func(c *conn) (err error) {
		l, err = c.look(ctx)
		return err
	})
	return l, err
}

// Ask returns the whole number that a query returns. It prevents the query from changing anything.
func (s *session) Ask(ctx context.Context, database, query string) (n int64, err error) {
	err = s.on(ctx, database, func(c *conn) (err error) {
		if err := c.Run(ctx, "START TRANSACTION READ ONLY"); err != nil {
			return err
		}
		n, err = c.number(ctx, query)
		return err
	})
	return n, err
}

// Seal writes a snapshot of a database as SQL. The app may continue to write.
func (s *session) Seal(ctx context.Context, database string, counts []card.Count, _, rows io.Writer, progress func(int64)) (*schema.Sealed, error) {
	return s.take(ctx, database, counts, bufio.NewWriterSize(rows, 1<<20), progress)
}

// Fingerprint computes the fingerprint of a snapshot of a database.
func (s *session) Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	d, err := s.take(ctx, database, counts, nil, progress)
	if err != nil {
		return nil, err
	}
	return &d.Fingerprint, nil
}

func (s *session) take(ctx context.Context, database string, counts []card.Count, w *bufio.Writer, progress func(int64)) (*schema.Sealed, error) {
	d := &schema.Sealed{}
	err := s.on(ctx, database, func(c *conn) error {
		let, err := c.snapshot(ctx)
		if err != nil {
			return err
		}
		defer let()
		if err := c.take(ctx, d, counts, w, progress); err != nil || w == nil {
			return err
		}
		return w.Flush()
	})
	return d, err
}

// Definitions returns a fingerprint without rows and counts.
func (s *session) Definitions(ctx context.Context, database string) (*dbprint.Fingerprint, error) {
	d := &schema.Sealed{}
	err := s.on(ctx, database, func(c *conn) error { return c.schema(ctx, d) })
	d.Sort()
	return &d.Fingerprint, err
}

// Exists reports whether the server has a database.
func (s *session) Exists(ctx context.Context, database string) (there bool, err error) {
	err = s.on(ctx, "", func(c *conn) (err error) {
		there, err = c.exists(ctx, database)
		return err
	})
	return there, err
}

// Folder returns the server's data folder.
func (s *session) Folder(ctx context.Context, _ string) (folder string, err error) {
	err = s.on(ctx, "", func(c *conn) error {
		row, err := c.One(ctx, "SELECT @@datadir")
		folder = strings.Join(row, "")
		return err
	})
	return folder, err
}

// Lacks returns the requirements of a sealed database that the server does not meet.
func (s *session) Lacks(ctx context.Context, _ string, d *schema.Sealed) (out []string, err error) {
	err = s.on(ctx, "", func(c *conn) (err error) {
		out, err = c.lacks(ctx, d)
		return err
	})
	return out, err
}

// Stage creates the sealed database under another name.
func (s *session) Stage(ctx context.Context, d *schema.Sealed, p served.Loading) (notes []string, err error) {
	err = s.on(ctx, "", func(c *conn) (err error) {
		if err := c.recover(ctx); err != nil {
			return err
		}
		if notes, err = c.stage(ctx, d, p); err != nil {
			return err
		}
		s.staged = p.Stage
		more, err := c.notes(ctx, d, p.Mine)
		notes = append(notes, more...)
		return err
	})
	return notes, err
}

// Unfinished reports whether a database has the marker of an unfinished rename.
func (s *session) Unfinished(ctx context.Context, from, to string) (unfinished bool, err error) {
	err = s.on(ctx, "", func(c *conn) error {
		moves, err := c.moves(ctx)
		unfinished = slices.ContainsFunc(moves, func(m move) bool { return m.to == from || m.to == to })
		return err
	})
	return unfinished, err
}

// Resume undoes every interrupted rename.
func (s *session) Resume(ctx context.Context, _, _ string) error {
	return s.on(ctx, "", func(c *conn) error { return c.recover(ctx) })
}

// Rename gives a database another name.
func (s *session) Rename(ctx context.Context, from, to string, as served.Service) error {
	return s.on(ctx, "", func(c *conn) error { return c.rename(ctx, from, to, from == s.staged, as) })
}

// Drop removes a database.
func (s *session) Drop(ctx context.Context, database string) error {
	return s.on(ctx, "", func(c *conn) error {
		if err := c.recover(ctx); err != nil {
			return err
		}
		return c.Run(ctx, "DROP DATABASE "+sqltext.Quoted(database))
	})
}

// Rows reads one table of a database.
func (s *session) Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		return s.on(ctx, database, func(c *conn) error { return c.readTable(ctx, t, each) })
	}
}
