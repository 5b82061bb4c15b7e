//go:build unix

package filemeta

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

// Inode tells a file from others on this computer.
type Inode struct{ dev, ino uint64 }

// See reads what the system tells of an entry with its size.
func StatOf(info fs.FileInfo) (s Stat) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return s
	}
	s.Owner = Owner{int(st.Uid), int(st.Gid)}
	if !info.Mode().IsRegular() {
		return s
	}
	s.Sparse = st.Blocks*512 < st.Size && st.Size >= Hole
	if st.Nlink > 1 {
		s.Shared = Inode{uint64(st.Dev), st.Ino}
	}
	return s
}

// Readable sees whether this program may read a file, without opening it.
func Readable(real string) error {
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
	return StatOf(info).Owner, true
}

// ACL returns nothing: access lists are extended attributes.
func ACL(string, IDs) string { return "" }

// HasAttr says whether this program can see the attributes of Windows.
const HasAttr = false

// Xattr reads the extended attributes of a file or folder. What cannot be read is none.
func Xattr(real string, a Accounts) map[string][]byte {
	var room [1024]byte
	list := room[:]
	n, err := unix.Llistxattr(real, list)
	for errors.Is(err, unix.ERANGE) {
		list = make([]byte, 4*len(list))
		n, err = unix.Llistxattr(real, list)
	}
	if err != nil || n == 0 {
		return nil
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
	return out
}

// Settle gives an open file or folder to whom it belongs, and its permissions,
// attributes and, where it has one, its time. It returns what could not be kept.
func Apply(f *os.File, g Wanted) (unkept []string, err error) {
	if g.To != nil {
		if err := f.Chown(g.To.UID, g.To.GID); err != nil {
			return nil, err
		}
	}
	if err := f.Chmod(g.Mode); err != nil {
		return nil, err
	}
	for name, value := range g.Marks.Xattr {
		if !travelling(name) {
			continue // a kit says so, and nobody sealed it
		}
		value, err := xattrRaw(name, value, g.Accounts)
		if err == nil {
			err = unix.Fsetxattr(int(f.Fd()), name, value, 0)
		}
		if err != nil {
			unkept = append(unkept, fmt.Sprintf("%s: %s: %v", g.Path, name, err))
		}
	}
	if g.ModTime.IsZero() {
		return unkept, nil
	}
	return unkept, setTime(f, g.ModTime)
}

// SettleDir does that for a folder below root.
func ApplyDir(root *os.Root, g Wanted) ([]string, error) {
	f, err := root.Open(g.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Apply(f, g)
}

// SettleLink gives a link its owner and time.
func ApplyLink(root *os.Root, g Wanted) error {
	if g.To != nil {
		if err := root.Lchown(g.Path, g.To.UID, g.To.GID); err != nil {
			return err
		}
	}
	dir, err := root.Open(path.Dir(g.Path))
	if err != nil {
		return err
	}
	defer dir.Close()
	t := unix.NsecToTimespec(g.ModTime.UnixNano())
	return unix.UtimesNanoAt(int(dir.Fd()), path.Base(g.Path), []unix.Timespec{t, t}, unix.AT_SYMLINK_NOFOLLOW)
}
