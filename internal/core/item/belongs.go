package item

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Belonging says to whom what is in the item belongs on this computer: to the user of
// the same name, or who takes over for that one; what lies in a profile to whose
// profile it is, where nobody of that name is here. It is nil where files have no such
// owners.
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

// hasIDs reports whether this is a Windows computer that runs: the access lists of its
// disk alone name nobody here.
func (o *Instance) hasIDs() bool {
	return o.Computer.System() == machine.Windows && filemeta.HasAttr && o.Computer.Root() == ""
}

// ids are the security ids of this computer's users, named as the old computer has them.
type ids struct{ *Instance }

// oldName is the user of the old computer whom a user here stands for.
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

// Names are those of users, by id.
func (i ids) Names() map[string]string {
	out := map[string]string{}
	for _, u := range i.Computer.Users() {
		if u.SID() != "" {
			out[u.SID()] = i.oldName(u)
		}
	}
	return out
}

// ID is that of who is, or stands for, a user of the old computer.
func (i ids) ID(user string) (string, bool) {
	for id, name := range i.Names() {
		if strings.EqualFold(name, user) {
			return id, true
		}
	}
	return "", false
}

// userHere is the number of who is, or stands for, a user of the old computer.
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

// profileOf is to whom the profile belongs that a path lies in.
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

// Strangers are the users to whom something in the item belongs, and who are not here.
func (o *Instance) Strangers() (out []string) {
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

// mayGive reports whether this program may give files to others.
func mayGive() bool { return os.Geteuid() == 0 }

// Giving is to whom what is placed is given; nil where this program may not do that.
func (o *Instance) Giving() *tree.Belonging {
	if !mayGive() && o.Computer.Accounts() != nil {
		return nil
	}
	return o.Belonging()
}

// Kept says what of the marks of an item's files is not kept here, for a person.
func (o *Instance) Kept(unkept []string, count int) (notes []string) {
	if others := slices.DeleteFunc(slices.Clone(o.InKit.Sealed.Owners), func(n string) bool {
		uid, known := -1, false
		if a := o.Computer.Accounts(); a != nil {
			uid, known = o.userHere(a, n)
		}
		return known && uid == os.Geteuid()
	}); len(others) > 0 && o.Computer.Accounts() != nil && !mayGive() {
		notes = append(notes, "its files belong to you and not to "+strings.Join(others, ", ")+": only an administrator can give them away")
	}
	notes = append(notes, unkept...)
	if more := count - len(unkept); more > 0 {
		notes = append(notes, Plural(int64(more), "mark")+" more")
	}
	return notes
}

// MakeParent makes the folder that a path lies in. What is missing of a profile
// belongs to whose profile it is.
func (o *Instance) MakeParent(path string) error {
	var missing []string
	for at := filepath.Dir(path); ; at = filepath.Dir(at) {
		if _, err := os.Stat(at); err == nil || filepath.Dir(at) == at {
			break
		}
		missing = append(missing, at)
	}
	slices.Reverse(missing)
	for _, dir := range missing {
		err := os.Mkdir(dir, 0o755)
		if err == nil && mayGive() && o.Computer.Accounts() != nil {
			if home, inProfile := o.profileOf(dir); inProfile {
				err = os.Chown(dir, home.UID, home.GID)
			}
		}
		if err != nil && !os.IsExist(err) {
			return fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", dir)
		}
	}
	return nil
}

// Marked is how the item's files are walked where their marks matter.
func (o *Instance) Marked(s tree.Source) tree.Source {
	s.Marked = true
	if a := o.Computer.Accounts(); a != nil {
		s.Accounts = a
	}
	if o.hasIDs() {
		s.IDs = ids{o}
	}
	return s
}

// Comparing is how what is here is held against what is sealed: permissions and owners
// where both computers have them, and attributes where both do.
func (o *Instance) Comparing() tree.Comparing {
	from, here := o.Run.Manifest.Old.System, o.Computer.System()
	c := tree.Comparing{Modes: from == here && here != machine.Windows, Attr: from == machine.Windows && here == machine.Windows && filemeta.HasAttr}
	c.Lenient = o.Lenient()
	if c.Modes || c.Attr {
		c.Belongs = o.Belonging()
	}
	return c
}

// Lenient is the system of this computer where the kit was made for another, so that nobody
// looked at whether this one takes the names; else "".
func (o *Instance) Lenient() string {
	if here := o.Computer.System(); here != o.Run.Manifest.New.System {
		return string(here)
	}
	return ""
}

// MarksOf are the marks of one file, and its permissions.
func (o *Instance) MarksOf(path string) (e tree.Entry, err error) {
	err = o.Marked(tree.Source{Root: path, Single: true}).Walk(context.Background(), func(is tree.Entry, _ string) error {
		e = is
		return nil
	}, nil)
	return e, err
}

// CompareMarks adds in which marks a file here is not what was sealed.
func (o *Instance) CompareMarks(out *steps.Checked) error {
	what, err := o.MarksDiffer()
	if err == nil && what != "" {
		out.Differs("the file " + what)
	}
	return err
}

// MarksDiffer says in which marks the file here is not what was sealed, or "".
func (o *Instance) MarksDiffer() (string, error) {
	have, err := o.MarksOf(o.Path)
	if err != nil {
		return "", err
	}
	s := o.InKit.Sealed
	return o.Comparing().Differs(tree.Entry{Type: tree.File, Path: have.Path, Mode: have.Mode, Metadata: s.Marks}, have), nil
}
