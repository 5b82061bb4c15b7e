package survey

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Place is where an item lies on a computer, for one user or for all.
type Place struct {
	Key    steps.Key
	Item   *card.Item
	User   *machine.User
	Path   string // real path; "" where the card has none for this system
	Found  bool
	Why    string // why a server's database is not found
	AsFile bool   // a database that is moved as a file, and so must be closed
	Silent bool   // a network place that did not answer in time
}

// Label names the place for a person.
func (p Place) Label() string {
	if p.User != nil {
		return fmt.Sprintf("%s of %s", p.Item.Name, p.User.Name)
	}
	return p.Item.Name
}

// Source is how the place's files are walked.
func (p Place) Source(c machine.Computer) tree.Source { return SourceAt(c, p.Item, p.Path) }

// SourceAt is how an item's files are walked at a real path.
func SourceAt(c machine.Computer, it *card.Item, path string) tree.Source {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	return tree.Source{
		Root: path, Single: it.Kind.Single(), Include: it.Include, Skip: it.Skip,
		Fold: c.System() == machine.Windows,
	}
}

// Places returns where the items of an app are on the computer. A per-user
// item is there once for every user who has it, or once, not found, where
// none has.
func (l *Looker) Places(ctx context.Context, c *card.Card) ([]Place, error) {
	var out []Place
	for i := range c.Items {
		it := &c.Items[i]
		key := steps.Key{App: c.Name, Item: it.Name}
		path := it.Path.On(string(l.Computer.System()))
		if path == "" {
			out = append(out, Place{Key: key, Item: it})
			continue
		}
		var found, absent []Place
		for _, u := range machine.Profiles(l.Computer, path) {
			p := Place{Key: key, Item: it, User: u}
			if u != nil {
				p.Key.User = u.Name
			}
			if err := l.find(&p, path); err != nil {
				return nil, fault.Wrap(fault.Unreadable, err, "cannot look at %s of %s", it.Name, c.Title)
			}
			if p.Found {
				found = append(found, p)
			} else {
				absent = append(absent, p)
			}
			if ctx.Err() != nil {
				return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the survey was stopped")
			}
		}
		switch {
		case len(found) > 0:
			out = append(out, found...)
		case len(absent) > 0:
			p := absent[0]
			p.User, p.Key.User = nil, ""
			out = append(out, p)
		default:
			out = append(out, Place{Key: key, Item: it})
		}
	}
	return out, nil
}

// find looks for one place.
func (l *Looker) find(p *Place, path string) (err error) {
	if p.Path, err = l.Computer.Locate(path, p.User); err != nil {
		return err
	}
	err = l.watched(p.Path, func(func()) (err error) {
		p.Found, err = machine.Exists(p.Path)
		return err
	})
	if errors.Is(err, errSilent) {
		p.Found, p.Silent = false, true
		return nil
	}
	return err
}

// Inside reports whether a path is a folder or lies in it, links followed.
func Inside(path, outer string) bool {
	path, err := filepath.Abs(path)
	if real, rerr := filepath.EvalSymlinks(path); rerr == nil {
		path = real
	}
	if real, rerr := filepath.EvalSymlinks(outer); rerr == nil {
		outer = real
	}
	rel, rerr := filepath.Rel(outer, path)
	return err == nil && rerr == nil && filepath.IsLocal(rel)
}
