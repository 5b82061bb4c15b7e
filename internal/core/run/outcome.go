package run

import (
	"slices"
	"time"

	"movekit/internal/core/licence"
	"movekit/internal/core/steps"
)

// Outcome is the result of a step for one app.
type Outcome struct {
	App      string             `json:"app"`
	Title    string             `json:"title"`
	Blocks   []steps.Block      `json:"stopped_by,omitempty"`
	Overrode []steps.Overridden `json:"overridden,omitempty"`
	Items    []ItemOutcome      `json:"items,omitempty"`
	Licences []LicenceOutcome   `json:"licences,omitempty"`
	Opened   *steps.Opened      `json:"opened,omitempty"`         // whether the app itself shows its data; nil if its card has no check
	MaySync  bool               `json:"may_sync_twice,omitempty"` // nobody has confirmed that the old computer's copy no longer syncs
	Err      error              `json:"-"`
	Also     []error            `json:"-"` // errors of other licences
	Error    string             `json:"error,omitempty"`
}

// Errs returns all errors.
func (o *Outcome) Errs() []error {
	if o.Err == nil {
		return o.Also
	}
	return append([]error{o.Err}, o.Also...)
}

// Changed reports whether the step did anything.
func (o *Outcome) Changed() bool { return len(o.Items)+len(o.Licences) > 0 }

// ItemOutcome is the result of a step for one item.
type ItemOutcome struct {
	Item        string   `json:"item"`
	User        string   `json:"user,omitempty"`
	Did         string   `json:"did"` // sealed, kept, gone, placed, renewed, same, skipped, checked, stays; by undo: taken back, was here, not taken back, unfinished, nothing; by retire: retired, retired already, gone, returned, was not retired, removed, removed before, changed
	Files       int64    `json:"files"`
	Bytes       int64    `json:"bytes"`
	Size        int64    `json:"sealed_bytes,omitempty"`
	To          string   `json:"to,omitempty"`
	Aside       string   `json:"set_aside,omitempty"`
	Back        string   `json:"back_from,omitempty"` // the set-aside data that was moved back
	Note        string   `json:"note,omitempty"`      // file that says where the item went
	Left        []string `json:"left_behind,omitempty"`
	LeftOut     []string `json:"left_out,omitempty"`      // what the card leaves out, with counts and sizes
	ManualStep  string   `json:"manual_step,omitempty"`   // manual step before the item is in place
	Notes       []string `json:"notes,omitempty"`         // notes for the technician
	NotRestored []string `json:"not_restored,omitempty"`  // owners and file metadata that could not be restored
	PathUpdates int64    `json:"paths_changed,omitempty"` // in its settings
	Equal       bool     `json:"equal,omitempty"`
	// Skipped is true if a difference is expected because the user kept the existing data.
	Skipped bool        `json:"skipped,omitempty"`
	Rows    []steps.Row `json:"rows,omitempty"`
	Diffs   []string    `json:"differences,omitempty"`
	Count   int64       `json:"difference_count,omitempty"`
}

// LicenceOutcome is the result of a step for one licence.
type LicenceOutcome struct {
	Licence   string        `json:"licence"`
	Serial    string        `json:"serial"` // masked
	Old       licence.State `json:"old"`
	New       licence.State `json:"new"`
	Transfers int           `json:"transfers_left"`
	Used      int           `json:"transfers_used"`
	Did       string        `json:"did"`                   // deactivated, activated, nothing, seen
	Trial     *time.Time    `json:"trial_until,omitempty"` // end of the trial period here
	Disabled  bool          `json:"taken_over,omitempty"`  // activation here disabled it on another computer
	// AlsoOn is the old computer's name if it has the licence too, although the move took it from another one.
	AlsoOn string `json:"also_on,omitempty"`
	// DisabledOn is the name of that computer.
	DisabledOn string `json:"taken_over_from,omitempty"`
	Token      string `json:"token,omitempty"`
	Aside      string `json:"set_aside,omitempty"`
	By         string `json:"by,omitempty"`
	Copy       string `json:"copy,omitempty"` // problem with the app's own copy of the licence here
	Good       bool   `json:"good"`
}

// Fail records an error in the outcome.
func (o *Outcome) Fail(err error) {
	if err != nil && o.Err == nil {
		o.Err, o.Error = err, err.Error()
	}
}

// Equal reports whether verify found the app the same on both computers.
func (o *Outcome) Equal() bool {
	return o.Err == nil && len(o.Blocks) == 0 &&
		!slices.ContainsFunc(o.Items, func(i ItemOutcome) bool { return !i.Equal && !i.Skipped }) &&
		(o.Opened == nil || o.Opened.Good || o.Opened.NotChecked != "") &&
		!slices.ContainsFunc(o.Licences, func(l LicenceOutcome) bool { return !l.Good && l.Trial == nil })
}
