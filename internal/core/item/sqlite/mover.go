package sqlite

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"movekit/internal/core/block"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

const ending = ".sqlite" + seal.Ending

// Mover moves one database: a file with its side files.
type Mover struct{ item.Disk }

var (
	_ item.Mover    = Mover{}
	_ item.Database = Mover{}
)

// New moves one database.
func New(o *item.One) item.Mover { return Mover{item.Disk{One: o}} }

// Is reports whether a file is a database, by its content.
func Is(path string) bool {
	head, err := header(path)
	return err == nil && head != nil
}

// At is the same at another path.
func (m Mover) At(path string) item.Mover {
	o := *m.One
	o.Path = path
	return Mover{item.Disk{One: &o}}
}

// Look measures the file with its side files.
func (m Mover) Look(_ context.Context, how item.Looking) (*item.Look, error) {
	is := m.Blank()
	is.State, is.OnDisk, is.InUse, is.Files = item.IsHere, true, true, 1
	var newest time.Time
	for _, name := range append([]string{m.Path}, SideFiles(m.Path)...) {
		info, err := os.Stat(name)
		if err != nil {
			return nil, fault.Wrap(fault.Unreadable, err, "cannot read the database")
		}
		if name == m.Path+"-shm" {
			continue // an index that the engine makes anew
		}
		is.Bytes += info.Size()
		is.Stamp += fmt.Sprintf("%d %s; ", info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano))
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	is.Newest = &newest
	if encrypted, err := Encrypted(m.Path); err == nil && encrypted {
		is.InUse = false
		is.Details = append(is.Details, "encrypted, by all that can be seen: it is moved as a file, and its content cannot be counted")
	}
	if how.Estimate {
		is.Sealed = item.EstimateFile(m.Path, is.Bytes)
	}
	return is, nil
}

// Ask returns the whole number that a query gives.
func (m Mover) Ask(ctx context.Context, query string) (int64, error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return 0, err
	}
	return Ask(ctx, m.Path, temp, query)
}

// Seal seals a snapshot of the database and the snapshot's fingerprint.
func (m Mover) Seal(ctx context.Context, is *item.Look) (*kit.Sealed, error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return nil, err
	}
	m.Progress("taking a snapshot", 0)
	snapshot, err := m.snapshot(ctx, temp)
	if err != nil {
		return nil, err
	}
	defer Discard(snapshot)
	f, err := os.Open(snapshot)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the snapshot")
	}
	defer f.Close()
	progress := m.Progress("sealing", is.Bytes)
	s := &kit.Sealed{Stream: m.Stream(), Stamp: is.Stamp, Files: 1}
	var print *dbprint.Fingerprint
	work, within := errgroup.WithContext(ctx)
	work.Go(func() (err error) {
		print, err = Whole(within, snapshot, m.Card.Counts)
		return err
	})
	work.Go(func() (err error) {
		s.Parts, s.Bytes, err = m.Run.SealFrom(within, m.Key.App, s.Stream+ending, f, progress)
		return err
	})
	if err := work.Wait(); err != nil {
		m.Run.Kit.Discard(m.Key.App, s.Parts) // sealed, and not whole: it counts for nothing
		return nil, Damaged(m.Path, err)
	}
	if e, err := m.MarksOf(m.Path); err == nil {
		s.Mode, s.Marks = uint32(e.Mode.Perm()), e.Marks
		if e.Owner != "" {
			s.Owners = []string{e.Owner}
		}
	}
	s.List, err = m.Run.SealJSON(m.Key.App, s.Stream+item.ListEnding, print)
	return s, err
}

// snapshot returns the snapshot of the database, taken together with those that
// the app attaches to it.
func (m Mover) snapshot(ctx context.Context, temp string) (string, error) {
	g := m.Group
	if g == nil {
		return Snapshot(ctx, m.Path, temp, nil)
	}
	if taken := g.Taken[m.Key]; taken != "" {
		delete(g.Taken, m.Key)
		return taken, nil
	}
	names := make([]string, len(g.Members))
	for i, o := range g.Members {
		names[i] = o.Path
	}
	all, err := Snapshots(ctx, names, filepath.Join(temp, m.Stream()), nil)
	if err != nil {
		return "", err
	}
	mine := ""
	g.Taken = map[steps.Key]string{}
	for i, o := range g.Members {
		if o.Key == m.Key {
			mine = all[i]
		} else {
			g.Taken[o.Key] = all[i]
		}
	}
	return mine, nil
}

// sealed is the fingerprint of the sealed database.
func (m Mover) sealed() (*dbprint.Fingerprint, error) {
	f := &dbprint.Fingerprint{}
	return f, m.Run.OpenJSON(m.Key.App, m.Known.Sealed.List, f)
}

// Same holds the database against the sealed fingerprint.
func (m Mover) Same(ctx context.Context) (bool, error) {
	old, err := m.sealed()
	if err != nil {
		return false, nil
	}
	if same, err := m.SamePrint(ctx, m, old); !same {
		return false, err
	}
	what, err := m.MarksDiffer()
	return err == nil && what == "", nil
}

// Put writes the database beside its target, flushes it, and renames it into
// place after what is in the way, side files and all, was set aside.
func (m Mover) Put(ctx context.Context, done *steps.Placed) error {
	if err := m.MakeParent(done.To); err != nil {
		return err
	}
	policy := tree.Policy(done.Policy)
	if policy == tree.Skip {
		return nil
	}
	stage := done.To + tree.StageEnding
	notes, err := m.stage(ctx, stage, m.Giving())
	if err != nil {
		os.Remove(stage)
		return err
	}
	done.Unkept = append(done.Unkept, m.Kept(notes, len(notes))...)
	if err := m.repoint(ctx, stage, done); err != nil {
		os.Remove(stage)
		return err
	}
	if done.Over != "" {
		if err := m.Rename(ctx, done.Over); err != nil {
			return err
		}
	}
	for _, name := range append([]string{m.Path}, SideFiles(m.Path)...) {
		if _, err := os.Lstat(name); err != nil || policy == tree.KeepBoth {
			continue
		}
		// An old log beside a new database would corrupt it: it never stays.
		aside := done.Aside
		if aside == "" {
			aside = tree.AsideName(m.Path, m.Run.Now())
		}
		var err error
		if policy == tree.Replace {
			err = os.Remove(name)
		} else {
			err = os.Rename(name, aside+name[len(m.Path):])
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot set %s aside", name)
		}
	}
	if err := item.Rename(stage, done.To); err != nil {
		return err
	}
	return seal.SyncDir(filepath.Dir(done.To))
}

// stage writes the sealed database into a file.
func (m Mover) stage(ctx context.Context, stage string, to *tree.Belonging) (unkept []string, err error) {
	os.Remove(stage)
	w, err := os.OpenFile(stage, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot write the database")
	}
	defer w.Close()
	if err := m.writeTo(ctx, w); err != nil {
		return nil, err
	}
	s := m.Known.Sealed
	unkept, err = tree.Settle(w, tree.Entry{Path: filepath.Base(m.Path), Type: tree.File, Mode: fs.FileMode(s.Mode).Perm(), Marks: s.Marks}, to)
	if err == nil {
		err = w.Sync()
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot write the database")
	}
	return unkept, nil
}

func (m Mover) writeTo(ctx context.Context, w io.Writer) error {
	progress := m.Progress("putting in place", m.Known.Sealed.Bytes)
	r, err := m.Run.Kit.Open(m.Key.App, m.Known.Sealed.Parts)
	if err != nil {
		return err
	}
	defer r.Close()
	buf := block.Take()
	defer block.Give(buf)
	for {
		n, rerr := r.Read(buf)
		if _, err := w.Write(buf[:n]); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot write the database")
		}
		progress(int64(n))
		if rerr == io.EOF {
			return nil
		}
		if rerr == nil {
			rerr = ctx.Err()
		}
		if rerr != nil {
			return rerr
		}
	}
}

// Mark is the stamp of the files.
func (m Mover) Mark(ctx context.Context, done *steps.Placed) error { return item.Stamp(ctx, m, done) }

// Untouched looks at the stamp of the files.
func (m Mover) Untouched(ctx context.Context, stamp string) (bool, error) {
	return item.Stamped(ctx, m, stamp)
}

// Rename gives the database another name, side files and all.
func (m Mover) Rename(_ context.Context, to string) error { return m.RenameWith(to, SideFiles) }

// Remove removes the database, side files and all.
func (m Mover) Remove(context.Context) error { return m.RemoveWith(SideFiles) }

// Fingerprint takes that of the database.
func (m Mover) Fingerprint(ctx context.Context) (*dbprint.Fingerprint, error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return nil, err
	}
	turned, err := m.Turned()
	if err != nil {
		return nil, err
	}
	return Take(ctx, m.Path, temp, m.Card.Counts, turned)
}

// OldRows opens the sealed database into a private file.
func (m Mover) OldRows(ctx context.Context) (func(dbprint.Table) dbprint.Rows, func(), error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return nil, nil, err
	}
	name := filepath.Join(temp, "old.sqlite")
	if _, err := m.stage(ctx, name, nil); err != nil {
		os.Remove(name)
		return nil, nil, err
	}
	return func(t dbprint.Table) dbprint.Rows { return Rows(ctx, name, temp, t, nil) }, func() { Discard(name) }, nil
}

// NewRows reads a table.
func (m Mover) NewRows(ctx context.Context, t dbprint.Table) dbprint.Rows {
	temp, err := m.Private.Dir()
	turned, terr := m.Turned()
	if err = cmp.Or(err, terr); err != nil {
		return func(func(dbprint.Row) error) error { return err }
	}
	return Rows(ctx, m.Path, temp, t, turned[t.Name])
}

// Compare holds the database against the sealed one.
func (m Mover) Compare(ctx context.Context) (*steps.Checked, error) {
	there, err := m.There(ctx)
	if err != nil {
		return nil, err
	}
	old, err := m.sealed()
	if err != nil {
		return nil, err
	}
	out, err := m.CompareDatabase(ctx, m, there, old)
	if err == nil && there {
		m.AddRepointed(out)
		err = m.CompareMarks(out)
	}
	return out, err
}

// TakeBack takes the database back, side files and all.
func (m Mover) TakeBack(ctx context.Context, u steps.Undone) (bool, error) {
	return m.Withdraw(ctx, u, func() (bool, error) { return m.Ours(ctx, m) }, SideFiles)
}
