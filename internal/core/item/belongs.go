package item

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Belonging returns who owns the item's files on this computer: the user of the same name, or the
// user that the old one is mapped to. A file in a profile whose owner is unknown belongs to the
// owner of the profile. The result is nil if files have no such owners.
func (o *Instance) Belonging() *tree.Belonging {
	a := o.Computer.Accounts()
	switch {
	case a == nil && o.hasIDs():
		return &tree.Belonging{IDs: ids{o}}
	case a == nil:
		return nil
	}
	home, inProfile := o.profileOf(o.Path)
	return &tree.Belonging{Accounts: a, Of: func(e tree.Entry) (filemeta.Owner, bool) {
		uid, known := o.userHere(a, e.Owner)
		switch {
		case !known && inProfile:
			return home, true
		case !known:
			return filemeta.Owner{}, false
		}
		own, _ := a.PrimaryOf(uid)
		if gid, here := a.GID(e.Group); here && e.Group != e.Owner {
			own = gid
		}
		return filemeta.Owner{UID: uid, GID: own}, true
	}}
}

// hasIDs reports whether this is a running Windows computer. The access lists on a disk do not name
// its users.
func (o *Instance) hasIDs() bool {
	return o.Computer.System() == machine.Windows && filemeta.HasAttr && o.Computer.Root() == ""
}

// ids maps the security ids of this computer's users to the names that the old computer has for
// them.
type ids struct{ *Instance }

// oldName returns the old computer's user that a user here is mapped to.
func (i ids) oldName(u machine.User) string {
	if i.User != nil && i.User.Name == u.Name {
		return i.Key.User
	}
	for old, now := range i.Instance.UserMap {
		if strings.EqualFold(now, u.Name) {
			return old
		}
	}
	return u.Name
}

// Names returns the users' names by security id.
func (i ids) Names() map[string]string {
	out := map[string]string{}
	for _, u := range i.Computer.Users() {
		if u.SID() != "" {
			out[u.SID()] = i.oldName(u)
		}
	}
	return out
}

// ID returns the security id of the user that an old user is mapped to.
func (i ids) ID(user string) (string, bool) {
	for id, name := range i.Names() {
		if strings.EqualFold(name, user) {
			return id, true
		}
	}
	return "", false
}

// userHere returns the number of the user that an old user is mapped to.
func (o *Instance) userHere(a *machine.Accounts, name string) (uid int, known bool) {
	switch {
	case name == "":
		return 0, false
	case o.User != nil && name == o.Key.User:
		return a.UID(o.User.Name)
	case o.UserMap[name] != "":
		return a.UID(o.UserMap[name])
	}
	return a.UID(name)
}

// profileOf returns the owner of the profile that path is in.
func (o *Instance) profileOf(path string) (filemeta.Owner, bool) {
	home := ""
	for _, u := range o.Computer.Users() {
		if rel, err := filepath.Rel(u.Home, path); err == nil && filepath.IsLocal(rel) && len(u.Home) > len(home) {
			home = u.Home
		}
	}
	if home == "" {
		return filemeta.Owner{}, false
	}
	return filemeta.OwnerOf(home)
}

// UnmappedOwners returns the owners of the item's files that have no user here.
func (o *Instance) UnmappedOwners() (out []string) {
	a := o.Computer.Accounts()
	if a == nil || o.InKit == nil || !mayGive() {
		return nil
	}
	_, inProfile := o.profileOf(o.Path)
	for _, name := range o.InKit.Sealed.Owners {
		if _, known := o.userHere(a, name); !known && !inProfile {
			out = append(out, name)
		}
	}
	return out
}

// mayGive reports whether this process may change the owner of files.
func mayGive() bool { return os.Geteuid() == 0 }

// OwnersToSet returns the owners for placed files, or nil if this process may not set owners.
func (o *Instance) OwnersToSet() *tree.Belonging {
	if !mayGive() && o.Computer.Accounts() != nil {
		return nil
	}
	return o.Belonging()
}

// MetadataNotes returns notes on owners and file metadata that could not be restored.
func (o *Instance) MetadataNotes(unkept []string, count int) (notes []string) {
	if others := slices.DeleteFunc(slices.Clone(o.InKit.Sealed.Owners), func(n string) bool {
		uid, known := -1, false
		if a := o.Computer.Accounts(); a != nil {
			uid, known = o.userHere(a, n)
		}
		return known && uid == os.Geteuid()
	}); len(others) > 0 && o.Computer.Accounts() != nil && !mayGive() {
		notes = append(notes, "its files belong to you instead of "+strings.Join(others, ", ")+": only an administrator can change the owner")
	}
	notes = append(notes, unkept...)
	if more := count - len(unkept); more > 0 {
		notes = append(notes, Plural(int64(more), "mark")+" more")
	}
	return notes
}

// WithMetadata returns s with file metadata included in the walk.
func (o *Instance) WithMetadata(s tree.Source) tree.Source {
	s.Marked = true
	if a := o.Computer.Accounts(); a != nil {
		s.Accounts = a
	}
	if o.hasIDs() {
		s.IDs = ids{o}
	}
	return s
}

// Comparing says which file metadata to compare: permissions and owners if both computers have
// them, and attributes if both do.
func (o *Instance) Comparing() tree.Comparing {
	from, here := o.Run.Manifest.Old.System, o.Computer.System()
	c := tree.Comparing{Modes: from == here && here != machine.Windows, Attr: from == machine.Windows && here == machine.Windows && filemeta.HasAttr}
	c.Lenient = o.Lenient()
	if c.Modes || c.Attr {
		c.Belongs = o.Belonging()
	}
	return c
}

// Lenient returns the system of this computer if the kit was made for another one, so that pack did
// not check file names for it; else "".
func (o *Instance) Lenient() string {
	if here := o.Computer.System(); here != o.Run.Manifest.New.System {
		return filename.From(string(o.Run.Manifest.Old.System), string(here))
	}
	return ""
}

// MetadataOf returns the metadata and permissions of one file.
func (o *Instance) MetadataOf(path string) (e tree.Entry, err error) {
	err = o.WithMetadata(tree.Source{Root: path, Single: true}).Walk(context.Background(), func(is tree.Entry, _ string) error {
		e = is
		return nil
	}, nil)
	return e, err
}

// CompareMetadata adds the differences in a file's metadata to out.
func (o *Instance) CompareMetadata(out *steps.Checked) error {
	what, err := o.MetadataDiffers()
	if err == nil && what != "" {
		out.Differs("the file " + what)
	}
	return err
}

// MetadataDiffers returns how a file's metadata differs from the sealed metadata, or "".
func (o *Instance) MetadataDiffers() (string, error) {
	have, err := o.MetadataOf(o.Path)
	if err != nil {
		return "", err
	}
	s := o.InKit.Sealed
	return o.Comparing().Differs(tree.Entry{Type: tree.File, Path: have.Path, Mode: have.Mode, Metadata: s.Metadata}, have), nil
}
