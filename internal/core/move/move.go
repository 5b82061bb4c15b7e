// Package move carries out the steps of a move, one file per step: the checks, the gates, the work
// and the journal entries, in order. Packages item and holder move single items and licences.
package move

import (
	"context"
	"maps"
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
	"movekit/internal/core/machine"
	"movekit/internal/core/place"
	"movekit/internal/core/ready"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Move is one run of a step, with its options.
type Move struct {
	*run.Run
	Kinds      item.Table
	Choices    item.Choices
	Exceptions holder.Exceptions
	Policies   map[string]tree.Policy              // policies for existing data, by app and by item address; "" is for all. If none applies, the user is asked
	Asks       func(*card.Licence) licence.Service // replaces the cards' licence desks; nil means the cards' own
	Since      survey.Since                        // how thoroughly to check for changes since the pack
	StartAgain bool                                // pack starts services and schedules again
	KeepPaths  bool                                // do not update paths in settings
	KeepStates int                                 // number of states of a safety copy that pack keeps; 0 means as before
	FromState  *int                                // steps.Copy.Line of the state that unpack uses; nil means the one in use
	Pause      time.Duration                       // wait before asking an unreachable service again; 0 means the default

	late *late
}

// New prepares a step.
func New(r *run.Run) *Move { return &Move{Run: r, Kinds: kinds.All, Since: survey.Quick} }

// Licences returns the session for the licences of this run.
func (m *Move) Licences() *holder.Session {
	return &holder.Session{Run: m.Run, Exceptions: m.Exceptions, Kinds: m.Kinds, Choices: m.choices(), Asks: m.Asks, Pause: m.Pause}
}

// choices returns the destinations that the user chose, now or earlier. They apply to the new
// computer only.
func (m *Move) choices() item.Choices {
	if m.Side() == steps.OldSide && !m.Manifest.Keep {
		return item.Choices{}
	}
	before, _ := m.Trusted()
	if m.ReplaceReason != "" && !m.Self().Is(m.State.New) {
		before = steps.Chosen{} // those were for the computer that broke
	}
	return item.Choices{Chosen: before.With(m.Choices.Chosen), RunAsMe: m.Choices.RunAsMe}
}

// recordChoices records this run's choices for all later steps.
func (m *Move) recordChoices() error {
	m.ConfirmChoices(m.Choices.Chosen)
	if m.State.Chosen.With(m.Choices.Chosen).Same(m.State.Chosen) {
		return nil
	}
	return m.Record(journal.EventChosen, steps.Key{}, m.Choices.Chosen)
}

// Redirect maps drives that only the old computer has to the folders that the user chose.
func (m *Move) Redirect() error {
	m.ConfirmChoices(m.Choices.Chosen)
	for letter, folder := range m.choices().Drives {
		if _, err := m.Computer.SetDrive(letter, folder); err != nil {
			return err
		}
	}
	return nil
}

// checker returns the checker of the new computer.
func (m *Move) checker() *ready.Checker {
	return &ready.Checker{Run: m.Run, Kinds: m.Kinds, Choices: m.choices(), Licences: m.Licences(), Placer: m.placer()}
}

// Ready checks the new computer before an unpack, and records the user's choices.
func (m *Move) Ready(ctx context.Context) (*ready.Readiness, error) {
	r, err := m.checker().Ready(ctx)
	if err == nil && m.Kit.Unlocked() && m.Side() == steps.NewSide && !slices.ContainsFunc(slices.Collect(maps.Values(m.Choices.Users)), func(name string) bool { return machine.FindUser(m.Computer, name) == nil }) {
		err = m.recordChoices()
	}
	return r, err
}

// scanner returns a scanner of this computer for an app in the kit.
func (m *Move) scanner(c *card.Card, estimate bool) *survey.Scanner {
	return survey.ScannerOf(m.Run, m.Kinds, c, estimate)
}

// running returns the running programs of an app.
func (m *Move) running(ctx context.Context, c *card.Card) ([]string, error) {
	return m.scanner(c, false).Running(ctx, c)
}

// targets returns the items of an app with their destinations here, and the missing users. Any
// other item without a destination is an error.
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

// kitFacts inspects the kit before a licence changes. If the app's sealed data is still needed, it
// is verified too.
func (m *Move) kitFacts(ctx context.Context, c *card.Card, needed bool) (*steps.KitFacts, error) {
	apps := []string{""} // no app: only the kit's own files
	if needed {
		apps = append(apps, c.Name)
		m.Report(run.Event{App: c.Name, What: "verifying the sealed data"})
	}
	damage, err := m.Damage(ctx, apps, nil)
	if err != nil {
		return nil, err
	}
	f := &steps.KitFacts{}
	for _, d := range damage {
		if d.App == c.Name {
			f.Unsealed = append(f.Unsealed, strings.TrimPrefix(d.String(), kit.SealedDir+"/"+c.Name+"/"))
		} else {
			f.Damage = append(f.Damage, d.String())
		}
	}
	return f, nil
}

// placer returns a placer with the options of this run.
func (m *Move) placer() *place.Placer {
	return &place.Placer{Run: m.Run, Kinds: m.Kinds, Policies: m.Policies, Choices: m.choices(), Undamaged: m.undamaged}
}

// stays returns the items of an app that stay where they are, as the old computer had them.
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
		o := &item.Instance{Host: m.ForApp(c), Run: m.Run, Item: &c.Items[i], OldAddress: s.Address}
		o.Key.App, o.Key.Item = c.Name, s.Item
		out = append(out, item.Target{Instance: o, Parts: m.Kinds.Open(o)})
	}
	return out
}

// reportTotal reports the total size of the sealed items that a step handles.
func (m *Move) reportTotal(about func(*steps.Item) bool) {
	cards, err := m.SelectedCards()
	if err != nil {
		return // the step itself will report it
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
