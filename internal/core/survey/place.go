package survey

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Place is the location of an item on a computer, for one user or for all.
type Place struct {
	*item.Instance
	item.Parts
	Found    bool
	Silent   bool   // a network location that did not answer in time
	Why      string // why it is missing
	Broken   string // why it is unknown whether it is there: a damaged registry of its user
	SetAside string // how much of the item's data retire set aside here: allAside, partAside, or ""
}

// Places returns the locations of an app's items on the computer. A per-user item has one place for
// each user who has it, or one missing place if none has. An item that is not on a disk is not
// looked up yet. The caller closes them with Close.
func (l *Scanner) Places(ctx context.Context, c *card.Card) ([]Place, error) {
	out, err := l.places(ctx, c)
	if l.Run == nil || err != nil {
		return out, err
	}
	return slices.DeleteFunc(out, func(p Place) bool {
		if l.Run.Selected(p.Key) {
			return false
		}
		p.Close()
		l.NotChosen = append(l.NotChosen, p.Label())
		return true
	}), nil
}

func (l *Scanner) places(ctx context.Context, c *card.Card) ([]Place, error) {
	var out []Place
	for i := range c.Items {
		it := c.Items[i].On(string(l.Computer.System()))
		if it.Key == "" && it.Path.From == nil && it.Path.On(string(l.Computer.System())) == "" {
			out = append(out, l.place(c, it, nil))
			continue
		}
		var found, absent []Place
		for _, u := range item.Profiles(l.Computer, it) {
			all, err := l.many(ctx, l.place(c, it, u))
			if err != nil && u != nil && ctx.Err() == nil {
				p := l.place(c, it, u)
				p.Broken = fmt.Sprintf("%s: %v", p.Label(), err)
				found = append(found, p) // the other users' data can still be inspected
				continue
			}
			if err != nil {
				return nil, fault.Wrap(fault.Unreadable, err, "cannot inspect %s of %s", it.Name, c.Title)
			}
			for _, p := range all {
				if p.Found {
					found = append(found, p)
				} else {
					absent = append(absent, p)
				}
			}
			if ctx.Err() != nil {
				return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the survey was stopped")
			}
		}
		virtual, err := l.virtual(ctx, c, it)
		if err != nil {
			return nil, err
		}
		found = append(found, virtual...)
		switch {
		case len(found) > 0:
			out = append(out, found...)
		case len(absent) > 0:
			p := absent[0]
			p.User, p.Key.User = nil, ""
			out = append(out, p)
		default:
			out = append(out, l.place(c, it, nil))
		}
	}
	return out, nil
}

// virtual finds the users' own copies of data that all users share.
func (l *Scanner) virtual(ctx context.Context, c *card.Card, it *card.Item) (out []Place, err error) {
	if l.Computer.System() != machine.Windows || it.Kind.Info().Served() {
		return nil, nil
	}
	for _, u := range l.Computer.Users() {
		p := l.place(c, it, &u)
		if !p.Virtual() {
			return nil, nil
		}
		all, err := l.many(ctx, p)
		if err != nil {
			p.Broken = fmt.Sprintf("%s: %v", p.Label(), err)
			out = append(out, p)
			continue
		}
		for _, p := range all {
			if p.Found {
				out = append(out, p)
			}
		}
	}
	return out, ctx.Err()
}

// many finds a place, or the places that a pattern matches.
func (l *Scanner) many(ctx context.Context, p Place) ([]Place, error) {
	if p.Item.Each == "" {
		err := l.find(ctx, &p)
		return []Place{p}, err
	}
	which, leftOut, err := p.Many(ctx)
	if kind := fault.KindOf(err); kind == fault.Missing || kind == fault.BadCard {
		p.Why = err.Error()
		return []Place{p}, nil
	}
	if err != nil || len(which) == 0 {
		p.Why = "nothing there matches " + p.Item.Each
		return []Place{p}, err
	}
	var out []Place
	for i, name := range which {
		one := l.place(p.Card, p.Item, p.User)
		one.Key.Item += "@" + name
		if i == 0 && len(leftOut) > 0 {
			one.LeftOut = []string{fmt.Sprintf("%s modified earlier: %s", item.Plural(int64(len(leftOut)), "other"), strings.Join(leftOut, ", "))}
		}
		if err := l.find(ctx, &one); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

func (l *Scanner) place(c *card.Card, it *card.Item, u *machine.User) Place {
	o := &item.Instance{Host: l.Host, Run: l.Run, Key: steps.Key{App: c.Name, Item: it.Name}, Card: c, Item: it, User: u}
	if u != nil {
		o.Key.User = u.Name
	}
	return Place{Instance: o, Parts: l.Kinds.Open(o)}
}

// Present reports whether an app is on the computer, as far as its card shows without asking
// servers: it has a version, or any of its data is there. The version is "" if unknown.
func Present(ctx context.Context, l *Scanner, c *card.Card) (version string, is bool, err error) {
	v, err := l.Version(ctx, c)
	if err != nil || v.Value != "" {
		return v.Value, v.Value != "", err
	}
	places, err := l.Places(ctx, c)
	defer Close(places)
	tells := c.Version != nil && len(v.Withheld) == 0
	for _, p := range places {
		if p.Found || err != nil {
			return "", p.Found, err
		}
		tells = tells || p.Item.Key != "" || !p.Item.Path.IsZero()
	}
	return "", !tells, err
}

// HasData reports whether an app has data on the computer: a file, a key or a database that a card describes, and not only a
// folder, a service or an address. Servers are not asked. A folder that many apps share counts only if the app is installed.
func HasData(ctx context.Context, l *Scanner, c *card.Card, installed bool) (bool, error) {
	places, err := l.Places(ctx, c)
	defer Close(places)
	if err != nil {
		return false, err
	}
	for _, p := range places {
		if info := p.Item.Kind.Info(); !p.Found || info.Runs || info.Served() || len(p.Item.Include) > 0 && !installed {
			continue
		} else if !info.Folder {
			return true, nil
		}
		found := false
		err := p.Source(false).Walk(ctx, func(e tree.Entry, _ string) error {
			if e.Type == tree.Dir {
				return nil
			}
			found = true
			return io.EOF
		}, func(tree.Problem) {})
		if found {
			return true, nil
		}
		if err != nil && fault.KindOf(err) == fault.Stopped {
			return false, err
		}
	}
	return false, nil
}

// Staying returns the items of an app that stay where they are, with the old computer's addresses
// if known.
func (l *Scanner) Staying(c *card.Card, packed *steps.Packed) (out []Place) {
	for i := range c.Items {
		it := &c.Items[i]
		if it.Kind.Info().StaysAt == "" {
			continue
		}
		if packed != nil {
			for _, s := range packed.Stays {
				if s.Item == it.Name && s.Address != "" {
					pinned := *it
					pinned.Address, pinned.From = s.Address, nil
					it = &pinned
				}
			}
		}
		out = append(out, l.place(c, it, nil))
	}
	return out
}

// find looks for one place.
func (l *Scanner) find(ctx context.Context, p *Place) error {
	if p.Mover == nil {
		return nil
	}
	err := p.Mover.Locate(ctx)
	if kind := fault.KindOf(err); kind == fault.Missing || kind == fault.BadCard {
		p.Why = err.Error()
		return nil
	}
	if err != nil {
		return err
	}
	err = item.Watched(p.Path, l.Limit, func(func()) (err error) {
		p.Found, err = p.Exists(ctx, p.Path)
		return err
	})
	if errors.Is(err, item.ErrSilent) {
		p.Found, p.Silent = false, true
		return nil
	}
	return err
}

// Close closes the places.
func Close(places []Place) {
	for _, p := range places {
		p.Close()
	}
}
