// Package survey examines a computer for the apps in cards: data locations, sizes, versions, and
// reasons that would stop a pack. It changes nothing.
package survey

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/volume"
)

// Survey is the result of surveying a computer.
type Survey struct {
	Computer   string            `json:"computer"`
	System     machine.System    `json:"system"`
	Side       steps.Side        `json:"side,omitempty"` // "" without a kit
	Looked     time.Time         `json:"looked"`
	Users      []string          `json:"users"`
	HardwareID string            `json:"hardware_id"` // masked
	Adapters   []machine.Adapter `json:"network_adapters,omitempty"`
	Apps       []App             `json:"apps"`
	Space      Space             `json:"space"`
	Notes      []string          `json:"notes,omitempty"`
	Unreadable int               `json:"unreadable,omitempty"` // number of unreadable places
}

// Space is the space needed on the kit's medium, in bytes.
type Space struct {
	AtMost   int64  `json:"bytes_needed_at_most"`
	Sealed   int64  `json:"bytes_needed_estimate"` // estimated from a sample of the content
	Free     uint64 `json:"bytes_free"`
	Known    bool   `json:"free_known"` // the medium's free space is known
	System   string `json:"file_system,omitempty"`
	MaxFile  uint64 `json:"largest_file,omitempty"`
	PartSize int64  `json:"largest_part"` // size limit of a sealed file
}

// App is the result of surveying one app.
type App struct {
	App         string            `json:"app"`
	Title       string            `json:"title"`
	Found       bool              `json:"found"`
	Version     string            `json:"version,omitempty"`
	VersionFrom string            `json:"version_read_from,omitempty"`
	Edition     string            `json:"edition,omitempty"`
	Withheld    [][]string        `json:"commands_not_run,omitempty"`
	Running     []string          `json:"running,omitempty"`
	Items       []item.Inspection `json:"items"`
	Licences    []Licence         `json:"licences,omitempty"`
	Sync        []Sync            `json:"sync,omitempty"`
	Requires    []Required        `json:"requires,omitempty"`
	LeftBehind  []string          `json:"left_behind,omitempty"`
	ByHand      []string          `json:"by_hand,omitempty"`
	NotChosen   []string          `json:"not_chosen,omitempty"`
	Tried       []card.Tried      `json:"card_tried,omitempty"`    // systems on which a test moved the app with this card
	Untested    bool              `json:"card_untested,omitempty"` // the card is written from documentation for this system
	Blocks      []steps.Block     `json:"would_stop_pack,omitempty"`

	Places []Place     `json:"-"` // one per item, in the same order
	Facts  steps.Facts `json:"-"` // for the gates of a pack
}

// Licence describes one licence as found on the computer.
type Licence struct {
	Licence  string          `json:"licence"`
	Method   card.Method     `json:"method"`
	Serial   string          `json:"serial"`          // masked; "" if not found
	Typed    bool            `json:"typed,omitempty"` // the rest must be typed in
	Seen     []string        `json:"seen,omitempty"`  // what was found on this computer, and where
	Warnings []string        `json:"doubts,omitempty"`
	Secrets  licence.Secrets `json:"-"`
	Card     *card.Licence   `json:"-"`
}

// Sync says whether the app has sent everything.
type Sync struct {
	About    string `json:"about"`
	Finished bool   `json:"finished"`
	Known    bool   `json:"known"`
	Why      string `json:"why,omitempty"`
}

// Required says whether a requirement of the app is installed.
type Required struct {
	Name string `json:"name"`
	Here bool   `json:"here"`
}

// Scanner surveys one computer.
type Scanner struct {
	*run.Host
	item.Options
	Kinds item.Table
	Run   *run.Run // nil if there is no kit
	Since Since    // how thoroughly to check for changes since the pack

	NotChosen []string // places that were left out because they were not selected
}

// ScannerOf returns a scanner of this computer for an app in the kit of a run.
func ScannerOf(r *run.Run, kinds item.Table, c *card.Card, estimate bool) *Scanner {
	return &Scanner{Host: r.ForApp(c), Run: r, Kinds: kinds, Options: item.Options{KitDir: r.Kit.Place(), More: r.MoreMedia, Target: r.Manifest.New.System, Estimate: estimate}}
}

// Scan surveys the apps of cards. facts returns the facts that are known in advance.
func (l *Scanner) Scan(ctx context.Context, cards []*card.Card, facts func(*card.Card) steps.Facts) (*Survey, error) {
	s := &Survey{Computer: l.Computer.Name(), System: l.Computer.System(), Looked: time.Now().UTC().Truncate(time.Second), Users: []string{}, Apps: []App{}}
	s.HardwareID = licence.Mask(l.Computer.HardwareID())
	s.Adapters = l.Computer.Adapters()
	for _, u := range l.Computer.Users() {
		s.Users = append(s.Users, u.Name)
	}
	for _, c := range cards {
		a, err := l.App(ctx, c, facts(c))
		if err != nil {
			return nil, err
		}
		Close(a.Places)
		if a.Blocks, err = steps.Check(steps.Pack, a.Facts); err != nil {
			return nil, err
		}
		for _, i := range a.Items {
			s.Space.AtMost += i.Bytes
			s.Space.Sealed += i.Sealed
			s.Unreadable += len(i.Unreadable)
		}
		s.Apps = append(s.Apps, *a)
	}
	s.Space.Sealed = min(s.Space.Sealed, s.Space.AtMost)
	if l.KitDir != "" {
		v, err := volume.Of(l.KitDir)
		if err != nil {
			return nil, err
		}
		s.Space.Free, s.Space.Known, s.Space.System, s.Space.MaxFile = v.Free, true, v.Type, v.MaxFile
	}
	s.Notes = l.Computer.Notes()
	return s, nil
}

// App surveys one app, and gathers the facts for its pack. The caller closes its places.
func (l *Scanner) App(ctx context.Context, c *card.Card, f steps.Facts) (*App, error) {
	a := &App{App: c.Name, Title: c.Title, LeftBehind: c.LeftBehind, ByHand: c.ByHand, Tried: c.Tried}
	a.Untested = slices.Contains(c.Untested, string(l.Computer.System()))
	var err error
	if a.Places, err = l.Places(ctx, c); err != nil {
		return nil, err
	}
	a.NotChosen = l.NotChosen
	if err := l.fill(ctx, c, a, &f); err != nil {
		Close(a.Places)
		return nil, err
	}
	a.Facts = f
	return a, nil
}

func (l *Scanner) fill(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	if err := l.version(ctx, c, a); err != nil {
		return err
	}
	if err := l.items(ctx, c, a, f); err != nil {
		return err
	}
	if err := l.licences(ctx, c, a, f); err != nil {
		return err
	}
	needs(c, a, f)
	if err := l.inUse(ctx, c, a, f); err != nil {
		return err
	}
	if err := l.exports(ctx, a, f); err != nil {
		return err
	}
	for _, s := range c.Sync {
		st, err := l.sync(ctx, s, a.Places)
		if err != nil {
			return err
		}
		if !st.Finished {
			f.Pack.Unsynced = append(f.Pack.Unsynced, st.About+": "+st.Why)
		}
		a.Sync = append(a.Sync, st)
	}
	var err error
	if a.Requires, err = l.Requires(c); err != nil {
		return err
	}
	return l.space(a, f)
}

// items inspects each item.
func (l *Scanner) items(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	f.Fit, f.Use, f.Pack, f.Drift = &steps.FitFacts{}, &steps.UseFacts{Consistent: true}, &steps.PackFacts{}, &steps.DriftFacts{}
	for i := range a.Places {
		p := &a.Places[i]
		p.Progress("surveying", 0)
		is, err := l.item(ctx, p)
		if err != nil {
			return err
		}
		if p.SetAside, err = l.setAside(ctx, p); err != nil {
			return err
		}
		if p.SetAside == allAside && is.Files == 0 {
			p.Found = false // the folder contains only files that are not the item's
		}
		if p.SetAside != "" && p.Found {
			f.Pack.SetAside = append(f.Pack.SetAside, p.Label()+" ("+p.SetAside+" of its data)")
		}
		if is.Since, err = l.drift(ctx, c, p, is); err != nil {
			return err
		}
		if is.Since != nil && !is.Since.Same {
			f.Drift.OldChanged = append(f.Drift.OldChanged, changed(p, is.Since))
		}
		if err := l.count(ctx, p, is, f); err != nil {
			return err
		}
		a.Items = append(a.Items, *is)
		f.Fit.Need += is.Bytes
		f.Fit.BadNames = append(f.Fit.BadNames, is.BadNames...)
		f.Pack.Unreadable = append(f.Pack.Unreadable, is.Unreadable...)
		f.Pack.LacksNeed = append(f.Pack.LacksNeed, is.Lacks...)
		for _, d := range is.Damaged {
			f.Pack.Damaged = append(f.Pack.Damaged, p.Label()+": "+d)
		}
		f.Use.Open = append(f.Use.Open, is.Held...)
		if is.Locked != "" {
			f.Use.Open = append(f.Use.Open, is.Locked)
		}
		if is.Stays {
			continue
		}
		if p.Found {
			f.Use.Consistent = f.Use.Consistent && is.InUse
			a.Found = true
		} else if !p.Item.Optional && len(is.Unreadable) == 0 && p.SetAside == "" && !l.retired(p) {
			f.Pack.Missing = append(f.Pack.Missing, l.absent(*p))
		}
	}
	return l.gone(ctx, c, a, f)
}

// retired reports whether retire set an item aside here, so that it is not expected in its place.
func (l *Scanner) retired(p *Place) bool {
	known := l.onOld(p)
	return known != nil && (known.Retired != nil || known.Removed != nil)
}

// onOld returns the recorded state of an item if this is the old computer of a kit, or nil.
func (l *Scanner) onOld(p *Place) *steps.Item {
	if l.Run == nil || l.Run.Side() != steps.OldSide {
		return nil
	}
	return l.Run.State.Items[p.Key]
}

// needs checks that the dependencies of every item are present: other items, or a licence's token,
// key or file. It ignores licences that only the app or a service can show.
func needs(c *card.Card, a *App, f *steps.Facts) {
	shown := map[string]bool{}
	for _, l := range a.Licences {
		shown[l.Licence] = len(l.Seen) > 0 || l.Typed || !l.Card.Shown()
	}
	there := func(i int) bool { return a.Places[i].Found || a.Items[i].Stays }
	// What one user has does not help another.
	has := func(p Place, name string) bool {
		for i, q := range a.Places {
			if q.Item.Name == name && there(i) && (p.User == nil || q.User == nil || q.User.Name == p.User.Name) {
				return true
			}
		}
		return shown[name]
	}
	for i, p := range a.Places {
		for _, n := range p.Item.Needs {
			if there(i) && !has(p, n) {
				f.Pack.LacksNeed = append(f.Pack.LacksNeed, p.Label()+" needs "+n+", which is missing")
			}
		}
	}
}

// count queries a database for the counts that have an expected number, and compares all counts
// with their expected numbers.
func (l *Scanner) count(ctx context.Context, p *Place, is *item.Inspection, f *steps.Facts) error {
	for _, c := range p.Item.Counts {
		if c.Query == "" || c.Expect == nil || is.State != item.IsHere {
			continue
		}
		n, err := p.Query(ctx, c.Query)
		if err != nil {
			return err
		}
		is.Counts = append(is.Counts, item.Counted{Name: c.Name, Value: n, Expect: c.Expect})
	}
	for _, c := range is.Counts {
		if c.Expect != nil && c.Value != *c.Expect {
			f.Drift.Unexpected = append(f.Drift.Unexpected, fmt.Sprintf("%s of %s: the card expects %d, but there are %d", c.Name, p.Label(), *c.Expect, c.Value))
		}
	}
	return nil
}

// item inspects one item, if it exists.
func (l *Scanner) item(ctx context.Context, p *Place) (*item.Inspection, error) {
	switch {
	case p.Broken != "":
		is := p.Blank()
		is.State, is.Unreadable = item.NotReached, []string{p.Broken}
		return is, nil
	case p.Silent:
		is := p.Blank()
		is.State = item.NotReached
		return is, nil
	case (p.Item.Key != "" || !p.Item.Path.IsZero()) && !p.Found:
		is := p.Blank()
		if p.Path != "" {
			is.Where = machine.DisplayPath(l.Computer, p.Path)
		}
		return is, nil
	}
	is, err := p.Inspect(ctx, l.Options)
	if err != nil {
		return nil, err
	}
	is.LeftOut = append(is.LeftOut, p.LeftOut...)
	if p.Virtual() {
		is.Warnings = append(is.Warnings, "Windows shows this copy to "+p.User.Name+" in place of the shared data: an old program may not write there. Check in the app on the new computer whether it uses it")
	}
	p.Path, p.Why, p.Found = is.Path, is.Why, is.State == item.IsHere
	p.Silent = p.Path != "" && !is.OnDisk && is.State == item.NotReached
	if is.OnDisk {
		is.Where = machine.DisplayPath(l.Computer, is.Path)
	}
	return is, nil
}

// absent describes a missing item and where it was expected.
func (l *Scanner) absent(p Place) string {
	if p.Why != "" {
		return p.Label() + ": " + p.Why
	}
	where := cmp.Or(p.Item.Key, p.Item.Path.On(string(l.Computer.System())))
	if where == "" {
		return fmt.Sprintf("%s (the card has no path for a %s computer)", p.Label(), l.Computer.System())
	}
	if p.Silent {
		return p.Label() + " at " + where + ", which did not answer"
	}
	return p.Label() + " at " + where
}

// version reads the app's version and edition.
func (l *Scanner) version(ctx context.Context, c *card.Card, a *App) error {
	v, err := l.Version(ctx, c)
	if err != nil {
		return err
	}
	a.Version, a.VersionFrom, a.Edition = v.Value, v.How, v.Edition
	a.Found = a.Version != ""
	if len(v.Withheld) > 0 {
		a.Withheld = append(a.Withheld, v.Withheld)
	}
	return nil
}

// sampleMargin is the number of bytes that are kept free in any case.
const sampleMargin = 16 << 20

// space compares the space that the app needs with the free space on the kit's medium.
func (l *Scanner) space(a *App, f *steps.Facts) error {
	if l.KitDir == "" {
		f.Fit.Need = 0 // the destination is not known yet
		return nil
	}
	v, err := volume.Of(l.KitDir)
	if err != nil {
		return err
	}
	f.Fit.Free, f.Fit.More = v.Free, l.More
	if !l.Estimate || f.Fit.Need <= 0 || uint64(f.Fit.Need) <= f.Fit.Free {
		return nil
	}
	// Sealed data is smaller. A tenth more than the estimate is enough; if the disk gets full
	// anyway, the pack stops without loss.
	var sealed int64
	for _, i := range a.Items {
		sealed += i.Sealed
	}
	f.Fit.Need = min(f.Fit.Need, sealed+sealed/10+sampleMargin)
	return nil
}
