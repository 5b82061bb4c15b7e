package move

import (
	"context"
	"fmt"
	"slices"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/desktop"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Verify holds every item of the chosen apps on this computer against the
// sealed fingerprints of the old one, and looks at every licence on both. It
// changes nothing but the journal.
func (j *Job) Verify(ctx context.Context) ([]*Outcome, error) {
	defer j.dropTemp()
	return j.each(ctx, func(ctx context.Context, c *card.Card, o *Outcome) error {
		if err := j.check(steps.Verify, c, j.facts(c), o); err != nil || len(o.Blocks) > 0 {
			return err
		}
		targets, noUser, err := j.targets(ctx, c)
		if err != nil {
			return err
		}
		for _, name := range noUser {
			o.Items = append(o.Items, ItemOutcome{Item: "-", User: name, Did: "checked", Rows: []steps.Row{{What: "user", Old: name, New: "not here"}}})
		}
		for _, t := range targets {
			if was := t.item.Placed; was != nil && was.Policy == string(tree.KeepBoth) {
				t.path = was.To // it was put beside what was there
			}
			checked, err := j.verifyItem(ctx, t)
			if err != nil {
				return fault.Wrap(fault.Unreadable, err, "%s of %s could not be verified", itemLabel(t.item.Key), c.Title)
			}
			if err := j.Kit.Record(j.line(steps.EventChecked, t.item.Key), checked); err != nil {
				return err
			}
			o.Items = append(o.Items, ItemOutcome{
				Item: t.item.Key.Item, User: t.item.Key.User, Did: "checked", To: t.path, Equal: checked.Equal,
				Files: t.item.Sealed.Files, Bytes: t.item.Sealed.Bytes, Rows: checked.Rows, Diffs: checked.Diffs, Count: checked.Count,
			})
		}
		for _, stay := range j.State().Packed[c.Name].Stays {
			io, err := j.verifyStay(ctx, c, stay)
			if err != nil {
				return err
			}
			o.Items = append(o.Items, io)
		}
		for _, l := range c.Licences {
			lo, err := j.verifyLicence(ctx, c, l)
			if lo != nil {
				o.Licences = append(o.Licences, *lo)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Equal reports whether verify found the app equal on both computers.
func (o *Outcome) Equal() bool {
	return o.Err == nil && len(o.Blocks) == 0 &&
		!slices.ContainsFunc(o.Items, func(i ItemOutcome) bool { return !i.Equal }) &&
		!slices.ContainsFunc(o.Licences, func(l LicenceOutcome) bool { return !l.Good && l.Trial == nil })
}

func (j *Job) verifyItem(ctx context.Context, t target) (*steps.Checked, error) {
	if j.database(t.card.Kind) != nil {
		return j.verifyDatabase(ctx, t)
	}
	if again, err := j.issuedAgain(ctx, t); again || err != nil {
		return &steps.Checked{Equal: true, Rows: []steps.Row{{What: "licence file", Old: "for " + j.Kit.Manifest.Old.Name, New: "issued again", Same: true}}}, err
	}
	return j.verifyTree(ctx, t)
}

// issuedAgain reports whether an item is the file of a licence that was issued
// again for this computer, and so is not to be what it was.
func (j *Job) issuedAgain(ctx context.Context, t target) (bool, error) {
	app := j.Kit.Card(t.item.Key.App)
	for _, l := range app.Licences {
		st := j.State().Licences[steps.Key{App: app.Name, Item: l.Name}]
		if l.Bound && slices.Contains(l.Items, t.card.Name) && st != nil && st.New == licence.Active {
			same, err := j.sameAlready(ctx, t)
			return !same, err
		}
	}
	return false, nil
}

// verifyStay sees that an item that stays where it is has the same address in
// the app's settings here, and that a server answers. It is not journalled:
// whether a server answers is true of the moment only.
func (j *Job) verifyStay(ctx context.Context, c *card.Card, stay steps.Stay) (ItemOutcome, error) {
	out := ItemOutcome{Item: stay.Item, Did: "stays", To: stay.Address, Equal: true}
	it := c.Item(stay.Item)
	if it == nil {
		return out, fault.New(fault.Damaged, "the card of %s has no item %q", c.Title, stay.Item)
	}
	now, err := j.lookerFor(c, false).Stay(ctx, it)
	if err != nil {
		return out, err
	}
	out.Rows = append(out.Rows, steps.Row{What: "address", Old: stay.Address, New: now.Path, Same: now.Path == stay.Address})
	if now.Reached != nil {
		answers := map[bool]string{true: "answers", false: "does not answer"}
		out.Rows = append(out.Rows, steps.Row{What: "server", Old: "", New: answers[*now.Reached], Same: *now.Reached})
	}
	for _, r := range out.Rows {
		if !r.Same {
			out.Equal = false
			out.Count++
			out.Diffs = append(out.Diffs, r.What+": "+r.New)
		}
	}
	return out, nil
}

// row makes a row of two figures.
func row(what string, old, new int64) steps.Row {
	return steps.Row{What: what, Old: fmt.Sprint(old), New: fmt.Sprint(new), Same: old == new}
}

func (j *Job) verifyTree(ctx context.Context, t target) (*steps.Checked, error) {
	progress := j.begin(t.item.Key, "comparing", t.item.Sealed.Bytes)
	list, closer, err := j.list(t.item)
	if err != nil {
		return nil, err
	}
	defer closer.Close()
	old, now := counters(t.card.Counts), counters(t.card.Counts)
	cmp, err := tree.Comparing{
		Modes: j.modes(), Progress: progress,
		EachOld: func(e tree.Entry) { count(old, e) }, EachNew: func(e tree.Entry) { count(now, e) },
	}.Compare(ctx, j.at(t), list)
	if err != nil {
		return nil, err
	}
	out := &steps.Checked{Equal: cmp.Equal(), Count: cmp.Count}
	out.Rows = append(out.Rows, row("files", cmp.Old.Files, cmp.New.Files), row("bytes", cmp.Old.Bytes, cmp.New.Bytes))
	for i, c := range t.card.Counts {
		out.AddCount(c.Name, c.Expect, old[i].N, now[i].N)
	}
	if t.card.Kind == card.Exports {
		j.addTicked(out, t)
	}
	if t.card.Kind == card.DBase || t.card.Kind == card.Jet {
		addRecords(out, t)
	}
	out.Rows = append(out.Rows, content(cmp.Old.Files, "hash", cmp.Count))
	for _, d := range cmp.Diffs {
		out.Diffs = append(out.Diffs, d.Path+" "+d.What)
	}
	return out, nil
}

// addRecords adds the records of each table, old and new.
func addRecords(out *steps.Checked, t target) {
	var tables []desktop.Table
	var err error
	if t.card.Kind == card.Jet {
		tables, err = desktop.JetTables(t.path)
	} else {
		tables, _, err = desktop.Tables(t.path)
	}
	now := map[string]string{}
	for _, table := range tables {
		now[table.Name] = fmt.Sprint(table.Records)
	}
	for _, table := range t.item.Sealed.Tables {
		r := steps.Row{What: "records of " + table.Name, Old: fmt.Sprint(table.Records), New: now[table.Name]}
		if r.New == "" {
			r.New = "missing"
			if err != nil {
				r.New = "damaged"
			}
		}
		if r.Same = r.Old == r.New; !r.Same {
			out.Equal = false
		}
		out.Rows = append(out.Rows, r)
	}
}

// content makes the row of n compared hashes.
func content(n int64, word string, differ int64) steps.Row {
	r := steps.Row{What: "content", Old: fmt.Sprintf("%d %ss", n, word), New: "all equal", Same: differ == 0}
	if n == 1 {
		r.Old, r.New = "1 "+word, "equal"
	} else if word == "hash" {
		r.Old = fmt.Sprintf("%d hashes", n)
	}
	if differ > 0 {
		r.New = fmt.Sprintf("%d differ", differ)
	}
	return r
}

func counters(counts []card.Count) []tree.Counter {
	out := make([]tree.Counter, len(counts))
	for i, c := range counts {
		out[i].Pattern = c.Files
	}
	return out
}

func count(cs []tree.Counter, e tree.Entry) {
	for i := range cs {
		cs[i].Add(e)
	}
}

func (j *Job) verifyLicence(ctx context.Context, c *card.Card, l card.Licence) (*LicenceOutcome, error) {
	version, err := j.version(ctx, c)
	if err != nil {
		return nil, err
	}
	h, err := j.hold(c, l, version.Value)
	if err != nil {
		return nil, err
	}
	seen := steps.Seen{Old: h.state.Old, New: h.state.New, Left: h.state.Left, By: "the kit's journal, since the licence desk could not be asked"}
	old, asked := h.status(ctx, j.Kit.Manifest.Old.ID)
	both := false // whether its rule lets it be active on both
	if seen.Asked = asked == nil; seen.Asked {
		seen.Old, seen.New, seen.Left, seen.By = old.State, licence.NotActivated, old.Transfers, "the licence desk"
		if slices.Contains(old.Active, machine.ID(j.Computer)) {
			seen.New = licence.Active
			if until := licence.When(old.Until); !until.IsZero() && !j.now().Before(until) {
				seen.New = licence.Expired
			}
		}
		both = len(old.Active) <= old.Seats && j.State().SecondSeat(c.Name, l.Name)
	}
	if seen.Asked && h.by != nil {
		// What the files or the maker's program show here comes before what the
		// journal remembers.
		here, err := h.status(ctx, machine.ID(j.Computer))
		if asked = err; err == nil {
			seen.New, seen.By = here.State, h.by(ctx)
		}
		seen.Asked = err == nil
	}
	seen.Good = seen.Asked && seen.New == licence.Active && (!seen.Old.Held() || both)
	trial := j.trialUntil(c, l)
	seen.Trial = seen.Asked && !seen.New.Held() && seen.Old.Held() && trial.After(j.now())
	line := j.line(steps.EventSeen, steps.Key{App: c.Name})
	line.Licence = l.Name
	if err := j.Kit.Record(line, seen); err != nil {
		return nil, err
	}
	out := &LicenceOutcome{
		Licence: l.Name, Serial: masked(h.secrets.Serial), Old: seen.Old, New: seen.New,
		Transfers: seen.Left, Spent: h.state.Spent, Did: "seen", By: seen.By, Good: seen.Good,
	}
	if seen.Trial {
		out.Trial = &trial
	}
	return out, couldNot(asked, l, c)
}

// trialUntil is until when the app runs on the new computer without its
// licence, counted from when its data was put in place; or the zero time.
func (j *Job) trialUntil(c *card.Card, l card.Licence) time.Time {
	length, err := time.ParseDuration(l.Trial)
	if err != nil {
		return time.Time{}
	}
	var first time.Time
	for _, it := range j.State().AppItems(c.Name) {
		if at := it.PlacedAt; !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	if first.IsZero() {
		return first
	}
	return first.Add(length)
}

// couldNot says that a licence's state could not be asked for.
func couldNot(err error, l card.Licence, c *card.Card) error {
	if err == nil {
		return nil
	}
	return fault.Wrap(fault.DeskDown, err, "the licence %s of %s could not be verified", l.Name, c.Title)
}
