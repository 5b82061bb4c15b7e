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

// Policy says what happens to a thing that is in the way.
type Policy string

// The policies. What is the same already is left alone by each of them.
const (
	SetAside Policy = "set-aside" // what is there is renamed, and kept
	KeepBoth Policy = "keep-both" // what comes gets another name
	Skip     Policy = "skip"      // what is there stays
	Replace  Policy = "replace"   // what is there is overwritten
)

// AsideName returns a free name, beside target, under which something is set
// aside. The time is that of the step.
func AsideName(target string, at time.Time) (string, error) {
	return freeName(target + AsideEnding(at))
}

// AsideEnding returns the ending of the names of what is set aside at a time.
func AsideEnding(at time.Time) string {
	return asideMark + at.Local().Format("20060102-150405")
}

const asideMark = ".set-aside-"

// IsAside reports whether a name is one of AsideName's.
func IsAside(name string) bool { return strings.Contains(name, asideMark) }

// NoteName is that of the note which says that an item went to a computer.
func NoteName(target, computer string) string {
	return target + noteEnding + PlainName(computer) + ".txt"
}

const noteEnding = ".moved-to-"

// NoteHead is how that note begins.
const NoteHead = "The data that was here was moved to the computer "

// setAside are the names of what was set aside, with what belongs to it, and of what it is made of.
var setAside = regexp.MustCompile(`\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*(\.movekit-part)?$`)

// beside reports whether a file or folder is what a step has put beside an item: where that lies
// in the folder of another one, it is not of that.
func beside(name, real string) bool {
	if IsAside(name) {
		return setAside.MatchString(name)
	}
	if !strings.Contains(name, noteEnding) || !strings.HasSuffix(name, ".txt") {
		return false
	}
	if info, err := os.Lstat(real); err != nil || !info.Mode().IsRegular() {
		return false // a pipe would not answer
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

// freeName returns a name that nothing has, which begins with a name.
func freeName(name string) (string, error) { return freeIn(os.Lstat, name) }

// freeIn returns a name that nothing has. lstat looks at a name. A name that it cannot look at may be taken.
func freeIn(lstat func(string) (os.FileInfo, error), name string) (string, error) {
	for n, try := 2, name; ; n++ {
		_, err := lstat(try)
		if errors.Is(err, fs.ErrNotExist) {
			return try, nil
		}
		if err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "cannot find a free name like %s", name)
		}
		try = fmt.Sprintf("%s-%d", name, n)
	}
}

// BothName returns a free name beside target for what comes from a computer.
func BothName(target, computer string) (string, error) {
	return freeName(target + ".from-" + PlainName(computer))
}

// PlainName makes of a name one that every file system takes.
func PlainName(name string) string {
	return strings.Map(func(r rune) rune {
		if r < 32 || strings.ContainsRune(`<>:"/\|?* `, r) {
			return '-'
		}
		return r
	}, name)
}

// Merged counts what Merge did.
type Merged struct {
	Placed, Same, Aside, Kept, Replaced int64
}

// Merge moves the entries of a list from the folder stage, file by file, into
// target. aside is the folder for files that are set aside; it is made when
// it is needed. All three lie in one folder. Only what the list names is
// touched, and nothing outside that folder, whatever links are in it. turned are the
// changes that were made in the stage.
func Merge(ctx context.Context, stage, target, aside string, list *ListReader, policy Policy, b *Belonging, turned EditsByFile) (*Merged, error) {
	parent, err := os.OpenRoot(filepath.Dir(target))
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
	parent               *os.Root
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
			_, err := filemeta.ApplyDir(m.parent, m.belongs.given(e))
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
	// A folder in the place of a file, or the other way round, is never
	// overwritten.
	put := path.Join(m.aside, e.Path)
	if err := m.parent.MkdirAll(path.Dir(put), 0o755); err != nil {
		return err
	}
	put, err = freeIn(m.parent.Lstat, put) // what was set aside before is never written over
	if err != nil {
		return err
	}
	if err := m.parent.Rename(to, put); err != nil {
		return err
	}
	m.done.Aside++
	return m.one(e)
}

// same reports whether what is at a place is what the list says.
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
		sum, _, err := m.turned.sum(e.Path, f)
		return err == nil && sum == e.Hash
	}
	return false
}
