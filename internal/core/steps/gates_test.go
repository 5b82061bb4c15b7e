package steps

import (
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/version"
	"movekit/test/fatal"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.Local)

// onOld and onNew are facts at which no gate stops.
func onOld() Facts {
	return Facts{Side: OldSide, Here: "OLD", OldName: "OLD", NewName: "NEW", Title: "Hoistbook", Packed: true, Placed: true, Proven: true, HandedOver: true, Now: noon, Written: noon,
		Kit: &KitFacts{}, Fit: &FitFacts{}, Use: &UseFacts{}, Pack: &PackFacts{}, Drift: &DriftFacts{}, Place: &PlaceFacts{}, Version: &VersionFacts{}, Undo: &UndoFacts{}, Seat: &SeatFacts{Licence: Standing{Left: -1}}}
}

// goesBack is the old computer of a move that goes back.
func goesBack() Facts {
	f := onOld()
	f.Seat.Licence.Old, f.Seat.Licence.New = licence.Deactivated, licence.Deactivated
	return f
}

func onNew() Facts {
	f := onOld()
	f.Side, f.Here = NewSide, "NEW"
	f.Seat.Licence.Old, f.Seat.Licence.New = licence.Deactivated, licence.NotActivated
	return f
}

var gateCases = []struct {
	gate string
	on   func() Facts
	step Step   // one that it stops
	why  string // what is said; "" where it passes
	set  func(*Facts)
}{
	{"old-computer", onOld, Pack, "this is NEW, not the old computer OLD", func(f *Facts) { f.Side, f.Here = NewSide, "NEW" }},
	{"old-computer", onOld, Deactivate, "", func(f *Facts) { f.Side, f.OldLost = NewSide, true }},
	{"other-computer", onNew, Unpack, "this is the old computer NEW itself", func(f *Facts) { f.Side = OldSide }},
	{"other-computer", onNew, Verify, "", func(f *Facts) {}},
	{"other-computer", onNew, Unpack, "", func(f *Facts) { f.Side, f.Keep = OldSide, true }},
	{"new-computer", onNew, Verify, "this is THIRD, and the new computer of this move is NEW", func(f *Facts) { f.Side, f.Here, f.Bound = ThirdSide, "THIRD", true }},
	{"new-computer", onNew, Verify, "", func(f *Facts) { f.Bound = true }},
	{"right-name", onNew, Activate, "this is THIRD, but the kit was made for NEW", func(f *Facts) { f.Here = "THIRD" }},
	{"right-name", onNew, Unpack, "", func(f *Facts) { f.Here = "new" }},
	{"right-name", onNew, Unpack, "", func(f *Facts) { f.Here, f.Bound = "THIRD", true }}, // a reason was given once
	{"right-name", onNew, Unpack, "", func(f *Facts) { f.Here, f.Keep = "THIRD", true }},
	{"right-name", onNew, Unpack, "", func(f *Facts) { f.NewName = "" }},
	{"not-a-copy", onOld, Deactivate, "the licences of Hoistbook are not changed", func(f *Facts) { f.Keep = true }},
	{"not-a-copy", onOld, Deactivate, "", func(f *Facts) {}},
	{"newest-copy", onNew, Verify, "another copy is newer", func(f *Facts) { f.Behind = "another copy is newer" }},
	{"newest-copy", onNew, Verify, "", func(f *Facts) {}},
	{"destinations-confirmed", onNew, Unpack, "not chosen on NEW by this user: user maren: root, drive D: /etc", func(f *Facts) { f.Unconfirmed = []string{"user maren: root", "drive D: /etc"} }},
	{"destinations-confirmed", onNew, Unpack, "", func(f *Facts) {}},
	{"clock-right", onNew, Activate, "the clock of NEW shows 2 Mar 2026 12:00, but the kit was written at 2 Mar 2026 14:00", func(f *Facts) { f.Written = noon.Add(2 * time.Hour) }},
	{"clock-right", onNew, Activate, "", func(f *Facts) { f.Written = noon.Add(time.Hour) }},
	{"kit-undamaged", onNew, Unpack, "a part is damaged", func(f *Facts) { f.Kit.Damage = []string{"a part is damaged"} }},
	{"kit-undamaged", onNew, Unpack, "", func(f *Facts) {}},
	{"app-closed", onOld, Pack, "Hoistbook is running: hoistd, hoistui", func(f *Facts) { f.Use.Running = []string{"hoistd", "hoistui"} }},
	{"app-closed", onOld, Pack, "", func(f *Facts) { f.Use.Running, f.Use.Consistent = []string{"hoistd"}, true }},
	{"app-closed", onOld, Pack, "", func(f *Facts) { f.Use.Consistent = false }},
	{"files-closed", onOld, Pack, "a is open", func(f *Facts) { f.Use.Open = []string{"a is open"} }},
	{"files-closed", onOld, Pack, "", func(f *Facts) {}},
	{"sync-done", onOld, Pack, "3 mails wait", func(f *Facts) { f.Pack.Unsynced = []string{"3 mails wait"} }},
	{"sync-done", onOld, Pack, "", func(f *Facts) {}},
	{"exports-present", onOld, Pack, "1 of 2", func(f *Facts) { f.Pack.TooFew = []string{"1 of 2"} }},
	{"exports-present", onOld, Pack, "", func(f *Facts) {}},
	{"readable", onOld, Pack, "no right", func(f *Facts) { f.Pack.Unreadable = []string{"no right"} }},
	{"readable", onOld, Pack, "", func(f *Facts) {}},
	{"not-set-aside", onOld, Pack, "retire set aside rota (a part of its data)", func(f *Facts) { f.Pack.SetAside = []string{"rota (a part of its data)"} }},
	{"not-set-aside", onOld, Pack, "", func(f *Facts) {}},
	{"items-present", onOld, Pack, "not on this computer: diary; rota", func(f *Facts) { f.Pack.Missing = []string{"diary", "rota"} }},
	{"items-present", onOld, Pack, "", func(f *Facts) {}},
	{"dependencies-present", onOld, Pack, "the key is not there", func(f *Facts) { f.Pack.LacksNeed = []string{"the key is not there"} }},
	{"dependencies-present", onOld, Pack, "", func(f *Facts) {}},
	{"counts-expected", onOld, Deactivate, "the card expects 5", func(f *Facts) { f.Drift.Unexpected = []string{"the card expects 5, and 3 are here"} }},
	{"counts-expected", onOld, Pack, "", func(f *Facts) {}},
	{"serial-right", onOld, Pack, "the second part is wrong", func(f *Facts) { f.Pack.BadSerials = []string{"the second part is wrong"} }},
	{"serial-right", onOld, Pack, "", func(f *Facts) {}},
	{"names-fit", onOld, Pack, "the new computer does not allow these names: aux; a?", func(f *Facts) { f.Fit.BadNames = []string{"aux", "a?"} }},
	{"names-fit", onOld, Pack, "", func(f *Facts) {}},
	{"fits", onNew, Unpack, "2.0 kB needed, 1.0 kB free", func(f *Facts) { f.Fit.Need, f.Fit.Free = 2000, 1000 }},
	{"fits", onNew, Unpack, "", func(f *Facts) { f.Fit.Need, f.Fit.Free = 2000, 2000 }},
	{"fits", onNew, Unpack, "", func(f *Facts) { f.Fit.Need, f.Fit.Free = -1, 0 }},
	{"sealed", onOld, Deactivate, "Hoistbook is not packed", func(f *Facts) { f.Packed = false }},
	{"sealed", onOld, Deactivate, "damaged in the kit: diary", func(f *Facts) { f.Kit.Unsealed = []string{"diary"} }},
	{"sealed", onOld, Deactivate, "", func(f *Facts) {}},
	{"packed", onNew, Verify, "Hoistbook is not packed", func(f *Facts) { f.Packed = false }},
	{"packed", onNew, Verify, "", func(f *Facts) {}},
	{"users-known", onNew, Unpack, "no user here for: maren", func(f *Facts) { f.Place.NoUser = []string{"maren"} }},
	{"users-known", onNew, Unpack, "", func(f *Facts) {}},
	{"not-active-here", onNew, Undo, "of no use without the data of Hoistbook: seat", func(f *Facts) { f.Undo.ActiveHere = []string{"seat"} }},
	{"not-active-here", onNew, Undo, "", func(f *Facts) {}},
	{"old-data-exists", onNew, Undo, "permanently removed on OLD: diary", func(f *Facts) { f.Undo.OnlyHere = []string{"diary"} }},
	{"old-data-exists", onNew, Undo, "", func(f *Facts) {}},
	{"set-aside-exists", onNew, Undo, "gone: diary", func(f *Facts) { f.Undo.AsideGone = []string{"diary"} }},
	{"set-aside-exists", onNew, Undo, "", func(f *Facts) {}},
	{"licence-deactivated", onNew, Unpack, "licence files would be on two computers: not deactivated yet: cert on OLD", func(f *Facts) { f.Place.StillHeld = []string{"cert on OLD"} }},
	{"licence-deactivated", onNew, Unpack, "", func(f *Facts) {}},
	{"destination-ready", onNew, Unpack, "the collation has no user here", func(f *Facts) { f.Place.Lacks = []string{"the collation has no user here"} }},
	{"destination-ready", onNew, Unpack, "", func(f *Facts) {}},
	{"version-rule", onNew, Unpack, "", func(f *Facts) { f.Version.OldVersion, f.Version.NewVersion = "3", "9" }},
	{"version-rule", onNew, Unpack, "and it was not run: hoist --version", func(f *Facts) {
		f.Version.Rule, f.Version.OldVersion, f.Version.Withheld = version.Exact, "3", []string{"hoist", "--version"}
	}},
	{"version-rule", onNew, Unpack, "Hoistbook is not installed here; version 3 is needed", func(f *Facts) { f.Version.Rule, f.Version.OldVersion = version.Exact, "3" }},
	{"version-rule", onNew, Unpack, "on OLD is unknown; version 3 is here", func(f *Facts) { f.Version.Rule, f.Version.NewVersion = version.Exact, "3" }},
	{"version-rule", onNew, Unpack, "had version 3.1, but version 3.2 is here", func(f *Facts) {
		f.Version.Rule, f.Version.OldVersion, f.Version.NewVersion = version.Exact, "3.1", "3.2"
	}},
	{"version-rule", onNew, Unpack, "", func(f *Facts) {
		f.Version.Rule, f.Version.OldVersion, f.Version.NewVersion, f.Version.Withheld = version.Exact, "3.1", "3.1", []string{"hoist"}
	}},
	{"same-edition", onNew, Unpack, `had the edition "Port", but "Pier" is here`, func(f *Facts) { f.Version.OldEdition, f.Version.NewEdition = "Port", "Pier" }},
	{"same-edition", onNew, Unpack, "", func(f *Facts) { f.Version.OldEdition, f.Version.NewEdition = "Port", "port" }},
	{"same-edition", onNew, Unpack, "", func(f *Facts) { f.Version.NewEdition = "Port" }},
	{"old-deactivated", onNew, Activate, "the licence is active on OLD", func(f *Facts) { f.Seat.Licence.Old = licence.Active }},
	{"old-deactivated", onNew, Activate, "unknown whether the licence is deactivated on OLD", func(f *Facts) { f.Seat.Licence.Old = licence.Unknown }},
	{"old-deactivated", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Old = licence.NotActivated }},
	{"old-deactivated", onNew, Activate, "cannot be taken over", func(f *Facts) { f.Seat.Licence.Old, f.Seat.Takeover = licence.Active, true }},
	{"old-deactivated", onNew, Activate, "", func(f *Facts) {
		f.Seat.Licence.Old, f.Seat.Takeover, f.Seat.Licence.AllowsTakeover = licence.Active, true, true
	}},
	{"old-deactivated", onNew, Activate, "no second seat is free: 2 of 2 are taken", func(f *Facts) {
		f.Seat.Second, f.Seat.Licence.Old, f.Seat.Licence.Seats, f.Seat.Licence.ActiveOn = true, licence.Active, 2, 2
	}},
	{"old-deactivated", onNew, Activate, "no second seat is free: 0 of 1", func(f *Facts) {
		f.Seat.Second, f.Seat.Licence.Old, f.Seat.Licence.Seats = true, licence.Active, 1
	}},
	{"old-deactivated", onNew, Activate, "", func(f *Facts) {
		f.Seat.Second, f.Seat.Licence.Old, f.Seat.Licence.Seats, f.Seat.Licence.ActiveOn = true, licence.Active, 2, 1
	}},
	{"old-deactivated", onNew, Activate, "", func(f *Facts) { // the second seat is this computer's
		f.Seat.Second, f.Seat.Licence.Old, f.Seat.Licence.New, f.Seat.Licence.Seats, f.Seat.Licence.ActiveOn = true, licence.Active, licence.Active, 2, 2
	}},
	{"old-deactivated", onNew, Activate, "no second seat is free: 3 of 2", func(f *Facts) {
		f.Seat.Second, f.Seat.Licence.Old, f.Seat.Licence.New, f.Seat.Licence.Seats, f.Seat.Licence.ActiveOn = true, licence.Active, licence.Active, 2, 3
	}},
	{"old-deactivated", onNew, Activate, "is unknown on OLD, and no second seat", func(f *Facts) { // it may be active anywhere
		f.Seat.Second, f.Seat.Licence.Old, f.Seat.Licence.Seats, f.Seat.Licence.ActiveOn = true, licence.Unknown, 2, 1
	}},
	{"in-place", onNew, Activate, "the data of Hoistbook is not in place yet", func(f *Facts) { f.Placed = false }},
	{"in-place", onNew, Activate, "", func(f *Facts) { f.Placed, f.Seat.Licence.New = false, licence.Active }},
	{"requirements-met", onNew, Unpack, "not on this computer: the font; the driver", func(f *Facts) { f.Place.Requires = []string{"the font", "the driver"} }},
	{"requirements-met", onNew, Unpack, "", func(f *Facts) {}},
	{"names-fit", onNew, Unpack, "a:b", func(f *Facts) { f.Fit.BadNames = []string{"a:b"} }},
	{"database-whole", onOld, Pack, "page 7", func(f *Facts) { f.Pack.Damaged = []string{"its page 7 is incomplete"} }},
	{"database-whole", onOld, Pack, "", func(f *Facts) {}},
	{"usable-again", onOld, Deactivate, "but expires at", func(f *Facts) {
		f.Seat.Licence.Old, f.Seat.Again, f.Seat.Licence.Until = licence.Active, noon.Add(48*time.Hour), noon.Add(24*time.Hour)
	}},
	{"usable-again", onOld, Deactivate, "but must be active again by", func(f *Facts) {
		f.Seat.Licence.Old, f.Seat.Again, f.Seat.BackBy = licence.Active, noon.Add(48*time.Hour), noon.Add(24*time.Hour)
	}},
	{"usable-again", onOld, Deactivate, "", func(f *Facts) {
		f.Seat.Licence.Old, f.Seat.Again, f.Seat.Licence.Until = licence.Active, noon.Add(24*time.Hour), noon.Add(48*time.Hour)
	}},
	{"seat-free", onNew, Activate, "does not belong to this move (1 of 1 seats are taken)", func(f *Facts) {
		f.Seat.Licence = Standing{Old: licence.NotActivated, New: licence.NotActivated, Seen: true, Seats: 1, ActiveOn: 1, Elsewhere: 1, Left: 1}
	}},
	{"seat-free", onNew, Activate, "", func(f *Facts) {
		f.Seat.Licence = Standing{Old: licence.NotActivated, New: licence.NotActivated, Seen: true, Seats: 2, ActiveOn: 1, Elsewhere: 1, Left: 1}
	}},
	{"seat-stays", onOld, Deactivate, "so that the one on OLD stays active", func(f *Facts) { f.Seat.Stays = true }},
	{"seat-stays", onOld, Deactivate, "", func(f *Facts) {}},
	{"old-deactivated", goesBack, ActivateBack, "the licence is active on NEW", func(f *Facts) {
		f.Seat.Licence = Standing{Old: licence.Deactivated, New: licence.Active, Left: 1}.Back("NEW")
	}},
	{"old-deactivated", goesBack, ActivateBack, "", func(f *Facts) {
		f.Seat.Licence = Standing{Old: licence.Deactivated, New: licence.Deactivated, Left: 1}.Back("NEW")
	}},
	{"licence-covers", onOld, Deactivate, `covers version 3, but version "4.1" is on NEW`, func(f *Facts) { f.Version.Covered, f.Version.NewVersion = []Cover{{"3", ""}}, "4.1" }},
	{"licence-covers", onOld, Deactivate, "", func(f *Facts) { f.Version.Covered = []Cover{{"3", "Port"}} }}, // the new computer was not looked at
	{"licence-covers", onNew, Unpack, `covers the edition "Port", but "Pier" is here`, func(f *Facts) {
		f.Version.Covered, f.Version.NewVersion, f.Version.NewEdition = []Cover{{"3", "Port"}}, "3.1", "Pier"
	}},
	{"allowance", onNew, Activate, "no transfers left", func(f *Facts) { f.Seat.Licence.Left = 0 }},
	{"allowance", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Left = 1 }},
	{"allowance", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.New, f.Seat.Licence.Left = licence.Active, 0 }},
	{"allowance", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Old, f.Seat.Licence.Left = licence.NotActivated, 0 }}, // it was never moved
	{"allowance", onNew, Activate, "no transfers left", func(f *Facts) {
		f.Seat.Licence.Old, f.Seat.Takeover, f.Seat.Licence.AllowsTakeover, f.Seat.Licence.Left = licence.Active, true, true, 0
	}},
	{"allowance", onNew, Activate, "", func(f *Facts) { // there is nothing to take over
		f.Seat.Licence.Old, f.Seat.Takeover, f.Seat.Licence.AllowsTakeover, f.Seat.Licence.Left = licence.NotActivated, true, true, 0
	}},
	{"not-expired", onNew, Activate, "expired on 1 Mar 2026", func(f *Facts) { f.Seat.Licence.Until = noon.Add(-12 * time.Hour) }},
	{"not-expired", onNew, Activate, "expired on 2 Mar 2026", func(f *Facts) { f.Seat.Licence.Until = noon }},
	{"not-expired", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Until = noon.Add(time.Second) }},
	{"not-expired", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Until, f.Seat.Licence.New = noon, licence.Active }},
	{"not-expired", onNew, Activate, "", func(f *Facts) { // this computer's clock runs ahead of the service's
		f.Seat.Licence.Until, f.Seat.Licence.ServiceTime = noon, noon.Add(-time.Minute)
	}},
	{"activation-deadline", onNew, Activate, "the deadline to activate the licence again was 2 Mar 2026 11:59", func(f *Facts) { f.Seat.Licence.BackBy = noon.Add(-time.Minute) }},
	{"activation-deadline", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.BackBy = noon }},
	{"activation-deadline", onOld, Deactivate, "the deadline to activate the licence again was 2 Mar 2026 11:00", func(f *Facts) { f.Seat.BackBy, f.Seat.Licence.BackBy = noon.Add(-time.Hour), noon }},
	{"waiting-over", onNew, Activate, "can be activated again from 2 Mar 2026 12:01", func(f *Facts) { f.Seat.Licence.Again = noon.Add(time.Minute) }},
	{"waiting-over", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Again = noon }},
	{"waiting-over", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Again, f.Seat.Licence.New = noon.Add(time.Minute), licence.Active }},
	{"waiting-over", onNew, Activate, "", func(f *Facts) {
		f.Seat.Licence.Again, f.Seat.Licence.ServiceTime = noon.Add(time.Minute), noon.Add(time.Hour)
	}},
	{"licence-covers", onNew, Activate, `covers the edition "Port", but "Pier" is here`, func(f *Facts) { f.Seat.Licence.Edition, f.Version.NewEdition = "Port", "Pier" }},
	{"licence-covers", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Edition, f.Version.NewEdition = "Port", "port" }},
	{"licence-covers", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Edition = "Port" }}, // the app does not tell
	{"licence-covers", onNew, Activate, `covers version 3, but version "4.1" is here`, func(f *Facts) { f.Seat.Licence.Covers, f.Version.NewVersion = "3", "4.1" }},
	{"licence-covers", onNew, Activate, `covers version 3, but version "" is here`, func(f *Facts) { f.Seat.Licence.Covers = "3" }},
	{"licence-covers", onNew, Activate, "", func(f *Facts) { f.Seat.Licence.Covers, f.Version.NewVersion = "3", "3.9" }},
	{"licence-covers", onNew, Activate, "", func(f *Facts) { f.Version.NewVersion = "3.9" }},
	{"verified", onOld, Close, "Hoistbook is not verified on the new computer", func(f *Facts) { f.Proven = false }},
	{"verified", onOld, Retire, "", func(f *Facts) {}},
	{"verified", onOld, Close, "", func(f *Facts) { f.Proven, f.GivenUp = false, true }},
	{"handed-over", onOld, Remove, "only in the kit", func(f *Facts) { f.HandedOver = false }},
	{"handed-over", onOld, Close, "", func(f *Facts) {}},
	{"old-unchanged", onOld, Deactivate, "changed since the pack: a changed; b changed", func(f *Facts) { f.Drift.OldChanged = []string{"a changed", "b changed"} }},
	{"old-unchanged", onOld, Retire, "", func(f *Facts) {}},
	{"trial-verified", onOld, Deactivate, "its data is not verified there yet", func(f *Facts) { f.Trying = true }},
	{"trial-verified", onOld, Deactivate, "", func(f *Facts) { f.Trying, f.OldLost = true, true }},
}

// firm lists the gates that cannot be overridden, with their steps.
var firm = []string{"old-computer", "other-computer", "new-computer", "not-a-copy", "handed-over", "kit-undamaged", "readable", "not-set-aside", "sealed", "packed", "old-deactivated", "allowance", "not-expired", "verified", "destinations-confirmed", "seat-free"}

// gatesOf lists the gates of each step.
var gatesOf = map[Step]string{
	Survey:     "",
	Pack:       "old-computer newest-copy app-closed files-closed sync-done exports-present readable not-set-aside items-present dependencies-present database-whole counts-expected serial-right names-fit fits",
	Deactivate: "old-computer new-computer not-a-copy newest-copy clock-right kit-undamaged counts-expected sealed old-unchanged trial-verified activation-deadline usable-again seat-stays licence-covers",
	Unpack:     "other-computer new-computer right-name newest-copy destinations-confirmed kit-undamaged app-closed files-closed names-fit fits packed users-known licence-deactivated destination-ready requirements-met version-rule same-edition licence-covers",
	Undo:       "other-computer new-computer newest-copy destinations-confirmed app-closed packed not-active-here old-data-exists set-aside-exists",
	Activate:   "other-computer new-computer right-name not-a-copy newest-copy destinations-confirmed clock-right kit-undamaged sealed old-deactivated in-place allowance not-expired activation-deadline waiting-over seat-free licence-covers",
	Verify:     "other-computer new-computer newest-copy destinations-confirmed packed",
	Retire:     "old-computer newest-copy app-closed files-closed old-unchanged verified",
	Return:     "old-computer newest-copy app-closed",
	Remove:     "old-computer newest-copy verified handed-over",
	Close:      "newest-copy verified handed-over",

	DeactivateBack: "other-computer new-computer not-a-copy newest-copy destinations-confirmed clock-right",
	ActivateBack:   "old-computer not-a-copy newest-copy clock-right old-deactivated allowance not-expired waiting-over seat-free",
}

func check(t *testing.T, step Step, f Facts) []Block {
	t.Helper()
	out, err := Check(step, f)
	fatal.If(t, err)
	return out
}

// TestFactsNotGathered checks each gate without the facts that it declares (an error, never a
// pass), and with only those facts (it reads no others).
func TestFactsNotGathered(t *testing.T) {
	all := onNew()
	only := func(g Group) Facts {
		f := onNew()
		for i, drop := range []func(){func() { f.Kit = nil }, func() { f.Fit = nil }, func() { f.Use = nil }, func() { f.Pack = nil }, func() { f.Drift = nil }, func() { f.Place = nil }, func() { f.Version = nil }, func() { f.Undo = nil }, func() { f.Seat = nil }} {
			if g&(1<<i) == 0 {
				drop()
			}
		}
		return f
	}
	if all.gathered() != NeedsSeat<<1-1 {
		t.Fatalf("not all groups are in the test: %b", all.gathered())
	}
	for _, g := range Gates {
		g.stops(only(g.Needs)) // panics if it reads another group
		for group := NeedsKit; group <= NeedsSeat; group <<= 1 {
			_, err := Check(g.Steps[0], only(^group))
			if g.Needs&group != 0 && fault.KindOf(err) != fault.Internal {
				t.Errorf("%s passes without facts: %v", g.Name, err)
			}
		}
	}
}

func TestGates(t *testing.T) {
	stopped, passed := map[string]bool{}, map[string]bool{}
	for i, c := range gateCases {
		f := c.on()
		if b := check(t, c.step, f); b != nil {
			t.Fatalf("%s is stopped before anything is wrong: %v", c.step, b)
		}
		c.set(&f)
		got := check(t, c.step, f)
		if c.why == "" {
			passed[c.gate] = true
			if got != nil {
				t.Errorf("case %d: %s stops %s and should not: %v", i, c.gate, c.step, got)
			}
			continue
		}
		stopped[c.gate] = true
		if len(got) != 1 || got[0].Gate != c.gate || !strings.Contains(got[0].Why, c.why) || got[0].Firm != slices.Contains(firm, c.gate) {
			t.Errorf("case %d: %s should stop %s and say %q: %+v", i, c.gate, c.step, c.why, got)
		}
	}
	var all []string
	for _, g := range Gates {
		if all = append(all, g.Name); !stopped[g.Name] || !passed[g.Name] || Find(g.Name) == nil || g.About == "" {
			t.Errorf("%s: stopped %t, passed %t", g.Name, stopped[g.Name], passed[g.Name])
		}
		if want := !slices.Contains(firm, g.Name); g.Overridable() != want {
			t.Errorf("%s: a reason goes past it: %t, want %t", g.Name, !want, want)
		}
	}
	for step, want := range gatesOf {
		var has []string
		for _, g := range Gates {
			if slices.Contains(g.Steps, step) {
				has = append(has, g.Name)
			}
		}
		if strings.Join(has, " ") != want {
			t.Errorf("%s has the gates %v, want %s", step, has, want)
		}
	}
	if Find("none") != nil || len(all) != len(slices.Compact(slices.Sorted(slices.Values(all)))) {
		t.Error("names of gates are not unique")
	}
}

// TestWrongComputerAlone checks that on the wrong computer no other gate is reported.
func TestWrongComputerAlone(t *testing.T) {
	f := onOld()
	f.Side, f.Kit.Damage = NewSide, []string{"damage"}
	if b := check(t, Deactivate, f); len(b) != 1 || b[0].Gate != "old-computer" {
		t.Errorf("%+v", b)
	}
	f.Side, f.Packed = OldSide, false
	if b := check(t, Deactivate, f); len(b) != 2 || b[0].Gate != "kit-undamaged" || b[1].Gate != "sealed" {
		t.Errorf("%+v", b)
	}
}
