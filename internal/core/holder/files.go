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
	held := f.held(all)
	if leaf, _ := licence.Leaf(held); leaf != nil && (a.Until == 0 || leaf.Until.Unix() < a.Until) {
		a.Until = leaf.Until.Unix()
	}
	if a.State == licence.Active && f.expired(held) != nil {
		a.State = licence.Expired
	}
	return nil
}

// expired returns the licence's certificate if it expired, or nil.
func (f files) expired(held []licence.Contents) *licence.Certificate {
	if leaf, _ := licence.Leaf(held); leaf != nil && leaf.Until.Before(f.Now()) {
		return leaf
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
	if same == len(all) || here < len(all) {
		return same == len(all), nil
	}
	until, err := f.renewed(all)
	return until != "", err
}

// renewed returns until when a certificate in the files here is valid, if it is a renewal of the sealed one: it has
// the same subject and a private key here, and is valid for longer. Otherwise it returns "".
func (f files) renewed(all []item.Target) (until string, err error) {
	held := f.held(all)
	leaf, fits := licence.Leaf(held)
	if leaf == nil || !fits || leaf.Until.Before(f.Now()) || !slices.ContainsFunc(held, func(c licence.Contents) bool { return slices.Contains(c.Keys, leaf.Key) }) {
		return "", nil
	}
	var was []licence.Contents
	for _, t := range all {
		if err := f.sealedFiles(t.InKit, func(_ string, data []byte) error {
			was = append(was, licence.ReadContents(data, f.Secrets.Passphrase))
			return nil
		}); err != nil {
			return "", err
		}
	}
	if old, _ := licence.Leaf(was); old == nil || old.Subject != leaf.Subject || !leaf.Until.After(old.Until) {
		return "", nil
	}
	return leaf.Until.Format(day), nil
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
	if leaf := f.expired(held); leaf != nil {
		return fault.New(fault.DeskRefused, "the certificate of the licence %s expired on %s (today is %s here): request a new one for %s from %s, and put it in the place of %s", f.Licence.Name, leaf.Until.Format(day), f.Now().Format(day), leaf.Subject, leaf.Issuer, machine.DisplayPath(f.Computer, all[0].Path))
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

// IssuedAgain describes an item that is a licence file, and that was issued again for this computer or renewed, so that
// it is expected to differ. It returns "" for any other item.
func (r *Session) IssuedAgain(ctx context.Context, c *card.Card, t item.Target) (string, error) {
	for i := range c.Licences {
		l := &c.Licences[i]
		if !slices.Contains(l.Items, t.Item.Name) || r.State.Licence(c.Name, l.Name).New != licence.Active {
			continue
		}
		if same, err := t.Mover.Same(ctx, t.Path); err != nil || same {
			return "", err
		}
		if l.Bound {
			return "issued again", nil
		}
		h, err := r.Open(c, l, "")
		if err != nil {
			return "", err
		}
		f := files{h}
		all, err := f.here(ctx)
		if err != nil {
			return "", err
		}
		defer item.Close(all)
		until, err := f.renewed(all)
		if err != nil || until == "" {
			return "", err
		}
		return "renewed, valid until " + until, nil
	}
	return "", nil
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
	said, err := f.typed(ctx, run.ManualStep{Key: f.Key, App: f.Card.Title, Action: run.ActionType, Step: 1, Of: 1, Secret: true, Optional: true,
		Do: "The licence's files are encrypted. Their passphrase is sealed in the kit, and shows on the new computer that the key is the same. If nobody knows it, the files are moved as they are.", Ask: "Passphrase of the files (Enter if nobody knows it)"},
		func(p string) string {
			for _, data := range locked {
				if licence.ReadContents(data, p).Locked {
					return "it does not decrypt the files"
				}
			}
			return ""
		})
	if fault.KindOf(err) == fault.ManualStep { // nobody could be asked, or nobody knows it
		f.Report(run.Event{App: f.Key.App, Item: f.Key.Item, What: "the licence's files are moved as they are, without their passphrase"})
		return nil
	}
	s.Passphrase = said
	return err
}
