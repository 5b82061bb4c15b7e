package move

import (
	"context"
	"os"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// ActionType stands for typing what is on a label, and not on the computer.
const ActionType licence.Action = "type"

// complete asks a person for what of a licence is not on the computer: its
// serial, its code or name, and the passphrase of its files. What is sealed
// already is not asked for again.
func (j *Job) complete(ctx context.Context, c *card.Card, l card.Licence, ls *survey.Licence, places []survey.Place) error {
	key := steps.Key{App: c.Name, Item: l.Name}
	if st := j.State().Licences[key]; st != nil && st.Sealed != nil {
		return nil
	}
	if l.Method == card.MethodFile {
		return j.unlockFiles(ctx, c, l, ls, places)
	}
	if !ls.Typed {
		return nil
	}
	name := map[card.Method]string{card.MethodDesk: "activation code", card.MethodKey: "registered name"}[l.Method]
	fields := []struct {
		to    *string
		what  string
		wrong func(string) string
	}{{&ls.Secrets.Serial, "serial", licence.FormOf(&l).Wrong}, {&ls.Secrets.Code, name, func(string) string { return "" }}}
	of := 0
	for _, f := range fields {
		if *f.to == "" {
			of++
		}
	}
	n := 0
	for _, f := range fields {
		if *f.to != "" {
			continue
		}
		n++
		said, err := j.typed(ctx, Guided{Key: key, App: c.Title, Action: ActionType, Step: n, Of: of, Do: "It is not on " + j.Computer.Name() + ". See: " + l.Typed, Ask: "The " + f.what}, f.wrong)
		if err != nil {
			return err
		}
		*f.to = said
	}
	return nil
}

// typed asks until what is typed looks right, three times at most.
func (j *Job) typed(ctx context.Context, g Guided, wrong func(string) string) (string, error) {
	if j.Person == nil {
		return "", fault.New(fault.Waits, "%s of the licence %s of %s is typed by a person, and nobody can be asked here", g.Ask, g.Key.Item, g.App)
	}
	const tries = 3
	for n := 1; ; n++ {
		reply, err := j.Person.Guide(ctx, g)
		if err != nil {
			return "", err
		}
		bad := wrong(reply.Answer)
		if reply.Answer == "" {
			bad = "nothing was typed"
		}
		if bad == "" {
			return reply.Answer, nil
		}
		err = fault.New(fault.Waits, "%s of the licence %s of %s looks mistyped: %s", g.Ask, g.Key.Item, g.App, bad)
		if n == tries {
			return "", err
		}
		j.notify(Event{App: g.Key.App, Item: g.Key.Item, What: err.Error()})
	}
}

// unlockFiles asks for the passphrase of a licence's files, where they have
// one. Without it they move all the same, and are compared as they are.
func (j *Job) unlockFiles(ctx context.Context, c *card.Card, l card.Licence, ls *survey.Licence, places []survey.Place) error {
	var locked [][]byte
	for _, p := range places {
		if !p.Found || !slices.Contains(l.Items, p.Item.Name) {
			continue
		}
		data, err := os.ReadFile(p.Path)
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read %s", p.Path)
		}
		if licence.ReadContents(data, "").Locked {
			locked = append(locked, data)
		}
	}
	if len(locked) == 0 || j.Person == nil {
		return nil
	}
	said, err := j.typed(ctx, Guided{Key: steps.Key{App: c.Name, Item: l.Name}, App: c.Title, Action: ActionType, Step: 1, Of: 1, Secret: true,
		Do: "The licence's files are encrypted. Their passphrase travels sealed, and proves on the new computer that the key is the same.", Ask: "The passphrase"},
		func(p string) string {
			for _, data := range locked {
				if licence.ReadContents(data, p).Locked {
					return "it does not open them"
				}
			}
			return ""
		})
	ls.Secrets.Passphrase = said
	return err
}
