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
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// newFiles returns the method for a licence in files, which are moved as items.
func newFiles(h *Handle) method {
	f := files{h}
	return method{by: f.by, complete: f.complete, local: local{see: f.see, change: f.change, remains: true, lostSteps: func() *card.Change {
		return &card.Change{Steps: []card.Guide{{Do: "The licence's files are lost with " + h.lostName() + ". If its disk is ever used again, delete them there first.", Ask: "Who is responsible for that?"}}}
	}}}
}

type files struct{ *Handle }

// day is the format of a day.
const day = "2 Jan 2006"

// here returns the licence's items with their locations on this computer. The caller closes them.
func (f files) here(ctx context.Context) ([]item.Target, error) {
	all, unplaced, err := f.Kinds.Targets(ctx, f.Run, f.Card, f.Choices)
	if err != nil {
		return nil, err
	}
	ours := func(key steps.Key) bool {
		c := f.Card.Item(key.Item)
		return c != nil && slices.Contains(f.Licence.Items, c.Name)
	}
	for _, u := range unplaced {
		if ours(u.Key) && fault.KindOf(u.Err) != fault.NoUser {
			item.Close(all)
			return nil, u.Err
		}
	}
	out := slices.DeleteFunc(all, func(t item.Target) bool { return !ours(t.Key) })
	if len(out) == 0 {
		return nil, fault.New(fault.Missing, "the files of the licence %s of %s are not in the kit", f.Licence.Name, f.Card.Title)
	}
	return out, nil
}

// see reads the state from the files here. The new computer has the licence if all files match the
// sealed ones and it was activated with them. The old computer has it as long as any of the files
// exists.
func (f files) see(ctx context.Context, a *licence.Answer) error {
	all, err := f.here(ctx)
	if err != nil {
		return err
	}
	active, err := f.holds(ctx, all)
	if err != nil {
		return err
	}
	shows(a, active && (f.Side() == steps.OldSide || a.State.Held()))
	if a.State == licence.Active && f.expired(f.held(all)) != "" {
		a.State = licence.Expired
	}
	return nil
}

// holds reports whether this computer has the licence, judging by its files.
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
	case f.Licence.Bound: // files issued for the old computer do not count, nor do empty files
		return here == len(all) && same < here && !slices.ContainsFunc(all, func(t item.Target) bool { return blank(t.Path) }), nil
	}
	return same == len(all), nil
}

// blank reports whether a file is too empty to be a licence.
func blank(path string) bool {
	data, err := os.ReadFile(path)
	return err != nil || len(bytes.Trim(data, " \t\r\n\x00\ufeff")) == 0
}

// contents parses a file on this computer. It returns nothing if the file is unreadable.
func (f files) contents(path string) licence.Contents {
	data, err := os.ReadFile(path)
	if err != nil {
		return licence.Contents{}
	}
	return licence.ReadContents(data, f.Secrets.Passphrase)
}

// held returns the contents of the files.
func (f files) held(all []item.Target) (out []licence.Contents) {
	for _, t := range all {
		out = append(out, f.contents(t.Path))
	}
	return out
}

// expired returns when the licence's certificate expired, or "".
func (f files) expired(held []licence.Contents) string {
	if leaf, _ := licence.Leaf(held); leaf != nil && leaf.Until.Before(f.Now()) {
		return leaf.Until.Format(day)
	}
	return ""
}

// by returns a description of the files.
func (f files) by(ctx context.Context) string {
	all, err := f.here(ctx)
	if err != nil {
		return "the journal"
	}
	held := f.held(all)
	if c, _ := licence.Leaf(held); c != nil {
		return fmt.Sprintf("the certificate of %s (key %s…, valid until %s)", c.Subject, c.Key[:16], c.Until.Format(day))
	}
	if slices.ContainsFunc(held, func(c licence.Contents) bool { return c.Locked }) {
		return "the files on " + f.Computer.Name() + " (encrypted, and their passphrase is not in the kit)"
	}
	return "the files on " + f.Computer.Name()
}

// change deactivates the licence by setting its files aside. It activates the licence by checking
// that the files are in place and belong together.
func (f files) change(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	all, err := f.here(ctx)
	if err != nil {
		return err
	}
	if action == licence.Deactivate {
		// What the activation would refuse must not be set aside first.
		if err := f.paired(f.held(all)); err != nil {
			return err
		}
		for _, t := range all {
			if err := f.setAside(ctx, t); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "could not set %s aside", t.Path)
			}
		}
		f.became(action, r.From, a)
		return nil
	}
	if f.Side() == steps.OldSide { // the move goes back
		for _, t := range all {
			if err := f.giveBack(ctx, t); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "could not move %s back", t.Path)
			}
		}
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
		return fault.New(fault.DeskRefused, "the certificate of the licence %s expired on %s (today is %s here): request a new one", f.Licence.Name, until, f.Now().Format(day))
	}
	if err := f.paired(held); err != nil {
		return err
	}
	f.became(action, r.From, a)
	return nil
}

// setAside sets a file of the licence aside. On the old computer, the journal has where it went.
func (f files) setAside(ctx context.Context, t item.Target) error {
	there, err := t.Exists(ctx, t.Path)
	if err != nil || !there {
		return err // a file that could not be read is not set aside
	}
	if f.Side() != steps.OldSide {
		aside, err := t.Names.Free(ctx, t.Path, item.ForAside)
		if err == nil {
			err = t.Names.MoveOut(ctx, t.Path, aside, false)
		}
		f.aside = append(f.aside, aside)
		return err
	}
	var out run.ItemOutcome
	err = f.onOld(ctx, t, func(p *place.Placer, t item.Target) error { return p.Retire(ctx, t, &out) })
	if err == nil && out.Did != "retired" {
		err = fault.New(fault.CannotPlace, "it is still in place: %s", out.Did)
	}
	f.aside = append(f.aside, out.Aside)
	return err
}

// giveBack moves a file that was set aside on the old computer back, if it is not there.
func (f files) giveBack(ctx context.Context, t item.Target) error {
	if there, err := t.Exists(ctx, t.Path); err != nil || there {
		return err
	}
	var out run.ItemOutcome
	return f.onOld(ctx, t, func(p *place.Placer, t item.Target) error { return p.Return(ctx, t, &out) })
}

// onOld calls do for an item on the old computer.
func (f files) onOld(ctx context.Context, t item.Target, do func(*place.Placer, item.Target) error) error {
	p := &place.Placer{Run: f.Run, Kinds: f.Kinds, NoNotes: true}
	old, err := p.OldTarget(ctx, f.Card, f.State.Items[t.Key])
	if err != nil {
		return err
	}
	defer old.Close()
	return do(p, old)
}

// notHere returns why a file licence cannot be activated here.
func (f files) notHere(all []item.Target) error {
	for _, t := range all {
		if there, err := machine.Exists(t.Path); err != nil || !there || !f.Licence.Bound {
			return &fault.Error{Kind: fault.NotPlaced, App: f.Card.Name, What: fmt.Sprintf("%s of %s is not in place here", t.Item.Name, f.Card.Title)}
		}
	}
	return &fault.Error{Kind: fault.Issue, App: f.Card.Name, What: fmt.Sprintf("the licence %s of %s is valid for %s only: its vendor must issue another one for %s, which replaces %s",
		f.Licence.Name, f.Card.Title, f.Manifest.Old.Name, f.Computer.Name(), machine.DisplayPath(f.Computer, all[0].Path))}
}

// paired checks that a certificate and a private key among the files belong together.
func (f files) paired(held []licence.Contents) error {
	if _, fits := licence.Leaf(held); !fits {
		return fault.New(fault.DeskRefused, "no certificate among the files of the licence %s fits their private key", f.Licence.Name)
	}
	return nil
}

// IssuedAgain reports whether an item is a licence file that was issued again for this computer, so
// that it is expected to differ.
func (r *Session) IssuedAgain(ctx context.Context, c *card.Card, t item.Target) (bool, error) {
	for i := range c.Licences {
		l := &c.Licences[i]
		if l.Bound && slices.Contains(l.Items, t.Item.Name) && r.State.Licence(c.Name, l.Name).New == licence.Active {
			same, err := t.Mover.Same(ctx, t.Path)
			return !same, err
		}
	}
	return false, nil
}

// StillHeld returns an app's licences in files that are not deactivated on the old computer, or on the new one
// that this computer is about to replace, each with that computer.
func (r *Session) StillHeld(c *card.Card) (out []string) {
	if r.Manifest.Keep {
		return nil // a safety copy does not change licences
	}
	replaces := r.ReplaceReason != "" && !r.Self().Is(r.State.New)
	for _, l := range c.Licences {
		st := r.State.Licence(c.Name, l.Name)
		switch {
		case len(l.Items) == 0:
		case replaces && st.New.Held():
			out = append(out, l.Name+" on "+r.State.New.Name)
		case !r.State.Deactivated(c.Name, l.Name):
			out = append(out, l.Name+" on "+st.From.Name)
		}
	}
	return out
}

// complete asks for the passphrase of encrypted files. Without it they are moved and compared as
// they are.
func (f files) complete(ctx context.Context, s *licence.Secrets, paths []string) error {
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
	said, err := f.typed(ctx, run.ManualStep{Key: f.Key, App: f.Card.Title, Action: run.ActionType, Step: 1, Of: 1, Secret: true,
		Do: "The licence's files are encrypted. Their passphrase is sealed in the kit, and shows on the new computer that the key is the same.", Ask: "Passphrase of the files"},
		func(p string) string {
			for _, data := range locked {
				if licence.ReadContents(data, p).Locked {
					return "it does not decrypt the files"
				}
			}
			return ""
		})
	if run.IsNonInteractive(err) {
		return nil
	}
	s.Passphrase = said
	return err
}
