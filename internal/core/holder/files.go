package holder

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// files is a licence that lies in files, which travel as items.
type files struct{ person }

// day is how a day is written.
const day = "2 Jan 2006"

// here are the places of the licence's items on this computer.
func (f files) here(ctx context.Context) ([]item.Target, error) {
	all, _, err := f.Kinds.Targets(ctx, f.Run, f.App, f.Choices)
	if err != nil {
		return nil, err
	}
	out := slices.DeleteFunc(all, func(t item.Target) bool { return !slices.Contains(f.Card.Items, t.Card.Name) })
	if len(out) == 0 {
		return nil, fault.New(fault.Missing, "the files of the licence %s of %s are not in the kit", f.Card.Name, f.App.Title)
	}
	return out, nil
}

// Remains is true: they are there to be set aside.
func (files) Remains() bool { return true }

// LostSteps has somebody answer for the old computer's disk.
func (f files) LostSteps() *card.Change {
	return &card.Change{Steps: []card.Guide{{Do: "The licence's files are lost with " + f.Manifest.Old.Name + ". Should its disk ever be used again, delete them there first.", Ask: "Who answers for that?"}}}
}

// See tells the state from the files that are here. The new computer has the
// licence when all are the ones that were sealed and it was taken up with them;
// the old one, as long as any is there.
func (f files) See(ctx context.Context, a *licence.Answer) error {
	all, err := f.here(ctx)
	if err != nil {
		return err
	}
	active, err := f.holds(ctx, all)
	if err != nil {
		return err
	}
	shows(a, active && (f.Side() == steps.OldSide || a.State.Held()))
	if a.State != licence.Active {
		return nil
	}
	switch held := f.held(all); {
	case unopened(held):
		a.State = licence.Unknown
	case f.expired(held) != "":
		a.State = licence.Expired
	}
	return nil
}

// unopened reports whether files are encrypted, and show no certificate: whether it
// holds is not known then.
func unopened(held []licence.Contents) (locked bool) {
	for _, h := range held {
		if h.Certificate != nil {
			return false
		}
		locked = locked || h.Locked
	}
	return locked
}

// holds reports whether this computer has the licence by its files.
func (f files) holds(ctx context.Context, all []item.Target) (bool, error) {
	here, same := 0, 0
	for _, t := range all {
		there, err := t.Exists(ctx, t.Path)
		if err != nil {
			return false, err
		}
		if there {
			here++
		}
		if there && f.Side() == steps.NewSide {
			if there, err = t.Mover.Same(ctx, t.Path); err != nil {
				return false, err
			}
			if there {
				same++
			}
		}
	}
	switch {
	case f.Side() == steps.OldSide:
		return here > 0, nil
	case f.Card.Bound: // the old one's do not count, nor does what holds nothing
		return here == len(all) && same < here && !slices.ContainsFunc(all, func(t item.Target) bool { return blank(t.Path) }), nil
	}
	return same == len(all), nil
}

// blank reports whether a file holds nothing that could be a licence.
func blank(path string) bool {
	data, err := os.ReadFile(path)
	return err != nil || len(bytes.Trim(data, " \t\r\n\x00\ufeff")) == 0
}

// contents reads what a file on this computer holds, or nothing.
func (f files) contents(path string) licence.Contents {
	data, err := os.ReadFile(path)
	if err != nil {
		return licence.Contents{}
	}
	return licence.ReadContents(data, f.Secrets.Passphrase)
}

// held is what the files hold.
func (f files) held(all []item.Target) (out []licence.Contents) {
	for _, t := range all {
		out = append(out, f.contents(t.Path))
	}
	return out
}

// expired says when a certificate among files has run out, or "".
func (f files) expired(held []licence.Contents) string {
	for _, h := range held {
		if c := h.Certificate; c != nil && c.Until.Before(f.Now()) {
			return c.Until.Format(day)
		}
	}
	return ""
}

// By says what is in the files.
func (f files) By(ctx context.Context) string {
	all, err := f.here(ctx)
	if err != nil {
		return "the journal"
	}
	for _, t := range all {
		held := f.contents(t.Path)
		if c := held.Certificate; c != nil {
			return fmt.Sprintf("the certificate of %s (key %s…, valid until %s)", c.Subject, c.Key[:16], c.Until.Format(day))
		}
		if held.Locked {
			return "the files on " + f.Computer.Name() + ", whose passphrase is not in the kit"
		}
	}
	return "the files on " + f.Computer.Name()
}

// Change frees the licence by setting its files aside, and takes it up by seeing
// that they are in place and belong together.
func (f files) Change(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	all, err := f.here(ctx)
	if err != nil {
		return err
	}
	if action == licence.Deactivate {
		for _, t := range all {
			if there, err := machine.Exists(t.Path); err != nil || !there {
				continue
			}
			aside := tree.AsideName(t.Path, f.Now())
			if err := os.Rename(t.Path, aside); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot set %s aside", t.Path)
			}
			f.aside = append(f.aside, aside)
		}
		f.became(action, r.From, a)
		return nil
	}
	has, err := f.holds(ctx, all)
	if err != nil {
		return err
	}
	if !has {
		return f.notHere(all)
	}
	held := f.held(all)
	if until := f.expired(held); until != "" {
		return fault.New(fault.DeskRefused, "the certificate of the licence %s ran out on %s, and the clock here says %s: a new one must be asked for", f.Card.Name, until, f.Now().Format(day))
	}
	if err := f.paired(held); err != nil {
		return err
	}
	f.became(action, r.From, a)
	return nil
}

// notHere says why a file licence is not taken up here.
func (f files) notHere(all []item.Target) error {
	for _, t := range all {
		if there, err := machine.Exists(t.Path); err != nil || !there || !f.Card.Bound {
			return &fault.Error{Kind: fault.NotPlaced, App: f.App.Name, What: fmt.Sprintf("%s of %s is not in place here", t.Card.Name, f.App.Title)}
		}
	}
	return &fault.Error{Kind: fault.Issue, App: f.App.Name, What: fmt.Sprintf("the licence %s of %s holds for %s only, and its maker must issue another for %s, which comes in the place of %s",
		f.Card.Name, f.App.Title, f.Manifest.Old.Name, f.Computer.Name(), machine.Spoken(f.Computer, all[0].Path))}
}

// paired sees that a certificate and a private key among files belong together.
func (f files) paired(held []licence.Contents) error {
	cert, key := "", ""
	for _, h := range held {
		if h.Certificate != nil {
			cert = h.Certificate.Key
		}
		if h.Key != "" {
			key = h.Key
		}
	}
	if cert != "" && key != "" && cert != key {
		return fault.New(fault.DeskRefused, "the certificate and the private key here do not belong together")
	}
	return nil
}

// IssuedAgain reports whether an item is the file of a licence that was issued
// again for this computer, and so is not to be what it was.
func (r *Room) IssuedAgain(ctx context.Context, c *card.Card, t item.Target) (bool, error) {
	for i := range c.Licences {
		l := &c.Licences[i]
		if l.Bound && slices.Contains(l.Items, t.Card.Name) && r.State.Licence(c.Name, l.Name).New == licence.Active {
			same, err := t.Mover.Same(ctx, t.Path)
			return !same, err
		}
	}
	return false, nil
}

// StillHeld names the licences of an app that lie in files, and are not freed on
// the old computer.
func (r *Room) StillHeld(c *card.Card) (out []string) {
	if r.Manifest.Keep {
		return nil // a safety copy leaves licences alone
	}
	for _, l := range c.Licences {
		if len(l.Items) > 0 && !r.State.Freed(c.Name, l.Name) {
			out = append(out, l.Name)
		}
	}
	return out
}

// Complete asks for the passphrase of the files, where they have one. Without it
// they move all the same, and are compared as they are.
func (f files) Complete(ctx context.Context, s *licence.Secrets, paths []string) error {
	var locked [][]byte
	for _, p := range paths {
		data, err := os.ReadFile(p)
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read %s", p)
		}
		if licence.ReadContents(data, "").Locked {
			locked = append(locked, data)
		}
	}
	if len(locked) == 0 {
		return nil
	}
	said, err := f.typed(ctx, run.Guided{Key: f.Key, App: f.App.Title, Action: run.ActionType, Step: 1, Of: 1, Secret: true,
		Do: "The licence's files are encrypted. Their passphrase travels sealed, and proves on the new computer that the key is the same.", Ask: "The passphrase"},
		func(p string) string {
			for _, data := range locked {
				if licence.ReadContents(data, p).Locked {
					return "it does not open them"
				}
			}
			return ""
		})
	if run.IsNobody(err) {
		return nil
	}
	s.Passphrase = said
	return err
}
