package move

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/version"
)

// Readiness is what the new computer lacks before an unpack.
type Readiness struct {
	Computer string         `json:"computer"`
	System   machine.System `json:"system"`
	Users    []string       `json:"users"`
	Checks   []Check        `json:"checks"`
	Compared bool           `json:"compared"` // whether what is in the way was held against the kit
	Notes    []string       `json:"notes,omitempty"`
}

// Check is one thing that was looked at on the new computer.
type Check struct {
	App   string `json:"app,omitempty"` // title; "" for the computer itself
	What  string `json:"what"`
	Ready bool   `json:"ready"`
	Says  string `json:"says"`            // what was found
	First string `json:"first,omitempty"` // what must be done first
}

// Ready reports whether nothing is left to be done first.
func (r *Readiness) Ready() bool {
	for _, c := range r.Checks {
		if !c.Ready {
			return false
		}
	}
	return true
}

func (r *Readiness) add(app, what string, ready bool, says, first string) {
	if ready {
		first = ""
	}
	r.Checks = append(r.Checks, Check{app, what, ready, says, first})
}

// OnNew looks at the new computer before an unpack, and changes nothing on it.
// What is in the way is held against the kit where that is unlocked.
func (j *Job) OnNew(ctx context.Context) (*Readiness, error) {
	if j.Side() == steps.OldSide {
		return nil, fault.New(fault.Usage, "this is the old computer %s itself; run this on the new one", j.Computer.Name())
	}
	cards, err := j.cards()
	if err != nil {
		return nil, err
	}
	r := &Readiness{Computer: j.Computer.Name(), System: j.Computer.System(), Users: []string{}, Compared: j.Kit.Unlocked()}
	for _, u := range j.Computer.Users() {
		r.Users = append(r.Users, u.Name)
	}
	if want := j.Kit.Manifest.New.System; want != j.Computer.System() {
		r.add("", "system", false, fmt.Sprintf("this is a %s computer", j.Computer.System()), fmt.Sprintf("The kit was made for a %s computer.", want))
	}
	if r.Compared {
		defer j.dropTemp()
	}
	need := map[string]int64{}
	for _, c := range cards {
		if err := j.onNewApp(ctx, c, r, need); err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the survey was stopped")
		}
	}
	if err := j.onNewSpace(r, need); err != nil {
		return nil, err
	}
	r.Notes = j.Computer.Notes()
	return r, nil
}

func (j *Job) onNewApp(ctx context.Context, c *card.Card, r *Readiness, need map[string]int64) error {
	packed := j.State().Packed[c.Name]
	if packed == nil {
		r.add(c.Title, "kit", false, "not packed yet", "Run `movekit pack` on the old computer; the data can be looked at then.")
	}
	if err := j.onNewVersion(ctx, c, packed, r); err != nil {
		return err
	}
	required, err := j.lookerFor(c, false).Requires(c)
	if err != nil {
		return err
	}
	for _, q := range required {
		r.add(c.Title, q.Name, q.Here, map[bool]string{true: "here", false: "not here"}[q.Here], "Install it.")
	}
	running, err := j.running(ctx, c)
	if err != nil {
		return err
	}
	if len(running) > 0 {
		r.add(c.Title, "closed", false, "running: "+strings.Join(running, ", "), "Close it before the unpack.")
	}
	for i := range c.Items {
		it := &c.Items[i]
		if it.Kind.Stays() {
			if err := j.onNewStay(ctx, c, it, packed, r); err != nil {
				return err
			}
		}
	}
	if packed == nil {
		return nil
	}
	asked := map[string]bool{}
	for i, key := range packed.Items {
		if key.User != "" && !asked[key.User] {
			asked[key.User] = true
			j.onNewUser(c, key.User, r)
		}
		where := ""
		if i < len(packed.Where) {
			where = packed.Where[i]
		}
		if err := j.onNewItem(ctx, c, key, where, r, need); err != nil {
			return err
		}
	}
	return nil
}

// onNewVersion holds the version and edition here against the card's rule.
func (j *Job) onNewVersion(ctx context.Context, c *card.Card, packed *steps.Packed, r *Readiness) error {
	if c.Version == nil {
		return nil
	}
	here, err := j.version(ctx, c)
	if err != nil {
		return err
	}
	old := "not known yet"
	if packed != nil && packed.Version != "" {
		old = packed.Version
	}
	says := fmt.Sprintf("%s here, %s on %s (%s)", orWord(here.Value, "not"), old, j.Kit.Manifest.Old.Name, c.Version.Rule)
	switch {
	case here.Value == "" && len(here.Withheld) > 0:
		r.add(c.Title, "version", false, says, "Agree to run "+strings.Join(here.Withheld, " ")+" with --run-commands.")
	case here.Value == "":
		r.add(c.Title, "version", false, says, "Install it, and do not start it yet.")
	case packed == nil || packed.Version == "":
		r.add(c.Title, "version", true, says, "")
	default:
		r.add(c.Title, "version", version.Allows(c.Version.Rule, packed.Version, here.Value), says, "Install a version that may take over the data.")
	}
	if c.Version.Edition != nil {
		was := ""
		if packed != nil {
			was = packed.Edition
		}
		r.add(c.Title, "edition", was == "" || strings.EqualFold(was, here.Edition), fmt.Sprintf("%s here, %s on %s", orWord(here.Edition, "not known"), orWord(was, "not known"), j.Kit.Manifest.Old.Name), "Install the same edition.")
	}
	return nil
}

func orWord(s, word string) string {
	if s == "" {
		return word
	}
	return s
}

// onNewStay looks at a server or account that the app goes on using.
func (j *Job) onNewStay(ctx context.Context, c *card.Card, it *card.Item, packed *steps.Packed, r *Readiness) error {
	if packed != nil {
		for _, s := range packed.Stays {
			if s.Item == it.Name && s.Address != "" {
				pinned := *it
				pinned.Address, pinned.From = s.Address, nil // as the old computer has it
				it = &pinned
			}
		}
	}
	is, err := j.lookerFor(c, false).Stay(ctx, it)
	if err != nil {
		return err
	}
	switch {
	case it.Kind == card.Hosted:
		r.add(c.Title, it.Name, true, "hosted at "+orWord(is.Path, "an address not known"), "")
	case is.Reached == nil:
		r.add(c.Title, it.Name, true, "on a server, "+orWord(is.Path, "address not known")+"; not tried, as this is a disk", "")
	default:
		r.add(c.Title, it.Name, *is.Reached, map[bool]string{true: "reached", false: "not reached"}[*is.Reached]+": "+is.Path, "Connect this computer to that network, or see that the server is up.")
	}
	return nil
}

// onNewUser says who takes over from a user of the old computer.
func (j *Job) onNewUser(c *card.Card, old string, r *Readiness) {
	name := old
	if to := j.Users[old]; to != "" {
		name = to
	}
	what := "user " + old
	if u := machine.FindUser(j.Computer, name); u != nil {
		r.add(c.Title, what, true, "is "+u.Name+" here", "")
	} else if u := machine.Counterpart(j.Computer, name); u != nil {
		r.add(c.Title, what, false, "is not here; "+u.Name+" may be the same person", fmt.Sprintf("Say so with --user %s=%s, here and for unpack.", old, u.Name))
	} else {
		r.add(c.Title, what, false, "is not here", fmt.Sprintf("Make the user, or say who takes over with --user %s=NEW.", old))
	}
}

// onNewItem looks at the place where an item will go.
func (j *Job) onNewItem(ctx context.Context, c *card.Card, key steps.Key, was string, r *Readiness, need map[string]int64) error {
	t, err := j.targetOf(ctx, c, j.State().Items[key])
	if fault.KindOf(err) == fault.NoUser {
		return nil // told with the users
	}
	label := itemLabel(key)
	if kind := fault.KindOf(err); kind == fault.Missing || kind == fault.BadCard {
		r.add(c.Title, label, false, err.Error(), "Make that drive or folder, or correct the card.")
		return nil
	}
	if err != nil {
		return err
	}
	if drive := filepath.VolumeName(t.path); !t.card.Kind.Served() && drive != "" {
		if there, err := machine.Exists(drive + `\`); err != nil || !there {
			r.add(c.Title, label, false, "there is no drive "+drive+" here", "Connect that drive, or correct the card.")
			return nil
		}
	}
	there, err := j.there(ctx, t)
	if t.card.Kind.Served() && err != nil && ctx.Err() == nil {
		r.add(c.Title, label, false, err.Error(), "See that the database server here runs and lets you in.")
		return nil
	}
	if err != nil {
		return err
	}
	if j.Kit.Unlocked() {
		lacks, err := j.lacks(ctx, t)
		if err != nil {
			return err
		}
		for _, l := range lacks {
			r.add(c.Title, label, false, l, "Install it for the database server, or a newer server.")
		}
	}
	says := "nothing in the way"
	same := false
	switch {
	case there && j.Kit.Unlocked():
		if same, err = j.sameAlready(ctx, t); err != nil {
			return err
		}
		says = map[bool]string{true: "the same is here already", false: "something else is in the way; unpack sets it aside"}[same]
	case there:
		says = "something is in the way (not compared: no passphrase given); unpack sets it aside"
	}
	here := t.path
	if !t.card.Kind.Served() {
		here = machine.Spoken(j.Computer, t.path)
	}
	if was != "" && !strings.EqualFold(was, here) {
		says += "; it was " + was + " and will be " + here
	}
	if !same && !t.card.Kind.Served() {
		need[t.path] = t.item.Sealed.Bytes
	}
	r.add(c.Title, label, true, says, "")
	return nil
}

// onNewSpace adds up what will be written, volume by volume.
func (j *Job) onNewSpace(r *Readiness, need map[string]int64) error {
	type volume struct {
		at   string
		need int64
		free uint64
	}
	volumes := map[string]*volume{}
	for _, path := range slices.Sorted(maps.Keys(need)) {
		v, err := machine.VolumeOf(path)
		if err != nil {
			return err
		}
		if volumes[v.ID] == nil {
			volumes[v.ID] = &volume{at: path, free: v.Free}
		}
		volumes[v.ID].need += need[path]
	}
	for _, id := range slices.Sorted(maps.Keys(volumes)) {
		v := volumes[id]
		r.add("", "space", uint64(v.need) <= v.free, fmt.Sprintf("%s are needed at %s, %s are free", humanize.Bytes(uint64(v.need)), machine.Spoken(j.Computer, v.at), humanize.Bytes(v.free)), "Free space there.")
	}
	return nil
}
