// Package move is the order of the steps of a move, one file a step: what is
// looked at first, which gates are asked, what is done and what is recorded. How
// items and licences are moved is said in packages item and holder.
package move

import (
	"context"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Move is one run of a step, with all it takes.
type Move struct {
	*run.Run
	Kinds      item.Table
	Choices    item.Choices
	Exceptions holder.Exceptions
	Policies   map[string]tree.Policy              // what happens to what is in the way, by app and by address of an item; "" stands for all, and where nothing is said a person is asked
	Asks       func(*card.Licence) licence.Service // in place of the cards' desks; nil stands for those
	Since      survey.Since                        // how much is looked at of what became of what is sealed
	KeepPaths  bool                                // settings are left as they are
	Pause      time.Duration                       // before a service that is down is asked again; 0 stands for the usual
}

// New prepares a step.
func New(r *run.Run) *Move { return &Move{Run: r, Kinds: kinds.All, Since: survey.Quick} }

// Licences are what the licences are held by in this run.
func (m *Move) Licences() *holder.Session {
	return &holder.Session{Run: m.Run, Exceptions: m.Exceptions, Kinds: m.Kinds, Choices: m.choices(), Asks: m.Asks, Pause: m.Pause}
}

// say is what a person said of where things go, now or before. It is said of the new
// computer only.
func (m *Move) choices() item.Choices {
	if m.Side() == steps.OldSide && !m.Manifest.Keep {
		return item.Choices{}
	}
	before := m.State.Chosen
	if m.Instead != "" && !m.Self().Is(m.State.New) {
		before = steps.Chosen{} // it was said of the computer that broke
	}
	return item.Choices{Chosen: before.With(m.Choices.Chosen), RunAsMe: m.Choices.RunAsMe}
}

// settle records what a person says now, for all later steps.
func (m *Move) recordChoices() error {
	if m.State.Chosen.With(m.Choices.Chosen).Same(m.State.Chosen) {
		return nil
	}
	return m.Record(journal.EventChosen, steps.Key{}, m.Choices.Chosen)
}

// Redirect has the new computer find what was on drives that only the old one has, as was
// said before.
func (m *Move) Redirect() error {
	for letter, folder := range m.choices().Drives {
		if _, err := m.Computer.SetDrive(letter, folder); err != nil {
			return err
		}
	}
	return nil
}

// looker looks at this computer for an app of the kit.
func (m *Move) looker(c *card.Card, estimate bool) *survey.Scanner {
	return &survey.Scanner{Host: m.For(c), Run: m.Run, Kinds: m.Kinds, Options: item.Options{KitDir: m.Kit.Place(), Target: m.Manifest.New.System, Estimate: estimate}}
}

// running are an app's programs that run here.
func (m *Move) running(ctx context.Context, c *card.Card) ([]string, error) {
	return m.looker(c, false).Running(ctx, c)
}

// targets returns the items of an app with their places here, and the users who are not here. An item that has no
// place for another reason is an error.
func (m *Move) targets(ctx context.Context, c *card.Card) (out []item.Target, noUser []string, err error) {
	out, unplaced, err := m.Kinds.Targets(ctx, m.Run, c, m.choices())
	for _, u := range unplaced {
		if fault.KindOf(u.Err) == fault.NoUser {
			noUser = append(noUser, m.choices().UserHere(u.Key.User))
		} else if err == nil {
			item.Close(out)
			out, err = nil, u.Err
		}
	}
	return out, noUser, err
}

// kitFacts inspects the kit for a change of an app's licence. If the app's sealed data is still needed, it is read
// back too.
func (m *Move) kitFacts(ctx context.Context, c *card.Card, needed bool) (*steps.KitFacts, error) {
	apps := []string{""} // none: the kit's own files alone
	if needed {
		apps = append(apps, c.Name)
		m.Report(run.Event{App: c.Name, What: "reading back what is sealed"})
	}
	damage, err := m.damage(ctx, apps)
	if err != nil {
		return nil, err
	}
	f := &steps.KitFacts{}
	for _, d := range damage {
		if file, sealed := strings.CutPrefix(d, kit.SealedDir+"/"+c.Name+"/"); sealed {
			f.Unsealed = append(f.Unsealed, file)
		} else {
			f.Damage = append(f.Damage, d)
		}
	}
	return f, nil
}

// placer places items as this run says.
func (m *Move) placer() *place.Placer {
	return &place.Placer{Run: m.Run, Kinds: m.Kinds, Ways: m.Policies, Say: m.choices()}
}

// stays are the items of an app that stay where they are, as the old computer had
// them.
func (m *Move) stays(c *card.Card) (out []item.Target) {
	p := m.State.Packed[c.Name]
	if p == nil {
		return nil
	}
	for _, s := range p.Stays {
		i := slices.IndexFunc(c.Items, func(it card.Item) bool { return it.Name == s.Item })
		if i < 0 {
			continue
		}
		o := &item.Instance{Host: m.For(c), Run: m.Run, Item: &c.Items[i], OldAddress: s.Address}
		o.Key.App, o.Key.Item = c.Name, s.Item
		out = append(out, item.Target{Instance: o, Parts: m.Kinds.Open(o)})
	}
	return out
}

// tellAll tells how much is in the sealed items that a step is about.
func (m *Move) tellAll(about func(*steps.Item) bool) {
	cards, err := m.Chosen()
	if err != nil {
		return // the step itself will say so
	}
	var all run.Event
	for _, c := range cards {
		for _, it := range m.State.AppItems(c.Name) {
			if about(it) {
				all.All += it.Sealed.Bytes
			}
		}
	}
	m.Report(all)
}
