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
	"movekit/internal/core/filemeta"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

const ending = ".sqlite" + seal.Ending

// mover moves one database: a file with its side files.
type mover struct{ *item.Instance }

var _ item.Database = mover{}

// New returns the parts for one database.
func New(o *item.Instance) item.Parts {
	m := mover{o}
	return item.Parts{Inspector: m, Mover: m, Names: names{o}, Querier: m}
}

// at returns the mover of the database at another path.
func (m mover) at(path string) mover { return mover{m.At(path)} }

// Close does nothing: no file stays open.
func (mover) Close() {}

// Locate finds the path.
func (m mover) Locate(ctx context.Context) error { return m.LocateOnDisk(ctx) }

// Where returns the path.
func (m mover) Where() (spoken, disk string) { return machine.DisplayPath(m.Computer, m.Path), m.Path }

// Volume returns the path.
func (m mover) Volume(context.Context) string { return m.Path }

// Check does nothing: the sealed fingerprint has no names that could lead elsewhere.
func (mover) Check() error { return nil }

// Lacks returns why nothing can be put at the path.
func (m mover) Lacks(context.Context) (item.Lacks, error) {
	reasons, err := m.LacksOnDisk()
	return item.Lacks{Reasons: reasons}, err
}

// Is reports whether a file is a SQLite database, by its content.
func Is(path string) bool {
	head, err := header(path)
	return err == nil && head != nil
}

// Inspect measures the file with its side files.
func (m mover) Inspect(_ context.Context, how item.Options) (*item.Inspection, error) {
	is := m.Blank()
	is.State, is.OnDisk, is.InUse, is.Files = item.IsHere, true, true, 1
	var newest time.Time
	for _, name := range append([]string{m.Path}, SideFiles(m.Path)...) {
		info, err := os.Stat(name)
		if err != nil {
			return nil, fault.Wrap(fault.Unreadable, err, "cannot read the database")
		}
		if name == m.Path+"-shm" {
			continue // the engine creates it again
		}
		is.Bytes += info.Size()
		is.Stamp += fmt.Sprintf("%d %s; ", info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano))
		if name == m.Path { // opening a database for reading changes the others
			seen := filemeta.StatOf(info)
			is.MetaStamp = fmt.Sprintf("%d %d %v %d:%d", seen.ID, seen.Changed, info.Mode(), seen.Owner.UID, seen.Owner.GID)
		}
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	is.Newest = &newest
	if encrypted, err := Encrypted(m.Path); err == nil && encrypted {
		is.InUse = false
		is.Details = append(is.Details, "probably encrypted: it is moved as a file, and its content cannot be counted")
	}
	if how.Estimate {
		is.Sealed = item.EstimateFile(m.Path, is.Bytes)
	}
	return is, nil
}

// Ask returns the whole number that a query returns.
func (m mover) Ask(ctx context.Context, query string) (int64, error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return 0, err
	}
	return Ask(ctx, m.Path, temp, query)
}

// Seal seals a snapshot of the database and the snapshot's fingerprint.
func (m mover) Seal(ctx context.Context, is *item.Inspection) (*kit.Sealed, error) {
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
	s := &kit.Sealed{Stream: m.Stream(), Stamp: is.Stamp, MetaStamp: is.MetaStamp, Files: 1}
	var print *dbprint.Fingerprint
	work, within := errgroup.WithContext(ctx)
	work.Go(func() (err error) {
		print, err = Whole(within, snapshot, m.Item.Counts)
		return err
	})
	work.Go(func() (err error) {
		s.Parts, s.Bytes, err = m.Run.SealFrom(within, m.Key.App, s.Stream+ending, f, progress)
		return err
	})
	if err := work.Wait(); err != nil {
		m.Run.Kit.Discard(m.Key.App, s.Parts) // it was sealed, but is damaged
		return nil, Damaged(m.Path, err)
	}
	if e, err := m.MetadataOf(m.Path); err == nil {
		s.Mode, s.Metadata = uint32(e.Mode.Perm()), e.Metadata
		if e.Owner != "" {
			s.Owners = []string{e.Owner}
		}
	}
	s.List, err = m.Run.SealJSON(m.Key.App, s.Stream+item.ListEnding, print)
	return s, err
}

// snapshot returns the snapshot of the database, made together with the databases that the app
// attaches to it.
func (m mover) snapshot(ctx context.Context, temp string) (string, error) {
	g := m.Group
	if g == nil {
		return Snapshot(ctx, m.Path, temp, nil)
	}
	if taken := g.Copies[m.Key]; taken != "" {
		delete(g.Copies, m.Key)
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
	g.Copies = map[steps.Key]string{}
	for i, o := range g.Members {
		if o.Key == m.Key {
			mine = all[i]
		} else {
			g.Copies[o.Key] = all[i]
		}
	}
	return mine, nil
}

// sealed returns the fingerprint of the sealed database.
func (m mover) sealed() (*dbprint.Fingerprint, error) {
	f := &dbprint.Fingerprint{}
	return f, m.Run.OpenJSON(m.Key.App, m.InKit.Sealed.List, f)
}

// Same compares the database with the sealed fingerprint.
func (m mover) Same(ctx context.Context, at string) (bool, error) {
	m = m.at(at)
	old, err := m.sealed()
	if err != nil {
		return false, nil
	}
	if same, err := m.SamePrint(ctx, m, old); !same {
		return false, err
	}
	what, err := m.MetadataDiffers()
	return err == nil && what == "", nil
}

// Stage writes the database beside its destination, and flushes it.
func (m mover) Stage(ctx context.Context, stage string) (out item.Staged, err error) {
	if err := m.MakeParent(stage); err != nil {
		return out, err
	}
	unkept, err := m.write(ctx, stage, m.OwnersToSet())
	if err == nil {
		out.NotRestored = m.MetadataNotes(unkept, len(unkept))
		out.Notes, err = m.updatePaths(ctx, stage)
	}
	if err != nil {
		os.Remove(stage)
	}
	return out, err
}

// write writes the sealed database to a file.
func (m mover) write(ctx context.Context, stage string, to *tree.Belonging) (unkept []string, err error) {
	os.Remove(stage)
	w, err := os.OpenFile(stage, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot write the database")
	}
	defer w.Close()
	if err := m.writeTo(ctx, w); err != nil {
		return nil, err
	}
	s := m.InKit.Sealed
	unkept, err = tree.ApplyMetadata(w, tree.Entry{Path: filepath.Base(m.Path), Type: tree.File, Mode: fs.FileMode(s.Mode).Perm(), Metadata: s.Metadata}, to)
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

func (m mover) writeTo(ctx context.Context, w io.Writer) error {
	progress := m.Progress("unpacking", m.InKit.Sealed.Bytes)
	r, err := m.Run.Kit.Open(m.Key.App, m.InKit.Sealed.Parts)
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

// RecordPlaced records the stamp.
func (m mover) RecordPlaced(ctx context.Context, at string, done *steps.Placed) error {
	return item.StampByInspection(ctx, m.at(at), done)
}

// Unedited compares the stamp.
func (m mover) Unedited(ctx context.Context, at, stamp string) (bool, error) {
	return item.HasStamp(ctx, m.at(at), stamp)
}

// Fingerprint computes the database's fingerprint.
func (m mover) Fingerprint(ctx context.Context) (*dbprint.Fingerprint, error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return nil, err
	}
	turned, err := m.PathEdits()
	if err != nil {
		return nil, err
	}
	return Take(ctx, m.Path, temp, m.Item.Counts, turned)
}

// OldRows decrypts the sealed database into a private file.
func (m mover) OldRows(ctx context.Context) (func(dbprint.Table) dbprint.Rows, func(), error) {
	temp, err := m.Private.Dir()
	if err != nil {
		return nil, nil, err
	}
	name := filepath.Join(temp, "old.sqlite")
	if _, err := m.write(ctx, name, nil); err != nil {
		os.Remove(name)
		return nil, nil, err
	}
	return func(t dbprint.Table) dbprint.Rows { return Rows(ctx, name, temp, t, nil) }, func() { Discard(name) }, nil
}

// NewRows reads a table.
func (m mover) NewRows(ctx context.Context, t dbprint.Table) dbprint.Rows {
	temp, err := m.Private.Dir()
	turned, terr := m.PathEdits()
	if err = cmp.Or(err, terr); err != nil {
		return func(func(dbprint.Row) error) error { return err }
	}
	return Rows(ctx, m.Path, temp, t, turned[t.Name])
}

// Compare compares the database with the sealed one.
func (m mover) Compare(ctx context.Context) (*steps.Checked, error) {
	there, err := item.OnDisk(m.Path)
	if err != nil {
		return nil, err
	}
	old, err := m.sealed()
	if err != nil {
		return nil, err
	}
	out, err := m.CompareDatabase(ctx, m, there, old)
	if err == nil && there {
		m.NotePathUpdates(out)
		err = m.CompareMetadata(out)
	}
	return out, err
}
