package item

import (
	"fmt"
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

// maxParents limits the folders above an item whose metadata is sealed.
const maxParents = 16

// Parents returns the folders above the item, from the nearest to the home of a user or the volume,
// which are not included. They get the same owner and permissions where they are created.
func (o *Instance) Parents() (out []tree.Entry, err error) {
	for dir := filepath.Dir(o.Path); len(out) < maxParents && dir != filepath.Dir(dir) && dir != o.Computer.Root(); dir = filepath.Dir(dir) {
		if slices.ContainsFunc(o.Computer.Users(), func(u machine.User) bool { return u.Home == dir }) {
			break
		}
		e, err := o.MetadataOf(dir)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// MissingParents returns the folders above a path that do not exist, the nearest first.
func MissingParents(path string) (missing []string) {
	for at := filepath.Dir(path); ; at = filepath.Dir(at) {
		if _, err := os.Stat(at); err == nil || filepath.Dir(at) == at {
			return missing
		}
		missing = append(missing, at)
	}
}

// RemoveParents removes the n nearest folders above a path, as far as they are empty.
func RemoveParents(path string, n int) {
	for range min(n, maxParents) {
		if path = filepath.Dir(path); os.Remove(path) != nil {
			return
		}
	}
}

// MakeParent creates the folder that path is in. A new folder gets the owner and permissions of the
// sealed one, if it is the nearest or has its name. Another new folder in a profile gets the profile's
// owner.
func (o *Instance) MakeParent(path string) error {
	missing := MissingParents(path)
	for i := len(missing) - 1; i >= 0; i-- {
		dir := missing[i]
		err := os.Mkdir(dir, 0o700)
		if os.IsExist(err) {
			continue
		}
		if err == nil {
			err = o.likeParent(dir, i)
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", dir)
		}
	}
	return nil
}

// likeParent gives a new folder its owner and permissions. It is the nth folder above the item, from 0.
func (o *Instance) likeParent(dir string, n int) error {
	if o.Run.Manifest.Old.System == o.Computer.System() && n < len(o.InKit.Sealed.Parents) {
		if e := o.InKit.Sealed.Parents[n]; n == 0 || strings.EqualFold(e.Path, filepath.Base(dir)) {
			f, err := os.Open(dir)
			if err != nil {
				return err
			}
			defer f.Close()
			e.Path = dir
			_, err = tree.ApplyMetadata(f, e, o.OwnersToSet())
			return err
		}
	}
	if mayGive() && o.Computer.Accounts() != nil {
		if home, inProfile := o.profileOf(dir); inProfile {
			if err := os.Chown(dir, home.UID, home.GID); err != nil {
				return err
			}
		}
	}
	return os.Chmod(dir, 0o755)
}

// CheckAccess adds to out if the user of the item cannot use it, or if others can read it who could not
// on the old computer. It reads the permissions of the folders above the item.
func (o *Instance) CheckAccess(out *steps.Checked) error {
	a, above := o.Computer.Accounts(), o.InKit.Sealed.Parents
	owner, known := filemeta.OwnerOf(o.Path)
	if a == nil || !known || len(above) == 0 || o.Run.Manifest.Old.System != o.Computer.System() {
		return nil
	}
	now, err := o.Parents()
	if err != nil || len(now) == 0 {
		return err
	}
	nearest := filepath.Dir(o.Path)
	for dir, i := nearest, 0; i < len(now); dir, i = filepath.Dir(dir), i+1 {
		if may(a, owner, now[i], 1) == no {
			out.Differs(fmt.Sprintf("its owner %s cannot open the folder %s, which belongs to %s (%04o)", a.User(owner.UID), dir, now[i].Owner, filemeta.ModeOf(now[i].Mode)))
		}
	}
	info, err := os.Stat(o.Path)
	if err != nil {
		return err
	}
	was, _ := o.userHere(a, above[0].Owner)
	if wrote := !info.IsDir() && was == owner.UID && above[0].Mode&0o200 != 0; wrote && may(a, owner, now[0], 2) == no {
		out.Differs(fmt.Sprintf("its owner %s could write in the folder %s on the old computer, and cannot here: it belongs to %s (%04o)", a.User(owner.UID), nearest, now[0].Owner, filemeta.ModeOf(now[0].Mode)))
	}
	if info.Mode()&0o004 != 0 && !open(above) && open(now) {
		out.Differs("all users of this computer can read it, and on the old computer they could not: a folder above it was closed to them")
	}
	return nil
}

// open reports whether all users can reach what is in the folders.
func open(above []tree.Entry) bool {
	for _, e := range above {
		if e.Mode&0o001 == 0 {
			return false
		}
	}
	return true
}

// access is what is known of a permission.
type access int

const (
	unknown access = iota
	no
	yes
)

// may returns whether a user has a permission for a folder: 1 to enter it, 2 to write. It is unknown if
// an access list or another group of the user can give it.
func may(a *machine.Accounts, who filemeta.Owner, e tree.Entry, bit uint32) access {
	uid, known := a.UID(e.Owner)
	mode := filemeta.ModeOf(e.Mode)
	granted := func(has bool) access {
		if has {
			return yes
		}
		return no
	}
	switch {
	case who.UID == 0:
		return yes
	case !known:
		return unknown
	case uid == who.UID:
		return granted(mode>>6&bit != 0)
	case len(e.Xattr) > 0:
		return unknown
	}
	if gid, known := a.GID(e.Group); !known || gid == who.GID {
		return granted(mode>>3&bit != 0)
	}
	if mode>>3&bit != 0 && mode&bit == 0 {
		return unknown
	}
	return granted(mode&bit != 0)
}
