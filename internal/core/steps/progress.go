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
// there, and the licence is not freed.
func (s *State) Trying(c *card.Card) bool {
	for _, l := range c.Licences {
		st := s.Licences[Key{App: c.Name, Item: l.Name}]
		if l.Trial.Duration == 0 || st != nil && (st.Old == licence.Deactivated || st.New == licence.Active) {
			continue
		}
		for _, it := range s.AppItems(c.Name) {
			if it.Checked == nil || !it.Checked.Equal {
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

// Progress says how far an app is with a step. licences is how many licences
// its card has.
func (s *State) Progress(app string, step Step, licences int) Done {
	items := s.AppItems(app)
	count := func(total int, is func(i int) bool) Done {
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
	lics := s.LicencesOf(app)
	switch step {
	case Pack:
		if s.Packed[app] != nil {
			return Yes
		}
		for k := range s.Items {
			if k.App == app {
				return Partly
			}
		}
		return No
	case Deactivate:
		return s.licenceProgress(lics, licences, func(l *Licence) bool { return Free(l.Old) })
	case Activate:
		return s.licenceProgress(lics, licences, func(l *Licence) bool { return l.New == licence.Active })
	}
	if s.Packed[app] == nil {
		return No
	}
	switch step {
	case Unpack:
		return count(len(items), func(i int) bool { return items[i].Placed != nil })
	case Verify:
		d := count(len(items), func(i int) bool { return items[i].Checked != nil })
		for _, it := range items {
			if it.Checked != nil && !it.Checked.Equal {
				return Bad
			}
		}
		for _, l := range lics {
			switch r := l.Seen.Result(); {
			case r == Bad:
				return Bad
			case r != Yes && d == Yes:
				d = Partly
			}
		}
		return d
	}
	return No
}

func (s *State) licenceProgress(lics []*Licence, total int, is func(*Licence) bool) Done {
	if total == 0 {
		return Nothing
	}
	n := 0
	for _, l := range lics {
		if is(l) {
			n++
		}
	}
	switch n {
	case 0:
		return No
	case total:
		return Yes
	}
	return Partly
}

// Proven reports whether every item of an app was checked equal and every
// licence seen in its right state since it was last packed and placed.
func (s *State) Proven(app string, licences int) bool {
	return s.Packed[app] != nil && s.Progress(app, Verify, licences) == Yes &&
		s.Progress(app, Unpack, licences) == Yes
}
