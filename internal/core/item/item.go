// Package item defines Parts, the operations that each kind implements to move one item, and the
// code that kinds share. Package kinds has the table of all kinds.
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
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Instance is one item at one location on a computer.
type Instance struct {
	*run.Host
	Run          *run.Run // nil if there is no kit yet
	Key          steps.Key
	Item         *card.Item
	User         *machine.User
	Path         string      // real path, or address; "" if unknown
	InKit        *steps.Item // the recorded state in the kit; nil if none
	OldAddress   string      // for an item that stays: its address on the old computer
	Card         *card.Card
	ChosenPath   string            // the destination that the user chose; "" if none
	ChosenParent string            // the same for the folder that contains several items
	ProposedPath string            // the path in the kit, which the user must confirm; "" if none
	FromSetting  string            // the setting that the path was read from; "" if none
	PathMap      *pathmap.Map      // maps the old computer's profiles and drives to this one; nil on the old computer
	PathUpdates  *PathUpdates      // nil if paths in settings are not updated
	UserMap      map[string]string // user here, by user of the old computer
	RunAsMe      bool              // database objects of a user that is missing here run as the user who unpacks
	LeftOut      []string          // others of several items, left out by the card and reported with this one
	Group        *Group            // items sealed in the same snapshot; nil if there are no others
}

// Group is a set of items that an app uses together.
type Group struct {
	Members []*Instance
	Copies  map[steps.Key]string // copies made of them that are not sealed yet
}

// Table has a function for each kind, which returns the parts for an item. The function opens
// nothing. The parts open what they need on first use, and Close releases it.
type Table map[card.Kind]func(*Instance) Parts

// Open returns the parts for an item.
func (t Table) Open(o *Instance) Parts { return t[o.Item.Kind](o) }

// Label returns the item's name for messages.
func (o *Instance) Label() string { return Label(o.Key) }

// Label returns an item's name for messages.
func Label(k steps.Key) string {
	if k.User != "" {
		return fmt.Sprintf("%s of %s", k.Item, k.User)
	}
	return k.Item
}

// Stream returns the name of the item's sealed streams, without suffix. User names are escaped so
// that every file system allows them.
func (o *Instance) Stream() string {
	name := o.Key.Item
	if which := o.SubPath(); which != "" {
		// Names that differ only in letter case must stay different on every file system.
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

// FileName escapes a name so that every file system allows it.
func FileName(name string) string { return strings.ReplaceAll(url.PathEscape(name), ":", "%3A") }

// ListEnding is the suffix of the stream with the list of an item's files.
const ListEnding = ".list" + seal.Ending

// List opens the item's sealed list. The caller closes it.
func (o *Instance) List() (*tree.ListReader, io.Closer, error) {
	r, err := o.Run.Kit.Open(o.Key.App, o.InKit.Sealed.List)
	if err != nil {
		return nil, nil, fault.Wrap(fault.Damaged, err, "cannot read the list of %s", o.Key.Item)
	}
	return tree.NewListReader(r), r, nil
}

// Progress reports the start of work on the item, and returns a function that counts its bytes.
// total is 0 if unknown.
func (o *Instance) Progress(what string, total int64) func(int64) { return o.Begin(o.Key, what, total) }

// State says where an item is.
type State string

// The states of items.
const (
	IsHere     State = "here"
	Missing    State = "missing"
	OnServer   State = "on a server"
	Hosted     State = "hosted"
	NotReached State = "not reached" // a network location that did not answer in time
)

// Options says how to inspect an item.
type Options struct {
	KitDir   string         // "" if there is no kit yet
	More     bool           // the kit continues on another medium when its own is full
	Target   machine.System // system of the new computer; "" means the same as here
	Estimate bool           // sample the content to estimate its sealed size
	Again    bool           // the item is sealed already, so that unreadable files are known
}

// Inspection is the result of inspecting one item.
type Inspection struct {
	Item        string      `json:"item"`
	Kind        card.Kind   `json:"kind"`
	User        string      `json:"user,omitempty"`
	Path        string      `json:"path,omitempty"`           // real path, or the address of an item that stays
	Where       string      `json:"where,omitempty"`          // the same, as the computer itself writes it
	PathSetting string      `json:"path_read_from,omitempty"` // the setting that it was read from
	State       State       `json:"state"`
	Secret      bool        `json:"secret,omitempty"`
	Files       int64       `json:"files"`
	Bytes       int64       `json:"bytes"`
	Sealed      int64       `json:"bytes_sealed_estimate,omitempty"`
	Newest      *time.Time  `json:"newest_change,omitempty"`
	Counts      []Counted   `json:"counts,omitempty"`
	Warnings    []string    `json:"doubts,omitempty"` // possible mistakes
	Left        []string    `json:"left_behind,omitempty"`
	LeftOut     []string    `json:"left_out,omitempty"` // what the card leaves out, with counts and sizes
	Needs       []string    `json:"needs,omitempty"`
	OpenBy      []string    `json:"open_by,omitempty"`
	InUse       bool        `json:"packed_in_use,omitempty"` // it is packed from a snapshot while its app runs
	Unreadable  []string    `json:"unreadable,omitempty"`    // at most MaxNamed
	Reached     *bool       `json:"reached,omitempty"`       // of a network location; nil if it was not tried
	Details     []string    `json:"details,omitempty"`       // other findings
	Damaged     []string    `json:"damaged,omitempty"`       // why a database in files does not seem to be whole
	Lacks       []string    `json:"lacks,omitempty"`         // files that it needs and that are missing
	Locked      string      `json:"locked,omitempty"`        // who has it open, according to its lock file
	Tables      []kit.Table `json:"tables,omitempty"`        // of a database in files
	Since       *Drift      `json:"since_sealed,omitempty"`  // changes since it was sealed; nil if it is not sealed
	Stamp       string      `json:"-"`                       // changes when the item does; "" if unknown
	MetaStamp   string      `json:"-"`                       // also changes if only metadata does; "" if the kind has none
	Stays       bool        `json:"-"`                       // it stays where it is
	OnDisk      bool        `json:"-"`                       // it is on the computer's own disks
	Held        []string    `json:"-"`                       // why it cannot be packed now: connected users
	BadNames    []string    `json:"-"`                       // names that the new computer's system does not allow, at most MaxNamed
	Why         string      `json:"-"`                       // why it is missing
}

// Counted is the result of a count in the card.
type Counted struct {
	Name   string `json:"name"`
	Value  int64  `json:"value"`
	Expect *int64 `json:"expected,omitempty"`
}

// Drift describes how an item on the old computer changed since it was sealed.
type Drift struct {
	Sealed time.Time   `json:"sealed"`
	Same   bool        `json:"same"`
	Known  bool        `json:"compared"`      // it was compared with the sealed data
	Why    string      `json:"why,omitempty"` // why the comparison failed
	Rows   []steps.Row `json:"rows,omitempty"`
	Count  int64       `json:"count,omitempty"`       // number of differences
	Diffs  []string    `json:"differences,omitempty"` // the first differences, at most 20
}

// MaxNamed is the number of names of one sort that are listed for an item.
const MaxNamed = 10

// Named collects the names of one sort that are listed for an item.
type Named struct {
	first []string
	n     int
}

// Add adds a name.
func (s *Named) Add(name string) {
	if s.n++; s.n <= MaxNamed {
		s.first = append(s.first, name)
	}
}

// List returns the first MaxNamed names, and how many more there are.
func (s *Named) List() []string {
	if s.n <= MaxNamed {
		return s.first
	}
	return append(s.first[:MaxNamed:MaxNamed], fmt.Sprintf("and %d more", s.n-MaxNamed))
}

// Blank returns the inspection of an item before anything is read.
func (o *Instance) Blank() *Inspection {
	return &Inspection{Item: o.Key.Item, Kind: o.Item.Kind, User: o.Key.User, Path: o.Path, Where: o.Path, State: Missing, Secret: o.Item.Secret, Needs: o.Item.Needs, PathSetting: o.FromSetting}
}

// Row returns a row of two counts.
func Row(what string, old, now int64) steps.Row {
	return steps.Row{What: what, Old: fmt.Sprint(old), New: fmt.Sprint(now), Same: old == now}
}

// Content returns the row for n compared hashes or digests. differences also counts those that are
// missing or new, so that it can be larger than n.
func Content(n int64, one, many string, differences int64) steps.Row {
	r := steps.Row{What: steps.ContentRow, Old: fmt.Sprintf("%d %s", n, many), New: "all equal", Same: differences == 0}
	if n == 1 {
		r.Old, r.New = "1 "+one, "equal"
	}
	if differences > 0 {
		r.New = Plural(differences, "difference")
	}
	return r
}

// Plural formats a number with its noun.
func Plural(n int64, word string) string {
	return humanize.Comma(n) + " " + english.PluralWord(int(n), word, "")
}

// Reason returns an error without the path, which the message has already.
func Reason(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// CountTables adds the number of tables and records to the inspection.
func (is *Inspection) CountTables() {
	var records int64
	for _, t := range is.Tables {
		records += t.Records
	}
	is.Details = append(is.Details, Plural(int64(len(is.Tables)), "table")+", "+Plural(records, "record"))
}

// AddRecords adds the records of each table, old and new. err says why the new counts are
// incomplete.
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
