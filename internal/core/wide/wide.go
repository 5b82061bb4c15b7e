// Package wide finds data on a computer that no card covers and that looks like an application's.
// It reports its observations (a file's content, a folder's size and latest change). The technician
// decides whether to move the data.
package wide

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Class is a class of findings.
type Class string

// The classes.
const (
	Server   Class = "database server"
	Database Class = "database"
	Mail     Class = "mail store"
	Key      Class = "private key"
	Licence  Class = "licence file" // by name
	Dump     Class = "database dump"

	Certificate Class = "certificate"
	Folder      Class = "folder"
	Program     Class = "installed program"
	Registry    Class = "registry"
	Surrounding Class = "around an app" // what is not moved with an app's data
)

// Finding is something that no card covers.
type Finding struct {
	Class   Class     `json:"class"`
	What    string    `json:"what"`  // what was found, and how
	Where   string    `json:"where"` // real path, or registry key
	User    string    `json:"user,omitempty"`
	Count   int64     `json:"count,omitempty"` // number of items of this kind
	Files   int64     `json:"files,omitempty"`
	Bytes   int64     `json:"bytes,omitempty"`
	Newest  time.Time `json:"newest_change,omitzero"`
	Recent  bool      `json:"recent"`            // changed within the requested number of days
	Details []string  `json:"details,omitempty"` // at most maxDetails
	folder  string    // data folder of a running server
	App     string    `json:"app,omitempty"` // of a Surrounding: the app that it belongs to, if that is known
	// Job is the name of a service, or of a schedule, as a card has it; "" for anything else.
	Job   string `json:"job,omitempty"`
	Timed bool   `json:"-"` // Job is a schedule
	// Shows is a registry key that exists where it is installed, if another computer can be checked for it.
	Shows string `json:"-"`
	// Named is the name that settings may use for it, such as H:\ or a printer's name.
	Named string `json:"-"`
}

// maxDetails limits the details of one finding.
const maxDetails = 12

// Result is the result of a search.
type Result struct {
	Computer   string    `json:"computer"`
	Days       int       `json:"recent_days"`
	Findings   []Finding `json:"findings"`
	More       int64     `json:"more_findings,omitempty"` // beyond maxFindings
	Files      int64     `json:"files_seen"`
	Opened     int64     `json:"files_opened"`
	Claimed    []string  `json:"covered_by_cards,omitempty"`
	Passed     []string  `json:"passed_over"` // what was not searched, and why
	Unreadable []string  `json:"unreadable,omitempty"`
	Unread     int64     `json:"unreadable_count,omitempty"`
	Notes      []string  `json:"notes,omitempty"`
}

// Search has the options of a search.
type Search struct {
	*run.Host
	Cards  []*card.Card
	KitDir string // not searched; "" for none
	Days   int    // number of days in which a change counts as recent
	Now    time.Time
	Seen   func(files int64) // gets the number of files seen
}

// Run searches for data that no card covers.
func (s *Search) Run(ctx context.Context) (*Result, error) {
	if s.Now.IsZero() {
		s.Now = time.Now()
	}
	r := &Result{Computer: s.Computer.Name(), Days: s.Days, Findings: []Finding{}, Passed: []string{}}
	covered, err := s.claims(ctx, r)
	if err != nil {
		return nil, err
	}
	w := newWalker(ctx, s, covered)
	if err := w.run(); err != nil {
		return nil, err
	}
	w.report(r)
	for _, f := range s.servers(ctx) {
		// A running server has more information about its data folder than the folder itself.
		r.Findings = slices.DeleteFunc(r.Findings, func(other Finding) bool { return other.Class == Server && f.folder != "" && other.Where == f.folder })
		r.Findings = append(r.Findings, f)
	}
	r.Findings = append(r.Findings, s.installed()...)
	r.Findings = append(r.Findings, s.registry(ctx)...)
	r.Findings = append(r.Findings, Around(s.Computer)...)
	since := s.Now.AddDate(0, 0, -s.Days)
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Recent = f.Newest.After(since)
		f.Where = machine.DisplayPath(s.Computer, f.Where)
	}
	slices.SortStableFunc(r.Findings, compare)
	r.Notes = s.Computer.Notes()
	return r, nil
}

// compare sorts by importance: data in use before unused data, databases and keys before folders,
// and larger before smaller.
func compare(a, b Finding) int {
	return cmp.Or(cmp.Compare(a.tier(), b.tier()), strings.Compare(a.App, b.App), cmp.Compare(b.Bytes, a.Bytes), b.Newest.Compare(a.Newest), strings.Compare(a.Where, b.Where))
}

func (f Finding) tier() int {
	switch f.Class {
	case Server:
		return 0
	case Program:
		return 6
	case Registry:
		return 7
	case Surrounding:
		return 8
	case Folder:
		if f.Recent {
			return 3
		}
		return 5
	case Database, Mail:
		if f.Recent {
			return 1
		}
		return 4
	case Key, Licence:
		return 2
	}
	return 4
}

// covered has the paths and keys that the cards' items cover.
type covered struct {
	whole  map[string]bool // folders with all their content
	files  map[string]bool
	partly []tree.Source // folders with only some files covered
}

func (s *Search) claims(ctx context.Context, r *Result) (*covered, error) {
	c := &covered{whole: map[string]bool{}, files: map[string]bool{}}
	l := survey.Scanner{Host: s.Host, Kinds: kinds.All}
	for _, cd := range s.Cards {
		places, err := l.Places(ctx, cd)
		if err != nil {
			return nil, err
		}
		for _, p := range places {
			if !p.Found {
				continue
			}
			path := p.Path
			if real, err := filepath.EvalSymlinks(path); err == nil {
				path = real
			}
			switch {
			case p.Item.Kind.Info().Folder && len(p.Item.Include) == 0:
				c.whole[path] = true
			case p.Item.Kind.Info().Folder:
				c.partly = append(c.partly, p.Source(false))
			default:
				for _, side := range append(p.Item.Kind.Info().Sides, "") {
					c.files[path+side] = true
				}
			}
			r.Claimed = append(r.Claimed, machine.DisplayPath(s.Computer, path))
		}
		for _, path := range cd.Reads() {
			s.reads(c, path)
		}
	}
	if s.KitDir != "" {
		if real, err := filepath.EvalSymlinks(s.KitDir); err == nil {
			if abs, err := filepath.Abs(real); err == nil {
				c.whole[abs] = true
			}
		}
	}
	return c, nil
}

// reads marks a file as covered if a card reads values from it.
func (s *Search) reads(c *covered, path card.Path) {
	p := path.On(string(s.Computer.System()))
	if p == "" {
		return
	}
	for _, u := range machine.Profiles(s.Computer, p) {
		if real, err := s.Computer.Locate(p, u); err == nil {
			c.files[real] = true
		}
	}
}

// file reports whether a file is covered.
func (c *covered) file(path string) bool {
	if c.files[path] {
		return true
	}
	for _, s := range c.partly {
		if rel, err := filepath.Rel(s.Root, path); err == nil && filepath.IsLocal(rel) && s.Includes(filepath.ToSlash(rel)) {
			return true
		}
	}
	return false
}
