package steps

import (
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
)

// AppItems returns the items that an app was packed with.
func (s *State) AppItems(app string) []*Item {
	p := s.Packed[app]
	if p == nil {
		return nil
	}
	var out []*Item
	for _, k := range p.Items {
		if it := s.Items[k]; it != nil {
			out = append(out, it)
		}
	}
	return out
}

// SecondSeat reports whether the user activated a second seat on the new computer and left the other seat
// active.
func (s *State) SecondSeat(app, licence string) bool { return s.Licence(app, licence).Second }

// Trying reports whether an app in its trial period must be verified on the new computer before its
// licence is deactivated.
func (s *State) Trying(c *card.Card) bool {
	for _, l := range c.Licences {
		st := s.Licence(c.Name, l.Name)
		if l.Trial.Duration == 0 || st.Old == licence.Deactivated || st.New == licence.Active {
			continue
		}
		for _, it := range s.AppItems(c.Name) {
			if !it.Checked.Good() {
				return true
			}
		}
	}
	return false
}

// oldDone reports whether nothing is left to deactivate on the old computer, if a new one that broke had the licence.
func (s Standing) oldDone() bool {
	return s.Own == "" || s.Stays || CanActivateElsewhere(s.Own)
}

// Waiting reports whether exports of the app are in place and still have to be imported by hand.
func (s *State) Waiting(c *card.Card) bool {
	for _, it := range s.AppItems(c.Name) {
		if ci := c.Item(it.Key.Item); ci != nil && ci.Exports != nil && it.Placed != nil && int64(len(it.Ticked)) < it.Sealed.Files {
			return true
		}
	}
	return false
}

// Lost reports whether the app's licences were deactivated on behalf of a lost old computer.
func (s *State) Lost(app string) bool {
	return slices.ContainsFunc(s.Overrides, func(o Override) bool { return o.App == app && o.For == s.Old.ID })
}

// Holder returns the computer whose licences of an app a deactivation concerns: a new computer that broke, as long as
// it has one of them, else the old one.
func (s *State) Holder(app string) kit.Computer {
	for _, lic := range s.LicencesOf(app) {
		if lic.From.ID != s.Old.ID && !CanActivateElsewhere(lic.Old) {
			return lic.From
		}
	}
	return s.Old
}

// Done is the progress of one app with one step.
type Done string

// The values of Done.
const (
	No      Done = "-"    // not started
	Partly  Done = "part" // started
	Yes     Done = "done" // complete
	Nothing Done = "none" // the app has nothing for this step
	Bad     Done = "differs"
)

// Progress returns the progress of an app with a step.
func (s *State) Progress(c *card.Card, step Step) Done {
	items, packed := s.AppItems(c.Name), s.Packed[c.Name] != nil
	switch step {
	case Pack:
		switch {
		case packed:
			return Yes
		case slices.ContainsFunc(s.Order, func(k Key) bool { return k.App == c.Name }):
			return Partly
		}
	case Deactivate:
		return s.ofLicences(c, func(st Standing) bool {
			return (CanActivateElsewhere(st.Old) || st.Second && st.New.Held()) && st.oldDone()
		})
	case Activate:
		return s.ofLicences(c, func(st Standing) bool { return st.New == licence.Active })
	case Unpack:
		if packed {
			return howMany(len(items), func(i int) bool { return items[i].Placed != nil })
		}
	case Verify:
		if packed {
			return s.verified(c, items)
		}
	case Retire:
		if s.Lost(c.Name) {
			return Nothing
		}
		if packed {
			// Deactivate sets licence files aside. That alone is not a start.
			if data := slices.DeleteFunc(slices.Clone(items), func(it *Item) bool { return c.HoldsLicence(it.Key.Item) }); len(data) > 0 {
				items = data
			}
			return howMany(len(items), func(i int) bool { return items[i].Retired != nil || items[i].Skipped() })
		}
	}
	return No
}

// verified returns the progress of an app with verify.
func (s *State) verified(c *card.Card, items []*Item) Done {
	done := howMany(len(items), func(i int) bool { return items[i].Checked != nil })
	if o := s.Opened[c.Name]; o != nil && !o.Good || slices.ContainsFunc(items, func(it *Item) bool { return it.Checked != nil && !it.Checked.Good() }) {
		return Bad
	}
	for i := range c.Licences {
		if s.Keep {
			break // a safety copy does not change licences
		}
		switch p := s.Standing(c, &c.Licences[i], nil, s.Last).Proven; {
		case p == Bad:
			return Bad
		case p != Yes && done == Yes:
			done = Partly
		}
	}
	return done
}

func (s *State) ofLicences(c *card.Card, is func(Standing) bool) Done {
	return howMany(len(c.Licences), func(i int) bool { return is(s.Standing(c, &c.Licences[i], nil, s.Last)) })
}

func howMany(total int, is func(i int) bool) Done {
	n := 0
	for i := range total {
		if is(i) {
			n++
		}
	}
	switch {
	case total == 0:
		return Nothing
	case n == 0:
		return No
	case n < total:
		return Partly
	}
	return Yes
}

// Proven reports whether, since the last pack and unpack, every item was found the same and every
// licence was seen in the right state.
func (s *State) Proven(c *card.Card) bool {
	return s.Settled(c) && !slices.ContainsFunc(s.AppItems(c.Name), func(it *Item) bool { return it.Skipped() })
}

// Settled is like Proven, but ignores items whose existing data the user kept.
func (s *State) Settled(c *card.Card) bool {
	return s.Progress(c, Verify) == Yes && s.Progress(c, Unpack) == Yes
}

// Skipped reports whether the user kept the existing data on the new computer.
func (it *Item) Skipped() bool { return it.Checked != nil && it.Checked.Skipped }
