// Package files moves folders and files. Packages for kinds that are files with known content
// (tables, records, exports) build on it.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

const ending = ".tar" + seal.Ending

// Content reads the files of an item whose content is known.
type Content interface {
	// Look adds the content to the inspection. Damaged files are an error.
	Look(o *item.Instance, is *item.Inspection) error
	// Compare adds the content, old and new.
	Compare(o *item.Instance, out *steps.Checked)
}

// mover moves one folder or file.
type mover struct {
	*item.Instance
	single  bool
	content Content // nil for plain files
}

// Folder returns the parts for a folder.
func Folder(o *item.Instance) item.Parts { return FolderOf(o, nil) }

// File returns the parts for one file.
func File(o *item.Instance) item.Parts { return FileOf(o, nil) }

// FolderOf returns the parts for a folder whose content c can read.
func FolderOf(o *item.Instance, c Content) item.Parts {
	m := mover{o, false, c}
	p := item.Parts{Inspector: m, Mover: m, Names: names{m}, Merger: names{m}}
	if m.merges() {
		p.Adder = names{m}
	}
	p.Shared = func(ctx context.Context, home string, renews bool) (bool, error) {
		if m.partly() || !renews {
			return m.partly(), nil
		}
		alone, err := m.at(home).alone(ctx)
		return !alone, err
	}
	return p
}

// FileOf returns the parts for a file whose content c can read.
func FileOf(o *item.Instance, c Content) item.Parts {
	m := mover{o, true, c}
	return item.Parts{Inspector: m, Mover: m, Names: names{m}}
}

// at returns the mover for another path.
func (m mover) at(path string) mover {
	m.Instance = m.At(path)
	return m
}

// Close does nothing: no file stays open.
func (mover) Close() {}

// Locate finds the path.
func (m mover) Locate(ctx context.Context) error { return m.LocateOnDisk(ctx) }

// Where returns the path.
func (m mover) Where() (spoken, disk string) { return machine.DisplayPath(m.Computer, m.Path), m.Path }

// Volume returns the path.
func (m mover) Volume(context.Context) string { return m.Path }

// source says how to walk the files.
func (m mover) source() tree.Source { return m.Source(m.single) }

// Inspect measures the files. It lists unreadable files, and measures the rest.
func (m mover) Inspect(ctx context.Context, how item.Options) (*item.Inspection, error) {
	if info, err := os.Stat(m.Path); err == nil && info.IsDir() == m.single {
		is := m.Blank()
		is.Path = m.Path
		is.Why = m.Path + map[bool]string{true: " is a folder (or a package), but the card's kind needs a file", false: " is a file, but the card's kind needs a folder"}[m.single]
		return is, nil
	}
	is := m.Blank()
	if how.KitDir != "" && machine.Inside(how.KitDir, m.Path) {
		return nil, fault.New(fault.Usage, "the kit is inside %s, which it should contain: create the kit elsewhere", m.Path)
	}
	names := filename.On(filename.From(string(m.Computer.System()), string(how.Target)))
	var sample item.Sampler
	var bad, unreadable, protected, forUser item.Named
	counted := m.counters()
	source := m.source()
	var st *tree.Stats
	err := item.Watched(m.Path, m.Limit, func(alive func()) (err error) {
		st, err = source.Measure(ctx, func(e tree.Entry, real string) {
			alive()
			if how.Estimate {
				sample.See(e)
			}
			count(counted, e)
			if !how.Again && e.Type == tree.File {
				if err := filemeta.Readable(real); err != nil {
					unreadable.Add(fmt.Sprintf("%s: %v", filemeta.Short(real), item.Reason(err)))
				}
			}
			if !how.Again && m.Computer.System() == machine.Windows && e.Type == tree.File && e.Size <= maxProtected && protects(real) {
				protected.Add(e.Path)
			}
			if e.Encrypted {
				forUser.Add(e.Path)
			}
			if !m.single && e.Type == tree.Dir && strings.EqualFold(e.Path, filepath.Base(m.Path)) {
				is.Warnings = append(is.Warnings, fmt.Sprintf("%s contains a folder %s with the same name: check that this is the right one", m.Path, e.Path))
			}
			if !e.Archived() {
				return
			}
			if why := names.Refuses(e.Path); why != "" {
				bad.Add(m.Label() + ": " + e.Path + " (" + why + ")")
			}
		}, func(problem tree.Problem) {
			unreadable.Add(fmt.Sprintf("%s: %v", problem.Path, item.Reason(problem.Err)))
		})
		return err
	})
	if errors.Is(err, item.ErrSilent) {
		is := m.Blank()
		is.State, is.Unreadable = item.NotReached, []string{m.Path + ": no answer"}
		return is, nil
	}
	if err != nil {
		return nil, err
	}
	is.State, is.OnDisk = item.IsHere, true
	is.Files, is.Bytes, is.Left, is.Stamp, is.MetaStamp = st.Files, st.Bytes, st.Left, st.Stamp(), st.MetaStamp()
	if !st.Newest.IsZero() {
		is.Newest = &st.Newest
	}
	is.LeftOut, is.BadNames, is.Unreadable = st.LeftOut.Lines(), bad.List(), unreadable.List()
	for _, name := range protected.List() {
		is.Details = append(is.Details, name+" has data that Windows encrypted for a user of this computer, such as a password, and that cannot be opened on another: write it down first")
	}
	for _, name := range forUser.List() {
		is.Details = append(is.Details, name+" is encrypted by Windows for one user (EFS): only that user can pack it, and the copy is not encrypted")
	}
	if how.Estimate {
		is.Sealed = sample.Estimate(source, st)
	}
	for i, c := range m.Item.Counts {
		is.Counts = append(is.Counts, item.Counted{Name: c.Name, Value: counted[i].N, Expect: c.Expect})
	}
	if m.content != nil {
		if err := m.content.Look(m.Instance, is); err != nil {
			is.Unreadable = append(is.Unreadable, err.Error())
		}
	}
	return is, nil
}

// maxProtected limits the size of files that are searched for data encrypted by Windows, in bytes.
// Such a file has a password or a key, beside other settings.
const maxProtected = 256 << 10

// protects reports whether a file contains data encrypted by Windows. Unreadable files are reported
// elsewhere.
func protects(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxProtected))
	return err == nil && item.Protected(data)
}

// Seal seals the files and their list.
func (m mover) Seal(ctx context.Context, is *item.Inspection) (*kit.Sealed, error) {
	progress := m.Progress("sealing", is.Bytes)
	s := &kit.Sealed{Stream: m.Stream(), Tables: is.Tables}
	data, err := m.Run.Seal(m.Key.App, s.Stream+ending, 0)
	if err != nil {
		return nil, err
	}
	list, err := m.Run.Seal(m.Key.App, s.Stream+item.ListEnding, 1)
	if err != nil {
		data.Abort()
		return nil, err
	}
	source := m.WithMetadata(m.source())
	source.Unfit = filename.On(filename.From(string(m.Computer.System()), string(m.Run.Manifest.New.System))).Refuses
	st, err := source.Archive(ctx, data, list, progress)
	if err != nil {
		data.Abort()
		list.Abort()
		return nil, err
	}
	s.Holes = st.Holes
	s.Files, s.Bytes, s.Left, s.LeftCount, s.Stamp, s.MetaStamp = st.Files, st.Bytes, st.Left, st.LeftCount, st.Stamp(), st.MetaStamp()
	s.Owners, s.LeftOut = slices.Sorted(maps.Keys(st.Owners)), is.LeftOut
	if s.Parts, err = data.Close(); err != nil {
		list.Abort()
		return nil, err
	}
	s.List, err = list.Close()
	return s, err
}

// Check reads the sealed list to its end. Its totals must match the journal, which was used to
// check the free space.
func (m mover) Check() error {
	list, closer, err := m.List()
	if err != nil {
		return err
	}
	defer closer.Close()
	system := filename.From(string(m.Run.Manifest.Old.System), string(m.Computer.System()))
	if m.Lenient() != "" {
		system = "" // names that do not fit are left out and reported
	}
	st, err := tree.CheckList(list, system)
	if err == nil && st.Bytes != m.InKit.Sealed.Bytes {
		err = fault.New(fault.Hostile, "the kit's journal has %d bytes for %s, but its list has %d", m.InKit.Sealed.Bytes, m.Label(), st.Bytes)
	}
	return err
}

// Lacks returns why nothing can be put at the path. It includes names that this system does not
// allow if the kit was made for another one, because then pack did not check them.
func (m mover) Lacks(context.Context) (out item.Lacks, err error) {
	if out.Reasons, err = m.LacksOnDisk(); err != nil || m.Lenient() == "" {
		return out, err
	}
	list, closer, err := m.List()
	if err != nil {
		return out, err
	}
	defer closer.Close()
	system := filename.On(m.Lenient())
	for bad := (item.Named{}); ; {
		e, err := list.Next()
		if err == io.EOF {
			out.BadNames = bad.List()
			return out, nil
		}
		if err != nil {
			return out, err
		}
		if !e.Archived() {
			continue
		}
		if why := system.Refuses(e.Path); why != "" {
			bad.Add(m.Label() + ": " + e.Path + " (" + why + ")")
		}
	}
}

// comparing says how to compare the files with the list.
func (m mover) comparing() (how tree.Comparing, err error) {
	how = m.Comparing()
	how.Others = m.merged()
	how.Times = !how.Others // a merge keeps equal files
	how.Turned, err = m.PathEdits()
	return how, err
}

// Same reports whether the files at a path match the list.
func (m mover) Same(ctx context.Context, at string) (bool, error) {
	return m.at(at).same(ctx)
}

func (m mover) same(ctx context.Context) (bool, error) {
	info, err := os.Stat(m.Path)
	if err != nil || info.IsDir() == m.single {
		return false, nil
	}
	list, closer, err := m.List()
	if err != nil {
		return false, err
	}
	defer closer.Close()
	how, err := m.comparing()
	if err != nil {
		return false, err
	}
	cmp, err := how.Compare(ctx, m.listed(), list)
	if err != nil {
		return false, err
	}
	return cmp.Equal(), nil
}

// listed returns the source to compare with the list. A single file may have another name on this
// computer; it is compared under the name in the list.
func (m mover) listed() tree.Source {
	s := m.WithMetadata(m.source())
	if !m.single {
		return s
	}
	if list, closer, err := m.List(); err == nil {
		defer closer.Close()
		if e, err := list.Next(); err == nil {
			s.Name = e.Path
		}
	}
	return s
}

// merges reports whether new and existing files can be in one folder.
func (m mover) merges() bool { return !m.single && m.content == nil }

// merged reports whether they are, or whether an interrupted run started to merge them.
func (m mover) merged() bool {
	both := func(was *steps.Placed) bool {
		return was != nil && was.Policy == string(tree.KeepBoth) && m.merges() && was.Aside != ""
	}
	if both(m.InKit.Placed) || !both(m.InKit.Placing) {
		return both(m.InKit.Placed)
	}
	begun, err := item.OnDisk(m.InKit.Placing.Aside)
	return begun && err == nil
}

// Stage writes the files beside their destination and flushes them. A single file is staged as a
// file.
func (m mover) Stage(ctx context.Context, stage string) (out item.Staged, err error) {
	parent := filepath.Dir(stage)
	if err := m.MakeParent(stage); err != nil {
		return out, err
	}
	if err := tree.RemoveTree(stage); err != nil {
		return out, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", stage)
	}
	folder := stage
	if m.single {
		folder += spare.StageEnding
		if err := tree.RemoveTree(folder); err != nil {
			return out, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", folder)
		}
		defer tree.RemoveTree(folder) //nolint:errcheck // the next run does it
	}
	st, err := m.unpack(ctx, folder)
	if err != nil {
		return out, err
	}
	out.NotRestored = m.MetadataNotes(st.Unkept, st.UnkeptCount)
	if out.Notes, err = m.updatePaths(ctx, folder); err != nil {
		tree.RemoveTree(folder)
		return out, err
	}
	if err := seal.SyncVolume(parent); err != nil {
		return out, fault.Wrap(fault.CannotPlace, err, "cannot flush %s", parent)
	}
	if err := tree.SyncTree(folder); err != nil {
		return out, fault.Wrap(fault.CannotPlace, err, "cannot flush %s", folder)
	}
	if !m.single {
		return out, nil
	}
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 1 {
		return out, fault.New(fault.Damaged, "the sealed file of %s is not one file", m.Label())
	}
	return out, tree.Rename(filepath.Join(folder, entries[0].Name()), stage)
}

// unpack writes the files to their own folder.
func (m mover) unpack(ctx context.Context, stage string) (*tree.Stats, error) {
	progress := m.Progress("unpacking", m.InKit.Sealed.Bytes)
	data, err := m.Run.Kit.Open(m.Key.App, m.InKit.Sealed.Parts)
	if err != nil {
		return nil, err
	}
	defer data.Close()
	list, closer, err := m.List()
	if err != nil {
		return nil, err
	}
	defer closer.Close()
	var again io.Closer
	placing := tree.Placing{Progress: progress, Belongs: m.OwnersToSet(), Lenient: m.Lenient()}
	defer seal.FlushAhead(filepath.Dir(stage))()
	st, err := placing.Stage(ctx, stage, data, list, func() (l *tree.ListReader, err error) {
		l, again, err = m.List()
		return l, err
	})
	if again != nil {
		again.Close()
	}
	if err != nil {
		tree.RemoveTree(stage)
	}
	return st, err
}

// RecordPlaced records the stamp.
func (m mover) RecordPlaced(ctx context.Context, at string, done *steps.Placed) error {
	return item.StampByInspection(ctx, m.at(at), done)
}

// Unedited compares the stamp.
func (m mover) Unedited(ctx context.Context, at, stamp string) (bool, error) {
	return item.HasStamp(ctx, m.at(at), stamp)
}

// Compare compares every file with the list.
func (m mover) Compare(ctx context.Context) (*steps.Checked, error) {
	progress := m.Progress("comparing", m.InKit.Sealed.Bytes)
	list, closer, err := m.List()
	if err != nil {
		return nil, err
	}
	defer closer.Close()
	old, now := m.counters(), m.counters()
	how, err := m.comparing()
	if err != nil {
		return nil, err
	}
	how.Progress, how.EachOld, how.EachNew = progress, func(e tree.Entry) { count(old, e) }, func(e tree.Entry) { count(now, e) }
	cmp, err := how.Compare(ctx, m.listed(), list)
	if err != nil {
		return nil, err
	}
	out := &steps.Checked{Equal: cmp.Equal(), Count: cmp.Count}
	out.Rows = append(out.Rows, item.Row("files", cmp.Old.Files, cmp.New.Files), item.Row("bytes", cmp.Old.Bytes, cmp.New.Bytes))
	for i, c := range m.Item.Counts {
		out.AddCount(c.Name, c.Expect, old[i].N, now[i].N)
	}
	if m.content != nil {
		m.content.Compare(m.Instance, out)
	}
	out.Rows = append(out.Rows, item.Content(cmp.Old.Files, "hash", "hashes", cmp.Count-cmp.Late))
	if cmp.Late > 0 {
		late := item.Content(cmp.Old.Files+cmp.Old.Links, "time", "times", cmp.Late)
		late.What = "times"
		out.Rows = append(out.Rows, late)
	}
	m.NotePathUpdates(out)
	for _, d := range cmp.Diffs {
		out.Diffs = append(out.Diffs, d.Path+" "+d.What)
	}
	return out, nil
}

// maxSearched limits the size of files that are searched, in bytes.
const maxSearched = 1 << 20

// Find returns the files whose content matches. Files that are missing or cannot be read are left to the
// comparison.
func (m mover) Find(ctx context.Context, matches func(content []byte) bool) (found []string, err error) {
	if m.content != nil {
		return nil, nil // they are no settings
	}
	err = m.source().Walk(ctx, func(e tree.Entry, real string) error {
		if e.Type != tree.File || e.Size > maxSearched {
			return nil
		}
		if data, err := os.ReadFile(real); err == nil && matches(data) {
			found = append(found, e.Path)
		}
		return nil
	}, func(tree.Problem) {})
	if fault.KindOf(err) == fault.Missing {
		err = nil
	}
	return found, err
}

func (m mover) counters() []tree.Counter {
	out := make([]tree.Counter, len(m.Item.Counts))
	for i, c := range m.Item.Counts {
		out[i].Pattern = c.Files
	}
	return out
}

func count(cs []tree.Counter, e tree.Entry) {
	for i := range cs {
		cs[i].Add(e)
	}
}

// alone reports whether the folder contains only files that are moved. Files that a card leaves out
// belong to somebody too.
func (m mover) alone(ctx context.Context) (bool, error) {
	st, err := m.source().Measure(ctx, nil, nil)
	return err == nil && len(st.LeftOut.Lines()) == 0, err
}
