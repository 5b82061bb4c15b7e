package mariadb

import (
	"context"
	"io"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/served"
)

// Engine moves databases of MariaDB and MySQL servers.
type Engine struct{}

var _ served.Engine = Engine{}

func (Engine) Endings() (schema, rows string) { return "", ".sql" }

func (Engine) LookAt(ctx context.Context, s served.Server) (*served.Look, error) {
	return lookAt(ctx, s)
}

func (Engine) Ask(ctx context.Context, s served.Server, query string) (int64, error) {
	return ask(ctx, s, query)
}

func (Engine) Seal(ctx context.Context, s served.Server, counts []card.Count, _, rows io.Writer, progress func(int64)) (any, error) {
	return seal(ctx, s, counts, rows, progress)
}

func (Engine) Exists(ctx context.Context, s served.Server) (bool, error) { return exists(ctx, s) }

func (Engine) Lacks(ctx context.Context, s served.Server, facts []byte) ([]string, error) {
	d, err := served.FactsOf[Sealed](facts)
	if err != nil {
		return nil, err
	}
	return lacks(ctx, s, d)
}

func (Engine) Stage(ctx context.Context, s served.Server, p served.Putting) ([]string, error) {
	d, err := served.FactsOf[Sealed](p.Facts)
	if err != nil {
		return nil, err
	}
	if err := stage(ctx, s, d, p); err != nil {
		return nil, err
	}
	return notes(ctx, s, d, p.Mine)
}

func (Engine) Settle(ctx context.Context, s served.Server, p served.Putting, aside string) error {
	d, err := served.FactsOf[Sealed](p.Facts)
	if err != nil {
		return err
	}
	return settle(ctx, s, d, p, aside)
}

func (Engine) Rename(ctx context.Context, s served.Server, to string) error {
	c, err := connect(ctx, s.On(""))
	if err != nil {
		return err
	}
	defer c.close()
	return c.rename(ctx, s.Database, to, nil, false)
}

func (Engine) Drop(ctx context.Context, s served.Server) error {
	c, err := connect(ctx, s.On(""))
	if err != nil {
		return err
	}
	defer c.close()
	return c.run(ctx, "DROP DATABASE "+quoted(s.Database))
}

func (Engine) Named(database, ending string) string { return served.Shortened(database, ending, 64) }

func (Engine) Fingerprint(ctx context.Context, s served.Server, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	return fingerprint(ctx, s, counts, progress)
}

func (Engine) Rows(ctx context.Context, s served.Server, t dbprint.Table) dbprint.Rows {
	return rowsOf(ctx, s, t)
}

func (Engine) SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows {
	return sealedRows(open, t.Name)
}
