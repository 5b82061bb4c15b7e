package tree

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
)

// Marks are what a file system keeps of an entry beside its content, permissions and
// time, as far as it is the same thing on another computer.
type Marks struct {
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

// Belonging says to whom entries belong on the computer where they are placed.
type Belonging struct {
	Of       func(e Entry) (Owner, bool) // false leaves an entry with who runs this
	Accounts Accounts
	IDs      IDs // of a Windows computer; else nil
}

// of is to whom an entry belongs; b may be nil.
func (b *Belonging) of(e Entry) (o Owner, known bool) {
	if b == nil || b.Of == nil {
		return o, false
	}
	return b.Of(e)
}

// special are the permissions of a folder that a mode has beside those for reading,
// writing and executing. Those of files do not travel: what runs as another user is
// for an installation to set.
const special = fs.ModeSetgid | fs.ModeSticky

// modeOf is a mode as it is listed: that of chmod(2).
func modeOf(m fs.FileMode) uint32 {
	bits := uint32(m.Perm())
	if m&fs.ModeSetgid != 0 {
		bits |= 0o2000
	}
	if m&fs.ModeSticky != 0 {
		bits |= 0o1000
	}
	return bits
}

// modeFrom is the way back.
func modeFrom(bits uint32) fs.FileMode {
	m := fs.FileMode(bits).Perm()
	if bits&0o2000 != 0 {
		m |= fs.ModeSetgid
	}
	if bits&0o1000 != 0 {
		m |= fs.ModeSticky
	}
	return m
}

// Settle gives an open file to whom it belongs, and its permissions, marks and, where
// it has one, its time. It returns what could not be kept.
func Settle(f *os.File, e Entry, b *Belonging) (unkept []string, err error) { return settle(f, e, b) }

// Differs says in which marks an entry is not what it was, or "".
func (c Comparing) Differs(want, have Entry) string {
	o, known := c.Belongs.of(want)
	switch {
	case known && (o.UID != have.uid || o.GID != have.gid):
		a := c.Belongs.Accounts
		return fmt.Sprintf("belongs to %s, and should to %s", a.User(have.uid)+":"+a.Group(have.gid), a.User(o.UID)+":"+a.Group(o.GID))
	case want.Attr != have.Attr && c.Attr:
		return fmt.Sprintf("was marked %s, is %s", attrText(want.Attr), attrText(have.Attr))
	case c.Attr && c.Belongs != nil && c.Belongs.IDs != nil && want.ACL != have.ACL:
		return fmt.Sprintf("had the access list %s of its own, has %s", cmp.Or(want.ACL, "none"), cmp.Or(have.ACL, "none"))
	case c.Modes && want.Type != Link && !maps.EqualFunc(want.Xattr, have.Xattr, bytes.Equal):
		names := slices.Sorted(maps.Keys(want.Xattr))
		for name := range have.Xattr {
			if _, was := want.Xattr[name]; !was {
				names = append(names, name)
			}
		}
		names = slices.DeleteFunc(names, func(n string) bool {
			a, was := want.Xattr[n]
			b, is := have.Xattr[n]
			return was == is && bytes.Equal(a, b)
		})
		return "has other extended attributes: " + strings.Join(names, ", ")
	}
	return ""
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
