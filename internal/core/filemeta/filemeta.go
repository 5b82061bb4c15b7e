// Package marks is what a file system keeps of an entry beside its content: to whom it belongs,
// permissions, attributes, access lists, times, holes. A file a system reads them and gives them.
package filemeta

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"
)

// Marks are what a file system keeps of an entry beside its content, permissions and
// time, as far as it is the same thing on another computer.
type Metadata struct {
	Owner string `json:"owner,omitempty"` // user, by name; # and the number where it has none
	Group string `json:"group,omitempty"`
	// Xattr are extended attributes (xattr(7)). Access lists (acl(5)) are among them,
	// as text with names.
	Xattr map[string][]byte `json:"xattr,omitempty"`
	// Attr are the attributes of Windows that a person sets: FILE_ATTRIBUTE_READONLY,
	// HIDDEN and SYSTEM.
	Attr uint32 `json:"attr,omitempty"`
	// ACL is the access list of Windows that is not inherited, in its own language, with
	// names of users in braces.
	ACL    string `json:"acl,omitempty"`
	Sparse bool   `json:"sparse,omitempty"` // a file with holes
}

// IDs are the security ids of the users of a Windows computer.
type IDs interface {
	Names() map[string]string              // of users, by id
	ID(user string) (id string, here bool) // of who is, or stands for, a user of the old computer
}

// Accounts are the names of the users and groups of a computer.
type Accounts interface {
	User(uid int) string
	Group(gid int) string
	UID(name string) (int, bool)
	GID(name string) (int, bool)
}

// Owner is a user and group by their numbers.
type Owner struct{ UID, GID int }

// Seen is what the system tells of an entry together with its size.
type Stat struct {
	Owner
	Attr      uint32 // attributes of Windows that a person sets
	Sparse    bool   // a file with holes
	Encrypted bool   // Windows keeps it encrypted for one user (EFS)
	Shared    Inode  // which file it is where it has several names; the zero value otherwise
}

// Given is what an entry is given where it is placed.
type Wanted struct {
	Path     string // below the folder that it is placed in, with / between; it is named by it
	Mode     fs.FileMode
	ModTime  time.Time // zero leaves it
	Marks    Metadata
	To       *Owner   // nil leaves it with who runs this
	Accounts Accounts // of this computer; nil where they are not known
	IDs      IDs      // of a Windows computer; else nil
}

// Hole is the least size of a hole that is kept, in bytes.
const Hole = 64 << 10

// Special are the permissions of a folder that a mode has beside those for reading,
// writing and executing. Those of files do not travel: what runs as another user is
// for an installation to set.
const Special = fs.ModeSetgid | fs.ModeSticky

// ModeOf is a mode as it is listed: that of chmod(2).
func ModeOf(m fs.FileMode) uint32 {
	bits := uint32(m.Perm())
	if m&fs.ModeSetgid != 0 {
		bits |= 0o2000
	}
	if m&fs.ModeSticky != 0 {
		bits |= 0o1000
	}
	return bits
}

// ModeFrom is the way back.
func ModeFrom(bits uint32) fs.FileMode {
	m := fs.FileMode(bits).Perm()
	if bits&0o2000 != 0 {
		m |= fs.ModeSetgid
	}
	if bits&0o1000 != 0 {
		m |= fs.ModeSticky
	}
	return m
}

// Attributes of files on Windows ("File Attribute Constants" of its documentation).
const (
	attrReadOnly = 1
	attrHidden   = 2
	attrSystem   = 4
	attrSet      = attrReadOnly | attrHidden | attrSystem
)

func attrText(a uint32) string {
	var out []string
	for _, n := range []struct {
		bit  uint32
		name string
	}{{attrReadOnly, "read-only"}, {attrHidden, "hidden"}, {attrSystem, "system"}} {
		if a&n.bit != 0 {
			out = append(out, n.name)
		}
	}
	if out == nil {
		return "nothing"
	}
	return strings.Join(out, "+")
}

// Differ says in which attributes of Windows two entries differ, or ""; and where lists is true,
// in which access lists of it.
func Differ(want, have Metadata, lists bool) string {
	switch {
	case want.Attr != have.Attr:
		return fmt.Sprintf("was marked %s, is %s", attrText(want.Attr), attrText(have.Attr))
	case lists && want.ACL != have.ACL:
		return fmt.Sprintf("had the access list %s of its own, has %s", cmp.Or(want.ACL, "none"), cmp.Or(have.ACL, "none"))
	}
	return ""
}

// DifferXattr names the extended attributes in which two entries differ, or "".
func DifferXattr(want, have Metadata) string {
	names := map[string]bool{}
	for _, of := range []map[string][]byte{want.Xattr, have.Xattr} {
		for n := range of {
			a, was := want.Xattr[n]
			b, is := have.Xattr[n]
			if was != is || !bytes.Equal(a, b) {
				names[n] = true
			}
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "has other extended attributes: " + strings.Join(slices.Sorted(maps.Keys(names)), ", ")
}
