package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
)

// Policy is the treatment of existing data.
type Policy string

// The policies. Existing data that is the same already is left alone by all of them.
const (
	SetAside Policy = "set-aside" // existing data is renamed and kept
	KeepBoth Policy = "keep-both" // new data gets another name
	Skip     Policy = "skip"      // existing data stays
	Replace  Policy = "replace"   // existing data is overwritten
)

// AsideName returns an unused name beside target for data that is set aside. at is the time of the
// step.
func AsideName(target string, at time.Time) (string, error) {
	return freeName(target + AsideEnding(at))
}

// AsideEnding returns the suffix of names for data that is set aside at a time.
func AsideEnding(at time.Time) string {
	return asideMark + at.Local().Format("20060102-150405")
}

const asideMark = ".set-aside-"

// IsAside reports whether a name is from AsideName.
func IsAside(name string) bool { return strings.Contains(name, asideMark) }

// NoteName returns the name of the note that says that an item went to a computer.
func NoteName(target, computer string) string {
	return target + noteEnding + PlainName(computer) + ".txt"
}

// RemoveNote removes such a note if there is one that Move Kit wrote.
func RemoveNote(target, computer string) error {
	name := NoteName(target, computer)
	if !beside(filepath.Base(name), name) {
		return nil
	}
	return os.Remove(name)
}

const noteEnding = ".moved-to-"

// NoteHead is the start of that note.
const NoteHead = "The data that was here was moved to the computer "

// setAside matches names of data that was set aside, and of its side files and temporary files.
var setAside = regexp.MustCompile(`\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*(\.movekit-part)?$`)

// derived matches the suffixes that steps add to an item's name, and carried those that the names of
// folders above it can have.
var (
	derived = regexp.MustCompile(`(\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*|\.from-[^/\\]+|\.moved-to-[^/\\]+\.txt|(\.[0-9A-Za-z_-]+)?\.movekit-part)+$`)
	carried = regexp.MustCompile(`(\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*)+$`)
)

// Derived reports whether path is home, or a name beside it that a step gives to the item's data. A
// folder above it can have been set aside with it. fold ignores letter case.
func Derived(home, path string, fold bool) bool {
	h, p := filepath.Clean(home), filepath.Clean(path)
	for leaf := derived; ; leaf = carried {
		a, b := filepath.Base(h), filepath.Base(p)
		if cut := leaf.FindStringIndex(b); cut != nil && cut[0] > 0 && a != b {
			a, b = leaf.ReplaceAllString(a, ""), b[:cut[0]]
		}
		if a != b && !(fold && strings.EqualFold(a, b)) {
			return false
		}
		if len(filepath.Dir(h)) == len(h) || len(filepath.Dir(p)) == len(p) {
			return filepath.Dir(h) == h && filepath.Dir(p) == p
		}
		h, p = filepath.Dir(h), filepath.Dir(p)
	}
}

// beside reports whether a file or folder was put beside an item by a step. If the item is inside
// another one's folder, that folder's item does not include it.
func beside(name, real string) bool {
	if IsAside(name) {
		return setAside.MatchString(name)
	}
	if !strings.Contains(name, noteEnding) || !strings.HasSuffix(name, ".txt") {
		return false
	}
	if info, err := os.Lstat(real); err != nil || !info.Mode().IsRegular() {
		return false // reading a pipe would block
	}
	f, err := os.Open(real)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(NoteHead))
	_, err = io.ReadFull(f, head)
	return err == nil && string(head) == NoteHead
}

// freeName returns an unused name that starts with name.
func freeName(name string) (string, error) { return freeIn(os.Lstat, name) }

// freeIn returns an unused name. If lstat cannot check a name, the name may be in use.
func freeIn(lstat func(string) (os.FileInfo, error), name string) (string, error) {
	for n, try := 2, name; ; n++ {
		_, err := lstat(try)
		if errors.Is(err, fs.ErrNotExist) {
			return try, nil
		}
		if err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "cannot find an unused name like %s", name)
		}
		try = fmt.Sprintf("%s-%d", name, n)
	}
}

// BothName returns an unused name beside target for data from a computer.
func BothName(target, computer string) (string, error) {
	return freeName(target + ".from-" + PlainName(computer))
}

// PlainName replaces characters that some file systems do not allow.
func PlainName(name string) string {
	return strings.Map(func(r rune) rune {
		if r < 32 || strings.ContainsRune(`<>:"/\|?* `, r) {
			return '-'
		}
		return r
	}, name)
}

// Merged counts the results of Merge.
type Merged struct {
	Placed, Same, Aside, Kept, Replaced int64
}

// Merge moves the entries of a list from the folder stage into target, file by file. Files that are
// set aside go to the folder aside, which is created if needed. All three are in one folder. Merge
// changes only files in the list and nothing outside that folder, even if the folder contains
// links. turned has the edits that were made in the stage.
func Merge(ctx context.Context, stage, target, aside string, list *ListReader, policy Policy, b *Belonging, turned EditsByFile) (*Merged, error) {
	parent, err := filemeta.OpenRoot(filepath.Dir(target))
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot open the folder of %s", target)
	}
	defer parent.Close()
	m := &merger{parent: parent, stage: filepath.Base(stage), target: filepath.Base(target), aside: filepath.Base(aside), policy: policy, belongs: b, turned: turned, done: &Merged{}}
	for {
		if err := ctx.Err(); err != nil {
			return nil, fault.Wrap(fault.Stopped, err, "putting files in place was stopped")
		}
		e, err := nextTravelling(list)
		if err == io.EOF {
			return m.done, nil
		}
		if err != nil {
			return nil, err
		}
		if err := m.one(e); err != nil {
			return nil, fault.Wrap(fault.CannotPlace, err, "cannot put %q in place at %s", e.Path, target)
		}
	}
}

type merger struct {
	parent               *filemeta.Root
	stage, target, aside string
	policy               Policy
	belongs              *Belonging
	turned               EditsByFile
	done                 *Merged
}

func (m *merger) one(e Entry) error {
	from, to := path.Join(m.stage, e.Path), path.Join(m.target, e.Path)
	have, err := m.parent.Lstat(to)
	if os.IsNotExist(err) {
		if e.Type == Dir {
			if err := m.parent.MkdirAll(to, 0o755); err != nil {
				return err
			}
			e.Path = to
			_, err := filemeta.ApplyDir(m.parent, m.belongs.wanted(e))
			return err
		}
		if _, err := m.parent.Lstat(from); os.IsNotExist(err) {
			return nil // an earlier run moved it
		}
		m.done.Placed++
		return m.parent.Rename(from, to)
	}
	if err != nil {
		return err
	}
	switch {
	case e.Type == Dir && have.IsDir():
		return nil
	case m.same(e, to, have):
		m.done.Same++
		return nil
	case m.policy == Skip:
		m.done.Kept++
		return nil
	case m.policy == Replace && !have.IsDir() && e.Type != Dir:
		m.done.Replaced++
		return m.parent.Rename(from, to)
	}
	// A folder in place of a file, or the reverse, is never overwritten.
	put := path.Join(m.aside, e.Path)
	if err := m.parent.MkdirAll(path.Dir(put), 0o755); err != nil {
		return err
	}
	put, err = freeIn(m.parent.Lstat, put) // data that was set aside earlier is never overwritten
	if err != nil {
		return err
	}
	if err := m.parent.Rename(to, put); err != nil {
		return err
	}
	m.done.Aside++
	return m.one(e)
}

// same reports whether the file or folder at a path matches the list.
func (m *merger) same(e Entry, at string, have os.FileInfo) bool {
	switch e.Type {
	case Hard:
		first, err := m.parent.Stat(path.Join(m.target, e.Target))
		return err == nil && os.SameFile(first, have)
	case Link:
		target, err := m.parent.Readlink(at)
		return err == nil && filepath.ToSlash(target) == e.Target
	case File:
		if !have.Mode().IsRegular() || m.turned.size(e.Path, have.Size()) != e.Size {
			return false
		}
		f, err := m.parent.Open(at)
		if err != nil {
			return false
		}
		defer f.Close()
		sum, _, err := m.turned.sum(e, f)
		return err == nil && sum == e.Hash
	}
	return false
}
