package tree

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

const syncEach = true

// inode would tell a file from others.
type inode struct{}

// stat fills in the attributes of an entry.
func (e *Entry) stat(info fs.FileInfo) (shared inode) {
	if st, ok := info.Sys().(*syscall.Win32FileAttributeData); ok && e.Type != Link {
		e.Attr = st.FileAttributes & attrSet
		e.Encrypted = st.FileAttributes&windows.FILE_ATTRIBUTE_ENCRYPTED != 0
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

// HasAttr says whether this program can see the attributes of Windows.
const HasAttr = true

// readACL reads the access list of a file or folder, as far as it is not inherited. What
// cannot be read is none.
func readACL(real string, ids IDs) string {
	sd, err := windows.GetNamedSecurityInfo(real, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return ""
	}
	return explicitACL(sd.String(), ids.Names())
}

// setACL gives a file or folder an access list of its own.
func setACL(real, acl string, b *Belonging) error {
	if b == nil || b.IDs == nil {
		return errors.New("whose it is is not known here")
	}
	local, err := localACL(acl, b.IDs.ID)
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

// readXattr returns nothing: Windows has none.
func readXattr(string, Accounts) (map[string][]byte, error) { return nil, nil }

// settle gives an open file its time. Permissions are not the same thing on
// Windows: files get those of the folder they are placed in.
func settle(f *os.File, e Entry, b *Belonging) ([]string, error) {
	if !e.ModTime.IsZero() {
		t := syscall.NsecToFiletime(e.ModTime.UnixNano())
		if err := syscall.SetFileTime(syscall.Handle(f.Fd()), nil, nil, &t); err != nil {
			return nil, err
		}
	}
	return settleName(f.Name(), e, b)
}

// settleName gives a file or folder its attributes and access list.
func settleName(name string, e Entry, b *Belonging) (unkept []string, err error) {
	if e.ACL != "" {
		if err := setACL(name, e.ACL, b); err != nil {
			unkept = append(unkept, fmt.Sprintf("%s: its access list: %v", e.Path, err))
		}
	}
	if e.Attr == 0 {
		return unkept, nil
	}
	return unkept, mark(name, e.Attr)
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
func settleDir(root *os.Root, e Entry, b *Belonging) ([]string, error) {
	return settleName(filepath.Join(root.Name(), filepath.FromSlash(e.Path)), e, b)
}

func settleLink(*os.Root, Entry, *Belonging) error { return nil }
