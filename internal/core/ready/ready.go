package ready

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/place"
	"movekit/internal/core/steps"
)

// Readiness is the result of checking the new computer before an unpack.
type Readiness struct {
	Computer string         `json:"computer"`
	System   machine.System `json:"system"`
	Users    []string       `json:"users"`
	Checks   []Check        `json:"checks"`
	Compared bool           `json:"compared"` // existing data was compared with the kit
	Notes    []string       `json:"notes,omitempty"`
}

// Check is the result of one check on the new computer.
type Check struct {
	App   string     `json:"app,omitempty"` // app title; "" for the computer itself
	What  string     `json:"what"`
	Ready bool       `json:"ready"`
	Says  string     `json:"says"`            // what was found
	Gate  string     `json:"gate,omitempty"`  // the gate that stops a step because of it
	Stops steps.Step `json:"stops,omitempty"` // the step that it stops; "" if it is only a note
	Need  Need       `json:"need,omitempty"`  // what to do, if it is more specific than the gate's advice
	First string     `json:"first,omitempty"` // the same as text, filled in by the caller
	Of    string     `json:"-"`               // the object of the need
	With  string     `json:"-"`               // a possible solution
}

// Need is a task that must be done before an unpack.
type Need string

// The needs. A check without one uses the advice of its gate.
const (
	NeedSystem         Need = "other-system"    // the kit was made for a computer of another system
	NeedPack           Need = "pack"            // the app must be packed
	NeedAgreement      Need = "agreement"       // the user must agree to a command
	NeedInstall        Need = "install"         // a requirement must be installed
	NeedApp            Need = "install-app"     // the app must be installed, and not started yet
	NeedVersion        Need = "install-version" // a version that can read the data must be installed
	NeedEdition        Need = "install-edition" // the same edition must be installed
	NeedRun            Need = "run-installer"
	NeedInstallerAgain Need = "installer-again"  // the one in the kit is damaged
	NeedClose          Need = "close"            // the app must be closed
	NeedNetwork        Need = "network"          // the computer must be connected, or the server started
	NeedUser           Need = "user"             // a user must be created or mapped
	NeedCounterpart    Need = "user-counterpart" // a user here may be the same person
	NeedPlace          Need = "place"            // a drive or folder is missing
	NeedDrive          Need = "drive"
	NeedConfirm        Need = "confirm-place" // the user must confirm the destination in the kit
	NeedServer         Need = "server"        // the database server must run and accept the login
	NeedServerParts    Need = "server-parts"  // something must be installed for the server, or a newer server
	NeedSpace          Need = "space"
	NeedOther          Need = "other-computer" // another computer is bound as the new one
	NeedNames          Need = "names"          // this system does not allow a name
	NeedCovered        Need = "licence-covers" // the licence does not cover the installed version or edition
)

// Ready reports whether no gate would stop an unpack.
func (r *Readiness) Ready() bool {
	return !slices.ContainsFunc(r.Checks, func(c Check) bool { return c.Stops == steps.Unpack })
}

// good adds a passed check.
func (r *Readiness) good(app, what, says string) {
	r.Checks = append(r.Checks, Check{App: app, What: what, Ready: true, Says: says})
}

// bad adds a failed check. If gate is "", it is only a note. The caller may change the check until
// the next one is added.
func (r *Readiness) bad(app, what, says, gate string, need Need) *Check {
	r.Checks = append(r.Checks, Check{App: app, What: what, Says: says, Gate: gate, Need: need})
	return &r.Checks[len(r.Checks)-1]
}

// add adds a check.
func (r *Readiness) add(app, what string, good bool, says, gate string, need Need) {
	if good {
		r.good(app, what, says)
	} else {
		r.bad(app, what, says, gate, need)
	}
}

// Ready checks the new computer before an unpack. It uses the gates of Unpack, and the gates of
// Activate that can be checked in advance. It changes nothing here. Existing data is compared with
// the kit if the kit is unlocked.
func (k *Checker) Ready(ctx context.Context) (*Readiness, error) {
	if k.Side() == steps.OldSide && !k.Manifest.Keep {
		return nil, fault.New(fault.Usage, "this is the old computer %s itself; run this on the new one", k.Computer.Name())
	}
	cards, err := k.SelectedCards()
	if err != nil {
		return nil, err
	}
	r := &Readiness{Computer: k.Computer.Name(), System: k.Computer.System(), Users: []string{}, Compared: k.Kit.Unlocked()}
	for _, u := range k.Computer.Users() {
		r.Users = append(r.Users, u.Name)
	}
	if want := k.Manifest.New.System; want != k.Computer.System() {
		r.bad("", "system", fmt.Sprintf("this is a %s computer; the kit was made for a %s computer", k.Computer.System(), want), "", NeedSystem)
	}
	defer k.Private.Drop()
	// Verifying the sealed data takes as long as an unpack, which does it first.
	damage, err := k.Damage(ctx, []string{""}, nil)
	if err != nil {
		return nil, err
	}
	need := volumes{}
	for _, c := range cards {
		if err := k.readyApp(ctx, c, r, damage, need); err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the check was stopped")
		}
	}
	k.readySpace(r, need)
	if len(damage) == 0 {
		r.bad("", "kit", "the kit's own files are intact; its sealed data was not read, unpack does that first", "", "")
	}
	r.Notes = k.Computer.Notes()
	return r, nil
}

// readyApp checks one app.
func (k *Checker) readyApp(ctx context.Context, c *card.Card, r *Readiness, damage []kit.Damage, need volumes) error {
	g, err := k.Gather(ctx, c, damage)
	if err != nil {
		return err
	}
	defer item.Close(g.Targets)
	blocks, err := steps.Check(steps.Unpack, g.Gates)
	if err != nil {
		return err
	}
	later, licences, err := k.readyActivate(c, g)
	if err != nil {
		return err
	}
	if place := slices.IndexFunc(blocks, func(b steps.Block) bool { return steps.Find(b.Gate).Place }); place >= 0 {
		// On the wrong computer the other gates do not matter.
		b := blocks[place]
		check := Check{What: "computer", Says: b.Why, Gate: b.Gate, Stops: steps.Unpack}
		if b.Gate == "new-computer" {
			check.Need = NeedOther
		}
		if !slices.Contains(r.Checks, check) {
			r.Checks = append(r.Checks, check)
		}
		blocks, later = slices.Delete(blocks, place, place+1), nil
	}
	first := len(r.Checks)
	packed := k.State.Packed[c.Name]
	if packed == nil {
		r.bad(c.Title, "kit", "not packed yet", "packed", NeedPack)
	}
	k.readyVersion(c, packed, g, r)
	for _, q := range g.requires {
		r.add(c.Title, q.Name, q.Here, map[bool]string{true: "here", false: "not here"}[q.Here], "requirements-met", NeedInstall)
	}
	if len(g.Gates.Use.Running) > 0 {
		r.bad(c.Title, "closed", "running: "+strings.Join(g.Gates.Use.Running, ", "), "app-closed", NeedClose)
	}
	if err := k.readyStays(ctx, c, packed, r); err != nil {
		return err
	}
	if packed != nil {
		if err := k.readyItems(ctx, c, packed, g, r); err != nil {
			return err
		}
	}
	for id, v := range g.space {
		if need[id] == nil {
			need[id] = &disk{at: v.at, free: v.free}
		}
		need[id].need += v.need
	}
	r.byGates(c.Title, first, steps.Unpack, blocks, nil)
	r.byGates(c.Title, first, steps.Activate, later, licences)
	return nil
}

// readyActivate returns the gates that would stop Activate once the data is in place, with the
// licence that each stops. It does not ask licence services, and uses the kit's record.
func (k *Checker) readyActivate(c *card.Card, g *Facts) (out []steps.Block, licences []string, err error) {
	f := g.Gates
	f.Placed = true
	for i := range c.Licences {
		st := k.State.Standing(c, &c.Licences[i], nil, k.Now())
		if k.Manifest.Keep {
			break // a safety copy does not change licences
		}
		f.Seat = &steps.SeatFacts{Licence: st, Takeover: k.Licences.Exceptions.Takeover != "", Second: k.Licences.Exceptions.Second != "" || st.Second}
		blocks, err := steps.Check(steps.Activate, f)
		if err != nil {
			return nil, nil, err
		}
		for _, b := range blocks {
			if !slices.Contains(out, b) {
				out, licences = append(out, b), append(licences, "licence "+c.Licences[i].Name)
			}
		}
	}
	return out, licences, nil
}

// byGates marks the checks, from index first, that a gate stops at. A gate without a check gets a
// new check. A check whose gate does not stop becomes a note.
func (r *Readiness) byGates(app string, first int, step steps.Step, blocks []steps.Block, about []string) {
	shown := map[string]bool{}
	for i := first; i < len(r.Checks); i++ {
		c := &r.Checks[i]
		if c.Ready || c.Gate == "" || c.Stops != "" || !slices.ContainsFunc(blocks, func(b steps.Block) bool { return b.Gate == c.Gate }) {
			shown[c.Gate] = shown[c.Gate] || c.Stops != ""
			continue
		}
		c.Stops, shown[c.Gate] = step, true
	}
	for i, b := range blocks {
		if shown[b.Gate] {
			continue
		}
		what := cmp.Or(aboutGate[b.Gate], b.Gate)
		if i < len(about) {
			what = about[i]
		}
		r.Checks = append(r.Checks, Check{App: app, What: what, Says: b.Why, Gate: b.Gate, Stops: step})
	}
}

// aboutGate has the subject of each gate that is not about one item.
var aboutGate = map[string]string{"licence-deactivated": "licence", "kit-undamaged": "kit", "newest-copy": "kit", "destinations-confirmed": "destinations", "clock-right": "clock", "files-closed": "open files", "licence-covers": "licence"}

// readyVersion compares the version and edition here with the card's rule.
func (k *Checker) readyVersion(c *card.Card, packed *steps.Packed, g *Facts, r *Readiness) {
	here, v := g.version, g.Gates.Version
	if c.Version != nil {
		says := fmt.Sprintf("%s here, %s on %s (%s)", cmp.Or(here.Value, "not"), cmp.Or(v.OldVersion, "unknown"), k.Manifest.Old.Name, c.Version.Rule)
		stopped := slices.ContainsFunc(blocksOf(g.Gates), func(b steps.Block) bool { return b.Gate == "version-rule" })
		switch {
		case here.Value == "" && len(here.Withheld) > 0:
			r.bad(c.Title, "version", says, "version-rule", NeedAgreement).Of = strings.Join(here.Withheld, " ")
		case here.Value == "":
			r.bad(c.Title, "version", says, "version-rule", NeedApp)
		default:
			r.add(c.Title, "version", !stopped || packed == nil, says, "version-rule", NeedVersion)
		}
		if c.Version.Edition != nil {
			was := v.OldEdition
			r.add(c.Title, "edition", was == "" || strings.EqualFold(was, here.Edition), fmt.Sprintf("%s here, %s on %s", cmp.Or(here.Edition, "unknown"), cmp.Or(was, "unknown"), k.Manifest.Old.Name), "same-edition", NeedEdition)
		}
	}
	k.readyInstaller(c, r)
	for i, cover := range g.Gates.Version.Covered {
		if why := cover.Lacks(g.Gates); why != nil {
			r.bad(c.Title, "licence "+c.Licences[i].Name, why[0], "licence-covers", NeedCovered)
		}
	}
}

// readyInstaller says what to run, if the app must still be installed and its installer is in the kit.
func (k *Checker) readyInstaller(c *card.Card, r *Readiness) {
	var lacks []*Check
	for i := range r.Checks {
		if check := &r.Checks[i]; check.App == c.Title && slices.Contains([]Need{NeedApp, NeedVersion, NeedEdition}, check.Need) {
			lacks = append(lacks, check)
		}
	}
	if c.Installer == nil || c.Version != nil && len(lacks) == 0 {
		return // its files are not read if nobody needs them
	}
	at, err := k.Kit.Installer(c.Name, c.Installer.Run)
	if err != nil {
		r.bad(c.Title, "installer", "do not run it: "+err.Error(), "", NeedInstallerAgain)
		return
	}
	if at == "" {
		return
	}
	what := at
	if c.Installer.Version != "" {
		what += ", which installs " + c.Installer.Version
	}
	if len(c.Installer.Before) > 0 {
		what = strings.Join(c.Installer.Before, ", ") + " first; then " + what
	}
	if len(c.Installer.Choose) > 0 {
		what += "; choose " + strings.Join(c.Installer.Choose, ", ")
	}
	for _, check := range lacks {
		check.Need, check.Of = NeedRun, what
	}
	if c.Version == nil {
		r.bad(c.Title, "installer", "in the kit", "", NeedRun).Of = what
	}
}

// blocksOf returns the gates about the version, on any computer.
func blocksOf(f steps.Facts) []steps.Block {
	f.Side, f.Bound = steps.NewSide, true
	blocks, _ := steps.Check(steps.Unpack, f)
	return blocks
}

// readyStays checks the servers and accounts that the app continues to use. It compares them with
// the old computer's addresses, if known.
func (k *Checker) readyStays(ctx context.Context, c *card.Card, packed *steps.Packed, r *Readiness) error {
	for _, p := range k.scanner(c).Staying(c, packed) {
		is, err := p.Inspect(ctx, item.Options{})
		if err != nil {
			return err
		}
		where := cmp.Or(p.Item.Kind.Info().StaysAt, "there") + ", " + cmp.Or(is.Path, "address unknown")
		if is.Reached == nil {
			r.good(c.Title, p.Item.Name, where+"; not checked")
			continue
		}
		r.add(c.Title, p.Item.Name, *is.Reached, map[bool]string{true: "reached", false: "not reached"}[*is.Reached]+": "+is.Path, "", NeedNetwork)
	}
	return nil
}

// readyItems adds a check for each user and item of an app.
func (k *Checker) readyItems(ctx context.Context, c *card.Card, packed *steps.Packed, g *Facts, r *Readiness) error {
	asked := map[string]bool{}
	for _, key := range packed.Items {
		if key.User != "" && !asked[key.User] {
			asked[key.User] = true
			k.readyUser(c, key.User, r)
		}
		i := slices.IndexFunc(g.Targets, func(t item.Target) bool { return t.Key == key })
		label, lacking := item.Label(key), false
		for _, l := range g.lacks {
			if l.label == label {
				check := r.bad(c.Title, label, l.says, "destination-ready", l.need)
				check.Of, check.With = l.of, l.with
				lacking = true
			}
		}
		if i < 0 || lacking && !g.there[key] {
			continue // the user or location is missing, which was reported above
		}
		if err := k.readyItem(ctx, c, g.Targets[i], g, r); err != nil {
			return err
		}
	}
	for _, name := range g.Gates.Fit.BadNames {
		r.bad(c.Title, "names", name, "names-fit", NeedNames)
	}
	return nil
}

// readyUser adds a check for the user here who gets the data of an old user.
func (k *Checker) readyUser(c *card.Card, old string, r *Readiness) {
	name := k.Choices.UserHere(old)
	what := "user " + old
	if u := machine.FindUser(k.Computer, name); u != nil {
		r.good(c.Title, what, "is "+u.Name+" here")
		return
	}
	check := r.bad(c.Title, what, "has no user here", "users-known", NeedUser)
	check.Of = old
	if u := machine.Counterpart(k.Computer, name); u != nil {
		check.Says, check.Need, check.With = "has no user here; "+u.Name+" may be the same person", NeedCounterpart, u.Name
	}
}

// readyItem checks the destination of an item.
func (k *Checker) readyItem(ctx context.Context, c *card.Card, t item.Target, g *Facts, r *Readiness) error {
	for _, name := range t.UnmappedOwners() {
		r.bad(c.Title, t.Label(), "belongs to "+name+", who has no user here", "users-known", NeedUser).Of = name
	}
	here, disk := t.Mover.Where()
	says := "no existing data"
	if g.there[t.Key] {
		var err error
		if says, err = k.describeExisting(ctx, t, g, disk != ""); err != nil {
			return err
		}
	}
	if was := k.State.Was(t.Key); was != "" && !strings.EqualFold(was, here) {
		says += "; it moves from " + was + " to " + here
	}
	r.good(c.Title, t.Label(), says)
	return nil
}

// describeExisting describes existing data.
func (k *Checker) describeExisting(ctx context.Context, t item.Target, g *Facts, onDisk bool) (says string, err error) {
	says = "there is existing data (not compared, because no passphrase was given); unpack sets it aside"
	same := g.Same[t.Key]
	if k.Kit.Unlocked() {
		says = map[bool]string{true: "the same is here already", false: "there is other existing data; unpack sets it aside"}[same]
	}
	if same {
		return says, nil
	}
	if renews, err := place.Renews(ctx, t); err != nil {
		return "", err
	} else if renews {
		return "there is unmodified data from an earlier unpack; unpack replaces it", nil
	}
	if !onDisk {
		return says, nil
	}
	is, err := t.Inspect(ctx, item.Options{})
	if err != nil {
		return "", err
	}
	made, err := k.Placer.Started(ctx, t, is)
	if err != nil {
		return "", err
	}
	if made {
		says = fmt.Sprintf("%s was started here (on %s, after it was installed) and created data of its own; unpack sets it aside", t.Card.Title, is.Newest.Local().Format("2 January 2006"))
	}
	another, err := t.Another()
	if another {
		says += "; it is a different profile from the one in the kit"
	}
	return strings.Join(append([]string{says}, is.Warnings...), "; "), err
}

// readySpace compares the space needed by all apps with the free space.
func (k *Checker) readySpace(r *Readiness, need volumes) {
	for _, id := range slices.Sorted(maps.Keys(need)) {
		v := need[id]
		says := fmt.Sprintf("%s needed on the drive of %s, %s free", humanize.Bytes(uint64(v.need)), machine.DisplayPath(k.Computer, v.at), humanize.Bytes(v.free))
		r.add("", "space", v.over() <= 0, says, "fits", NeedSpace)
		if v.over() > 0 {
			r.Checks[len(r.Checks)-1].Stops = steps.Unpack
		}
	}
}
