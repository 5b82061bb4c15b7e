package tree

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

const syncEach = true

// inode would tell a file from others.
type inode struct{}

// stat fills in the attributes of an entry.
func (e *Entry) stat(info fs.FileInfo) (shared inode) {
	if st, ok := info.Sys().(*syscall.Win32FileAttributeData); ok && e.Type != Link {
		e.Attr = st.FileAttributes & attrSet
	}
	return inode{}
}

// Readable sees whether this program may read an entry. On Windows that is known when
// it is opened only.
func Readable(Entry, string) error { return nil }

// Writable sees whether this program may write into a folder. On Windows that is known
// when it is written to only.
func Writable(string) error { return nil }

// OwnerOf is nobody: on Windows files get the rights of their folder.
func OwnerOf(string) (Owner, bool) { return Owner{}, false }

// readXattr returns nothing: Windows has none.
func readXattr(string, Accounts) (map[string][]byte, error) { return nil, nil }

// settle gives an open file its time. Permissions are not the same thing on
// Windows: files get those of the folder they are placed in.
func settle(f *os.File, e Entry, _ *Belonging) ([]string, error) {
	if !e.ModTime.IsZero() {
		t := syscall.NsecToFiletime(e.ModTime.UnixNano())
		if err := syscall.SetFileTime(syscall.Handle(f.Fd()), nil, nil, &t); err != nil {
			return nil, err
		}
	}
	if e.Attr == 0 {
		return nil, nil
	}
	return nil, mark(f.Name(), e.Attr)
}

// mark sets attributes beside those that the system has set.
func mark(name string, attr uint32) error {
	p, err := syscall.UTF16PtrFromString(name)
	if err != nil {
		return err
	}
	now, err := syscall.GetFileAttributes(p)
	if err != nil {
		return err
	}
	return syscall.SetFileAttributes(p, now|attr&attrSet)
}

// settleDir gives a folder its attributes.
func settleDir(root *os.Root, e Entry, _ *Belonging) ([]string, error) {
	if e.Attr == 0 {
		return nil, nil
	}
	return nil, mark(filepath.Join(root.Name(), filepath.FromSlash(e.Path)), e.Attr)
}

func settleLink(*os.Root, Entry, *Belonging) error { return nil }
