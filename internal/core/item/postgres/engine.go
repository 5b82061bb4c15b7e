package postgres

import (
	"context"
	"errors"
	"io"
	"os"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// New returns the parts for databases on PostgreSQL servers.
var New = served.New[*Sealed](Engine{}, served.KindOf{InUse: true})

// Engine is the PostgreSQL engine.
type Engine struct{}

var _ served.Engine[*Sealed] = Engine{}

// Endings returns the suffixes for pg_dump's archive and for COPY text.
func (Engine) Endings() (schema, rows string) { return ".schema.dump", ".rows.sql" }

// Open prepares a session.
func (Engine) Open(s served.Server, private func() (string, error)) served.Session[*Sealed] {
	return &session{Server: s, private: private, conns: map[string]*pgx.Conn{}}
}

// Named appends a suffix to a name of at most 63 bytes.
func (Engine) Named(database, ending string) string { return served.Shortened(database, ending, 63) }

// SealedRows reads one table of a sealed database.
func (Engine) SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows {
	return sealedRows(open, t.Name)
}

// session works on one server.
type session struct {
	served.Server
	private func() (string, error)
	conns   map[string]*pgx.Conn // by database
	number  int                  // the server's version: 150004 is 15.4
	version string
}

var _ served.Session[*Sealed] = (*session)(nil)

// on returns the session's connection to a database. A lost connection is opened again.
func (s *session) on(ctx context.Context, database string) (*pgx.Conn, error) {
	if c := s.conns[database]; c != nil {
		if !c.IsClosed() && c.Ping(ctx) == nil {
			return c, nil
		}
		s.leave(database)
	}
	c, err := s.connect(ctx, database)
	if err != nil {
		return nil, err
	}
	s.conns[database] = c
	if s.number == 0 {
		if s.number, s.version, err = versionOf(ctx, c); err != nil {
			return nil, s.explain(err)
		}
	}
	if s.number < Oldest {
		return nil, fault.New(fault.ServerRefused, "the server of %s is PostgreSQL %s; 12 or newer is needed", s.Address(), s.version)
	}
	return c, nil
}

// maintenance returns a connection to a database that every server has, to create and rename
// others.
func (s *session) maintenance(ctx context.Context) (*pgx.Conn, error) {
	c, err := s.on(ctx, "postgres")
	if fault.KindOf(err) == fault.Missing {
		return s.on(ctx, "template1")
	}
	return c, err
}

// reading calls read in a read-only transaction.
func (s *session) reading(ctx context.Context, database, begin string, read func(*pgx.Conn) error) error {
	c, err := s.on(ctx, database)
	if err != nil {
		return err
	}
	if _, err := c.Exec(ctx, begin); err != nil {
		return s.explain(err)
	}
	defer c.Exec(context.WithoutCancel(ctx), "ROLLBACK") //nolint:errcheck // nothing was changed
	return s.explain(read(c))
}

// leave closes the connections to databases, because a database in use cannot be renamed or
// dropped.
func (s *session) leave(databases ...string) {
	for _, d := range databases {
		if c := s.conns[d]; c != nil {
			c.Close(context.Background())
			delete(s.conns, d)
		}
	}
}

// Close closes the connections.
func (s *session) Close() {
	for d := range s.conns {
		s.leave(d)
	}
}

// Stage creates the database under another name and loads it.
func (s *session) Stage(ctx context.Context, d *Sealed, p served.Loading) (notes []string, err error) {
	archive, err := s.archive(p.Schema)
	if err != nil {
		return nil, err
	}
	defer os.Remove(archive)
	rows, err := p.Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	return s.stage(ctx, d, p, archive, rows)
}

// archive writes the schema to a private file, which pg_restore needs.
func (s *session) archive(open func() (io.ReadCloser, error)) (string, error) {
	schema, err := open()
	if err != nil {
		return "", err
	}
	defer schema.Close()
	f, err := s.file("schema-*.dump")
	if err != nil {
		return "", err
	}
	_, err = io.Copy(f, schema)
	if err := errors.Join(err, f.Close()); err != nil {
		os.Remove(f.Name())
		return "", fault.Wrap(fault.CannotPlace, err, "cannot write the schema")
	}
	return f.Name(), nil
}

// file creates a private file.
func (s *session) file(pattern string) (*os.File, error) {
	dir, err := s.private()
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(dir, pattern) // mode 0600
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot create a temporary file")
	}
	return f, nil
}
