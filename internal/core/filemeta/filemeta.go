// Package filemeta reads and writes file metadata: owners, permissions, attributes, access lists,
// times and holes. Each system has its own file.
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

// Metadata is the metadata of an entry, other than permissions and time, as far as it has a meaning
// on another computer.
type Metadata struct {
	Owner string `json:"owner,omitempty"` // user name; # and the number if it has no name
	Group string `json:"group,omitempty"`
	// Xattr has the extended attributes (xattr(7)), including access lists (acl(5)) as text with
	// names.
	Xattr map[string][]byte `json:"xattr,omitempty"`
	// Attr has the Windows attributes that a user sets: FILE_ATTRIBUTE_READONLY, HIDDEN and SYSTEM.
	Attr uint32 `json:"attr,omitempty"`
	// ACL is the part of a Windows access list that is not inherited, in SDDL, with user names in
	// braces.
	ACL    string `json:"acl,omitempty"`
	Sparse bool   `json:"sparse,omitempty"` // a file with holes
}

// IDs are the security ids of the users of a Windows computer.
type IDs interface {
	Names() map[string]string              // user names, by id
	ID(user string) (id string, here bool) // id of the user that an old user is mapped to
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

// Stat is the metadata that the system returns together with an entry's size.
type Stat struct {
	Owner
	Attr      uint32 // Windows attributes that a user sets
	Sparse    bool   // a file with holes
	Holes     int64  // bytes of holes, which take no space; 0 if unknown
	Encrypted bool   // Windows encrypted it for one user (EFS)
	Cloud     bool   // its content is not on this computer
	Shared    Inode  // identifies a file with hard links; otherwise zero
	Names     uint64 // the number of its hard links
	// ID and Changed change with every change of the entry, also if its size and time are set back: the
	// inode number, and the change time in nanoseconds (stat(2)). Zero on Windows.
	ID      uint64
	Changed int64
}

// Wanted is the metadata to set on a placed entry.
type Wanted struct {
	Path     string // below the destination folder, with / between folders; for messages
	Mode     fs.FileMode
	ModTime  time.Time // zero leaves it unchanged
	Metadata Metadata
	To       *Owner   // nil leaves it with the user who runs the program
	Accounts Accounts // of this computer; nil if unknown
	IDs      IDs      // for a Windows computer; else nil
}

// Hole is the minimum size of a hole that is kept, in bytes.
const Hole = 64 << 10

// Special lists the permission bits of a folder besides read, write and execute. These bits of
// files are not moved: only an installation should decide which programs run as another user.
const Special = fs.ModeSetgid | fs.ModeSticky

// ModeOf converts a mode to the number of chmod(2).
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

// ModeFrom is the inverse of ModeOf.
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

// File attributes on Windows ("File Attribute Constants" in its documentation).
const (
	attrReadOnly = 1
	attrHidden   = 2
	attrSystem   = 4
	attrSet      = attrReadOnly | attrHidden | attrSystem
)

// Attributes of files whose content a cloud service or an archive has ("File Attribute Constants").
const (
	attrOffline      = 0x1000
	attrRecallOnOpen = 0x40000
	attrRecallOnData = 0x400000
)

// cloudOnly reports whether reading a file with these attributes would fetch its content from elsewhere.
func cloudOnly(attr uint32) bool {
	return attr&(attrOffline|attrRecallOnOpen|attrRecallOnData) != 0
}

// Stream is the start of the name of an extended attribute that has an alternate data stream of Windows ("File Streams" in
// its documentation).
const Stream = "stream:"

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

// Differ returns how two entries differ in Windows attributes and, if lists is true, in access
// lists; or "".
func Differ(want, have Metadata, lists bool) string {
	switch {
	case want.Attr != have.Attr:
		return fmt.Sprintf("was marked %s, is %s", attrText(want.Attr), attrText(have.Attr))
	case lists && want.ACL != have.ACL:
		return fmt.Sprintf("had the access list %s, has %s", cmp.Or(want.ACL, "none"), cmp.Or(have.ACL, "none"))
	}
	return ""
}

// DifferXattr returns how two entries differ in extended attributes, or "".
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
