package move

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sync/errgroup"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/sqlite"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// sqliteKind moves SQLite databases: files with side files.
type sqliteKind struct{ *Job }

func (k sqliteKind) there(_ context.Context, t target) (bool, error) {
	there, err := machine.Exists(t.path)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot look at %s", t.path)
	}
	return there, err
}

func (k sqliteKind) lacks(context.Context, target) ([]string, error) { return nil, nil }

func (k sqliteKind) fingerprint(ctx context.Context, t target) (*dbprint.Fingerprint, error) {
	temp, err := k.temp()
	if err != nil {
		return nil, err
	}
	return sqlite.Take(ctx, t.path, temp, t.card.Counts)
}

// oldRows opens the sealed database into a private file.
func (k sqliteKind) oldRows(ctx context.Context, t target) (func(dbprint.Table) dbprint.Rows, func(), error) {
	temp, err := k.temp()
	if err != nil {
		return nil, nil, err
	}
	name := filepath.Join(temp, "old.sqlite")
	if err := k.stage(ctx, target{item: t.item, card: t.card}, name); err != nil {
		os.Remove(name)
		return nil, nil, err
	}
	return func(table dbprint.Table) dbprint.Rows { return sqlite.Rows(ctx, name, temp, table) }, func() { sqlite.Discard(name) }, nil
}

func (k sqliteKind) newRows(ctx context.Context, t target, table dbprint.Table) dbprint.Rows {
	temp, err := k.temp()
	if err != nil {
		return func(func(dbprint.Row) error) error { return err }
	}
	return sqlite.Rows(ctx, t.path, temp, table)
}

// seal seals a snapshot of a database and the snapshot's fingerprint.
func (k sqliteKind) seal(ctx context.Context, p survey.Place, is survey.Item, sealed *kit.Sealed) error {
	j := k.Job
	temp, err := j.temp()
	if err != nil {
		return err
	}
	j.begin(p.Key, "taking a snapshot", 0)
	snapshot, err := k.snapshot(ctx, p, temp)
	if err != nil {
		return err
	}
	defer sqlite.Discard(snapshot)
	f, err := os.Open(snapshot)
	if err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot read the snapshot")
	}
	defer f.Close()
	progress := j.begin(p.Key, "sealing", is.Bytes)
	dir := j.Kit.AppDir(p.Key.App)
	var print *dbprint.Fingerprint
	work, within := errgroup.WithContext(ctx)
	work.Go(func() error { return sqlite.CheckSnapshot(within, snapshot) })
	work.Go(func() (err error) {
		print, err = sqlite.Take(within, snapshot, temp, p.Item.Counts)
		return err
	})
	work.Go(func() (err error) {
		sealed.Parts, sealed.Bytes, err = j.sealStream(within, dir, sealed.Stream+sqliteEnding, f, progress)
		return err
	})
	if err := work.Wait(); err != nil {
		for _, part := range sealed.Parts { // sealed, and not whole: it counts for nothing
			os.Remove(filepath.Join(dir, part.Name))
		}
		return sqlite.Damaged(p.Path, err)
	}
	sealed.Files = 1
	if info, err := os.Stat(p.Path); err == nil {
		sealed.Mode = uint32(info.Mode().Perm())
	}
	sealed.List, err = j.sealJSON(dir, sealed.Stream+listEnding, print)
	return err
}

// snapshot returns the snapshot of a database, taken together with those that
// the app attaches to it.
func (k sqliteKind) snapshot(ctx context.Context, p survey.Place, temp string) (string, error) {
	group := k.together[p.Key]
	if len(group) == 0 {
		return sqlite.Snapshot(ctx, p.Path, temp, nil)
	}
	if taken := k.snapshots[p.Key]; taken != "" {
		delete(k.snapshots, p.Key)
		return taken, nil
	}
	names := make([]string, len(group))
	for i, o := range group {
		names[i] = o.Path
	}
	all, err := sqlite.Snapshots(ctx, names, filepath.Join(temp, p.Key.Item), nil)
	if err != nil {
		return "", err
	}
	k.Job.snapshots = map[steps.Key]string{}
	mine := ""
	for i, o := range group {
		if o.Key == p.Key {
			mine = all[i]
		} else {
			k.Job.snapshots[o.Key] = all[i]
		}
	}
	return mine, nil
}

// put writes a database beside its target, flushes it, and renames it
// into place after what is in the way, side files and all, was set aside.
func (k sqliteKind) put(ctx context.Context, t target, done *steps.Placed) error {
	if err := makeParent(filepath.Dir(done.To)); err != nil {
		return err
	}
	inWay := append([]string{t.path}, sqlite.SideFiles(t.path)...)
	policy := tree.Policy(done.Policy)
	if policy == tree.Skip {
		return nil
	}
	stage := done.To + tree.StageEnding
	if err := k.stage(ctx, t, stage); err != nil {
		os.Remove(stage)
		return err
	}
	for _, name := range inWay {
		if _, err := os.Lstat(name); err != nil || policy == tree.KeepBoth {
			continue
		}
		// An old log beside a new database would corrupt it: it never stays.
		aside := done.Aside
		if aside == "" {
			aside = tree.AsideName(t.path, k.now())
		}
		var err error
		if policy == tree.Replace {
			err = os.Remove(name)
		} else {
			err = os.Rename(name, aside+name[len(t.path):])
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot set %s aside", name)
		}
	}
	if err := os.Rename(stage, done.To); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot rename")
	}
	return seal.SyncDir(filepath.Dir(done.To))
}

func (k sqliteKind) stage(ctx context.Context, t target, stage string) error {
	j := k.Job
	progress := j.begin(t.item.Key, "putting in place", t.item.Sealed.Bytes)
	r, err := seal.Open(j.Kit.AppDir(t.item.Key.App), t.item.Sealed.Parts, j.identity())
	if err != nil {
		return err
	}
	defer r.Close()
	os.Remove(stage)
	w, err := os.OpenFile(stage, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the database")
	}
	defer w.Close()
	buf := make([]byte, 1<<20)
	for {
		n, rerr := r.Read(buf)
		if _, err := w.Write(buf[:n]); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot write the database")
		}
		progress(int64(n))
		if rerr == io.EOF {
			break
		}
		if rerr == nil {
			rerr = ctx.Err()
		}
		if rerr != nil {
			return rerr
		}
	}
	if o := ownerOf(t.user); o != nil {
		if err := w.Chown(o.UID, o.GID); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot give the database to its user")
		}
	}
	if err := w.Chmod(fs.FileMode(t.item.Sealed.Mode).Perm()); err != nil && j.Computer.System() == machine.Linux {
		return fault.Wrap(fault.CannotPlace, err, "cannot set the database's permissions")
	}
	if err := w.Sync(); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot flush the database")
	}
	return w.Close()
}
