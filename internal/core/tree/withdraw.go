package tree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"movekit/internal/core/fault"
)

// Withdrawn counts what Withdraw did.
type Withdrawn struct {
	Removed, Back, Kept int64
}

// Withdraw takes back, file by file, what Merge put into the folder target: what
// the list names and is still the same is removed, what was set aside is put
// back. A file that was changed since goes to the folder kept. All lie in one
// folder. A run that was interrupted is ended by the same call.
func Withdraw(ctx context.Context, target, aside, kept string, list *ListReader, turned Turned) (*Withdrawn, error) {
	parent, err := os.OpenRoot(filepath.Dir(target))
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot open the folder of %s", target)
	}
	defer parent.Close()
	m := &merger{parent: parent, target: filepath.Base(target), aside: filepath.Base(aside), turned: turned}
	out := &Withdrawn{}
	var dirs []string
	for {
		if err := ctx.Err(); err != nil {
			return nil, fault.Wrap(fault.Stopped, err, "taking files back was stopped")
		}
		e, err := nextTravelling(list)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if e.Type == Dir {
			dirs = append(dirs, e.Path)
			continue
		}
		if err := m.withdraw(e, filepath.Base(kept), aside != "", out); err != nil {
			return nil, fault.Wrap(fault.CannotPlace, err, "cannot take %q back from %s", e.Path, target)
		}
	}
	if aside != "" {
		removeEmpty(parent, m.aside)
	}
	for i := len(dirs) - 1; i >= 0; i-- { // deepest last in the list
		parent.Remove(path.Join(m.target, dirs[i])) // where it is empty
	}
	return out, nil
}

func (m *merger) withdraw(e Entry, kept string, aside bool, out *Withdrawn) error {
	at, put := path.Join(m.target, e.Path), path.Join(m.aside, e.Path)
	var back bool
	if aside {
		_, err := m.parent.Lstat(put)
		back = err == nil
	}
	have, err := m.parent.Lstat(at)
	switch {
	case os.IsNotExist(err):
	case err != nil:
		return err
	case m.same(e, at, have):
		out.Removed++
		if err := m.parent.Remove(at); err != nil {
			return err
		}
	case !back:
		return nil // somebody else's, or back already
	default:
		out.Kept++
		to := path.Join(kept, e.Path)
		if err := m.parent.MkdirAll(path.Dir(to), 0o755); err != nil {
			return err
		}
		if err := m.parent.Rename(at, to); err != nil {
			return err
		}
	}
	if !back {
		return nil
	}
	out.Back++
	if err := m.parent.MkdirAll(path.Dir(at), 0o755); err != nil {
		return err
	}
	return m.parent.Rename(put, at)
}

// removeEmpty removes a folder and the folders in it, as far as they are empty.
func removeEmpty(root *os.Root, dir string) {
	entries, err := fs.ReadDir(root.FS(), dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return
	}
	for _, e := range entries {
		if e.IsDir() {
			removeEmpty(root, path.Join(dir, e.Name()))
		}
	}
	root.Remove(dir)
}
