package filemeta

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/windows"
)

// SyncEach says that every file is flushed by itself: there is no flushing of a whole file system.
const SyncEach = true

// Inode would tell a file from others.
type Inode struct{}

// See reads the attributes of an entry.
func StatOf(info fs.FileInfo) (s Stat) {
	if st, ok := info.Sys().(*syscall.Win32FileAttributeData); ok && info.Mode()&fs.ModeSymlink == 0 {
		s.Attr = st.FileAttributes & attrSet
		s.Encrypted = st.FileAttributes&windows.FILE_ATTRIBUTE_ENCRYPTED != 0
	}
	return s
}

// Readable sees whether this program may read a file. On Windows that is known when
// it is opened only.
func Readable(string) error { return nil }

// Writable sees whether this program may write into a folder. On Windows that is known
// when it is written to only.
func Writable(string) error { return nil }

// OwnerOf is nobody: on Windows files get the rights of their folder.
func OwnerOf(string) (Owner, bool) { return Owner{}, false }

// HasAttr says whether this program can see the attributes of Windows.
const HasAttr = true

// ACL reads the access list of a file or folder, as far as it is not inherited. What
// cannot be read is none.
func ACL(real string, ids IDs) string {
	sd, err := windows.GetNamedSecurityInfo(real, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return ""
	}
	return explicitACL(sd.String(), ids.Names())
}

// setACL gives a file or folder an access list of its own.
func setACL(real, acl string, ids IDs) error {
	if ids == nil {
		return errors.New("whose it is is not known here")
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
	return windows.SetNamedSecurityInfo(real, windows.SE_FILE_OBJECT, what, nil, nil, list, nil)
}

// Xattr returns nothing: Windows has none.
func Xattr(string, Accounts) map[string][]byte { return nil }

// Settle gives an open file its time, attributes and access list. Permissions are not the same
// thing on Windows: files get those of the folder they are placed in.
func Apply(f *os.File, g Wanted) ([]string, error) {
	if !g.ModTime.IsZero() {
		t := syscall.NsecToFiletime(g.ModTime.UnixNano())
		if err := syscall.SetFileTime(syscall.Handle(f.Fd()), nil, nil, &t); err != nil {
			return nil, err
		}
	}
	return applyName(f.Name(), g)
}

// settleName gives a file or folder its attributes and access list.
func applyName(name string, g Wanted) (unkept []string, err error) {
	if g.Marks.ACL != "" {
		if err := setACL(name, g.Marks.ACL, g.IDs); err != nil {
			unkept = append(unkept, fmt.Sprintf("%s: its access list: %v", g.Path, err))
		}
	}
	if g.Marks.Attr == 0 {
		return unkept, nil
	}
	return unkept, mark(name, g.Marks.Attr)
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

// SettleDir gives a folder its attributes.
func ApplyDir(root *os.Root, g Wanted) ([]string, error) {
	return applyName(filepath.Join(root.Name(), filepath.FromSlash(g.Path)), g)
}

// SettleLink does nothing: links have no marks of their own.
func ApplyLink(*os.Root, Wanted) error { return nil }
