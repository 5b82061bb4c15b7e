package tree

import (
	"context"
	"io"
	"os"
	"path"
	"path/filepath"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/spare"
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
	put, err = spare.FreeIn(m.parent.Lstat, put) // data that was set aside earlier is never overwritten
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
