package filemeta

import (
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"
)

// SyncEach says that every file is flushed by itself: there is no flushing of a whole file system.
const SyncEach = true

// placeOwn are extended attributes that belong to the computer and not to the data: where a
// file was loaded from, and what the system's guards note.
var placeOwn = []string{"com.apple.quarantine", "com.apple.provenance", "com.apple.macl", "com.apple.rootless", "com.apple.lastuseddate#PS"}

// travelling reports whether an extended attribute is of the data.
func travelling(name string) bool { return !slices.Contains(placeOwn, name) }

// xattrText is an extended attribute as it travels: as it is. Access lists are none here.
func xattrText(_ string, value []byte, _ Accounts) []byte { return value }

// xattrRaw is the way back.
func xattrRaw(_ string, value []byte, _ Accounts) ([]byte, error) { return value, nil }

// setTime sets the time of an open file's newest change, to a microsecond: futimes(2).
func setTime(f *os.File, at time.Time) error {
	t := unix.NsecToTimeval(at.UnixNano())
	return unix.Futimes(int(f.Fd()), []unix.Timeval{t, t})
}
