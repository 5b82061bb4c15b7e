package move

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
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
	Says  string `json:"says"` // what was found
	Need  Need   `json:"need,omitempty"`
	First string `json:"first,omitempty"` // the need in words, by whoever shows it
	Of    string `json:"-"`               // what the need is about
	With  string `json:"-"`               // and who or what may meet it
}

// Need is what must be done before an unpack.
type Need string

// The needs.
const (
	NeedSystem      Need = "other-system"     // the kit was made for a computer of another system
	NeedPack        Need = "pack"             // the app must be packed
	NeedAgreement   Need = "agreement"        // a person must agree to a command
	NeedInstall     Need = "install"          // it must be installed
	NeedApp         Need = "install-app"      // the app must be installed, and not be started yet
	NeedVersion     Need = "install-version"  // a version that may take over the data
	NeedEdition     Need = "install-edition"  // the same edition
	NeedClose       Need = "close"            // the app must be closed
	NeedNetwork     Need = "network"          // the computer must be connected, or the server be up
	NeedUser        Need = "user"             // a user must be made, or somebody take over
	NeedCounterpart Need = "user-counterpart" // somebody here may be the same person
	NeedPlace       Need = "place"            // a drive or folder
	NeedDrive       Need = "drive"
	NeedServer      Need = "server"       // the database server must run, and let us in
	NeedServerParts Need = "server-parts" // something must be installed for the server, or a newer one
	NeedSpace       Need = "space"
	NeedOther       Need = "other-computer" // another computer is bound as the new one
	NeedNames       Need = "names"          // this system forbids a name
	NeedCovered     Need = "covered"        // the licence does not cover what is installed
)

// Ready reports whether nothing is left to be done first.
func (r *Readiness) Ready() bool {
	return !slices.ContainsFunc(r.Checks, func(c Check) bool { return !c.Ready })
}

// ready notes what is as it should be.
func (r *Readiness) ready(app, what, says string) {
	r.Checks = append(r.Checks, Check{App: app, What: what, Ready: true, Says: says})
}

// lacks notes what must be done first. The check holds until the next is noted.
func (r *Readiness) lacks(app, what, says string, need Need) *Check {
	r.Checks = append(r.Checks, Check{App: app, What: what, Says: says, Need: need})
	return &r.Checks[len(r.Checks)-1]
}

// note notes either.
func (r *Readiness) note(app, what string, ready bool, says string, need Need) {
	if ready {
		r.ready(app, what, says)
	} else {
		r.lacks(app, what, says, need)
	}
}

// OnNew looks at the new computer before an unpack, and changes nothing on it.
// What is in the way is held against the kit where that is unlocked.
func (m *Move) OnNew(ctx context.Context) (*Readiness, error) {
	if m.Side() == steps.OldSide {
		return nil, fault.New(fault.Usage, "this is the old computer %s itself; run this on the new one", m.Computer.Name())
	}
	cards, err := m.Chosen()
	if err != nil {
		return nil, err
	}
	r := &Readiness{Computer: m.Computer.Name(), System: m.Computer.System(), Users: []string{}, Compared: m.Kit.Unlocked()}
	for _, u := range m.Computer.Users() {
		r.Users = append(r.Users, u.Name)
	}
	if want := m.Manifest.New.System; want != m.Computer.System() {
		r.lacks("", "system", fmt.Sprintf("this is a %s computer; the kit was made for a %s computer", m.Computer.System(), want), NeedSystem)
	}
	if m.Side() == steps.ThirdSide {
		r.lacks("", "computer", "the new computer of this move is "+m.State.New.Name, NeedOther)
	}
	defer m.Private.Drop()
	need := volumes{}
	for _, c := range cards {
		if err := m.onNewApp(ctx, c, r, need); err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the survey was stopped")
		}
	}
	m.onNewSpace(r, need)
	r.Notes = m.Computer.Notes()
	if m.Kit.Unlocked() && m.Side() == steps.NewSide && !slices.ContainsFunc(slices.Collect(maps.Values(m.Say.Users)), func(name string) bool { return machine.FindUser(m.Computer, name) == nil }) {
		return r, m.settle()
	}
	return r, nil
}

func (m *Move) onNewApp(ctx context.Context, c *card.Card, r *Readiness, need volumes) error {
	packed := m.State.Packed[c.Name]
	if packed == nil {
		r.lacks(c.Title, "kit", "not packed yet", NeedPack)
	}
	here, err := m.onNewVersion(ctx, c, packed, r)
	if err != nil {
		return err
	}
	f := steps.Facts{Side: steps.NewSide, NewVersion: here.Value, NewEdition: here.Edition}
	for i, cover := range covered(c) {
		if why := cover.Lacks(f); why != nil && here.Value != "" {
			r.lacks(c.Title, "licence "+c.Licences[i].Name, why[0], NeedCovered)
		}
	}
	if looked := (steps.Looked{Version: here.Value, Edition: here.Edition}); m.Kit.Unlocked() && here.Value != "" && (m.State.Looked[c.Name] == nil || *m.State.Looked[c.Name] != looked) {
		// What frees the licence on the old computer is told whether this can take it up.
		if err := m.Record(journal.EventLooked, steps.Key{App: c.Name}, looked); err != nil {
			return err
		}
	}
	required, err := m.looker(c, false).Requires(c)
	if err != nil {
		return err
	}
	for _, q := range required {
		r.note(c.Title, q.Name, q.Here, map[bool]string{true: "here", false: "not here"}[q.Here], NeedInstall)
	}
	running, err := m.running(ctx, c)
	if err != nil {
		return err
	}
	if len(running) > 0 {
		r.lacks(c.Title, "closed", "running: "+strings.Join(running, ", "), NeedClose)
	}
	if err := m.onNewStays(ctx, c, packed, r); err != nil {
		return err
	}
	if packed == nil {
		return nil
	}
	asked := map[string]bool{}
	for i, key := range packed.Items {
		if key.User != "" && !asked[key.User] {
			asked[key.User] = true
			m.onNewUser(c, key.User, r)
		}
		where := ""
		if i < len(packed.Where) {
			where = packed.Where[i]
		}
		if err := m.onNewItem(ctx, c, key, where, r, need); err != nil {
			return err
		}
	}
	return nil
}

// onNewVersion holds the version and edition here against the card's rule.
func (m *Move) onNewVersion(ctx context.Context, c *card.Card, packed *steps.Packed, r *Readiness) (here run.Version, err error) {
	if c.Version == nil {
		return here, nil
	}
	if here, err = m.For(c).Version(ctx, c); err != nil {
		return here, err
	}
	old := "not known yet"
	if packed != nil && packed.Version != "" {
		old = packed.Version
	}
	says := fmt.Sprintf("%s here, %s on %s (%s)", cmp.Or(here.Value, "not"), old, m.Manifest.Old.Name, c.Version.Rule)
	switch {
	case here.Value == "" && len(here.Withheld) > 0:
		r.lacks(c.Title, "version", says, NeedAgreement).Of = strings.Join(here.Withheld, " ")
	case here.Value == "":
		r.lacks(c.Title, "version", says, NeedApp)
	default:
		allowed := packed == nil || packed.Version == "" || version.Allows(c.Version.Rule, packed.Version, here.Value)
		r.note(c.Title, "version", allowed, says, NeedVersion)
	}
	if c.Version.Edition != nil {
		was := ""
		if packed != nil {
			was = packed.Edition
		}
		r.note(c.Title, "edition", was == "" || strings.EqualFold(was, here.Edition), fmt.Sprintf("%s here, %s on %s", cmp.Or(here.Edition, "not known"), cmp.Or(was, "not known"), m.Manifest.Old.Name), NeedEdition)
	}
	return here, nil
}

// onNewStays looks at the servers and accounts that the app goes on using: as the
// old computer has them, where that is known.
func (m *Move) onNewStays(ctx context.Context, c *card.Card, packed *steps.Packed, r *Readiness) error {
	for _, p := range m.looker(c, false).Staying(c, packed) {
		is, err := p.Look(ctx, item.Looking{})
		if err != nil {
			return err
		}
		where := cmp.Or(p.Card.Kind.Info().StaysAt, "there") + ", " + cmp.Or(is.Path, "address not known")
		switch {
		case is.Reached != nil:
			r.note(c.Title, p.Card.Name, *is.Reached, map[bool]string{true: "reached", false: "not reached"}[*is.Reached]+": "+is.Path, NeedNetwork)
		default:
			r.ready(c.Title, p.Card.Name, where+"; not tried")
		}
	}
	return nil
}

// onNewUser says who takes over from a user of the old computer.
func (m *Move) onNewUser(c *card.Card, old string, r *Readiness) {
	name := m.say().UserHere(old)
	what := "user " + old
	if u := machine.FindUser(m.Computer, name); u != nil {
		r.ready(c.Title, what, "is "+u.Name+" here")
		return
	}
	check := r.lacks(c.Title, what, "is not here", NeedUser)
	check.Of = old
	if u := machine.Counterpart(m.Computer, name); u != nil {
		check.Says, check.Need, check.With = "is not here; "+u.Name+" may be the same person", NeedCounterpart, u.Name
	}
}

// onNewItem looks at the place where an item will go.
func (m *Move) onNewItem(ctx context.Context, c *card.Card, key steps.Key, was string, r *Readiness, need volumes) error {
	label := item.Label(key)
	t, err := m.Kinds.Target(ctx, m.Run, c, m.State.Items[key], m.say())
	switch fault.KindOf(err) {
	case fault.NoUser:
		return nil // told with the users
	case fault.Missing, fault.BadCard:
		var drive machine.NoDrive
		if errors.As(err, &drive) {
			r.lacks(c.Title, label, drive.Error(), NeedDrive).Of = string(drive)
			return nil
		}
		r.lacks(c.Title, label, err.Error(), NeedPlace)
		return nil
	}
	if err != nil {
		return err
	}
	defer t.Close()
	here, disk := t.Mover.Where()
	if drive := filepath.VolumeName(disk); drive != "" {
		if there, err := machine.Exists(drive + `\`); err != nil || !there {
			gone := machine.NoDrive(strings.TrimSuffix(drive, ":"))
			r.lacks(c.Title, label, gone.Error(), NeedDrive).Of = string(gone)
			return nil
		}
	}
	there, err := t.Exists(ctx, t.Path)
	if disk == "" && err != nil && ctx.Err() == nil {
		r.lacks(c.Title, label, err.Error(), NeedServer)
		return nil
	}
	if err != nil {
		return err
	}
	if m.Kit.Unlocked() {
		if err := onNewLacks(ctx, t, r, disk != ""); err != nil {
			return err
		}
	}
	says, same := "nothing in the way", false
	if there {
		if says, same, err = m.onNewInTheWay(ctx, t, disk != ""); err != nil {
			return err
		}
	}
	if was != "" && !strings.EqualFold(was, here) {
		says += "; it was " + was + " and will be " + here
	}
	if !same {
		if err := need.add(t.Mover.Volume(ctx), t.Known.Sealed.Bytes); err != nil {
			return err
		}
	}
	r.ready(c.Title, label, says)
	return nil
}

// onNewLacks notes what the computer, or its server, lacks for an item.
func onNewLacks(ctx context.Context, t item.Target, r *Readiness, onDisk bool) error {
	lacks, err := t.Mover.Lacks(ctx)
	if err != nil {
		return err
	}
	need := NeedServerParts
	if onDisk {
		need = NeedPlace
	}
	for _, l := range lacks.Reasons {
		r.lacks(t.App.Title, t.Label(), l, need)
	}
	for _, name := range lacks.BadNames {
		r.lacks(t.App.Title, t.Label(), name, NeedNames)
	}
	for _, name := range t.Strangers() {
		r.lacks(t.App.Title, t.Label(), "belongs to "+name+", who is not here", NeedUser).Of = name
	}
	return nil
}

// onNewInTheWay says what is where an item will go, and whether it is the same, which
// is not known where the kit is locked.
func (m *Move) onNewInTheWay(ctx context.Context, t item.Target, onDisk bool) (says string, same bool, err error) {
	says = "something is in the way (not compared: no passphrase given); unpack sets it aside"
	if m.Kit.Unlocked() {
		if same, err = t.Mover.Same(ctx, t.Path); err != nil {
			return "", false, err
		}
		says = map[bool]string{true: "the same is here already", false: "something else is in the way; unpack sets it aside"}[same]
	}
	if same || !onDisk {
		return says, same, nil
	}
	is, err := t.Look(ctx, item.Looking{})
	if err != nil {
		return "", false, err
	}
	made, err := m.started(ctx, t, is)
	if err != nil {
		return "", false, err
	}
	if made {
		says = fmt.Sprintf("%s was started here (on %s, after it was installed), and what it made of its own is in the way; unpack sets it aside", t.App.Title, is.Newest.Local().Format("2 January 2006"))
	}
	another, err := t.Another()
	if another {
		says += "; it is another profile than the one that comes"
	}
	return strings.Join(append([]string{says}, is.Doubts...), "; "), false, err
}

// onNewSpace adds up what will be written, volume by volume.
func (m *Move) onNewSpace(r *Readiness, need volumes) {
	for _, id := range slices.Sorted(maps.Keys(need)) {
		v := need[id]
		r.note("", "space", v.over() <= 0, fmt.Sprintf("%s are needed on the drive of %s, %s are free", humanize.Bytes(uint64(v.need)), machine.Spoken(m.Computer, v.at), humanize.Bytes(v.free)), NeedSpace)
	}
}
