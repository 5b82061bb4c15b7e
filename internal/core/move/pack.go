package move

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/exports"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Pack seals every item of the selected apps. Sealed data that is undamaged and still current is
// kept.
func (m *Move) Pack(ctx context.Context) ([]*run.Outcome, error) {
	m.SelectNeeded()
	if err := m.UseState(0); err != nil {
		return nil, err
	}
	if err := m.Kit.MendChecksums(); err != nil {
		return nil, err
	}
	if err := m.Kit.Tidy(); err != nil {
		return nil, err
	}
	out, err := m.Each(ctx, m.packApp)
	if cerr := m.Shadows.Close(); cerr != nil {
		m.Detail(steps.Key{}, "a shadow copy was not removed: "+cerr.Error())
	}
	if err == nil && ctx.Err() == nil && !slices.ContainsFunc(out, func(o *run.Outcome) bool { return o.Err != nil || len(o.Blocks) > 0 }) {
		err = m.recordState()
	}
	return out, err
}

// recordState makes the content of a safety copy a state of it, if it changed. Files of states that are no longer kept are
// removed.
func (m *Move) recordState() error {
	keep, was := m.KeepStates, kit.DefaultStates
	if n := len(m.State.States); n > 0 {
		was = m.State.States[n-1].Keep
	}
	keep = cmp.Or(keep, was)
	if !m.Manifest.Keep || !m.State.Changed() && keep == was {
		return nil
	}
	if err := m.Record(journal.EventCopied, steps.Key{}, m.State.NextCopy(keep)); err != nil {
		return err
	}
	if err := m.Kit.MendChecksums(); err != nil {
		return err
	}
	return m.Kit.Tidy()
}

// UseState uses the content of a state of a safety copy, by its journal line; 0 means the newest content.
func (m *Move) UseState(line int) error {
	if line == m.State.Past {
		return nil
	}
	return m.Record(journal.EventStateChosen, steps.Key{}, steps.StateChosen{Line: line})
}

// ofItem lists failures to read one item, after which others can still be read.
var ofItem = []fault.Kind{fault.Unreadable, fault.Changed, fault.Missing, fault.BadDatabase, fault.ServerDown, fault.ServerLogin, fault.ServerRefused, fault.Scanned}

// packApp seals one app. Its services and schedules are stopped first; they stay stopped only if the app is packed.
func (m *Move) packApp(ctx context.Context, c *card.Card, o *run.Outcome) error {
	again, err := m.stopOld(ctx, c)
	if err == nil {
		err = m.packItems(ctx, c, o)
	}
	if err != nil || o.Err != nil || len(o.Blocks) > 0 || m.Manifest.Keep || m.StartAgain {
		return errors.Join(err, again())
	}
	for i, out := range o.Items {
		if m.stoppedHere(steps.Key{App: c.Name, Item: out.Item, User: out.User}) {
			o.Items[i].Notes = append(out.Notes, fmt.Sprintf("%s of %s is stopped on %s, and does not start there any more", out.Item, c.Title, m.State.Old.Name))
		}
	}
	return nil
}

// roomFor says how many times the data must fit on the medium before time counts more than bytes.
const roomFor = 3

func (m *Move) packItems(ctx context.Context, c *card.Card, o *run.Outcome) error {
	if err := exports.Make(ctx, m.ForApp(c), c); err != nil {
		return err
	}
	a, err := m.inspect(ctx, c)
	if err != nil {
		return err
	}
	defer survey.Close(a.Places)
	f := a.Facts
	kept := m.kept(ctx, a)
	for i, p := range a.Places {
		if kept[p.Key] {
			f.Fit.Need -= a.Items[i].Bytes
		}
	}
	if on, err := m.Check(steps.Pack, c, f, o); err != nil || !on {
		return err
	}
	m.Roomy = !m.Distant && !m.Manifest.Keep && uint64(max(f.Fit.Need, 0)) < f.Fit.Free/roomFor
	packed := steps.Packed{Version: a.Version, Edition: a.Edition, Absent: f.Pack.Missing}
	for _, label := range a.NotChosen {
		if !slices.ContainsFunc(m.State.AppItems(c.Name), func(it *steps.Item) bool { return item.Label(it.Key) == label }) {
			packed.NotChosen = append(packed.NotChosen, label)
		}
	}
	all := run.Event{App: c.Name}
	for i, p := range a.Places {
		if p.Found && !kept[p.Key] {
			all.All += a.Items[i].Bytes
		}
	}
	m.Report(all)
	for i, p := range a.Places {
		switch is := &a.Items[i]; {
		case is.Stays:
			o.Items = append(o.Items, place.Outcome(p.Instance, "stays"))
			packed.Stays = append(packed.Stays, steps.Stay{Item: p.Item.Name, Kind: p.Item.Kind, Address: is.Path})
		case p.Found:
			out, err := m.packItem(ctx, p, is, kept[p.Key], a.Places)
			if err != nil {
				err = fault.Wrap(fault.CannotPlace, err, "%s of %s was not sealed", p.Label(), c.Title)
			}
			if ctx.Err() == nil && slices.Contains(ofItem, fault.KindOf(err)) {
				if o.Err != nil {
					o.Also = append(o.Also, err)
				}
				o.Fail(err) // the others can still be sealed
				continue
			}
			if err != nil {
				return err
			}
			out.Notes = is.Warnings
			o.Items = append(o.Items, out)
			packed.Items = append(packed.Items, p.Key)
			packed.Where = append(packed.Where, is.Where)
		}
	}
	if o.Err != nil {
		return nil // the app is not packed; the next run keeps what is sealed
	}
	m.keepGone(c, &packed, o)
	packed.Homes = map[string]string{}
	for _, u := range m.Computer.Users() {
		packed.Homes[u.Name] = machine.DisplayPath(m.Computer, u.Home)
	}
	for _, l := range a.Licences {
		if err := m.packLicence(ctx, c, l.Card, a, l.Secrets); err != nil {
			return err
		}
	}
	return m.Record(journal.EventPacked, steps.Key{App: c.Name}, packed)
}

// keepGone keeps sealed items in the pack that are no longer on this computer, because the kit has
// the only copy.
func (m *Move) keepGone(c *card.Card, packed *steps.Packed, o *run.Outcome) {
	before := m.State.Packed[c.Name]
	if before == nil {
		return
	}
	for _, key := range before.Items {
		it := m.State.Items[key]
		if slices.Contains(packed.Items, key) || it == nil {
			continue
		}
		packed.Items, packed.Where = append(packed.Items, key), append(packed.Where, m.State.Was(key))
		if !m.Selected(key) {
			continue
		}
		o.Items = append(o.Items, run.ItemOutcome{Item: key.Item, User: key.User, Did: "gone", Files: it.Sealed.Files, Bytes: it.Sealed.Bytes})
	}
}

// inspect surveys one app for its pack. It samples content for its sealed size only if the
// uncompressed data would not fit.
func (m *Move) inspect(ctx context.Context, c *card.Card) (*survey.App, error) {
	a, err := m.scanner(c, false).App(ctx, c, m.Facts(c))
	if err == nil && a.Facts.Fit.Need > 0 && uint64(a.Facts.Fit.Need) > a.Facts.Fit.Free {
		survey.Close(a.Places)
		return m.scanner(c, true).App(ctx, c, m.Facts(c))
	}
	return a, err
}

// kept returns the sealed items that are undamaged and current. Items of one snapshot are kept
// together or not at all.
func (m *Move) kept(ctx context.Context, a *survey.App) map[steps.Key]bool {
	kept := map[steps.Key]bool{}
	for i, p := range a.Places {
		it := m.State.Items[p.Key]
		kept[p.Key] = p.Found && it != nil && it.Sealed.Stamp == a.Items[i].Stamp && it.Sealed.MetaStamp == a.Items[i].MetaStamp && len(m.Kit.DamagedFiles(ctx, p.Key.App, it.Sealed)) == 0
	}
	group(a.Places)
	for _, p := range a.Places {
		if p.Group != nil && slices.ContainsFunc(p.Group.Members, func(o *item.Instance) bool { return !kept[o.Key] }) {
			for _, o := range p.Group.Members {
				kept[o.Key] = false
			}
		}
	}
	return kept
}

// group links items that an app attaches to each other.
func group(places []survey.Place) {
	root := func(p survey.Place) steps.Key {
		key := p.Key
		if p.Item.Attached != "" {
			key.Item = p.Item.Attached
		}
		return key
	}
	groups := map[steps.Key]*item.Group{}
	for _, p := range places {
		if p.Found && p.Item.Attached != "" {
			groups[root(p)] = &item.Group{}
		}
	}
	for _, p := range places {
		if g := groups[root(p)]; g != nil && p.Found {
			g.Members, p.Group = append(g.Members, p.Instance), g
		}
	}
}

// packItem seals an item, unless it is kept. An export can be described by the items beside it.
func (m *Move) packItem(ctx context.Context, p survey.Place, is *item.Inspection, kept bool, beside []survey.Place) (run.ItemOutcome, error) {
	out := place.Outcome(p.Instance, "kept")
	out.To = ""
	p.ConfirmHome()
	if !kept {
		sealed, err := p.Mover.Seal(ctx, is)
		if err != nil {
			return out, err
		}
		if i := slices.IndexFunc(beside, func(b survey.Place) bool { return b.Found && p.Item.Counted(b.Key.Item) }); i >= 0 {
			if sealed.Tables, err = exports.Counted(ctx, p.Instance, *sealed, beside[i]); err != nil {
				return out, err
			}
		}
		if sealed.Identity, err = p.Identity(); err != nil {
			return out, err
		}
		if is.OnDisk {
			sealed.Mount = machine.MountPoint(m.Computer, p.Path)
			if sealed.Parents, err = p.Parents(); err != nil {
				return out, err
			}
		}
		if err := m.RecordSealed(p.Key, *sealed); err != nil {
			return out, err
		}
		out.Did = "sealed"
	}
	s := m.State.Items[p.Key].Sealed
	out.Files, out.Bytes, out.Left, out.LeftOut = s.Files, s.Bytes, s.Left, s.LeftOut
	for _, part := range slices.Concat(s.Parts, s.Schema) {
		out.Size += part.Size
	}
	return out, nil
}

// packLicence seals a licence's secrets for the new computer.
func (m *Move) packLicence(ctx context.Context, c *card.Card, l *card.Licence, a *survey.App, s licence.Secrets) error {
	var files []string
	for _, p := range a.Places {
		if p.Found && slices.Contains(l.Items, p.Item.Name) {
			files = append(files, p.Path)
		}
	}
	if err := m.Licences().Complete(ctx, c, l, &s, files); err != nil {
		return err
	}
	if !l.Whole(s.Serial, s.Code) && s.Passphrase == "" {
		return nil
	}
	key := steps.Key{App: c.Name, Item: l.Name}
	if lic := m.State.Licence(c.Name, l.Name); lic.Sealed != nil && len(m.Kit.DamagedFiles(ctx, c.Name, *lic.Sealed)) == 0 {
		return nil
	}
	name, user, ofUser := strings.Cut(l.Name, "@")
	if ofUser {
		name += "@" + item.FileName(user)
	}
	parts, err := m.SealJSON(c.Name, name+".licence"+seal.Ending, s)
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence %s of %s was not sealed", l.Name, c.Title)
	}
	return m.RecordSealedLicence(key, kit.Sealed{Stream: name, Parts: parts})
}
