package move

import (
	"context"
	"fmt"
	"os"
	"slices"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// files are the places of a file licence's items on this computer.
func (b byHand) files(ctx context.Context) ([]target, error) {
	all, _, err := b.targets(ctx, b.app)
	if err != nil {
		return nil, err
	}
	var out []target
	for _, t := range all {
		if slices.Contains(b.card.Items, t.card.Name) {
			out = append(out, t)
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Missing, "the files of the licence %s of %s are not in the kit", b.card.Name, b.app.Title)
	}
	return out, nil
}

// look tells the state from the files that are here. The new computer has the
// licence when all are the ones that were sealed and it was taken up with them;
// the old one, as long as any is there.
func (b byHand) look(ctx context.Context, a *licence.Answer) error {
	all, err := b.files(ctx)
	if err != nil {
		return err
	}
	active, err := b.holds(ctx, all)
	if err != nil {
		return err
	}
	active = active && (b.Side() == steps.OldSide || a.State.Held())
	a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == a.Computer })
	switch {
	case active:
		a.State, a.Active = licence.Active, append(a.Active, a.Computer)
		if until := b.expired(all); until != "" {
			a.State = licence.Expired
		}
	case a.State == licence.Active:
		a.State = licence.Deactivated
	}
	return nil
}

// holds reports whether this computer has the licence by its files.
func (b byHand) holds(ctx context.Context, all []target) (bool, error) {
	here, same := 0, 0
	for _, t := range all {
		there, err := machine.Exists(t.path)
		if err != nil {
			return false, err
		}
		if there {
			here++
		}
		if there && b.Side() == steps.NewSide {
			if there, err = b.sameAlready(ctx, t); err != nil {
				return false, err
			}
			if there {
				same++
			}
		}
	}
	switch {
	case b.Side() == steps.OldSide:
		return here > 0, nil
	case b.card.Bound:
		return here == len(all) && same < here, nil // the old one's do not count
	}
	return same == len(all), nil
}

// contents reads what a file on this computer holds, or nothing.
func (b byHand) contents(t target) licence.Contents {
	data, err := os.ReadFile(t.path)
	if err != nil {
		return licence.Contents{}
	}
	return licence.ReadContents(data, b.secrets.Passphrase)
}

// expired says when a certificate among files has run out, or "".
func (b byHand) expired(all []target) string {
	for _, t := range all {
		if c := b.contents(t).Certificate; c != nil && c.Until.Before(b.now()) {
			return c.Until.Format("2 Jan 2006")
		}
	}
	return ""
}

// seenInFiles says what a file licence's state was seen by.
func (b byHand) seenInFiles(ctx context.Context) string {
	all, err := b.files(ctx)
	if err != nil {
		return "the journal"
	}
	for _, t := range all {
		held := b.contents(t)
		if c := held.Certificate; c != nil {
			return fmt.Sprintf("the certificate of %s (key %s…, valid until %s)", c.Subject, c.Key[:16], c.Until.Format("2 Jan 2006"))
		}
		if held.Locked {
			return "the files on " + b.Computer.Name() + ", whose passphrase is not in the kit"
		}
	}
	return "the files on " + b.Computer.Name()
}

// file frees a file licence by setting its files aside, and takes it up by
// seeing that they are in place and belong together.
func (b byHand) file(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	all, err := b.files(ctx)
	if err != nil {
		return err
	}
	if action == licence.Deactivate {
		for _, t := range all {
			if there, err := machine.Exists(t.path); err != nil || !there {
				continue
			}
			aside := tree.AsideName(t.path, b.now())
			if err := os.Rename(t.path, aside); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot set %s aside", t.path)
			}
			*b.aside = append(*b.aside, aside)
		}
		b.became(action, r.From, a)
		return nil
	}
	has, err := b.holds(ctx, all)
	if err != nil {
		return err
	}
	if !has {
		return b.notHere(all)
	}
	if until := b.expired(all); until != "" {
		return fault.New(fault.DeskRefused, "the certificate of the licence %s ran out on %s, and the clock here says %s: a new one must be asked for", b.card.Name, until, b.now().Format("2 Jan 2006"))
	}
	if err := b.paired(all); err != nil {
		return err
	}
	b.became(action, r.From, a)
	return nil
}

// notHere says why a file licence is not taken up here.
func (b byHand) notHere(all []target) error {
	for _, t := range all {
		if there, err := machine.Exists(t.path); err != nil || !there || !b.card.Bound {
			return fault.New(fault.Missing, "%s of %s is not in place here: run `movekit unpack %s` first", t.card.Name, b.app.Title, b.app.Name)
		}
	}
	return fault.New(fault.Waits, "the licence %s of %s holds for %s only, and its maker must issue another for %s: `movekit licence letter %s` writes what to ask for; put the file that comes in the place of %s, and run this again",
		b.card.Name, b.app.Title, b.Kit.Manifest.Old.Name, b.Computer.Name(), b.app.Name, machine.Spoken(b.Computer, all[0].path))
}

// paired sees that a certificate and a private key among files belong together.
func (b byHand) paired(all []target) error {
	cert, key := "", ""
	for _, t := range all {
		held := b.contents(t)
		if held.Certificate != nil {
			cert = held.Certificate.Key
		}
		if held.Key != "" {
			key = held.Key
		}
	}
	if cert != "" && key != "" && cert != key {
		return fault.New(fault.DeskRefused, "the certificate and the private key here do not belong together")
	}
	return nil
}
