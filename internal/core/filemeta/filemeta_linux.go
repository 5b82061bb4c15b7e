package filemeta

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// SyncEach is true if files must be flushed one by one, because the system cannot flush a whole
// file system.
const SyncEach = false

// The extended attributes that hold access lists (acl(5)).
const (
	aclAccess  = "system.posix_acl_access"
	aclDefault = "system.posix_acl_default"
)

// isData reports whether an extended attribute belongs to the data. Security labels belong to
// the computer.
func isData(name string) bool {
	return strings.HasPrefix(name, "user.") || name == aclAccess || name == aclDefault
}

// ofComputer reports whether an extended attribute belongs to the computer: a label that its security
// policy computes again.
func ofComputer(name string) bool {
	return name == "security.selinux" || name == "security.ima" || name == "security.evm"
}

// xattrText returns an extended attribute as it is stored in the kit: access lists with names. It
// returns nil if that is not possible.
func xattrText(name string, value []byte, a Accounts) []byte {
	if name != aclAccess && name != aclDefault {
		return value
	}
	return aclText(value, a)
}

// xattrRaw is the inverse of xattrText.
func xattrRaw(name string, value []byte, a Accounts) ([]byte, error) {
	switch {
	case name != aclAccess && name != aclDefault:
		return value, nil
	case a == nil:
		return nil, errors.New("its owner is unknown here")
	}
	return aclRaw(value, a)
}

// The parts of an access list in an extended attribute (linux/posix_acl_xattr.h).
const (
	aclVersion = 2
	aclUser    = 0x02
	aclGroup   = 0x08
)

var aclTags = map[uint16]string{0x01: "owner", aclUser: "user", 0x04: "owner-group", aclGroup: "group", 0x10: "mask", 0x20: "other"}

// aclText formats an access list with names, one entry per line, such as user:maren:6.
func aclText(raw []byte, a Accounts) []byte {
	if len(raw) < 4 || binary.LittleEndian.Uint32(raw) != aclVersion || a == nil {
		return nil
	}
	var out []byte
	for at := 4; at+8 <= len(raw); at += 8 {
		tag, perm, id := binary.LittleEndian.Uint16(raw[at:]), binary.LittleEndian.Uint16(raw[at+2:]), int(binary.LittleEndian.Uint32(raw[at+4:]))
		name := ""
		switch tag {
		case aclUser:
			name = a.User(id)
		case aclGroup:
			name = a.Group(id)
		}
		out = fmt.Appendf(out, "%s:%s:%d\n", aclTags[tag], name, perm)
	}
	return out
}

// aclRaw is the inverse of aclText. It returns an error if a user or group is missing on this
// computer.
func aclRaw(text []byte, a Accounts) ([]byte, error) {
	raw := binary.LittleEndian.AppendUint32(nil, aclVersion)
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 3 {
			return nil, fmt.Errorf("%q is not an access list entry", line)
		}
		tag, id, known := uint16(0), int(^uint32(0)), true
		for t, name := range aclTags {
			if name == f[0] {
				tag = t
			}
		}
		switch tag {
		case aclUser:
			id, known = a.UID(f[1])
		case aclGroup:
			id, known = a.GID(f[1])
		}
		perm, err := strconv.ParseUint(f[2], 10, 3)
		if tag == 0 || err != nil || !known {
			return nil, fmt.Errorf("%s in the access list does not exist here", strings.TrimSpace(line))
		}
		raw = binary.LittleEndian.AppendUint16(raw, tag)
		raw = binary.LittleEndian.AppendUint16(raw, uint16(perm))
		raw = binary.LittleEndian.AppendUint32(raw, uint32(id))
	}
	return raw, nil
}

// changeTime returns the time of the last change of a file or its metadata, in nanoseconds.
func changeTime(st *syscall.Stat_t) int64 { return st.Ctim.Nano() }

// SetFileTime sets the modification time of an open file: utimensat(2) without a path.
func SetFileTime(f *os.File, at time.Time) error {
	t, err := unix.TimeToTimespec(at)
	if err != nil {
		return err
	}
	times := [2]unix.Timespec{t, t}
	_, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, f.Fd(), 0, uintptr(unsafe.Pointer(&times)), 0, 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}
