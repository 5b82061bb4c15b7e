package filemeta

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/windows"
)

// SyncEach is true if files must be flushed one by one, because the system cannot flush a whole
// file system.
const SyncEach = true

// Inode is not used on Windows.
type Inode struct{}

// StatOf returns the attributes of an entry.
func StatOf(info fs.FileInfo) (s Stat) {
	if st, ok := info.Sys().(*syscall.Win32FileAttributeData); ok && info.Mode()&fs.ModeSymlink == 0 {
		s.Attr = st.FileAttributes & attrSet
		s.Encrypted = st.FileAttributes&windows.FILE_ATTRIBUTE_ENCRYPTED != 0
	}
	return s
}

// Readable returns nil, because Windows reports it only when the file is opened.
func Readable(string) error { return nil }

// Writable returns nil, because Windows reports it only on a write.
func Writable(string) error { return nil }

// OwnerOf returns no owner, because on Windows files inherit the rights of their folder.
func OwnerOf(string) (Owner, bool) { return Owner{}, false }

// HasAttr is true if this program can read Windows attributes.
const HasAttr = true

// ACL returns the part of an access list that is not inherited. It returns "" if the list cannot be
// read.
func ACL(real string, ids IDs) string {
	var sd *windows.SECURITY_DESCRIPTOR
	if err := named(real, func(name string) (err error) {
		sd, err = windows.GetNamedSecurityInfo(name, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION)
		return err
	}); err != nil {
		return ""
	}
	return explicitACL(sd.String(), ids.Names())
}

// setACL sets the access list of a file or folder.
func setACL(real, acl string, ids IDs) error {
	if ids == nil {
		return errors.New("its owner is unknown here")
	}
	local, err := localACL(acl, ids.ID)
	if err != nil {
		return err
	}
	sd, err := windows.SecurityDescriptorFromString(local)
	if err != nil {
		return err
	}
	list, _, err := sd.DACL()
	if err != nil {
		return err
	}
	what := windows.SECURITY_INFORMATION(windows.DACL_SECURITY_INFORMATION | windows.UNPROTECTED_DACL_SECURITY_INFORMATION)
	if strings.HasPrefix(local, "D:P") {
		what = windows.DACL_SECURITY_INFORMATION | windows.PROTECTED_DACL_SECURITY_INFORMATION
	}
	return named(real, func(name string) error {
		return windows.SetNamedSecurityInfo(name, windows.SE_FILE_OBJECT, what, nil, nil, list, nil)
	})
}

// named calls do with the long path of a file, and then with the short one if that is the same file: not
// every version of the security functions takes long paths.
func named(real string, do func(name string) error) error {
	err := do(Long(real))
	if err != nil && !odd(Short(real)) {
		return do(Short(real))
	}
	return err
}

// Xattr returns nothing: Windows has none.
func Xattr(string, Accounts) (map[string][]byte, []string) { return nil, nil }

// Apply sets the time, attributes and access list of an open file. Permissions mean something else
// on Windows, where files inherit those of their folder.
func Apply(f *os.File, g Wanted) ([]string, error) {
	if !g.ModTime.IsZero() {
		if err := SetFileTime(f, g.ModTime); err != nil {
			return nil, err
		}
	}
	return applyName(f.Name(), g)
}

// applyName sets the attributes and access list of a file or folder.
func applyName(name string, g Wanted) (unkept []string, err error) {
	if g.Metadata.ACL != "" {
		if err := setACL(name, g.Metadata.ACL, g.IDs); err != nil {
			unkept = append(unkept, fmt.Sprintf("%s: its access list: %v", g.Path, err))
		}
	}
	if g.Metadata.Attr == 0 {
		return unkept, nil
	}
	return unkept, mark(name, g.Metadata.Attr)
}

// mark adds attributes to those that the system has set.
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

// ApplyDir sets the attributes of a folder.
func ApplyDir(root *Root, g Wanted) ([]string, error) {
	return applyName(filepath.Join(Long(root.Name()), filepath.FromSlash(g.Path)), g)
}

// ApplyLink does nothing: links have no metadata of their own.
func ApplyLink(*Root, Wanted) error { return nil }

// SetFileTime sets the modification time of an open file, as the number of 100 ns since 1601.
func SetFileTime(f *os.File, at time.Time) error {
	n := uint64(at.Unix()+11644473600)*1e7 + uint64(at.Nanosecond())/100
	return syscall.SetFileTime(syscall.Handle(f.Fd()), nil, nil, &syscall.Filetime{LowDateTime: uint32(n), HighDateTime: uint32(n >> 32)})
}

// SetTime sets the modification time of a file or folder.
func SetTime(name string, at time.Time) error { return os.Chtimes(name, at, at) }
