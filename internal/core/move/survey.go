package move

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/sqlite"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Survey is what is on a computer of the apps in the kit.
type Survey struct {
	Computer string         `json:"computer"`
	System   machine.System `json:"system"`
	Side     steps.Side     `json:"side"`
	Users    []string       `json:"users"`
	Apps     []AppSurvey    `json:"apps"`
	Need     int64          `json:"bytes_needed_at_most"`
	Free     uint64         `json:"bytes_free"`
}

// AppSurvey is what is there of one app.
type AppSurvey struct {
	App        string          `json:"app"`
	Title      string          `json:"title"`
	Found      bool            `json:"found"`
	Version    string          `json:"version,omitempty"`
	Items      []ItemSurvey    `json:"items"`
	Licences   []LicenceSurvey `json:"licences,omitempty"`
	LeftBehind []string        `json:"left_behind,omitempty"`
	ByHand     []string        `json:"by_hand,omitempty"`
	Blocks     []steps.Block   `json:"would_stop_pack,omitempty"`
}

// ItemSurvey is what is there of one item.
type ItemSurvey struct {
	Item   string     `json:"item"`
	Kind   card.Kind  `json:"kind"`
	User   string     `json:"user,omitempty"`
	Path   string     `json:"path,omitempty"`
	Found  bool       `json:"found"`
	Files  int64      `json:"files"`
	Bytes  int64      `json:"bytes"`
	Newest *time.Time `json:"newest_change,omitempty"`
	Left   []string   `json:"left_behind,omitempty"`
	Stamp  string     `json:"-"`
}

// LicenceSurvey is what is there of one licence.
type LicenceSurvey struct {
	Licence string      `json:"licence"`
	Method  card.Method `json:"method"`
	Serial  string      `json:"serial"` // masked; "" where it was not found
	secrets licence.Secrets
}

// Survey looks at the computer and changes nothing on it.
func (j *Job) Survey(ctx context.Context) (*Survey, error) {
	cards, err := j.cards()
	if err != nil {
		return nil, err
	}
	s := &Survey{Computer: j.Computer.Name(), System: j.Computer.System(), Side: j.side(), Users: []string{}}
	for _, u := range j.Computer.Users() {
		s.Users = append(s.Users, u.Name)
	}
	for _, c := range cards {
		a, f, _, err := j.look(ctx, c)
		if err != nil {
			return nil, err
		}
		if s.Side == steps.OldSide {
			a.Blocks = steps.Check(steps.Pack, f)
		}
		s.Need += f.Need
		s.Free = f.Free
		s.Apps = append(s.Apps, *a)
	}
	return s, nil
}

// look surveys one app, and gathers the facts for its packing.
func (j *Job) look(ctx context.Context, c *card.Card) (*AppSurvey, steps.Facts, []place, error) {
	a := &AppSurvey{App: c.Name, Title: c.Title, LeftBehind: c.LeftBehind, ByHand: c.ByHand}
	f := j.facts(c)
	f.Consistent = true
	places, err := j.places(c)
	if err != nil {
		return nil, f, nil, err
	}
	if a.Version, err = j.version(c); err != nil {
		return nil, f, nil, err
	}
	a.Found = a.Version != ""
	here := map[string]bool{}
	for _, p := range places {
		is, bad, err := j.lookAt(ctx, p)
		if err != nil {
			return nil, f, nil, err
		}
		a.Items = append(a.Items, is)
		f.Need += is.Bytes
		f.BadNames = append(f.BadNames, bad...)
		f.Consistent = f.Consistent && p.item.Kind.Consistent()
		if p.found {
			a.Found, here[p.item.Name] = true, true
		} else if !p.item.Optional {
			f.Missing = append(f.Missing, p.label()+" at "+p.item.Path.On(string(j.Computer.System())))
		}
	}
	for i := range c.Items {
		it := &c.Items[i]
		for _, n := range it.Needs {
			if here[it.Name] && !here[n] {
				f.LacksNeed = append(f.LacksNeed, it.Name+" is useless without "+n+", which is not here")
			}
		}
	}
	for _, l := range c.Licences {
		ls := LicenceSurvey{Licence: l.Name, Method: l.Method}
		if ls.secrets.Serial, err = machine.Value(j.Computer, l.Serial.File, l.Serial.Pattern, nil); err != nil {
			return nil, f, nil, err
		}
		if ls.secrets.Code, err = machine.Value(j.Computer, l.Code.File, l.Code.Pattern, nil); err != nil {
			return nil, f, nil, err
		}
		if ls.secrets.Serial == "" || ls.secrets.Code == "" {
			f.Missing = append(f.Missing, "the serial or code of the licence "+l.Name)
		} else {
			ls.Serial = licence.Mask(ls.secrets.Serial)
		}
		a.Licences = append(a.Licences, ls)
	}
	if f.Running, err = j.running(ctx, c); err != nil {
		return nil, f, nil, err
	}
	v, err := machine.VolumeOf(j.Kit.Dir)
	if err != nil {
		return nil, f, nil, err
	}
	f.Free = v.Free
	return a, f, places, nil
}

// maxBadNames is how many names that do not fit are told.
const maxBadNames = 10

// lookAt surveys one item. It also returns the names that the new computer's
// system forbids.
func (j *Job) lookAt(ctx context.Context, p place) (is ItemSurvey, bad []string, err error) {
	is = ItemSurvey{Item: p.item.Name, Kind: p.item.Kind, User: p.key.User, Path: p.path, Found: p.found}
	if !p.found {
		return is, nil, nil
	}
	if p.item.Kind == card.SQLite {
		return is, nil, is.database(p.path)
	}
	if inside(j.Kit.Dir, p.path) {
		return is, nil, fault.New(fault.Usage, "the kit lies in %s, which is to be packed into it; make it elsewhere", p.path)
	}
	var names tree.WindowsNames
	toWindows := j.Kit.Manifest.New.System == machine.Windows
	st, err := j.source(p.item, p.path).Measure(ctx, func(e tree.Entry) {
		if !toWindows || !e.Travels() {
			return
		}
		if why := names.Refuses(e.Path); why != "" && len(bad) < maxBadNames {
			bad = append(bad, p.label()+": "+e.Path+" ("+why+")")
		}
	}, nil)
	if err != nil {
		return is, nil, err
	}
	is.Files, is.Bytes, is.Left, is.Stamp = st.Files, st.Bytes, st.Left, st.Stamp()
	is.Newest = &st.Newest
	return is, bad, nil
}

// inside reports whether a folder lies in another.
func inside(dir, outer string) bool {
	dir, err := filepath.Abs(dir)
	if real, rerr := filepath.EvalSymlinks(dir); rerr == nil {
		dir = real
	}
	if real, rerr := filepath.EvalSymlinks(outer); rerr == nil {
		outer = real
	}
	rel, rerr := filepath.Rel(outer, dir)
	return err == nil && rerr == nil && filepath.IsLocal(rel)
}

// database measures a database file with its side files.
func (is *ItemSurvey) database(path string) error {
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
