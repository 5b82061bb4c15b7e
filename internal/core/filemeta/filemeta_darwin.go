package filemeta

import (
	"os"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// SyncEach is true if files must be flushed one by one, because the system cannot flush a whole
// file system.
const SyncEach = true

// placeOwn lists extended attributes that belong to the computer and not to the data: the source of
// a download, and notes of the system's protection.
var placeOwn = []string{"com.apple.quarantine", "com.apple.provenance", "com.apple.macl", "com.apple.rootless", "com.apple.lastuseddate#PS"}

// isData reports whether an extended attribute belongs to the data.
func isData(name string) bool { return !slices.Contains(placeOwn, name) }

// ofComputer reports whether an extended attribute belongs to the computer.
func ofComputer(name string) bool { return slices.Contains(placeOwn, name) }

// xattrText returns an extended attribute as it is stored in the kit: unchanged, because access
// lists are not extended attributes here.
func xattrText(_ string, value []byte, _ Accounts) []byte { return value }

// xattrRaw is the inverse of xattrText.
func xattrRaw(_ string, value []byte, _ Accounts) ([]byte, error) { return value, nil }

// changeTime returns the time of the last change of a file or its metadata, in nanoseconds.
func changeTime(st *syscall.Stat_t) int64 { return st.Ctimespec.Nano() }

// SetFileTime sets the modification time of an open file, in microseconds: futimes(2).
func SetFileTime(f *os.File, at time.Time) error {
	t := unix.Timeval{Sec: at.Unix(), Usec: int32(at.Nanosecond() / 1000)}
	return unix.Futimes(int(f.Fd()), []unix.Timeval{t, t})
}
