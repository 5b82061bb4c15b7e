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
	"time"

	"golang.org/x/sys/unix"
)

// Inode identifies a file on this computer.
type Inode struct{ dev, ino uint64 }

// StatOf returns the metadata that comes with an entry's size.
func StatOf(info fs.FileInfo) (s Stat) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return s
	}
	s.Owner, s.ID, s.Changed = Owner{int(st.Uid), int(st.Gid)}, st.Ino, changeTime(st)
	if !info.Mode().IsRegular() {
		return s
	}
	if stored := st.Blocks * 512; stored < st.Size && st.Size >= Hole {
		s.Sparse, s.Holes = true, st.Size-stored
	}
	if st.Nlink > 1 {
		s.Shared, s.Names = Inode{uint64(st.Dev), st.Ino}, uint64(st.Nlink)
	}
	return s
}

// Readable returns an error if this program may not read a file. It does not open the file.
func Readable(real string) error {
	if err := unix.Access(real, unix.R_OK); err != nil {
		return &fs.PathError{Op: "open", Path: real, Err: err}
	}
	return nil
}

// Writable returns an error if this program may not write into a folder. It does not write.
func Writable(dir string) error {
	if err := unix.Access(dir, unix.W_OK|unix.X_OK); err != nil {
		return &fs.PathError{Op: "write", Path: dir, Err: err}
	}
	return nil
}

// OwnerOf returns the owner of a file or folder.
func OwnerOf(path string) (Owner, bool) {
	info, err := os.Stat(path)
	if err != nil {
		return Owner{}, false
	}
	return StatOf(info).Owner, true
}

// ACL returns nothing: access lists are extended attributes.
func ACL(string, IDs) string { return "" }

// InUse returns false: files that other programs hold open can be read.
func InUse(error) bool { return false }

// HasAttr is true if this program can read Windows attributes.
const HasAttr = false

// Xattr reads the extended attributes of a file or folder. others are the names of those that are not
// moved.
func Xattr(real string, a Accounts) (out map[string][]byte, others []string) {
	var room [1024]byte
	list := room[:]
	n, err := unix.Llistxattr(real, list)
	for errors.Is(err, unix.ERANGE) {
		list = make([]byte, 4*len(list))
		n, err = unix.Llistxattr(real, list)
	}
	if err != nil || n == 0 {
		return nil, nil
	}
	for name := range strings.SplitSeq(strings.TrimRight(string(list[:n]), "\x00"), "\x00") {
		if !isData(name) {
			if !ofComputer(name) {
				others = append(others, name)
			}
			continue
		}
		value := make([]byte, 64<<10) // the maximum size (xattr(7))
		n, err := unix.Lgetxattr(real, name, value)
		if err != nil {
			others = append(others, name)
			continue
		}
		value = append([]byte{}, value[:n]...)
		if value = xattrText(name, value, a); value == nil {
			others = append(others, name)
			continue
		}
		if out == nil {
			out = map[string][]byte{}
		}
		out[name] = value
	}
	return out, others
}

// Apply sets the owner, permissions, attributes and time of an open file or folder. It returns
// descriptions of the properties that could not be set.
func Apply(f *os.File, g Wanted) (unkept []string, err error) {
	if g.To != nil {
		if err := f.Chown(g.To.UID, g.To.GID); err != nil {
			return nil, err
		}
	}
	if err := f.Chmod(g.Mode); err != nil {
		return nil, err
	}
	for name, value := range g.Metadata.Xattr {
		if strings.HasPrefix(name, Stream) {
			unkept = append(unkept, fmt.Sprintf("%s: %s: only Windows has such streams", g.Path, name))
			continue
		}
		if !isData(name) {
			continue // it was not sealed by Move Kit
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
	return unkept, SetFileTime(f, g.ModTime)
}

// ApplyDir does the same for a folder below root.
func ApplyDir(root *Root, g Wanted) ([]string, error) {
	f, err := root.Open(g.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Apply(f, g)
}

// ApplyLink sets the owner and time of a link.
func ApplyLink(root *Root, g Wanted) error {
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
	t, err := unix.TimeToTimespec(g.ModTime)
	if err != nil {
		return err
	}
	return unix.UtimesNanoAt(int(dir.Fd()), path.Base(g.Path), []unix.Timespec{t, t}, unix.AT_SYMLINK_NOFOLLOW)
}

// SetTime sets the modification time of a file or folder. Unlike os.Chtimes, it can set years after 2262.
func SetTime(name string, at time.Time) error {
	t, err := unix.TimeToTimespec(at)
	if err != nil {
		return err
	}
	return unix.UtimesNanoAt(unix.AT_FDCWD, name, []unix.Timespec{t, t}, 0)
}
