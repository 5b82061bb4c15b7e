package move

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/kit"
	"movekit/internal/core/seal"
	"movekit/internal/core/served"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// sealedEnding is put behind the ending of a server's sealed streams.
const sealedEnding = ".zst.age"

// servedKind moves databases of servers.
type servedKind struct {
	*Job
	engine served.Engine
}

// reach runs what needs the server of a target, on the database that its path
// ends with.
func (k servedKind) reach(ctx context.Context, t target, use func(served.Server) error) error {
	return k.looker(false).Reach(ctx, t.card, func(s served.Server) error { return use(s.At(t.path)) })
}

func (k servedKind) seal(ctx context.Context, p survey.Place, is survey.Item, sealed *kit.Sealed) (err error) {
	dir := k.Kit.AppDir(p.Key.App)
	schemaEnding, rowsEnding := k.engine.Endings()
	var schema *seal.Writer
	var schemaTo io.Writer
	if schemaEnding != "" {
		if schema, err = seal.Create(dir, sealed.Stream+schemaEnding+sealedEnding, k.sealing(1)); err != nil {
			return err
		}
		schemaTo = schema
	}
	abort := func(w *seal.Writer) {
		if w != nil {
			w.Abort()
		}
	}
	rows, err := seal.Create(dir, sealed.Stream+rowsEnding+sealedEnding, k.sealing(0))
	if err != nil {
		abort(schema)
		return err
	}
	progress := k.begin(p.Key, "sealing", is.Bytes)
	var facts any
	err = k.reach(ctx, target{card: p.Item, path: p.Path}, func(s served.Server) (err error) {
		facts, err = k.engine.Seal(ctx, s, p.Item.Counts, schemaTo, rows, func(n int64) {
			sealed.Bytes += n
			progress(n)
		})
		return err
	})
	if err != nil {
		abort(schema)
		rows.Abort()
		return err
	}
	sealed.Files, sealed.Left, sealed.LeftCount = 1, is.Left, len(is.Left)
	if schema != nil {
		if sealed.Schema, err = schema.Close(); err != nil {
			rows.Abort()
			return err
		}
	}
	if sealed.Parts, err = rows.Close(); err != nil {
		return err
	}
	sealed.List, err = k.sealJSON(dir, sealed.Stream+listEnding, facts)
	return err
}

func (k servedKind) there(ctx context.Context, t target) (there bool, err error) {
	err = k.reach(ctx, t, func(s served.Server) (err error) {
		there, err = k.engine.Exists(ctx, s)
		return err
	})
	return there, err
}

// facts reads what is known of the sealed database besides its rows.
func (k servedKind) facts(t target) ([]byte, error) {
	var d json.RawMessage
	err := k.openJSON(t.item.Key.App, t.item.Sealed.List, &d)
	return d, err
}

func (k servedKind) lacks(ctx context.Context, t target) (out []string, err error) {
	d, err := k.facts(t)
	if err != nil {
		return nil, err
	}
	err = k.reach(ctx, t, func(s served.Server) (err error) {
		out, err = k.engine.Lacks(ctx, s, d)
		return err
	})
	return out, err
}

// put makes the database under another name, loads it, and renames it into
// place after what is in the way was renamed.
func (k servedKind) put(ctx context.Context, t target, done *steps.Placed) error {
	there, err := k.there(ctx, t)
	if err != nil {
		return err
	}
	if there && tree.Policy(done.Policy) == tree.Skip {
		return nil
	}
	return k.reach(ctx, t, func(s served.Server) error {
		p, err := k.putting(t, s)
		if err != nil {
			return err
		}
		p.Progress = k.begin(t.item.Key, "putting in place", t.item.Sealed.Bytes)
		notes, err := k.engine.Stage(ctx, s, p)
		done.Notes = append(done.Notes, notes...)
		if err != nil {
			return err
		}
		to := s.At(done.To)
		aside, err := k.aside(ctx, to, done)
		if err != nil {
			return err
		}
		return k.engine.Settle(ctx, to, p, aside)
	})
}

// aside is what a database is renamed to that has the name at this moment, or
// what an earlier run has renamed it to; "" where it is to be replaced, or
// there never was one. One beside another may be there from an earlier run, and
// have been worked in since.
func (k servedKind) aside(ctx context.Context, to served.Server, done *steps.Placed) (string, error) {
	there, err := k.engine.Exists(ctx, to)
	if err != nil || tree.Policy(done.Policy) == tree.Replace || !there && done.Aside == "" {
		return "", err
	}
	if done.Aside == "" {
		if done.Aside, err = k.freeName(ctx, to, "_set_aside_"); err != nil {
			return "", err
		}
	}
	return to.At(done.Aside).Database, nil
}

// intendAside says where a database will go that is in the way: where an
// interrupted run was about to put it, unless it has done so.
func (k servedKind) intendAside(ctx context.Context, t target, earlier string, done *steps.Placed) error {
	return k.reach(ctx, t, func(s served.Server) (err error) {
		if earlier != "" {
			if there, err := k.engine.Exists(ctx, s.At(earlier)); err != nil || !there {
				done.Aside = earlier
				return err
			}
		}
		done.Aside, err = k.freeName(ctx, s, "_set_aside_")
		return err
	})
}

// freeName is the address that a database gets, which nothing has yet.
func (k servedKind) freeName(ctx context.Context, s served.Server, ending string) (string, error) {
	ending += k.now().Format("20060102_150405")
	for n, try := 2, ending; ; n++ {
		to := s.On(k.engine.Named(s.Database, try))
		there, err := k.engine.Exists(ctx, to)
		if err != nil || !there {
			return to.Address(), err
		}
		try = fmt.Sprintf("%s_%d", ending, n)
	}
}

// bothOf is where a database goes beside another.
func bothOf(e served.Engine, s served.Server, old string) served.Server {
	return s.On(e.Named(s.Database, "_from_"+old))
}

func (k servedKind) open(t target, parts []seal.Part) (io.ReadCloser, error) {
	return seal.Open(k.Kit.AppDir(t.item.Key.App), parts, k.identity())
}

func (k servedKind) fingerprint(ctx context.Context, t target) (f *dbprint.Fingerprint, err error) {
	err = k.reach(ctx, t, func(s served.Server) (err error) {
		f, err = k.engine.Fingerprint(ctx, s, t.card.Counts, k.bytes)
		return err
	})
	return f, err
}

// oldRows reads the sealed rows, or, where only a server can, makes the database
// under another name for as long as it takes.
func (k servedKind) oldRows(ctx context.Context, t target) (func(dbprint.Table) dbprint.Rows, func(), error) {
	rows := func(table dbprint.Table) dbprint.Rows {
		return k.engine.SealedRows(func() (io.ReadCloser, error) { return k.open(t, t.item.Sealed.Parts) }, table)
	}
	if rows(dbprint.Table{}) != nil {
		return rows, func() {}, nil
	}
	var staged served.Server
	err := k.reach(ctx, t, func(s served.Server) (err error) {
		p, err := k.putting(t, s)
		if err == nil {
			staged = s.On(p.Stage)
			_, err = k.engine.Stage(ctx, s, p)
		}
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	return func(table dbprint.Table) dbprint.Rows { return k.engine.Rows(ctx, staged, table) }, func() { k.engine.Drop(context.WithoutCancel(ctx), staged) }, nil
}

// putting is how the sealed database of a target is put on a server.
func (k servedKind) putting(t target, s served.Server) (p served.Putting, err error) {
	if p.Facts, err = k.facts(t); err != nil {
		return p, err
	}
	if p.Temp, err = k.temp(); err != nil {
		return p, err
	}
	p.Stage = k.engine.Named(s.Database, "_stage_"+k.Kit.Manifest.ID)
	p.Mine = k.TakeOver
	p.Schema = func() (io.ReadCloser, error) { return k.open(t, t.item.Sealed.Schema) }
	p.Rows = func() (io.ReadCloser, error) { return k.open(t, t.item.Sealed.Parts) }
	return p, nil
}

func (k servedKind) newRows(ctx context.Context, t target, table dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		return k.reach(ctx, t, func(s served.Server) error { return k.engine.Rows(ctx, s, table)(each) })
	}
}
