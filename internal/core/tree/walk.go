package tree

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/text/unicode/norm"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
	"movekit/internal/core/spare"
)

// Source is a folder or file to walk.
type Source struct {
	Root    string // its real path
	Single  bool   // it is one file
	Name    string // name of a single file in lists; "" means its own
	Include []string
	Skip    []string
	// Open opens a file for reading; nil means os.Open.
	Open    func(name string) (*os.File, error)
	Whole   bool // include what earlier steps have put beside items
	Fold    bool // patterns ignore letter case
	Compose bool // compose letters in names (NFC), because some systems decompose them
	// Accounts maps owners to names, and makes the walk read file metadata; nil leaves both out.
	Accounts filemeta.Accounts
	IDs      filemeta.IDs // the same for a Windows computer; nil leaves its access lists out
	Marked   bool         // read file metadata even without names for owners
	// Unfit returns why the new computer does not allow a name; nil if it allows all.
	Unfit func(path string) string

	elsewhere func(path string) // gets files with another name outside the item; may be nil

	leftOut *LeftOut // counts what the patterns leave out; nil if that is not needed
}

// matches reports whether a pattern matches a path.
func (s Source) matches(patterns []string, rel string) bool {
	if s.Fold {
		rel = strings.ToLower(rel)
	}
	for _, p := range patterns {
		if s.Fold {
			p = strings.ToLower(p)
		}
		if ok, _ := doublestar.Match(p, rel); ok {
			return true
		}
	}
	return false
}

// Problem is something that could not be read during a walk.
type Problem struct {
	Path string
	Err  error
}

// Walk calls visit for every entry of the source, a folder before its content, in the order of
// names. It does not follow links, and does not set hashes. What cannot be read is passed to
// problem; if problem is nil, it ends the walk.
func (s Source) Walk(ctx context.Context, visit func(Entry, string) error, problem func(Problem)) error {
	s.Root = filemeta.Long(s.Root)
	w := walker{s, ctx, visit, problem, map[filemeta.Inode]*linked{}}
	info, err := os.Lstat(s.Root)
	if err != nil {
		kind := fault.Unreadable
		if os.IsNotExist(err) {
			kind = fault.Missing
		}
		return fault.Wrap(kind, err, "cannot read %s", filemeta.Short(s.Root))
	}
	if s.Single {
		name := s.Name
		if name == "" {
			name = filepath.Base(s.Root)
		}
		if err := w.one(name, s.Root, info); err != nil {
			return err
		}
		w.tellElsewhere()
		return nil
	}
	if !info.IsDir() {
		return fault.New(fault.Missing, "%s is not a folder", filemeta.Short(s.Root))
	}
	if err := w.dir(".", s.Root, info, nil); err != nil {
		return err
	}
	w.tellElsewhere()
	return nil
}

// tellElsewhere reports the files that have another name outside the item.
func (w *walker) tellElsewhere() {
	if w.elsewhere == nil {
		return
	}
	var out []string
	for _, n := range w.names {
		if n.missing > 0 {
			out = append(out, n.first)
		}
	}
	slices.Sort(out)
	for _, path := range out {
		w.elsewhere(path)
	}
}

type walker struct {
	Source
	ctx     context.Context
	visit   func(Entry, string) error
	problem func(Problem)
	names   map[filemeta.Inode]*linked // files with hard links
}

// linked is a file with hard links.
type linked struct {
	first   string // the first name in the item
	missing uint64 // the number of names that were not met
}

// pending is a folder that is reported only once something in it is: with include patterns, empty
// branches are left out.
type pending struct {
	up   *pending
	e    Entry
	real string
	told bool
}

func (w *walker) tell(p *pending) error {
	if p == nil || p.told {
		return nil
	}
	if err := w.tell(p.up); err != nil {
		return err
	}
	p.told = true
	return w.visit(p.e, p.real)
}

func (w *walker) fail(path string, err error) error {
	if w.problem == nil {
		return fault.Wrap(fault.Unreadable, err, "cannot read %s", filemeta.Short(path))
	}
	w.problem(Problem{filemeta.Short(path), err})
	return nil
}

func (w *walker) dir(rel, real string, info fs.FileInfo, up *pending) error {
	if err := w.ctx.Err(); err != nil {
		return fault.Wrap(fault.Stopped, err, "reading %s was stopped", w.Root)
	}
	e := w.entryOf(rel, real, info)
	if e.Type == Unfit {
		return w.visit(e, real) // with its content
	}
	here := &pending{up: up, e: e, real: real}
	if len(w.Include) == 0 || rel == "." {
		if err := w.tell(here); err != nil {
			return err
		}
	}
	folder, names, err := openNames(real)
	if err != nil {
		return w.fail(real, err)
	}
	defer folder.Close()
	for _, name := range w.composed(names) {
		childRel, childReal := name.told, real+string(filepath.Separator)+name.real
		if rel != "." {
			childRel = rel + "/" + name.told
		}
		if w.matches(w.Skip, childRel) || !w.Whole && spare.IsBeside(name.real, childReal) {
			w.leftOut.measure(childRel, childReal)
			continue
		}
		info, err := filemeta.LstatIn(folder, name.real)
		if os.IsNotExist(err) {
			if again, rerr := readNames(real); rerr == nil && !slices.Contains(again, name.real) {
				continue // deleted since the folder was read
			}
		}
		if err != nil {
			if err := w.fail(childReal, err); err != nil {
				return err
			}
			continue
		}
		if info.IsDir() {
			if err := w.dir(childRel, childReal, info, here); err != nil {
				return err
			}
			continue
		}
		if len(w.Include) > 0 && !w.matches(w.Include, childRel) {
			w.leftOut.add(childRel, false, 1, info.Size())
			continue
		}
		if err := w.tell(here); err != nil {
			return err
		}
		if err := w.one(childRel, childReal, info); err != nil {
			return err
		}
	}
	return nil
}

// named is a name in a folder, and the name that is reported for it.
type named struct{ told, real string }

// composed returns names with the names to report, sorted by the latter.
func (w *walker) composed(names []string) []named {
	out := make([]named, len(names))
	for i, n := range names {
		if out[i] = (named{n, n}); w.Compose {
			out[i].told = norm.NFC.String(n)
		}
	}
	if w.Compose {
		slices.SortFunc(out, func(a, b named) int { return strings.Compare(a.told, b.told) })
	}
	return out
}

func (w *walker) one(rel, real string, info fs.FileInfo) error {
	e := w.entryOf(rel, real, info)
	if e.Cloud && w.problem != nil { // without one, its content is fetched
		w.problem(Problem{filemeta.Short(real), errCloud})
	}
	if e.Type == Link {
		target, err := os.Readlink(real)
		if err != nil {
			return w.fail(real, err)
		}
		if why := unreadableLink(target); why != nil {
			return w.fail(real, why)
		}
		e.Target = filepath.ToSlash(target)
		if !filename.Within(rel, e.Target, runtime.GOOS == "windows") {
			if inside := w.inside(rel, real, target); inside != "" {
				e.Target = inside
			} else {
				e.Type = Outside
			}
		}
	}
	return w.visit(e, real)
}

// errCloud is the problem of a file whose content is not on this computer.
var errCloud = errors.New("its content is only in the cloud: on the old computer, choose \"Always keep on this device\" for it, and wait until it is there")

// reparse is the target that Linux shows for a file of an NTFS disk whose content it cannot read (ntfs-3g(8)).
const reparse = "unsupported reparse tag 0x"

// unreadableLink returns why a link is not really a link, or nil.
func unreadableLink(target string) error {
	text, is := strings.CutPrefix(target, reparse)
	if !is {
		return nil
	}
	if tag, err := strconv.ParseUint(text, 16, 32); err == nil && tag&0xffff0fff == 0x9000001a { // IO_REPARSE_TAG_CLOUD to CLOUD_F
		return errCloud
	}
	return errors.New("Windows stores its content in a form that this system cannot read (reparse tag 0x" + text + "): pack it on the old computer itself")
}

// inside returns the shortest target for a relative link that leads out of the item and in again, such as
// ../item/file, or that has ".." after the name of a folder. It returns "" if the link leads elsewhere.
func (w *walker) inside(rel, real, target string) string {
	if filepath.IsAbs(target) || filepath.VolumeName(target) != "" || w.Single {
		return ""
	}
	root, err := filepath.EvalSymlinks(w.Root)
	if err != nil {
		return ""
	}
	parent, base := filepath.Split(target)
	if base == ".." || base == "." {
		parent, base = target, ""
	}
	dir, err := filepath.EvalSymlinks(filepath.Dir(real) + string(filepath.Separator) + parent)
	if err != nil {
		return ""
	}
	to, err := filepath.Rel(root, filepath.Join(dir, base))
	if err != nil || !filepath.IsLocal(to) {
		return ""
	}
	out, err := filepath.Rel(filepath.Dir(filepath.FromSlash(rel)), to)
	if out = filepath.ToSlash(out); err != nil || !filename.Within(rel, out, runtime.GOOS == "windows") {
		return ""
	}
	return out
}

func (w *walker) entryOf(rel, real string, info fs.FileInfo) Entry {
	e := Entry{Path: rel, Mode: info.Mode() & (fs.ModePerm | fs.ModeSticky), ModTime: info.ModTime()}
	if info.Mode().IsRegular() && info.Mode()&(fs.ModeSetuid|fs.ModeSetgid) != 0 {
		e.lost = append(e.lost, "the setuid or setgid bit")
	}
	if y := e.ModTime.UTC().Year(); y < 1 || y > 9999 { // a list has four digits (RFC 3339)
		e.ModTime, e.lost = time.Unix(0, 0), append(e.lost, fmt.Sprintf("its time, in the year %d", y))
	}
	switch m := info.Mode(); {
	case m.IsDir():
		e.Type, e.Mode = Dir, m.Perm()|m&filemeta.Special
	case m.IsRegular():
		e.Type, e.Size = File, info.Size()
	case m&fs.ModeSymlink != 0:
		e.Type = Link
	default:
		e.Type = Special
	}
	if w.Unfit != nil && rel != "." {
		if why := w.Unfit(rel); why != "" {
			return Entry{Path: rel, Type: Unfit, Target: why}
		}
	}
	seen := filemeta.StatOf(info)
	e.owner, e.Attr, e.Sparse, e.Encrypted, e.Cloud, e.id, e.changed = seen.Owner, seen.Attr, seen.Sparse, seen.Encrypted, seen.Cloud, seen.ID, seen.Changed
	e.holes = seen.Holes
	if seen.Shared != (filemeta.Inode{}) {
		if n := w.names[seen.Shared]; n != nil {
			n.missing--
			e.Type, e.Size, e.Target, e.Sparse, e.holes = Hard, 0, n.first, false, 0
		} else {
			w.names[seen.Shared] = &linked{first: rel, missing: seen.Names - 1}
		}
	}
	if w.Accounts == nil && !w.Marked {
		e.Sparse, e.holes = false, 0
		return e
	}
	if w.Accounts != nil {
		e.Owner, e.Group = w.Accounts.User(e.owner.UID), w.Accounts.Group(e.owner.GID)
	}
	if e.Type == Dir || e.Type == File {
		var others []string
		e.Xattr, others = filemeta.Xattr(real, w.Accounts)
		for _, name := range others {
			e.lost = append(e.lost, "the attribute "+name)
		}
		if w.IDs != nil {
			e.ACL = filemeta.ACL(real, w.IDs)
		}
	}
	return e
}

// readNames returns the names in a folder, sorted by their bytes.
func readNames(dir string) ([]string, error) {
	f, names, err := openNames(dir)
	if err != nil {
		return nil, err
	}
	return names, f.Close()
}

// openNames opens a folder, and returns the names in it, sorted by their bytes.
func openNames(dir string) (*os.File, []string, error) {
	f, err := filemeta.Open(dir)
	if err != nil {
		return nil, nil, err
	}
	names, err := f.Readdirnames(-1)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	sort.Strings(names)
	return f, names, nil
}

// Includes reports whether the source's include patterns match a path in it.
func (s Source) Includes(rel string) bool { return s.matches(s.Include, rel) }
