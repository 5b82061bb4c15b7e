package run

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/private"
	"movekit/internal/core/steps"
)

// local is what this computer remembers about a kit. It is stored in the user's cache, outside the
// kit, so that somebody who can write the kit cannot change it.
type local struct {
	// Lines and Mac record how far the kit's journal was when it was last used here. They show
	// whether a copy of the kit is outdated.
	Lines int    `json:"lines"`
	Mac   string `json:"mac"` // MAC of the last line
	// Confirmed lists the destinations that were chosen or used here. A destination that is only in
	// the kit's journal is not used.
	Confirmed []string `json:"confirmed,omitempty"`
}

func (r *Run) localFile() (string, error) {
	dir := r.Marks
	if dir == "" {
		cache, err := private.Cache()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(cache, "kits")
	}
	return filepath.Join(dir, r.Manifest.ID+".json"), nil
}

// local reads the record, once. A missing or unreadable record is empty.
func (r *Run) local() *local {
	if r.here == nil {
		r.here = &local{}
		if name, err := r.localFile(); err == nil {
			if data, err := os.ReadFile(name); err == nil && bytejson.Unmarshal(data, r.here) != nil {
				r.here = &local{}
			}
		}
	}
	return r.here
}

// save stores the record. Without it, destinations must be confirmed again.
func (r *Run) save() {
	name, err := r.localFile()
	if err != nil {
		return
	}
	data, err := bytejson.Marshal(r.local())
	if err == nil && os.MkdirAll(filepath.Dir(name), 0o700) == nil {
		journal.WriteFile(name, data, 0o600) //nolint:errcheck // a missing record makes nothing unsafe
	}
}

// outdated compares this copy of the kit with other copies that were used on this computer. If this
// one is outdated, it returns a description; otherwise "".
func (r *Run) outdated() string {
	r.here = nil
	m := r.local()
	lines := r.Kit.Lines()
	switch {
	case m.Lines < 1:
	case len(lines) < m.Lines:
		return fmt.Sprintf("another copy of this kit was used here: its journal has %d lines, this one has %d", m.Lines, len(lines))
	case lines[m.Lines-1].MAC != m.Mac:
		return fmt.Sprintf("another copy of this kit was used here: line %d of its journal differs from this copy", m.Lines)
	}
	return ""
}

// remember stores how far the kit's journal is now.
func (r *Run) remember() {
	lines := r.Kit.Lines()
	if len(lines) == 0 || !r.Kit.Unlocked() {
		return
	}
	m := r.local()
	m.Lines, m.Mac = len(lines), lines[len(lines)-1].MAC
	r.save()
}

// LockPlace keeps other runs on this computer, with this or another kit, from putting data at a path
// until unlock is called. If another run does that now, the error is of kind Busy.
func (r *Run) LockPlace(path string) (unlock func(), err error) {
	name, err := r.localFile()
	dir := filepath.Join(filepath.Dir(name), "places")
	if err != nil || os.MkdirAll(dir, 0o700) != nil {
		return func() {}, nil // without a folder of this user, two runs cannot detect each other
	}
	lock := flock.New(filepath.Join(dir, digest.Of([]byte(r.Self().ID + "\x00" + path)).String()[:32]))
	free, err := lock.TryLock()
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot lock %s", lock.Path())
	}
	if !free {
		return nil, fault.New(fault.Busy, "another run of Move Kit is putting data at %s", machine.DisplayPath(r.Computer, path))
	}
	return func() { lock.Unlock() }, nil //nolint:errcheck // the end of the program unlocks it too
}

// The kinds of confirmed destinations.
const (
	AtHome = "home"  // of an item: its address and path
	AtUser = "user"  // a user of the old computer, and the user here
	AtDisk = "drive" // a drive letter of the old computer, and the folder here
	AtPath = "place" // an item's address, and the path that the user chose
	AtText = "texts" // an item's address, and the hash of its path updates
)

// confirmation is an entry of local.Confirmed. It has the id of the computer, because several disks
// can be used on one computer.
func (r *Run) confirmation(kind, key, value string) string {
	return strings.Join([]string{r.Self().ID, kind, key, value}, "\x00")
}

// Confirmed reports whether a destination was chosen or used on this computer.
func (r *Run) Confirmed(kind, key, value string) bool {
	return slices.Contains(r.local().Confirmed, r.confirmation(kind, key, value))
}

// Confirm records that a destination was chosen or used on this computer.
func (r *Run) Confirm(kind, key, value string) {
	if m := r.local(); !r.Confirmed(kind, key, value) {
		m.Confirmed = append(m.Confirmed, r.confirmation(kind, key, value))
		r.save()
	}
}

// Homes returns the paths at which an item was found or put on this computer.
func (r *Run) Homes(address string) (out []string) {
	lead := r.confirmation(AtHome, address, "")
	for _, c := range r.local().Confirmed {
		if path, is := strings.CutPrefix(c, lead); is {
			out = append(out, path)
		}
	}
	return out
}

// chosen lists the entries of choices by their kind.
func chosen(c steps.Chosen) map[string]map[string]string {
	return map[string]map[string]string{AtUser: c.Users, AtDisk: c.Drives, AtPath: c.Places}
}

// ConfirmChoices records that the user made choices in this run.
func (r *Run) ConfirmChoices(c steps.Chosen) {
	for kind, all := range chosen(c) {
		for key, value := range all {
			r.Confirm(kind, key, value)
		}
	}
}

// Trusted returns the choices in the journal that were made on this computer, and describes the
// others.
func (r *Run) Trusted() (steps.Chosen, []string) {
	out := steps.Chosen{Users: map[string]string{}, Drives: map[string]string{}, Places: map[string]string{}}
	var others []string
	to := chosen(out)
	for kind, all := range chosen(r.State.Chosen) {
		for _, key := range slices.Sorted(maps.Keys(all)) {
			if r.Confirmed(kind, key, all[key]) {
				to[kind][key] = all[key]
			} else {
				others = append(others, fmt.Sprintf("%s %s: %s", kind, key, all[key]))
			}
		}
	}
	slices.Sort(others)
	return out, others
}
