package tree

import (
	"fmt"
	"os"

	"movekit/internal/core/filemeta"
)

// Belonging says who owns entries on the computer where they are placed.
type Belonging struct {
	Of       func(e Entry) (filemeta.Owner, bool) // false leaves the entry with the user who runs the program
	Accounts filemeta.Accounts
	IDs      filemeta.IDs // for a Windows computer; else nil
}

// of returns the owner of an entry; b may be nil.
func (b *Belonging) of(e Entry) (o filemeta.Owner, known bool) {
	if b == nil || b.Of == nil {
		return o, false
	}
	return b.Of(e)
}

// wanted returns the metadata for an entry; b may be nil.
func (b *Belonging) wanted(e Entry) filemeta.Wanted {
	g := filemeta.Wanted{Path: e.Path, Mode: e.Mode, ModTime: e.ModTime, Metadata: e.Metadata}
	if b != nil {
		g.Accounts, g.IDs = b.Accounts, b.IDs
	}
	if o, known := b.of(e); known {
		g.To = &o
	}
	return g
}

// ApplyMetadata sets the owner, permissions, metadata and time of an open file. It returns
// descriptions of the properties that could not be set.
func ApplyMetadata(f *os.File, e Entry, b *Belonging) (unkept []string, err error) {
	return filemeta.Apply(f, b.wanted(e))
}

// Differs returns how an entry's metadata differs, or "".
func (c Comparing) Differs(want, have Entry) string {
	o, known := c.Belongs.of(want)
	if known && o != have.owner {
		a := c.Belongs.Accounts
		return fmt.Sprintf("belongs to %s, and should to %s", a.User(have.owner.UID)+":"+a.Group(have.owner.GID), a.User(o.UID)+":"+a.Group(o.GID))
	}
	what := ""
	if c.Attr {
		what = filemeta.Differ(want.Metadata, have.Metadata, c.Belongs != nil && c.Belongs.IDs != nil)
	}
	if what == "" && (c.Modes || c.Attr) && want.Type != Link {
		what = filemeta.DifferXattr(want.Metadata, have.Metadata)
	}
	return what
}
