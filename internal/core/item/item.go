// Package item defines what moving one item takes: Parts, which each kind's package returns, and the code that
// kinds share. Package kinds has the table of all kinds.
package item

import (
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/repoint"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// One is one item at a place on a computer.
type Instance struct {
	*run.Host
	Run          *run.Run // nil where there is no kit yet
	Key          steps.Key
	Item         *card.Item
	User         *machine.User
	Path         string      // real path, or address; "" where it is not known
	InKit        *steps.Item // what the kit has of it; nil where that is nothing
	OldAddress   string      // of what stays: its address as the old computer has it
	Card         *card.Card
	ChosenPath   string            // where it goes on this computer, as a person said; "" where nobody did
	ChosenParent string            // the same of the folder of many
	FromSetting  string            // the setting that told where it is; "" where none did
	PathMap      *repoint.Map      // the old computer's profiles and drives as they are here; nil on that one
	PathUpdates  *PathUpdates      // nil where settings are left as they are
	UserMap      map[string]string // who takes over here, by user of the old computer
	RunAsMe      bool              // what runs as somebody who is not here runs as who puts it there
	LeftOut      []string          // others of many that the card leaves out, told with this one
	Group        *Group            // of items that are sealed as of one moment; nil where it is alone
}

// Group are items that an app uses together.
type Group struct {
	Members []*Instance
	Copies  map[steps.Key]string // copies that are made of them, and not sealed yet
}

// Table has a function for each kind, which returns what the kind can do with an item. It opens nothing: what
// the parts need is opened when they first use it, and released by Close.
type Table map[card.Kind]func(*Instance) Parts

// Open returns what can be done with an item.
func (t Table) Open(o *Instance) Parts { return t[o.Item.Kind](o) }

// Label names the item for a person.
func (o *Instance) Label() string { return Label(o.Key) }

// Label names an item for a person.
func Label(k steps.Key) string {
	if k.User != "" {
		return fmt.Sprintf("%s of %s", k.Item, k.User)
	}
	return k.Item
}

// Stream is the name of the item's sealed streams, without ending. A user's name
// is written so that every file system takes it.
func (o *Instance) Stream() string {
	name := o.Key.Item
	if which := o.Which(); which != "" {
		// Two that differ in letter case only are two on every medium.
		name = o.Item.Name + "@" + FileName(which[:min(len(which), 60)])
		if short := digest.Of([]byte(which)).String()[:8]; len(which) > 60 || strings.ToLower(which) != which {
			name += "~" + short
		}
	}
	if o.Key.User != "" {
		name += "@" + FileName(o.Key.User)
	}
	return name
}

// FileName writes a name so that every file system takes it.
func FileName(name string) string { return strings.ReplaceAll(url.PathEscape(name), ":", "%3A") }

// ListEnding is that of the stream that lists what is in an item.
const ListEnding = ".list" + seal.Ending

// List opens the sealed list of the item; the caller closes it.
func (o *Instance) List() (*tree.ListReader, io.Closer, error) {
	r, err := o.Run.Kit.Open(o.Key.App, o.InKit.Sealed.List)
	if err != nil {
		return nil, nil, fault.Wrap(fault.Damaged, err, "cannot read the list of %s", o.Key.Item)
	}
	return tree.NewListReader(r), r, nil
}

// Progress tells that work on the item begins, and returns what counts its
// bytes. total is 0 where it is not known.
func (o *Instance) Progress(what string, total int64) func(int64) { return o.Begin(o.Key, what, total) }

// State is where an item is.
type State string

// The states of items.
const (
	IsHere     State = "here"
	Missing    State = "missing"
	OnServer   State = "on a server"
	Hosted     State = "hosted"
	NotReached State = "not reached" // a network place that did not answer in time
)

// Looking is how an item is looked at.
type Options struct {
	KitDir   string         // "" where there is no kit yet
	Target   machine.System // of the new computer; "" stands for the same
	Estimate bool           // whether content is sampled for its sealed size
	Again    bool           // it is sealed: whether it can be read is known
}

// Look is what is there of one item.
type Inspection struct {
	Item        string      `json:"item"`
	Kind        card.Kind   `json:"kind"`
	User        string      `json:"user,omitempty"`
	Path        string      `json:"path,omitempty"`           // real path, or the address of one that stays
	Where       string      `json:"where,omitempty"`          // the same, as the computer itself writes it
	PathSetting string      `json:"path_read_from,omitempty"` // the setting that told it
	State       State       `json:"state"`
	Secret      bool        `json:"secret,omitempty"`
	Files       int64       `json:"files"`
	Bytes       int64       `json:"bytes"`
	Sealed      int64       `json:"bytes_sealed_estimate,omitempty"`
	Newest      *time.Time  `json:"newest_change,omitempty"`
	Counts      []Counted   `json:"counts,omitempty"`
	Warnings    []string    `json:"doubts,omitempty"` // what may not be what is meant
	Left        []string    `json:"left_behind,omitempty"`
	LeftOut     []string    `json:"left_out,omitempty"` // what the card leaves out, with counts and sizes
	Needs       []string    `json:"needs,omitempty"`
	OpenBy      []string    `json:"open_by,omitempty"`
	InUse       bool        `json:"packed_in_use,omitempty"` // it is packed as of one moment while its app runs
	Unreadable  []string    `json:"unreadable,omitempty"`    // at most MaxNamed
	Reached     *bool       `json:"reached,omitempty"`       // of a network place; nil where it was not tried
	Details     []string    `json:"details,omitempty"`       // more that was seen
	Lacks       []string    `json:"lacks,omitempty"`         // files that it needs and that are not there
	Locked      string      `json:"locked,omitempty"`        // who has it open, as its lock file says
	Tables      []kit.Table `json:"tables,omitempty"`        // of a database in files
	Since       *Drift      `json:"since_sealed,omitempty"`  // what became of it; nil where nothing of it is sealed
	Stamp       string      `json:"-"`                       // changes when the item does; "" where that is not known
	Stays       bool        `json:"-"`                       // it stays where it is
	OnDisk      bool        `json:"-"`                       // it lies on the computer's own disks
	Held        []string    `json:"-"`                       // why it cannot be packed now: who is connected
	BadNames    []string    `json:"-"`                       // names that the new computer's system forbids, at most MaxNamed
	Why         string      `json:"-"`                       // why it is not there
}

// Counted is a figure that the card asks for.
type Counted struct {
	Name   string `json:"name"`
	Value  int64  `json:"value"`
	Expect *int64 `json:"expected,omitempty"`
}

// Drift is what became of an item on the old computer since it was sealed.
type Drift struct {
	Sealed time.Time   `json:"sealed"`
	Same   bool        `json:"same"`
	Known  bool        `json:"compared"`      // whether it was held against what is sealed
	Why    string      `json:"why,omitempty"` // why it is not known whether it is the same
	Rows   []steps.Row `json:"rows,omitempty"`
	Count  int64       `json:"count,omitempty"`       // of the differences
	Diffs  []string    `json:"differences,omitempty"` // the first of them, at most 20
}

// MaxNamed is how many names of one sort are told of an item.
const MaxNamed = 10

// Named gathers the names of one sort that are told of an item.
type Named struct {
	first []string
	n     int
}

// Add gathers one more.
func (s *Named) Add(name string) {
	if s.n++; s.n <= MaxNamed {
		s.first = append(s.first, name)
	}
}

// List returns the first MaxNamed of them, and says how many more there are.
func (s *Named) List() []string {
	if s.n <= MaxNamed {
		return s.first
	}
	return append(s.first[:MaxNamed:MaxNamed], fmt.Sprintf("and %d more", s.n-MaxNamed))
}

// Blank is what is said of an item before it is looked at.
func (o *Instance) Blank() *Inspection {
	return &Inspection{Item: o.Key.Item, Kind: o.Item.Kind, User: o.Key.User, Path: o.Path, Where: o.Path, State: Missing, Secret: o.Item.Secret, Needs: o.Item.Needs, PathSetting: o.FromSetting}
}

// Row makes a row of two figures.
func Row(what string, old, now int64) steps.Row {
	return steps.Row{What: what, Old: fmt.Sprint(old), New: fmt.Sprint(now), Same: old == now}
}

// Content makes the row of n compared hashes, or digests, of which some differ.
func Content(n int64, one, many string, differ int64) steps.Row {
	r := steps.Row{What: "content", Old: fmt.Sprintf("%d %s", n, many), New: "all equal", Same: differ == 0}
	if n == 1 {
		r.Old, r.New = "1 "+one, "equal"
	}
	if differ > 0 {
		r.New = fmt.Sprintf("%d differ", differ)
	}
	return r
}

// Plural writes a number with its word.
func Plural(n int64, word string) string {
	return humanize.Comma(n) + " " + english.PluralWord(int(n), word, "")
}

// Reason is an error's own words, without the path that is told beside it.
func Reason(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// CountTables tells how many tables and records there are.
func (is *Inspection) CountTables() {
	var records int64
	for _, t := range is.Tables {
		records += t.Records
	}
	is.Details = append(is.Details, Plural(int64(len(is.Tables)), "table")+", "+Plural(records, "record"))
}

// AddRecords adds the records of each table, old and new; err is why those of
// now are not all there.
func AddRecords(out *steps.Checked, old, now []kit.Table, err error) {
	here := map[string]string{}
	for _, t := range now {
		here[t.Name] = fmt.Sprint(t.Records)
	}
	for _, t := range old {
		r := steps.Row{What: "records of " + t.Name, Old: fmt.Sprint(t.Records), New: here[t.Name]}
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
