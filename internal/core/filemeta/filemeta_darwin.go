package filemeta

import (
	"os"
	"slices"
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

// xattrText returns an extended attribute as it is stored in the kit: unchanged, because access
// lists are not extended attributes here.
func xattrText(_ string, value []byte, _ Accounts) []byte { return value }

// xattrRaw is the inverse of xattrText.
func xattrRaw(_ string, value []byte, _ Accounts) ([]byte, error) { return value, nil }

// setTime sets the modification time of an open file, in microseconds: futimes(2).
func setTime(f *os.File, at time.Time) error {
	t := unix.NsecToTimeval(at.UnixNano())
	return unix.Futimes(int(f.Fd()), []unix.Timeval{t, t})
}
