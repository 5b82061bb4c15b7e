package move

import (
	"context"
	"io"
	"os"
	"strings"
	"time"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/kit"
	"movekit/internal/core/postgres"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Endings of the sealed streams of a PostgreSQL database.
const (
	schemaEnding = ".schema.dump.zst.age"
	rowsEnding   = ".rows.sql.zst.age"
)

// postgresKind moves databases of PostgreSQL servers.
type postgresKind struct{ *Job }

// reach runs what needs the server of a target, on the database that its path
// ends with.
func (k postgresKind) reach(ctx context.Context, t target, use func(postgres.Server) error) error {
	return k.looker(false).Reach(ctx, t.card, func(s postgres.Server) error { return use(s.On(databaseOf(t.path))) })
}

// databaseOf is the name of the database that an address ends with.
func databaseOf(address string) string { return address[strings.LastIndexByte(address, '/')+1:] }

func (k postgresKind) seal(ctx context.Context, p survey.Place, is survey.Item, sealed *kit.Sealed) error {
	dir := k.Kit.AppDir(p.Key.App)
	schema, err := seal.Create(dir, sealed.Stream+schemaEnding, k.sealing(1))
	if err != nil {
		return err
	}
	rows, err := seal.Create(dir, sealed.Stream+rowsEnding, k.sealing(0))
	if err != nil {
		schema.Abort()
		return err
	}
	progress := k.begin(p.Key, "sealing", is.Bytes)
	var d *postgres.Sealed
	err = k.reach(ctx, target{card: p.Item, path: p.Path}, func(s postgres.Server) (err error) {
		d, err = postgres.Seal(ctx, s, p.Item.Counts, schema, rows, func(n int64) {
			sealed.Bytes += n
			progress(n)
		})
		return err
	})
	if err != nil {
		schema.Abort()
		rows.Abort()
		return err
	}
	sealed.Files, sealed.Left, sealed.LeftCount = 1, is.Left, len(is.Left)
	if sealed.Schema, err = schema.Close(); err != nil {
		rows.Abort()
		return err
	}
	if sealed.Parts, err = rows.Close(); err != nil {
		return err
	}
	sealed.List, err = k.sealJSON(dir, sealed.Stream+listEnding, d)
	return err
}

func (k postgresKind) there(ctx context.Context, t target) (there bool, err error) {
	err = k.reach(ctx, t, func(s postgres.Server) (err error) {
		there, err = postgres.Exists(ctx, s)
		return err
	})
	return there, err
}

// sealedFacts reads what is known of the sealed database besides its rows.
func (k postgresKind) sealedFacts(t target) (*postgres.Sealed, error) {
	d := &postgres.Sealed{}
	return d, k.openJSON(t.item.Key.App, t.item.Sealed.List, d)
}

func (k postgresKind) lacks(ctx context.Context, t target) (out []string, err error) {
	d, err := k.sealedFacts(t)
	if err != nil {
		return nil, err
	}
	err = k.reach(ctx, t, func(s postgres.Server) (err error) {
		out, err = postgres.Lacks(ctx, s, d)
		return err
	})
	return out, err
}

// put makes the database under another name, loads it, and renames it into
// place after what is in the way was renamed.
func (k postgresKind) put(ctx context.Context, t target, done *steps.Placed) error {
	d, err := k.sealedFacts(t)
	if err != nil {
		return err
	}
	temp, err := k.temp()
	if err != nil {
		return err
	}
	there, err := k.there(ctx, t)
	if err != nil {
		return err
	}
	if there && tree.Policy(done.Policy) == tree.Skip {
		return nil
	}
	schema, err := seal.Open(k.Kit.AppDir(t.item.Key.App), t.item.Sealed.Schema, k.identity())
	if err != nil {
		return err
	}
	archive, err := postgres.Archive(temp, schema)
	schema.Close()
	if err != nil {
		return err
	}
	defer os.Remove(archive)
	rows, err := k.rows(t)
	if err != nil {
		return err
	}
	defer rows.Close()
	progress := k.begin(t.item.Key, "putting in place", t.item.Sealed.Bytes)
	stage := shortened(databaseOf(t.path), "_stage_"+k.Kit.Manifest.ID)
	return k.reach(ctx, t, func(s postgres.Server) error {
		made, err := postgres.Stage(ctx, s, d, stage, archive, rows, progress)
		for _, r := range made {
			note := "the role " + r.Name + " was made on the new server"
			if r.Login {
				note += " without a password: set one, and enter it in the app"
			}
			done.Notes = append(done.Notes, note)
		}
		if err != nil {
			return err
		}
		to := s.On(databaseOf(done.To))
		aside, err := k.aside(ctx, to, done)
		if err != nil {
			return err
		}
		return postgres.Rename(ctx, to, stage, aside)
	})
}

// aside is what a database is renamed to that has the name at this moment, or
// "" where there is none, or it is to be replaced. One beside another may be
// there from an earlier run, and have been worked in since.
func (k postgresKind) aside(ctx context.Context, to postgres.Server, done *steps.Placed) (string, error) {
	there, err := postgres.Exists(ctx, to)
	if err != nil || !there || tree.Policy(done.Policy) == tree.Replace {
		return "", err
	}
	if done.Aside == "" {
		done.Aside = asideAddress(done.To, k.now())
	}
	return databaseOf(done.Aside), nil
}

// shortened puts an ending behind a name, so that the server takes it (63
// bytes).
func shortened(name, ending string) string {
	return strings.ToValidUTF8(name[:min(len(name), 63-len(ending))], "") + ending
}

// besides returns the address of a database of another name on the same server.
func besides(address, name string) string {
	return address[:strings.LastIndexByte(address, '/')+1] + name
}

// asideAddress is where a database goes that is in the way.
func asideAddress(address string, at time.Time) string {
	return besides(address, shortened(databaseOf(address), "_set_aside_"+at.Format("20060102_150405")))
}

// bothAddress is where a database goes beside another.
func bothAddress(address, old string) string {
	return besides(address, shortened(databaseOf(address), "_from_"+old))
}

func (k postgresKind) rows(t target) (io.ReadCloser, error) {
	return seal.Open(k.Kit.AppDir(t.item.Key.App), t.item.Sealed.Parts, k.identity())
}

func (k postgresKind) fingerprint(ctx context.Context, t target) (f *dbprint.Fingerprint, err error) {
	err = k.reach(ctx, t, func(s postgres.Server) (err error) {
		f, err = postgres.Take(ctx, s, t.card.Counts, k.bytes)
		return err
	})
	return f, err
}

func (k postgresKind) oldRows(_ context.Context, t target) (func(dbprint.Table) dbprint.Rows, func(), error) {
	return func(table dbprint.Table) dbprint.Rows {
		return postgres.SealedRows(func() (io.ReadCloser, error) { return k.rows(t) }, table.Name)
	}, func() {}, nil
}

func (k postgresKind) newRows(ctx context.Context, t target, table dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		return k.reach(ctx, t, func(s postgres.Server) error { return postgres.Rows(ctx, s, table)(each) })
	}
}
