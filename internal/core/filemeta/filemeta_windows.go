package filemeta

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// SyncEach is true if files must be flushed one by one, because the system cannot flush a whole
// file system.
const SyncEach = true

// Inode is not used on Windows.
type Inode struct{}

// maxStream limits the size of a stream that is moved, in bytes. Larger ones are reported.
const maxStream = 64 << 10

// StatOf returns the attributes of an entry.
func StatOf(info fs.FileInfo) (s Stat) {
	if st, ok := info.Sys().(*syscall.Win32FileAttributeData); ok && info.Mode()&fs.ModeSymlink == 0 {
		s.Attr = st.FileAttributes & attrSet
		s.Cloud = cloudOnly(st.FileAttributes)
		s.Encrypted = st.FileAttributes&windows.FILE_ATTRIBUTE_ENCRYPTED != 0
	}
	return s
}

// InUse reports whether a file could not be opened because another program holds it open.
func InUse(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION)
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

// Xattr reads the alternate data streams of a file or folder. others are the names of those that are too large to move, or
// that cannot be read.
func Xattr(real string, _ Accounts) (out map[string][]byte, others []string) {
	for name, size := range streams(Long(real)) {
		if size > maxStream {
			others = append(others, fmt.Sprintf("%s%s (%d bytes)", Stream, name, size))
			continue
		}
		data, err := os.ReadFile(Long(real) + ":" + name)
		if err != nil {
			others = append(others, Stream+name)
			continue
		}
		if out == nil {
			out = map[string][]byte{}
		}
		out[Stream+name] = data
	}
	return out, others
}

// streamData is WIN32_FIND_STREAM_DATA.
type streamData struct {
	Size int64
	Name [windows.MAX_PATH + 36]uint16
}

var (
	kernel32        = windows.NewLazySystemDLL("kernel32.dll")
	findFirstStream = kernel32.NewProc("FindFirstStreamW")
	findNextStream  = kernel32.NewProc("FindNextStreamW")
)

// streams returns the sizes of the alternate data streams of a file, by name. Names are written :NAME:$DATA; the file's own
// content is ::$DATA. A file system without streams has none.
func streams(path string) map[string]int64 {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil || findFirstStream.Find() != nil {
		return nil
	}
	var data streamData
	h, _, _ := findFirstStream.Call(uintptr(unsafe.Pointer(name)), 0, uintptr(unsafe.Pointer(&data)), 0)
	if windows.Handle(h) == windows.InvalidHandle {
		return nil
	}
	defer windows.FindClose(windows.Handle(h)) //nolint:errcheck // it was only read
	out := map[string]int64{}
	for ok := uintptr(1); ok != 0; ok, _, _ = findNextStream.Call(h, uintptr(unsafe.Pointer(&data))) {
		if name := strings.TrimSuffix(strings.TrimPrefix(windows.UTF16ToString(data.Name[:]), ":"), ":$DATA"); name != "" {
			out[name] = data.Size
		}
	}
	return out
}

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
	for attribute, data := range g.Metadata.Xattr {
		stream, is := strings.CutPrefix(attribute, Stream)
		if is && !strings.ContainsAny(stream, `:\/`) {
			err = os.WriteFile(name+":"+stream, data, 0o600)
		}
		if !is || err != nil {
			unkept = append(unkept, fmt.Sprintf("%s: %s: %v", g.Path, attribute, cmp.Or(err, errors.New("Windows has no such attributes"))))
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
