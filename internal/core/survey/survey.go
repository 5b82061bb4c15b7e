// Package survey looks at a computer for the apps of cards: what is there,
// where, how much, in which version, and what would stop a pack. It changes
// nothing.
package survey

import (
	"context"
	"fmt"
	"os"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/desktop"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/sqlite"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// State is where an item is.
type State string

// The states of items.
const (
	Here       State = "here"
	Missing    State = "missing"
	OnServer   State = "on a server"
	Hosted     State = "hosted"
	NotReached State = "not reached" // a network place that did not answer in time
)

// Survey is what is on a computer.
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
	Unreadable int               `json:"unreadable,omitempty"` // how many places could not be read
}

// Space is what the kit's medium must hold, in bytes.
type Space struct {
	AtMost   int64  `json:"bytes_needed_at_most"`
	Sealed   int64  `json:"bytes_needed_estimate"` // by a sample of the content
	Free     uint64 `json:"bytes_free"`
	Known    bool   `json:"free_known"` // whether there is a kit to look at
	System   string `json:"file_system,omitempty"`
	MaxFile  uint64 `json:"largest_file,omitempty"`
	PartSize int64  `json:"largest_part"` // of a sealed file
}

// App is what is there of one app.
type App struct {
	App         string        `json:"app"`
	Title       string        `json:"title"`
	Found       bool          `json:"found"`
	Version     string        `json:"version,omitempty"`
	VersionFrom string        `json:"version_read_from,omitempty"`
	Edition     string        `json:"edition,omitempty"`
	Withheld    [][]string    `json:"commands_not_run,omitempty"`
	Running     []string      `json:"running,omitempty"`
	Items       []Item        `json:"items"`
	Licences    []Licence     `json:"licences,omitempty"`
	Sync        []Sync        `json:"sync,omitempty"`
	Requires    []Required    `json:"requires,omitempty"`
	LeftBehind  []string      `json:"left_behind,omitempty"`
	ByHand      []string      `json:"by_hand,omitempty"`
	Blocks      []steps.Block `json:"would_stop_pack,omitempty"`

	Places []Place     `json:"-"` // one an item, in the same order
	Facts  steps.Facts `json:"-"` // for the gates of a pack
}

// Item is what is there of one item.
type Item struct {
	Item       string          `json:"item"`
	Kind       card.Kind       `json:"kind"`
	User       string          `json:"user,omitempty"`
	Path       string          `json:"path,omitempty"`  // real path, or the address of one that stays
	Where      string          `json:"where,omitempty"` // the same, as the computer itself writes it
	State      State           `json:"state"`
	Secret     bool            `json:"secret,omitempty"`
	Files      int64           `json:"files"`
	Bytes      int64           `json:"bytes"`
	Sealed     int64           `json:"bytes_sealed_estimate,omitempty"`
	Newest     *time.Time      `json:"newest_change,omitempty"`
	Left       []string        `json:"left_behind,omitempty"`
	Needs      []string        `json:"needs,omitempty"`
	OpenBy     []string        `json:"open_by,omitempty"`
	Unreadable []string        `json:"unreadable,omitempty"` // at most maxNamed
	Reached    *bool           `json:"reached,omitempty"`    // of a network place; nil where it was not tried
	Details    []string        `json:"details,omitempty"`    // more that was seen
	Lacks      []string        `json:"lacks,omitempty"`      // files that its tables need and that are not there
	Locked     string          `json:"locked,omitempty"`     // who has it open, as its lock file says
	Tables     []desktop.Table `json:"tables,omitempty"`     // of a folder of dBase tables, or of a Jet database
	Stamp      string          `json:"-"`
}

// Licence is what is there of one licence.
type Licence struct {
	Licence string          `json:"licence"`
	Method  card.Method     `json:"method"`
	Serial  string          `json:"serial"`          // masked; "" where it was not found
	Typed   bool            `json:"typed,omitempty"` // it is not all on the computer, and a person types the rest
	Secrets licence.Secrets `json:"-"`
}

// Sync is whether the app has sent everything.
type Sync struct {
	About    string `json:"about"`
	Finished bool   `json:"finished"`
	Known    bool   `json:"known"`
	Why      string `json:"why,omitempty"`
}

// Required is whether something is there that the app cannot work without.
type Required struct {
	Name string `json:"name"`
	Here bool   `json:"here"`
}

// maxNamed is how many names of one sort are told of an item.
const maxNamed = 10

// Looker looks at one computer.
type Looker struct {
	Computer machine.Computer
	KitDir   string         // "" where there is no kit yet
	Target   machine.System // of the new computer; "" stands for the same
	Commands bool           // whether a person has agreed to the cards' commands
	Estimate bool           // whether content is sampled for its sealed size
	Limit    time.Duration  // how long a network place may keep silent; 0 stands for Limit
	Temp     string         // private folder, made when needed
	// Ask asks a person for a password; nil where nobody can be asked.
	Ask       func(prompt string) (string, error)
	Passwords map[string]string // that were asked for, by address
	Progress  func(app, item, user string)
}

// Limit is how long a network place may keep silent.
const Limit = 5 * time.Second

func (l *Looker) limit() time.Duration {
	if l.Limit > 0 {
		return l.Limit
	}
	return Limit
}

// Prober reads single values from the computer.
func (l *Looker) Prober() probe.Prober {
	return probe.Prober{Computer: l.Computer, Commands: l.Commands}
}

// Look surveys the apps of cards; facts gives those of the gates that are
// known without looking.
func (l *Looker) Look(ctx context.Context, cards []*card.Card, facts func(*card.Card) steps.Facts) (*Survey, error) {
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
		a.Blocks = steps.Check(steps.Pack, a.Facts)
		for _, i := range a.Items {
			s.Space.AtMost += i.Bytes
			s.Space.Sealed += i.Sealed
			s.Unreadable += len(i.Unreadable)
		}
		s.Apps = append(s.Apps, *a)
	}
	s.Space.Sealed = min(s.Space.Sealed, s.Space.AtMost)
	if l.KitDir != "" {
		v, err := machine.VolumeOf(l.KitDir)
		if err != nil {
			return nil, err
		}
		s.Space.Free, s.Space.Known, s.Space.System, s.Space.MaxFile = v.Free, true, v.Type, v.MaxFile
	}
	s.Notes = l.Computer.Notes()
	return s, nil
}

// App surveys one app, and gathers the facts for its packing.
func (l *Looker) App(ctx context.Context, c *card.Card, f steps.Facts) (*App, error) {
	a := &App{App: c.Name, Title: c.Title, LeftBehind: c.LeftBehind, ByHand: c.ByHand}
	f.Consistent = true
	var err error
	if a.Places, err = l.Places(ctx, c); err != nil {
		return nil, err
	}
	if err := l.version(ctx, c, a); err != nil {
		return nil, err
	}
	here := map[string]bool{}
	for i := range a.Places {
		p := &a.Places[i]
		if l.Progress != nil {
			l.Progress(c.Name, p.Item.Name, p.Key.User)
		}
		is, bad, err := l.item(ctx, p)
		if err != nil {
			return nil, err
		}
		is.Where = is.Path
		if is.Path != "" && !p.Item.Kind.Stays() && !p.Item.Kind.Served() {
			is.Where = machine.Spoken(l.Computer, is.Path)
		}
		a.Items = append(a.Items, is)
		f.Need += is.Bytes
		f.BadNames = append(f.BadNames, bad...)
		f.Unreadable = append(f.Unreadable, is.Unreadable...)
		f.LacksNeed = append(f.LacksNeed, is.Lacks...)
		if is.Locked != "" {
			f.Open = append(f.Open, is.Locked)
		}
		if p.Item.Kind.Stays() {
			continue
		}
		f.Consistent = f.Consistent && p.Item.Kind.Consistent() && !p.AsFile
		if p.Found {
			a.Found, here[p.Item.Name] = true, true
		} else if !p.Item.Optional {
			f.Missing = append(f.Missing, l.absent(*p))
		}
	}
	for i := range c.Items {
		it := &c.Items[i]
		for _, n := range it.Needs {
			if here[it.Name] && !here[n] && !c.Item(n).Kind.Stays() {
				f.LacksNeed = append(f.LacksNeed, it.Name+" is useless without "+n+", which is not here")
			}
		}
	}
	if err := l.licences(ctx, c, a, &f); err != nil {
		return nil, err
	}
	if err := l.inUse(ctx, c, a, &f); err != nil {
		return nil, err
	}
	if err := l.exports(ctx, c, a, &f); err != nil {
		return nil, err
	}
	for _, s := range c.Sync {
		st, err := l.sync(ctx, c, s, a.Places)
		if err != nil {
			return nil, err
		}
		if !st.Finished {
			f.Unsynced = append(f.Unsynced, st.About+": "+st.Why)
		}
		a.Sync = append(a.Sync, st)
	}
	if a.Requires, err = l.Requires(c); err != nil {
		return nil, err
	}
	if err := l.space(a, &f); err != nil {
		return nil, err
	}
	a.Facts = f
	return a, nil
}

// absent says that an item is not there, and where it was looked for.
func (l *Looker) absent(p Place) string {
	if p.Why != "" {
		return p.Label() + ": " + p.Why
	}
	where := p.Item.Path.On(string(l.Computer.System()))
	if where == "" {
		return fmt.Sprintf("%s (the card gives no path for a %s computer)", p.Label(), l.Computer.System())
	}
	if p.Silent {
		return p.Label() + " at " + where + ", which did not answer"
	}
	return p.Label() + " at " + where
}

// version reads the app's version and edition.
func (l *Looker) version(ctx context.Context, c *card.Card, a *App) error {
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

// Version is an app's version and edition on a computer.
type Version struct {
	probe.Found
	Edition string
}

// Version reads the version of an app; it is empty where it is not there.
func (l *Looker) Version(ctx context.Context, c *card.Card) (v Version, err error) {
	if c.Version == nil {
		return v, nil
	}
	if v.Found, err = l.Prober().Read(ctx, &c.Version.Source, nil); err != nil {
		return v, err
	}
	edition, err := l.Prober().Read(ctx, c.Version.Edition, nil)
	v.Edition = edition.Value
	return v, err
}

// item surveys one item. It also returns the names that the new computer's
// system forbids.
func (l *Looker) item(ctx context.Context, p *Place) (is Item, bad []string, err error) {
	is = Item{Item: p.Item.Name, Kind: p.Item.Kind, User: p.Key.User, Path: p.Path, State: Missing, Secret: p.Item.Secret, Needs: p.Item.Needs}
	switch {
	case p.Item.Kind.Stays():
		return is, nil, l.stays(ctx, p, &is)
	case p.Item.Kind.Served():
		return is, nil, l.served(ctx, p, &is)
	case p.Silent:
		is.State = NotReached
		return is, nil, nil
	case !p.Found:
		return is, nil, nil
	}
	is.State = Here
	if p.Item.Kind == card.SQLite {
		if err := is.database(p.Path); err != nil {
			return is, nil, err
		}
		if encrypted, err := sqlite.Encrypted(p.Path); err == nil && encrypted {
			p.AsFile = true
			is.Details = append(is.Details, "encrypted, by all that can be seen: it is moved as a file, and its content cannot be counted")
		}
		return is, nil, l.sampleDatabase(p.Path, &is)
	}
	if l.KitDir != "" && Inside(l.KitDir, p.Path) {
		return is, nil, fault.New(fault.Usage, "the kit lies in %s, which is to be packed into it; make it elsewhere", p.Path)
	}
	bad, err = l.folder(ctx, p, &is)
	if err == nil && p.Found {
		if damage := desktopFiles(p, &is); damage != nil {
			is.Unreadable = append(is.Unreadable, damage.Error())
		}
	}
	return is, bad, err
}

// folder measures a folder or file. Places in it that cannot be read are
// named, and the rest is measured.
func (l *Looker) folder(ctx context.Context, p *Place, is *Item) (bad []string, err error) {
	var names tree.WindowsNames
	var sample sampler
	toWindows := l.Target == machine.Windows
	source := p.Source(l.Computer)
	var st *tree.Stats
	err = l.watched(p.Path, func(alive func()) (err error) {
		st, err = source.Measure(ctx, func(e tree.Entry) {
			alive()
			sample.see(e)
			if !toWindows || !e.Travels() {
				return
			}
			if why := names.Refuses(e.Path); why != "" && len(bad) < maxNamed {
				bad = append(bad, p.Label()+": "+e.Path+" ("+why+")")
			}
		}, func(problem tree.Problem) {
			if len(is.Unreadable) < maxNamed {
				is.Unreadable = append(is.Unreadable, fmt.Sprintf("%s: %v", problem.Path, reason(problem.Err)))
			}
		})
		return err
	})
	if err == errSilent {
		is.State, p.Found, p.Silent = NotReached, false, true
		is.Unreadable = append(is.Unreadable, p.Path+": it did not answer")
		return nil, nil
	}
	if err != nil {
		return bad, err
	}
	is.Files, is.Bytes, is.Left, is.Stamp = st.Files, st.Bytes, st.Left, st.Stamp()
	is.Newest = &st.Newest
	if l.Estimate {
		is.Sealed = sample.estimate(source, st)
	}
	return bad, nil
}

// reason is an error's own words, without the path that is told beside it.
func reason(err error) error {
	if pe, ok := err.(*os.PathError); ok {
		return pe.Err
	}
	return err
}

// database measures a database file with its side files.
func (is *Item) database(path string) error {
	var newest time.Time
	for _, name := range append([]string{path}, sqlite.SideFiles(path)...) {
		info, err := os.Stat(name)
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read the database")
		}
		if name == path+"-shm" {
			continue // an index that the engine makes anew
		}
		is.Bytes += info.Size()
		is.Stamp += fmt.Sprintf("%d %s; ", info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano))
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	is.Files, is.Newest = 1, &newest
	return nil
}

// space holds what the app needs against what the kit's medium has.
func (l *Looker) space(a *App, f *steps.Facts) error {
	if l.KitDir == "" {
		f.Need = 0 // where it will go is not known yet
		return nil
	}
	v, err := machine.VolumeOf(l.KitDir)
	if err != nil {
		return err
	}
	f.Free = v.Free
	if !l.Estimate || f.Need <= 0 || uint64(f.Need) <= f.Free {
		return nil
	}
	// What is sealed is smaller; a tenth more than the sample tells is enough,
	// and a disk that does get full stops the pack without a loss.
	var sealed int64
	for _, i := range a.Items {
		sealed += i.Sealed
	}
	f.Need = min(f.Need, sealed+sealed/10+sampleMargin)
	return nil
}
