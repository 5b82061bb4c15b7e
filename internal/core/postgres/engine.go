package postgres

import (
	"context"
	"io"
	"os"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/served"
)

// Engine moves databases of PostgreSQL servers.
type Engine struct{}

var _ served.Engine = Engine{}

func (Engine) Endings() (schema, rows string) { return ".schema.dump", ".rows.sql" }

func (Engine) LookAt(ctx context.Context, s served.Server) (*served.Look, error) {
	return LookAt(ctx, Server{s})
}

func (Engine) Ask(ctx context.Context, s served.Server, query string) (int64, error) {
	return Ask(ctx, Server{s}, query)
}

func (Engine) Seal(ctx context.Context, s served.Server, counts []card.Count, schema, rows io.Writer, progress func(int64)) (any, error) {
	return Seal(ctx, Server{s}, counts, schema, rows, progress)
}

func (Engine) Exists(ctx context.Context, s served.Server) (bool, error) {
	return Exists(ctx, Server{s})
}

func (Engine) Lacks(ctx context.Context, s served.Server, facts []byte) ([]string, error) {
	d, err := served.FactsOf[Sealed](facts)
	if err != nil {
		return nil, err
	}
	return Lacks(ctx, Server{s}, d)
}

func (Engine) Stage(ctx context.Context, s served.Server, p served.Putting) (notes []string, err error) {
	d, err := served.FactsOf[Sealed](p.Facts)
	if err != nil {
		return nil, err
	}
	schema, err := p.Schema()
	if err != nil {
		return nil, err
	}
	archive, err := Archive(p.Temp, schema)
	schema.Close()
	if err != nil {
		return nil, err
	}
	defer os.Remove(archive)
	rows, err := p.Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	made, err := Stage(ctx, Server{s}, d, p.Stage, archive, rows, p.Progress)
	for _, r := range made {
		note := "the role " + r.Name + " was made on the new server"
		if r.Login {
			note += " without a password: set one, and enter it in the app"
		}
		notes = append(notes, note)
	}
	return notes, err
}

func (Engine) Settle(ctx context.Context, s served.Server, p served.Putting, aside string) error {
	return Settle(ctx, Server{s}, p.Stage, aside)
}

func (Engine) Rename(ctx context.Context, s served.Server, to string) error {
	return Rename(ctx, Server{s}, to)
}

func (Engine) Drop(ctx context.Context, s served.Server) error { return Drop(ctx, Server{s}) }

func (Engine) Named(database, ending string) string { return served.Shortened(database, ending, 63) }

func (Engine) Fingerprint(ctx context.Context, s served.Server, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	return Take(ctx, Server{s}, counts, progress)
}

func (Engine) Rows(ctx context.Context, s served.Server, t dbprint.Table) dbprint.Rows {
	return Rows(ctx, Server{s}, t)
}

func (Engine) SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows {
	return SealedRows(open, t.Name)
}
