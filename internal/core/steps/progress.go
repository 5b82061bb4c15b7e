package steps

import (
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// AppItems returns the items an app was packed with.
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

// SecondSeat reports whether a person took a second seat of a licence, and left
// the one on the old computer active.
func (s *State) SecondSeat(app, licence string) bool {
	return slices.ContainsFunc(s.Overrides, func(o Override) bool { return o.App == app && o.Second == licence && licence != "" })
}

// Trying reports whether an app that runs without its licence for a trial
// period is to be tried on the new computer first: its data is not proven
// there, and the licence is not deactivated.
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

// Waiting reports whether exports of an app are in place and not all taken in
// by a person.
func (s *State) Waiting(c *card.Card) bool {
	for _, it := range s.AppItems(c.Name) {
		if ci := c.Item(it.Key.Item); ci != nil && ci.Exports != nil && it.Placed != nil && int64(len(it.Ticked)) < it.Sealed.Files {
			return true
		}
	}
	return false
}

// Lost reports whether an app's licences were deactivated in the name of the old computer,
// which is gone.
func (s *State) Lost(app string) bool {
	return slices.ContainsFunc(s.Overrides, func(o Override) bool { return o.App == app && o.Gate == "old-computer" })
}

// Done says how far one app is with one step.
type Done string

// How far a step is.
const (
	No      Done = "-"    // not begun
	Partly  Done = "part" // begun
	Yes     Done = "done" // whole
	Nothing Done = "none" // the app has nothing for this step
	Bad     Done = "differs"
)

// Progress says how far an app is with a step.
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
		return s.ofLicences(c, func(st Standing) bool { return Free(st.Old) })
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
			return howMany(len(items), func(i int) bool { return items[i].Retired != nil || items[i].Skipped() })
		}
	}
	return No
}

// verified says how far an app is proven.
func (s *State) verified(c *card.Card, items []*Item) Done {
	done := howMany(len(items), func(i int) bool { return items[i].Checked != nil })
	if o := s.Opened[c.Name]; o != nil && !o.Good || slices.ContainsFunc(items, func(it *Item) bool { return it.Checked != nil && !it.Checked.Good() }) {
		return Bad
	}
	for i := range c.Licences {
		if s.Keep {
			break // a safety copy leaves licences alone
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

// Proven reports whether every item of an app was checked equal and every
// licence seen in its right state since it was last packed and placed.
func (s *State) Proven(c *card.Card) bool {
	return s.Settled(c) && !slices.ContainsFunc(s.AppItems(c.Name), func(it *Item) bool { return it.Skipped() })
}

// Settled reports the same, but for items that a person had left as they were on the
// new computer.
func (s *State) Settled(c *card.Card) bool {
	return s.Progress(c, Verify) == Yes && s.Progress(c, Unpack) == Yes
}

// Skipped reports whether a person had what is on the new computer left as it was.
func (it *Item) Skipped() bool { return it.Checked != nil && it.Checked.Skipped }
