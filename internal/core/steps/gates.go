package steps

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/version"
)

// Side is the computer of the move that a step runs on.
type Side string

// The sides.
const (
	OldSide   Side = "old"
	NewSide   Side = "new"
	ThirdSide Side = "third" // neither: another computer is bound as the new one
)

// Facts holds observations about one app before a step. A nil group was not gathered: a gate that
// needs it returns an error and never passes.
type Facts struct {
	Side    Side
	Here    string // name of this computer
	OldName string
	NewName string // the name that the kit was made for, or the name of the bound computer
	Bound   bool   // a computer is bound as the new one
	Keep    bool   // the kit is a safety copy
	Title   string // of the app
	Now     time.Time
	Written time.Time // when the kit was last written, by that computer's clock
	Behind  string    // what another copy of the kit has and this one does not; "" if nothing
	// Unconfirmed lists destinations in the kit that were not chosen on this computer.
	Unconfirmed []string

	Packed     bool // every item of the app is sealed
	Placed     bool // every item of the app is in place
	Proven     bool // verify found everything the same
	Trying     bool // the app runs on trial on the new computer, and its data must be verified there first
	GivenUp    bool // the user gives up the move
	HandedOver bool // the handover is stored outside the kit
	OldLost    bool // the user said that the old computer cannot deactivate anything

	Kit     *KitFacts
	Fit     *FitFacts
	Use     *UseFacts
	Pack    *PackFacts
	Drift   *DriftFacts
	Place   *PlaceFacts
	Version *VersionFacts
	Undo    *UndoFacts
	Seat    *SeatFacts
}

// KitFacts describes the state of the kit's files.
type KitFacts struct {
	Damage   []string // damage found when the kit was inspected
	Unsealed []string // sealed files of the app that are damaged
}

// FitFacts says whether there is room for the data.
type FitFacts struct {
	Need     int64    // upper limit of the bytes to write
	Free     uint64   // free bytes at the destination; ignored if Need is 0
	More     bool     // another medium is asked for when this one is full
	BadNames []string // names that the new computer's system forbids
}

// UseFacts lists the programs that use the app's data on this computer.
type UseFacts struct {
	Running    []string // running programs of the app
	Consistent bool     // every item of the app can be packed while it is in use
	Open       []string // programs with open files of the app that cannot be packed in use
}

// PackFacts describes the app's data on the old computer.
type PackFacts struct {
	Missing    []string // items in the card that are not here
	TooFew     []string // exports that are fewer than expected
	Unsynced   []string // data that the app has not sent yet
	Unreadable []string // places that cannot be read
	BadSerials []string // serials with wrong check digits
	Damaged    []string // databases in files that do not seem to be whole
	LacksNeed  []string // items that are here without an item that they need
	SetAside   []string // items with data here, although their data is set aside completely or in part
}

// DriftFacts describes how the data on the old computer differs from the sealed data and from
// expected counts.
type DriftFacts struct {
	OldChanged []string // what changed since the pack
	Unexpected []string // counts that are not what the card expects
}

// PlaceFacts describes the destinations of the app's items on the new computer.
type PlaceFacts struct {
	NoUser    []string // users of the old computer that are not mapped to a user here
	StillHeld []string // licences in files that are not deactivated, with the computer that has them
	Requires  []string // requirements of the app that are missing here
	Lacks     []string // why items cannot be put in place
}

// VersionFacts describes the app's version on both computers, and the versions that its licences
// cover.
type VersionFacts struct {
	Rule       version.Rule // "" if the card has none
	OldVersion string
	NewVersion string
	NewSeen    time.Time // when a run on the new computer saw that version; zero if this run did
	Withheld   []string  // the command that would report the version here, and was not run
	OldEdition string
	NewEdition string
	Covered    []Cover
}

// UndoFacts describes possible losses of an undo.
type UndoFacts struct {
	ActiveHere []string // licences that are active on the new computer
	OnlyHere   []string // items that were deleted on the old computer
	AsideGone  []string // items whose set-aside data is gone
}

// SeatFacts describes the licence that a step changes.
type SeatFacts struct {
	Name     string // of the licence; "" for all of the app
	Licence  Standing
	BackBy   time.Time // when a licence that is deactivated now must be active again at the latest
	Again    time.Time // when a licence that is deactivated now can be activated again; zero if at once
	Stays    bool      // the user chose that the seat on this computer stays active
	Takeover bool      // the user wants to take it over from the old computer
	Second   bool      // the user wants a second seat in addition to the one on the old computer
}

// Group is a set of groups of facts.
type Group uint

// The groups of facts.
const (
	NeedsKit Group = 1 << iota
	NeedsFit
	NeedsUse
	NeedsPack
	NeedsDrift
	NeedsPlace
	NeedsVersion
	NeedsUndo
	NeedsSeat
)

// gathered returns the groups that are not nil.
func (f *Facts) gathered() (g Group) {
	for i, is := range []bool{f.Kit != nil, f.Fit != nil, f.Use != nil, f.Pack != nil, f.Drift != nil, f.Place != nil, f.Version != nil, f.Undo != nil, f.Seat != nil} {
		if is {
			g |= 1 << i
		}
	}
	return g
}

// Cover is the major version and the edition that a licence covers; "" means any.
type Cover struct{ Version, Edition string }

// Lacks returns why a licence does not cover the app on the new computer, as far as that is known.
func (c Cover) Lacks(f Facts) []string {
	where := "here"
	if f.Side == OldSide {
		where = "on " + f.NewName
		if !f.Version.NewSeen.IsZero() {
			where += " (seen at " + Moment(f.Version.NewSeen) + ")"
		}
	}
	if c.Edition != "" && f.Version.NewEdition != "" && !strings.EqualFold(c.Edition, f.Version.NewEdition) {
		return []string{fmt.Sprintf("the licence covers the edition %q, but %q is %s", c.Edition, f.Version.NewEdition, where)}
	}
	covers, v := version.Numbers(c.Version), version.Numbers(f.Version.NewVersion)
	return when(len(covers) > 0 && (len(v) == 0 && f.Side != OldSide || len(v) > 0 && covers[0] != v[0]), "the licence covers version %s, but version %q is %s", c.Version, f.Version.NewVersion, where)
}

// Block describes a gate that stops a step.
type Block struct {
	Gate string `json:"gate"`
	Why  string `json:"why"`
	// Firm gates cannot be overridden, because something would be lost.
	Firm bool `json:"firm"`
}

// Gate is a condition that a step must meet before it runs.
type Gate struct {
	Name  string
	Steps []Step
	Firm  bool
	Place bool  // it checks which computer this is
	Needs Group // the facts that it reads
	About string
	stops func(Facts) []string // returns why the gate stops the step, or nothing
}

// Overridable reports whether the user can override the gate with a reason.
func (g *Gate) Overridable() bool {
	return !g.Firm
}

func when(bad bool, format string, args ...any) []string {
	if !bad {
		return nil
	}
	return []string{fmt.Sprintf(format, args...)}
}

// TakesOver reports whether activating the licence here disables it on the old computer.
func (f Facts) TakesOver() bool {
	return f.Seat.Takeover && f.Seat.Licence.AllowsTakeover && !CanActivateElsewhere(f.Seat.Licence.Old)
}

// BesideOld reports whether a second seat is activated. That needs both a rule that allows it and
// the user's request; otherwise the old computer's seat would be lost when the computer is wiped.
func (f Facts) BesideOld() bool {
	l := f.Seat.Licence
	return f.Seat.Second && l.Old.Held() && l.Seats > 1 && (l.ActiveOn < l.Seats || l.New == licence.Active && l.ActiveOn <= l.Seats)
}

// seat names the licence.
func (f Facts) seat() string {
	return strings.TrimSpace("the licence " + f.Seat.Name)
}

// from returns the name of the computer that the licence is deactivated on.
func (f Facts) from() string { return cmp.Or(f.Seat.Licence.From, f.OldName) }

// Moment formats a time for sentences.
func Moment(t time.Time) string { return t.Local().Format("15:04 on 2 January 2006") }

func clock(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

// Gates is the table of all gates.
var Gates = []Gate{
	{"old-computer", []Step{Pack, Deactivate, Retire, Return, Remove, ActivateBack}, true, true, 0, "this step must run on the old computer",
		func(f Facts) []string {
			return when(f.Side != OldSide && !f.OldLost, "this is %s, not the old computer %s", f.Here, f.OldName)
		}},
	{"other-computer", []Step{Unpack, Undo, Activate, Verify, DeactivateBack}, true, true, 0, "this step must not run on the old computer",
		func(f Facts) []string {
			return when(f.Side == OldSide && !f.Keep && !f.OldLost, "this is the old computer %s itself", f.Here)
		}},
	{"new-computer", []Step{Deactivate, Unpack, Undo, Activate, Verify, DeactivateBack}, true, true, 0, "this computer is the new computer of the move",
		func(f Facts) []string {
			return when(f.Side == ThirdSide, "this is %s, and the new computer of this move is %s", f.Here, f.NewName)
		}},
	{"right-name", []Step{Unpack, Activate}, false, true, 0, "this computer has the name that the kit was made for",
		func(f Facts) []string {
			return when(!f.Bound && !f.Keep && f.NewName != "" && f.NewName != kit.Unnamed && !strings.EqualFold(f.Here, f.NewName), "this is %s, but the kit was made for %s", f.Here, f.NewName)
		}},
	{"not-a-copy", []Step{Deactivate, Activate, DeactivateBack, ActivateBack}, true, false, 0, "the kit is for a move, not a safety copy",
		func(f Facts) []string {
			return when(f.Keep, "the kit is a safety copy, so the licences of %s are not changed", f.Title)
		}},
	{"newest-copy", []Step{Pack, Deactivate, Unpack, Undo, Activate, Verify, Retire, Return, Remove, Close, DeactivateBack, ActivateBack}, false, false, 0, "this is the newest copy of the kit used here",
		func(f Facts) []string { return when(f.Behind != "", "%s", f.Behind) }},
	{"destinations-confirmed", []Step{Unpack, Undo, Activate, Verify, DeactivateBack}, true, false, 0, "the destinations in the kit were chosen on this computer",
		func(f Facts) []string {
			return when(len(f.Unconfirmed) > 0, "not chosen on %s by this user: %s", f.Here, strings.Join(f.Unconfirmed, ", "))
		}},
	{"clock-right", []Step{Deactivate, Activate, DeactivateBack, ActivateBack}, false, false, 0, "this computer's clock is not earlier than the kit",
		func(f Facts) []string {
			return when(f.Written.After(f.Now.Add(time.Hour)), "the clock of %s shows %s, but the kit was written at %s", f.Here, clock(f.Now), clock(f.Written))
		}},
	{"kit-undamaged", []Step{Deactivate, Unpack, Activate}, true, false, NeedsKit, "the kit is undamaged",
		func(f Facts) []string { return f.Kit.Damage }},
	{"app-closed", []Step{Pack, Unpack, Undo, Retire, Return}, false, false, NeedsUse, "the app is closed, or its engine gives a consistent snapshot while it runs",
		func(f Facts) []string {
			return when(len(f.Use.Running) > 0 && !f.Use.Consistent, "%s is running: %s", f.Title, strings.Join(f.Use.Running, ", "))
		}},
	{"files-closed", []Step{Pack, Unpack, Retire}, false, false, NeedsUse, "no program has open files that cannot be packed in use",
		func(f Facts) []string { return f.Use.Open }},
	{"sync-done", []Step{Pack}, false, false, NeedsPack, "the app has sent all its data",
		func(f Facts) []string { return f.Pack.Unsynced }},
	{"exports-present", []Step{Pack}, false, false, NeedsPack, "all exports of the app are present",
		func(f Facts) []string { return f.Pack.TooFew }},
	{"readable", []Step{Pack}, true, false, NeedsPack, "all data to pack can be read",
		func(f Facts) []string { return f.Pack.Unreadable }},
	{"not-set-aside", []Step{Pack}, true, false, NeedsPack, "retire did not set aside the data to pack",
		func(f Facts) []string {
			return when(len(f.Pack.SetAside) > 0, "retire set aside %s", strings.Join(f.Pack.SetAside, ", "))
		}},
	{"items-present", []Step{Pack}, false, false, NeedsPack, "everything in the card is on the old computer",
		func(f Facts) []string {
			return when(len(f.Pack.Missing) > 0, "not on this computer: %s", strings.Join(f.Pack.Missing, "; "))
		}},
	{"dependencies-present", []Step{Pack}, false, false, NeedsPack, "everything that an item depends on is present",
		func(f Facts) []string { return f.Pack.LacksNeed }},
	{"database-whole", []Step{Pack}, false, false, NeedsPack, "databases in files are whole, as far as their format shows",
		func(f Facts) []string { return f.Pack.Damaged }},
	{"counts-expected", []Step{Pack, Deactivate}, false, false, NeedsDrift, "every count has the number that the card expects",
		func(f Facts) []string { return f.Drift.Unexpected }},
	{"serial-right", []Step{Pack}, false, false, NeedsPack, "serials have the right check digits",
		func(f Facts) []string { return f.Pack.BadSerials }},
	{"names-fit", []Step{Pack, Unpack}, false, false, NeedsFit, "the new computer's system allows every file name",
		func(f Facts) []string {
			return when(len(f.Fit.BadNames) > 0, "the new computer does not allow these names: %s", strings.Join(f.Fit.BadNames, "; "))
		}},
	{"fits", []Step{Pack, Unpack}, false, false, NeedsFit, "there is enough free space",
		func(f Facts) []string {
			return when(!f.Fit.More && f.Fit.Need > 0 && uint64(f.Fit.Need) > f.Fit.Free, "%s needed, %s free", humanize.Bytes(uint64(max(f.Fit.Need, 0))), humanize.Bytes(f.Fit.Free))
		}},
	{"sealed", []Step{Deactivate, Activate}, true, false, NeedsKit, "everything in the card is sealed and undamaged",
		func(f Facts) []string {
			if !f.Packed {
				return []string{f.Title + " is not packed"}
			}
			return when(len(f.Kit.Unsealed) > 0, "damaged in the kit: %s", strings.Join(f.Kit.Unsealed, ", "))
		}},
	{"old-unchanged", []Step{Deactivate, Retire}, false, false, NeedsDrift, "nothing on the old computer changed since the pack",
		func(f Facts) []string {
			return when(len(f.Drift.OldChanged) > 0, "changed since the pack: %s", strings.Join(f.Drift.OldChanged, "; "))
		}},
	{"trial-verified", []Step{Deactivate}, false, false, 0, "an app in its trial period is verified on the new computer before its licence is deactivated",
		func(f Facts) []string {
			return when(f.Trying && !f.OldLost, "%s is in its trial period on %s, and its data is not verified there yet", f.Title, f.NewName)
		}},
	{"packed", []Step{Unpack, Undo, Verify}, true, false, 0, "the app was packed",
		func(f Facts) []string { return when(!f.Packed, "%s is not packed", f.Title) }},
	{"users-known", []Step{Unpack}, false, false, NeedsPlace, "every user of the old computer is mapped to a user here",
		func(f Facts) []string {
			return when(len(f.Place.NoUser) > 0, "no user here for: %s", strings.Join(f.Place.NoUser, ", "))
		}},
	{"not-active-here", []Step{Undo}, false, false, NeedsUndo, "no licence of the app is active on this computer",
		func(f Facts) []string {
			return when(len(f.Undo.ActiveHere) > 0, "licences that are active here would be of no use without the data of %s: %s", f.Title, strings.Join(f.Undo.ActiveHere, ", "))
		}},
	{"old-data-exists", []Step{Undo}, false, false, NeedsUndo, "the old computer still has the data",
		func(f Facts) []string {
			return when(len(f.Undo.OnlyHere) > 0, "permanently removed on %s: %s", f.OldName, strings.Join(f.Undo.OnlyHere, ", "))
		}},
	{"set-aside-exists", []Step{Undo}, false, false, NeedsUndo, "the data that unpack set aside still exists",
		func(f Facts) []string {
			return when(len(f.Undo.AsideGone) > 0, "the data that was set aside is gone: %s", strings.Join(f.Undo.AsideGone, ", "))
		}},
	{"licence-deactivated", []Step{Unpack}, false, false, NeedsPlace, "a licence file is no longer on the old computer",
		func(f Facts) []string {
			return when(len(f.Place.StillHeld) > 0, "licence files would be on two computers: not deactivated yet: %s", strings.Join(f.Place.StillHeld, ", "))
		}},
	{"destination-ready", []Step{Unpack}, false, false, NeedsPlace, "every destination is ready",
		func(f Facts) []string { return f.Place.Lacks }},
	{"requirements-met", []Step{Unpack}, false, false, NeedsPlace, "everything the app needs is installed",
		func(f Facts) []string {
			return when(len(f.Place.Requires) > 0, "not on this computer: %s", strings.Join(f.Place.Requires, "; "))
		}},
	{"version-rule", []Step{Unpack}, false, false, NeedsVersion, "the installed version of the app can read the data",
		func(f Facts) []string {
			switch {
			case f.Version.Rule == "":
				return nil
			case f.Version.NewVersion == "" && len(f.Version.Withheld) > 0:
				return []string{fmt.Sprintf("only a command of %s reports its version here, and it was not run: %s", f.Title, strings.Join(f.Version.Withheld, " "))}
			case f.Version.NewVersion == "" && f.Version.OldVersion == "":
				return []string{fmt.Sprintf("%s is not installed here, and its version on %s is unknown (%s)", f.Title, f.OldName, f.Version.Rule)}
			case f.Version.NewVersion == "":
				return []string{fmt.Sprintf("%s is not installed here; version %s is needed (%s)", f.Title, f.Version.OldVersion, f.Version.Rule)}
			case f.Version.OldVersion == "":
				return []string{fmt.Sprintf("the version of %s on %s is unknown; version %s is here", f.Title, f.OldName, f.Version.NewVersion)}
			}
			return when(!version.Allows(f.Version.Rule, f.Version.OldVersion, f.Version.NewVersion),
				"%s had version %s, but version %s is here; the rule is %s", f.Title, f.Version.OldVersion, f.Version.NewVersion, f.Version.Rule)
		}},
	{"same-edition", []Step{Unpack}, false, false, NeedsVersion, "the app has the same edition on both computers",
		func(f Facts) []string {
			return when(f.Version.OldEdition != "" && !strings.EqualFold(f.Version.OldEdition, f.Version.NewEdition), "%s had the edition %q, but %q is here", f.Title, f.Version.OldEdition, f.Version.NewEdition)
		}},
	{"old-deactivated", []Step{Activate, ActivateBack}, true, false, NeedsSeat, "the licence is not active on the old computer, unless its rule allows that",
		func(f Facts) []string {
			l := f.Seat.Licence
			switch {
			case !l.oldDone():
				return []string{fmt.Sprintf("%s is %s on %s", f.seat(), l.Own, f.OldName)}
			case CanActivateElsewhere(l.Old), f.BesideOld():
				return nil
			case f.Seat.Second:
				return []string{fmt.Sprintf("%s is %s on %s, and no second seat is free: %d of %d are taken", f.seat(), l.Old, f.from(), l.ActiveOn, l.Seats)}
			case f.Seat.Takeover && !l.AllowsTakeover:
				return []string{fmt.Sprintf("%s is %s on %s, and cannot be taken over", f.seat(), l.Old, f.from())}
			}
			if l.Old == licence.Unknown && !f.Seat.Takeover {
				return []string{fmt.Sprintf("unknown whether %s is deactivated on %s", f.seat(), f.from())}
			}
			return when(!f.Seat.Takeover, "%s is %s on %s", f.seat(), l.Old, f.from())
		}},
	{"in-place", []Step{Activate}, false, false, NeedsSeat, "the app's data is in place",
		func(f Facts) []string {
			return when(f.Seat.Licence.New != licence.Active && !f.Placed, "the data of %s is not in place yet", f.Title)
		}},
	{"allowance", []Step{Activate, ActivateBack}, true, false, NeedsSeat, "a transfer is left",
		func(f Facts) []string {
			moves := f.Seat.Licence.Old == licence.Deactivated || f.TakesOver()
			return when(f.Seat.Licence.New != licence.Active && moves && f.Seat.Licence.Left == 0, "%s has no transfers left", f.seat())
		}},
	{"not-expired", []Step{Activate, ActivateBack}, true, false, NeedsSeat, "the licence has not expired",
		func(f Facts) []string {
			l := f.Seat.Licence // verify reports whether an active licence has expired
			return when(l.New != licence.Active && !l.Until.IsZero() && !l.clockTime(f.Now).Before(l.Until), "%s expired on %s", f.seat(), l.Until.Add(-time.Second).Format("2 Jan 2006"))
		}},
	{"activation-deadline", []Step{Deactivate, Activate}, false, false, NeedsSeat, "the deadline to activate the licence again has not passed",
		func(f Facts) []string {
			by := f.Seat.BackBy
			if by.IsZero() {
				by = f.Seat.Licence.BackBy
			}
			return when(!by.IsZero() && f.Now.After(by), "the deadline to activate %s again was %s", f.seat(), clock(by))
		}},
	{"waiting-over", []Step{Activate, ActivateBack}, false, false, NeedsSeat, "the vendor's waiting time has passed",
		func(f Facts) []string {
			l := f.Seat.Licence
			return when(l.New != licence.Active && l.Again.After(l.clockTime(f.Now)), "%s can be activated again from %s", f.seat(), clock(l.Again))
		}},
	{"usable-again", []Step{Deactivate}, false, false, NeedsSeat, "the licence can be activated again before it expires",
		func(f Facts) []string {
			again, l := f.Seat.Again, f.Seat.Licence
			switch {
			case !l.Old.Held():
				return nil
			case !l.Until.IsZero() && !l.clockTime(f.Now).Before(l.Until):
				return []string{fmt.Sprintf("%s expired on %s, so it cannot be activated again", f.seat(), l.Until.Add(-time.Second).Format("2 Jan 2006"))}
			case again.IsZero():
				return nil
			}
			return append(when(!l.Until.IsZero() && !again.Before(l.Until), "%s can be activated again from %s, but expires at %s", f.seat(), clock(again), clock(l.Until)),
				when(!f.Seat.BackBy.IsZero() && again.After(f.Seat.BackBy), "%s can be activated again from %s, but must be active again by %s", f.seat(), clock(again), clock(f.Seat.BackBy))...)
		}},
	{"seat-free", []Step{Activate, ActivateBack}, true, false, NeedsSeat, "no computer outside this move took the seat",
		func(f Facts) []string {
			l := f.Seat.Licence
			return when(l.Taken(), "the seat is active on another computer, which does not belong to this move (%d of %d seats are taken)", l.ActiveOn, l.Seats)
		}},
	{"seat-stays", []Step{Deactivate}, false, false, NeedsSeat, "the seat on the old computer is not one that was to stay active",
		func(f Facts) []string {
			return when(f.Seat.Stays, "a second seat was activated on %s, so that the one on %s stays active", f.NewName, f.OldName)
		}},
	{"licence-covers", []Step{Deactivate, Unpack, Activate}, false, false, NeedsVersion, "the licence covers the version and edition on the new computer",
		func(f Facts) (out []string) {
			covers := slices.Clone(f.Version.Covered)
			if f.Seat != nil {
				covers = append(covers, Cover{f.Seat.Licence.Covers, f.Seat.Licence.Edition})
			}
			for _, c := range covers {
				out = append(out, c.Lacks(f)...)
			}
			return slices.Compact(out)
		}},
	{"verified", []Step{Retire, Remove, Close}, true, false, 0, "verify found everything the same",
		func(f Facts) []string {
			return when(!f.Proven && !f.GivenUp, "%s is not verified on the new computer", f.Title)
		}},
	{"handed-over", []Step{Remove, Close}, true, false, 0, "the handover is stored outside the kit",
		func(f Facts) []string { return when(!f.HandedOver, "the handover is only in the kit") }},
}

// Check returns the gates that stop a step, in table order. On the wrong computer it returns only
// the gates about the computer. If a gate needs facts that were not gathered, Check returns an
// error.
func Check(step Step, f Facts) ([]Block, error) {
	var out []Block
	for _, g := range Gates {
		if !slices.Contains(g.Steps, step) {
			continue
		}
		if g.Needs&^f.gathered() != 0 {
			return nil, fault.New(fault.Internal, "the gate %s of %s could not be checked: its facts were not gathered", g.Name, step)
		}
		for _, why := range g.stops(f) {
			out = append(out, Block{Gate: g.Name, Why: why, Firm: g.Firm})
		}
		if g.Place && len(out) > 0 {
			return out, nil
		}
	}
	return out, nil
}

// Find returns the gate with that name, or nil.
func Find(name string) *Gate {
	for i := range Gates {
		if Gates[i].Name == name {
			return &Gates[i]
		}
	}
	return nil
}
