// Package files moves folders and files. What an app keeps in them beside plain
// files (tables, records, exports) is known by the rooms that build on this one.
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
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/marks"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

const ending = ".tar" + seal.Ending

// Content is what a kind knows of the files that its items are made of.
type Content interface {
	// Look adds what is in them. Where they are damaged, that is an error.
	Look(o *item.One, is *item.Look) error
	// Compare adds what is in them, old and new.
	Compare(o *item.One, out *steps.Checked)
}

// Mover moves one folder or file as it is.
type Mover struct {
	item.Disk
	single  bool
	content Content // nil where they are plain files
}

var _ item.Mover = (*Mover)(nil)

// Folder moves a folder.
func Folder(o *item.One) item.Mover { return FolderOf(o, nil) }

// File moves one file.
func File(o *item.One) item.Mover { return FileOf(o, nil) }

// FolderOf moves a folder with something in it.
func FolderOf(o *item.One, c Content) item.Mover { return &Mover{item.Disk{One: o}, false, c} }

// FileOf moves a file with something in it.
func FileOf(o *item.One, c Content) item.Mover { return &Mover{item.Disk{One: o}, true, c} }

// At is the same at another path.
func (m *Mover) At(path string) item.Mover {
	o := *m.One
	o.Path = path
	return &Mover{item.Disk{One: &o}, m.single, m.content}
}

// source is how the files are walked.
func (m *Mover) source() tree.Source { return m.Source(m.single) }

// Look measures the files. Places in them that cannot be read are named, and the
// rest is measured.
func (m *Mover) Look(ctx context.Context, how item.Looking) (*item.Look, error) {
	if info, err := os.Stat(m.Path); err == nil && info.IsDir() == m.single {
		is := m.Blank()
		is.Path = m.Path
		is.Why = m.Path + map[bool]string{true: " is a folder (a package is one, too), and the card's kind takes a file", false: " is a file, and the card's kind takes a folder"}[m.single]
		return is, nil
	}
	is := m.Blank()
	if how.KitDir != "" && machine.Inside(how.KitDir, m.Path) {
		return nil, fault.New(fault.Usage, "the kit lies in %s, which is to be packed into it; make it elsewhere", m.Path)
	}
	names := tree.NamesOn(string(how.Target))
	var sample item.Sampler
	var bad, unreadable, protected, forUser item.Names
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
				if err := marks.Readable(real); err != nil {
					unreadable.Add(fmt.Sprintf("%s: %v", real, item.Reason(err)))
				}
			}
			if !how.Again && m.Computer.System() == machine.Windows && e.Type == tree.File && e.Size <= maxProtected && protects(real) {
				protected.Add(e.Path)
			}
			if e.Encrypted {
				forUser.Add(e.Path)
			}
			if !m.single && e.Type == tree.Dir && strings.EqualFold(e.Path, filepath.Base(m.Path)) {
				is.Doubts = append(is.Doubts, fmt.Sprintf("%s has a folder %s of its own name in it: see that it is the right one of both", m.Path, e.Path))
			}
			if !e.Travels() {
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
		is.State, is.Unreadable = item.NotReached, []string{m.Path + ": it did not answer"}
		return is, nil
	}
	if err != nil {
		return nil, err
	}
	is.State, is.OnDisk = item.IsHere, true
	is.Files, is.Bytes, is.Left, is.Stamp = st.Files, st.Bytes, st.Left, st.Stamp()
	if !st.Newest.IsZero() {
		is.Newest = &st.Newest
	}
	is.LeftOut, is.BadNames, is.Unreadable = st.LeftOut.Lines(), bad.List(), unreadable.List()
	for _, name := range protected.List() {
		is.Details = append(is.Details, name+" is encrypted by Windows for a user on this computer, and opens on no other: note down what it holds, such as a password, before")
	}
	for _, name := range forUser.List() {
		is.Details = append(is.Details, name+" is encrypted by Windows for one user (EFS): only that user can pack it, and it arrives without that encryption")
	}
	if how.Estimate {
		is.Sealed = sample.Estimate(source, st)
	}
	for i, c := range m.Card.Counts {
		is.Counts = append(is.Counts, item.Counted{Name: c.Name, Value: counted[i].N, Expect: c.Expect})
	}
	if m.content != nil {
		if err := m.content.Look(m.One, is); err != nil {
			is.Unreadable = append(is.Unreadable, err.Error())
		}
	}
	return is, nil
}

// maxProtected is the largest file that is looked into for what Windows encrypted, in bytes:
// such holds a password, or a key.
const maxProtected = 64 << 10

// protects reports whether a file holds what Windows encrypted. One that cannot be read is told
// elsewhere.
func protects(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 256)
	n, _ := io.ReadFull(f, head)
	return item.Protected(head[:n])
}

// Seal seals the files with the list of what is in them.
func (m *Mover) Seal(ctx context.Context, is *item.Look) (*kit.Sealed, error) {
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
	source := m.Marked(m.source())
	source.Unfit = tree.NamesOn(string(m.Run.Manifest.New.System)).Refuses
	st, err := source.Archive(ctx, data, list, progress)
	if err != nil {
		data.Abort()
		list.Abort()
		return nil, err
	}
	s.Files, s.Bytes, s.Left, s.LeftCount, s.Stamp = st.Files, st.Bytes, st.Left, st.LeftCount, st.Stamp()
	s.Owners, s.LeftOut = slices.Sorted(maps.Keys(st.Owners)), is.LeftOut
	if s.Parts, err = data.Close(); err != nil {
		list.Abort()
		return nil, err
	}
	s.List, err = list.Close()
	return s, err
}

// Check reads the sealed list to its end, which must promise what the journal does: by that
// it was seen that there is space.
func (m *Mover) Check() error {
	list, closer, err := m.List()
	if err != nil {
		return err
	}
	defer closer.Close()
	system := string(m.Computer.System())
	if m.Lenient() != "" {
		system = "" // what does not fit is left out, and told
	}
	st, err := tree.CheckList(list, system)
	if err == nil && st.Bytes != m.Known.Sealed.Bytes {
		err = fault.New(fault.Hostile, "the kit's journal tells of %d bytes of %s, and its list of %d", m.Known.Sealed.Bytes, m.Label(), st.Bytes)
	}
	return err
}

// Unfit returns the names that this computer cannot have, where nobody looked at them
// before.
func (m *Mover) Unfit(ctx context.Context) ([]string, error) {
	if m.Lenient() == "" {
		return nil, nil
	}
	list, closer, err := m.List()
	if err != nil {
		return nil, err
	}
	defer closer.Close()
	names := tree.NamesOn(m.Lenient())
	for out := (item.Names{}); ; {
		e, err := list.Next()
		if err == io.EOF {
			return out.List(), nil
		}
		if err != nil {
			return nil, err
		}
		if !e.Travels() {
			continue
		}
		if why := names.Refuses(e.Path); why != "" {
			out.Add(m.Label() + ": " + e.Path + " (" + why + ")")
		}
	}
}

// comparing returns how what is there is held against the list.
func (m *Mover) comparing() (how tree.Comparing, err error) {
	how = m.Comparing()
	how.Others = m.merged()
	how.Turned, err = m.Turned()
	return how, err
}

// Same holds what is there against the list.
func (m *Mover) Same(ctx context.Context) (bool, error) {
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

// listed is the source that is held against the list. A single file may have
// another name on this computer; it is compared under that of the list.
func (m *Mover) listed() tree.Source {
	s := m.Marked(m.source())
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

// Aside is a free name; where only some of the files are set aside, an interrupted
// run may have set aside a part of those already.
func (m *Mover) Aside(ctx context.Context, earlier string) (string, error) {
	if m.partly() && earlier != "" {
		return earlier, nil
	}
	return m.Disk.Aside(ctx, earlier)
}

// Beside is the folder itself: what is there is added to what comes.
func (m *Mover) Beside() string {
	if m.merges() {
		return m.Path
	}
	return m.Disk.Beside()
}

// merges reports whether what comes and what is there can be in one folder.
func (m *Mover) merges() bool { return !m.single && m.content == nil && !m.partly() }

// merged reports whether they are, or a run that was cut off had begun with that.
func (m *Mover) merged() bool {
	both := func(was *steps.Placed) bool {
		return was != nil && was.Policy == string(tree.KeepBoth) && m.merges() && was.Aside != ""
	}
	if both(m.Known.Placed) || !both(m.Known.Placing) {
		return both(m.Known.Placed)
	}
	begun, err := item.Waits(m.Known.Placing.Aside)
	return begun && err == nil
}

// Put stages the files beside their target, flushes them, and then renames.
func (m *Mover) Put(ctx context.Context, done *steps.Placed) error {
	there, err := m.There(ctx)
	if err != nil {
		return err
	}
	parent, stage := filepath.Dir(done.To), done.To+tree.StageEnding
	if err := m.MakeParent(done.To); err != nil {
		return err
	}
	st, err := m.stage(ctx, stage)
	if err != nil {
		return err
	}
	done.Unkept = append(done.Unkept, m.Kept(st.Unkept, st.UnkeptCount)...)
	if err := m.repoint(ctx, stage, done); err != nil {
		tree.RemoveTree(stage)
		return err
	}
	if err := seal.SyncVolume(parent); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot flush %s", parent)
	}
	if err := tree.SyncTree(stage); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot flush %s", stage)
	}
	if err := m.settle(ctx, done, stage, there); err != nil {
		return err
	}
	if err := tree.RemoveTree(stage); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", stage)
	}
	return seal.SyncDir(parent)
}

// stage writes the files into a folder of their own.
func (m *Mover) stage(ctx context.Context, stage string) (*tree.Stats, error) {
	progress := m.Progress("putting in place", m.Known.Sealed.Bytes)
	data, err := m.Run.Kit.Open(m.Key.App, m.Known.Sealed.Parts)
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
	placing := tree.Placing{Progress: progress, Belongs: m.Giving(), Lenient: m.Lenient()}
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

// settle moves what was staged to its place.
func (m *Mover) settle(ctx context.Context, done *steps.Placed, stage string, there bool) error {
	policy := tree.Policy(done.Policy)
	if there && done.Over != "" {
		if err := m.setOver(ctx, done.Over); err != nil {
			return err
		}
		var err error
		if there, err = m.There(ctx); err != nil {
			return err
		}
		if there { // what is not ours stays
			return m.merge(ctx, done, stage, policy)
		}
	}
	if there && m.partly() && policy == tree.SetAside && done.Aside != "" {
		if err := m.setAside(ctx, done.Aside, true); err != nil {
			return err
		}
	}
	if there && !m.single && (policy == tree.Skip || policy == tree.Replace || m.partly() && policy != tree.KeepBoth) {
		return m.merge(ctx, done, stage, policy)
	}
	from := stage
	if m.single {
		entries, err := os.ReadDir(stage)
		if err != nil || len(entries) != 1 {
			return fault.New(fault.Damaged, "the sealed file of %s is not one file", m.Label())
		}
		from = filepath.Join(stage, entries[0].Name())
		if there && policy == tree.Skip {
			return nil
		}
	}
	if there && (policy == tree.SetAside || policy == tree.KeepBoth && m.merges()) {
		if err := item.Rename(m.Path, done.Aside); err != nil {
			return err
		}
	}
	return item.Rename(from, done.To)
}

// merge puts the files in place one by one.
func (m *Mover) merge(ctx context.Context, done *steps.Placed, stage string, policy tree.Policy) error {
	list, closer, err := m.List()
	if err != nil {
		return err
	}
	defer closer.Close()
	aside := done.Aside
	if aside == "" {
		aside = tree.AsideName(m.Path, m.Run.Now())
	}
	turned, err := m.Turned()
	if err != nil {
		return err
	}
	merged, err := tree.Merge(ctx, stage, m.Path, aside, list, policy, m.Giving(), turned)
	if err == nil && merged.Aside > 0 {
		done.Aside = aside
	}
	return err
}

// Mark is the stamp of the files. Before, what was there is added, where both are kept: also
// when a run was cut off meanwhile.
func (m *Mover) Mark(ctx context.Context, done *steps.Placed) error {
	if done.Policy == string(tree.KeepBoth) && m.merges() && done.Aside != "" {
		brought, err := tree.Bring(ctx, done.Aside, m.Path)
		if err != nil {
			return err
		}
		if brought.Added+brought.Numbered > 0 {
			done.Notes = append(done.Notes, fmt.Sprintf("look through %s of what was there before, which were added, %d with a number behind the name (%s the same); all of that is whole in %s",
				item.Plural(brought.Added+brought.Numbered, "file"), brought.Numbered, item.Plural(brought.Same, "other"), machine.Spoken(m.Computer, done.Aside)))
		}
	}
	if m.partly() && done.Aside != "" {
		if err := os.Remove(done.Aside); err == nil || os.IsNotExist(err) {
			done.Aside = "" // nothing was in the way
		}
	}
	if ours, err := m.knownOurs(ctx); err != nil || !ours {
		return err // it counts as worked in
	}
	return item.Stamp(ctx, m, done)
}

// knownOurs reports whether nothing is there that somebody has made since a run was cut off.
func (m *Mover) knownOurs(ctx context.Context) (bool, error) {
	switch p := m.Known.Placing; {
	case p == nil:
	case m.partly() || p.Over != "":
		return m.Same(ctx)
	case m.merged():
		st, err := m.source().Measure(ctx, nil, nil)
		return err == nil && st.Newest.Before(p.Begun), err
	}
	return true, nil
}

// Untouched looks at the stamp of the files. Where an interrupted run has begun to carry them
// away, it saw that before.
func (m *Mover) Untouched(ctx context.Context, stamp string) (bool, error) {
	if p := m.Known.Placing; !m.single && p != nil && p.Over != "" {
		for _, over := range []string{p.Over, p.Over + half} {
			if there, err := item.Waits(over); err != nil || there {
				return there, err
			}
		}
	}
	return item.Stamped(ctx, m, stamp)
}

// Rename gives the files another name. Where only some of a folder's move, those go
// into a folder of that name, and from that back again.
func (m *Mover) Rename(ctx context.Context, to string) error {
	switch {
	case !m.partly():
		return m.RenameWith(to, nil)
	case tree.IsAside(filepath.Base(m.Path)):
		return m.giveBack(ctx, m.Path, to)
	}
	return m.setAside(ctx, to, false)
}

// Remove removes what has moved of the files. What has not (the card leaves it out, or it is no
// file) keeps its place.
func (m *Mover) Remove(ctx context.Context) error {
	if m.single {
		return m.RemoveWith(nil)
	}
	going := *m.One // what is under this name is to go, also when a run was cut off meanwhile
	going.Path = m.Path + half
	there, err := item.Waits(m.Path)
	if err == nil && there {
		err = item.Rename(m.Path, going.Path)
	}
	if err == nil {
		err = tree.Carry(ctx, going.Source(false), "", nil)
	}
	if err != nil {
		return err
	}
	if there, err = item.Waits(going.Path); err == nil && there {
		err = item.Rename(going.Path, m.Path)
	}
	return err
}

// Compare holds every file against the list.
func (m *Mover) Compare(ctx context.Context) (*steps.Checked, error) {
	progress := m.Progress("comparing", m.Known.Sealed.Bytes)
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
	for i, c := range m.Card.Counts {
		out.AddCount(c.Name, c.Expect, old[i].N, now[i].N)
	}
	if m.content != nil {
		m.content.Compare(m.One, out)
	}
	out.Rows = append(out.Rows, item.Content(cmp.Old.Files, "hash", "hashes", cmp.Count))
	m.AddRepointed(out)
	for _, d := range cmp.Diffs {
		out.Diffs = append(out.Diffs, d.Path+" "+d.What)
	}
	return out, nil
}

func (m *Mover) counters() []tree.Counter {
	out := make([]tree.Counter, len(m.Card.Counts))
	for i, c := range m.Card.Counts {
		out[i].Pattern = c.Files
	}
	return out
}

func count(cs []tree.Counter, e tree.Entry) {
	for i := range cs {
		cs[i].Add(e)
	}
}

// TakeBack removes what is the same as what was put there, and gives what was set
// aside its name back.
func (m *Mover) TakeBack(ctx context.Context, u steps.Undone) (kept bool, err error) {
	if m.partly() {
		return m.takePartBack(ctx, u)
	}
	return m.Withdraw(ctx, u, func() (same bool, err error) {
		if m.merged() && m.Known.Placed != nil { // what was added goes with it, and is where it was
			same, err = m.Untouched(ctx, m.Known.Placed.Stamp)
		} else {
			same, err = m.Ours(ctx, m)
		}
		if err != nil || !same {
			return false, err
		}
		return m.alone(ctx)
	}, nil)
}

// alone reports whether nothing is in the folder but what moves: what a card leaves out is
// somebody's, too.
func (m *Mover) alone(ctx context.Context) (bool, error) {
	st, err := m.source().Measure(ctx, nil, nil)
	return err == nil && len(st.LeftOut.Lines()) == 0, err
}
