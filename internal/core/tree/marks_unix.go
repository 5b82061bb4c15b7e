//go:build unix

package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// inode tells a file from others on this computer.
type inode struct{ dev, ino uint64 }

// stat fills in what the system tells of an entry with its size: to whom it belongs,
// whether it has holes, and which file it is where it has several names.
func (e *Entry) stat(info fs.FileInfo) (shared inode) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return inode{}
	}
	e.uid, e.gid = int(st.Uid), int(st.Gid)
	if e.Type != File {
		return inode{}
	}
	e.Sparse = st.Blocks*512 < st.Size && st.Size >= holeSize
	if st.Nlink > 1 {
		return inode{uint64(st.Dev), st.Ino}
	}
	return inode{}
}

// Readable sees whether this program may read an entry, without opening it.
func Readable(e Entry, real string) error {
	if e.Type != File {
		return nil
	}
	if err := unix.Access(real, unix.R_OK); err != nil {
		return &fs.PathError{Op: "open", Path: real, Err: err}
	}
	return nil
}

// Writable sees whether this program may write into a folder, without doing so.
func Writable(dir string) error {
	if err := unix.Access(dir, unix.W_OK|unix.X_OK); err != nil {
		return &fs.PathError{Op: "write", Path: dir, Err: err}
	}
	return nil
}

// OwnerOf is to whom a file or folder belongs.
func OwnerOf(path string) (Owner, bool) {
	info, err := os.Stat(path)
	if err != nil {
		return Owner{}, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return Owner{}, false
	}
	return Owner{int(st.Uid), int(st.Gid)}, true
}

// readACL returns nothing: access lists are extended attributes.
func readACL(string, IDs) string { return "" }

// HasAttr says whether this program can see the attributes of Windows.
const HasAttr = false

// readXattr reads the extended attributes of a file or folder. A file system that has
// none gives none.
func readXattr(real string, a Accounts) (map[string][]byte, error) {
	var room [1024]byte
	list := room[:]
	n, err := unix.Llistxattr(real, list)
	for errors.Is(err, unix.ERANGE) {
		list = make([]byte, 4*len(list))
		n, err = unix.Llistxattr(real, list)
	}
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EPERM) || n <= 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out map[string][]byte
	for name := range strings.SplitSeq(strings.TrimRight(string(list[:n]), "\x00"), "\x00") {
		if !travelling(name) {
			continue
		}
		value := make([]byte, 64<<10) // the most there can be (xattr(7))
		n, err := unix.Lgetxattr(real, name, value)
		if err != nil {
			continue // gone since, or not to be read
		}
		value = append([]byte{}, value[:n]...)
		if value = xattrText(name, value, a); value == nil {
			continue
		}
		if out == nil {
			out = map[string][]byte{}
		}
		out[name] = value
	}
	return out, nil
}

// settle gives an open file or folder to whom it belongs, and its permissions,
// attributes and time. It returns what could not be kept.
func settle(f *os.File, e Entry, b *Belonging) (unkept []string, err error) {
	if o, known := b.of(e); known {
		if err := f.Chown(o.UID, o.GID); err != nil {
			return nil, err
		}
	}
	if err := f.Chmod(e.Mode); err != nil {
		return nil, err
	}
	for name, value := range e.Xattr {
		if !travelling(name) {
			continue // a kit says so, and nobody sealed it
		}
		value, err := xattrRaw(name, value, b)
		if err == nil {
			err = unix.Fsetxattr(int(f.Fd()), name, value, 0)
		}
		if err != nil {
			unkept = append(unkept, fmt.Sprintf("%s: %s: %v", e.Path, name, err))
		}
	}
	if e.ModTime.IsZero() {
		return unkept, nil
	}
	return unkept, setTime(f, e.ModTime)
}

// settleDir does that for a folder below root.
func settleDir(root *os.Root, e Entry, b *Belonging) ([]string, error) {
	f, err := root.Open(e.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return settle(f, e, b)
}

// settleLink gives a link its owner and time.
func settleLink(root *os.Root, e Entry, b *Belonging) error {
	if o, known := b.of(e); known {
		if err := root.Lchown(e.Path, o.UID, o.GID); err != nil {
			return err
		}
	}
	dir, err := root.Open(path.Dir(e.Path))
	if err != nil {
		return err
	}
	defer dir.Close()
	t := unix.NsecToTimespec(e.ModTime.UnixNano())
	return unix.UtimesNanoAt(int(dir.Fd()), path.Base(e.Path), []unix.Timespec{t, t}, unix.AT_SYMLINK_NOFOLLOW)
}
