package steps

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/version"
)

// Side is which computer of the move a step runs on.
type Side string

// The sides.
const (
	OldSide   Side = "old"
	NewSide   Side = "new"
	ThirdSide Side = "third" // neither: another computer is bound as the new one
)

// Facts is what was observed about one app before a step. A nil group was not gathered: a gate that needs it is an
// error, never a pass.
type Facts struct {
	Side    Side
	Here    string // name of this computer
	OldName string
	NewName string // that the kit was made for, or that is bound
	Bound   bool   // a computer is bound as the new one
	Keep    bool   // the kit is a safety copy
	Title   string // of the app
	Now     time.Time
	Written time.Time // when the kit was last written, by the clock of that computer
	Behind  string    // what another copy of the kit has and this one does not; "" for nothing

	Packed     bool // every item of the app is sealed
	Placed     bool // every item of the app is in its place
	Proven     bool // verify found everything equal
	Trying     bool // the app runs on trial on the new computer, and its data must be verified there first
	GivenUp    bool // the user gives the move up
	HandedOver bool // the hand-over is stored outside the kit
	OldLost    bool // the user said that nothing can be deactivated on the old computer itself

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

// KitFacts is the state of the kit's files.
type KitFacts struct {
	Damage   []string // what inspecting the kit found
	Unsealed []string // sealed files of the app that do not read back complete
}

// FitFacts is whether what the step writes fits where it goes.
type FitFacts struct {
	Need     int64    // bytes that are written at most
	Free     uint64   // bytes that are free there; ignored if Need is 0
	BadNames []string // names that the new computer's system forbids
}

// UseFacts is who uses the app's data on this computer.
type UseFacts struct {
	Running    []string // programs of the app that run
	Consistent bool     // every item of the app can be packed while it is in use
	Open       []string // programs that have files of the app open which cannot be packed in use
}

// PackFacts is what the old computer has of the app.
type PackFacts struct {
	Missing    []string // what the card lists and is not here
	TooFew     []string // exports that are fewer than expected
	Unsynced   []string // what is not sent yet
	Unreadable []string // places that cannot be read
	BadSerials []string // serials that do not agree with their check characters
	LacksNeed  []string // items that are here without another one that they need
}

// DriftFacts is how the old computer's data differs from what it should be.
type DriftFacts struct {
	OldChanged []string // what changed since the pack
	Unexpected []string // counts that are not what the card expects
}

// PlaceFacts is what the new computer has for the app's items.
type PlaceFacts struct {
	NoUser    []string // users of the old computer that nobody here is mapped to
	StillHeld []string // licences that are files, and are not released on the old computer
	Requires  []string // what the app cannot work without, and is not here
	Lacks     []string // why an item cannot be put in its place
}

// VersionFacts is the app's version on both computers, and what its licences cover.
type VersionFacts struct {
	Rule       card.Rule // "" if the card has none
	OldVersion string
	NewVersion string
	Withheld   []string // the command that would report the version here, and was not run
	OldEdition string
	NewEdition string
	Covered    []Cover
}

// UndoFacts is what an undo could lose.
type UndoFacts struct {
	ActiveHere []string // licences that are active on the new computer
	OnlyHere   []string // items that were deleted on the old computer
	AsideGone  []string // items whose set-aside data is gone
}

// SeatFacts is the state of the licence that a step changes.
type SeatFacts struct {
	Licence  Standing
	BackBy   time.Time // when a licence that is released now must be activated again at the latest
	Takeover bool      // the user wants to take it over from the old computer
	Second   bool      // the user wants a second seat, beside that of the old computer
}

// Group is a set of groups of facts.
type Group uint

// The groups.
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

// Cover is what a licence covers: a major version, and an edition; "" stands for any.
type Cover struct{ Version, Edition string }

// Lacks says why a licence does not cover the app on the new computer, as far as that
// is known.
func (c Cover) Lacks(f Facts) []string {
	where := "here"
	if f.Side == OldSide {
		where = "on " + f.NewName
	}
	if c.Edition != "" && f.Version.NewEdition != "" && !strings.EqualFold(c.Edition, f.Version.NewEdition) {
		return []string{fmt.Sprintf("the licence covers the edition %q; %q is %s", c.Edition, f.Version.NewEdition, where)}
	}
	covers, v := version.Numbers(c.Version), version.Numbers(f.Version.NewVersion)
	return when(len(covers) > 0 && (len(v) == 0 && f.Side != OldSide || len(v) > 0 && covers[0] != v[0]), "the licence covers version %s; version %q is %s", c.Version, f.Version.NewVersion, where)
}

// Block is a gate that stops a step.
type Block struct {
	Gate string `json:"gate"`
	Why  string `json:"why"`
	// Firm gates cannot be overridden: behind them something would be lost.
	Firm bool `json:"firm"`
}

// Gate is a condition that stops steps from running too early.
type Gate struct {
	Name  string
	Steps []Step
	Firm  bool
	Place bool  // it is about which computer this is
	Needs Group // the facts that it reads
	About string
	stops func(Facts) []string // why it stops; nothing where it does not
}

// Overridable reports whether a person may go past the gate with a reason.
func (g *Gate) Overridable() bool {
	return !g.Firm
}

func when(bad bool, format string, args ...any) []string {
	if !bad {
		return nil
	}
	return []string{fmt.Sprintf(format, args...)}
}

// TakesOver reports whether taking the licence up here disables it on the old
// computer.
func (f Facts) TakesOver() bool {
	return f.Seat.Takeover && f.Seat.Licence.AllowsTakeover && f.Seat.Licence.Old.Held()
}

// BesideOld reports whether a second seat is taken, as the licence's rule
// allows and a person wants it. Without that wish the seat on the old computer
// would be stranded when that is wiped.
func (f Facts) BesideOld() bool {
	l := f.Seat.Licence
	return f.Seat.Second && l.Old.Held() && l.Seats > 1 && (l.ActiveOn < l.Seats || l.New == licence.Active && l.ActiveOn <= l.Seats)
}

// from is the computer that the licence is deactivated on.
func (f Facts) from() string { return cmp.Or(f.Seat.Licence.From, f.OldName) }

// Moment is a time as a person says it.
func Moment(t time.Time) string { return t.Local().Format("15:04 on 2 January 2006") }

func clock(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

// Gates is the table of all gates.
var Gates = []Gate{
	{"old-computer", []Step{Pack, Deactivate, Retire, Return, Remove}, true, true, 0, "this step runs on the old computer",
		func(f Facts) []string {
			return when(f.Side != OldSide && !f.OldLost, "this is %s, not the old computer %s", f.Here, f.OldName)
		}},
	{"other-computer", []Step{Unpack, Undo, Activate, Verify}, true, true, 0, "this step does not run on the old computer",
		func(f Facts) []string {
			return when(f.Side == OldSide && !f.Keep, "this is the old computer %s itself", f.Here)
		}},
	{"new-computer", []Step{Deactivate, Unpack, Undo, Activate, Verify}, true, true, 0, "no other computer is the new one",
		func(f Facts) []string {
			return when(f.Side == ThirdSide, "this is %s, and the new computer of this move is %s", f.Here, f.NewName)
		}},
	{"right-name", []Step{Unpack, Activate}, false, true, 0, "the new computer has the name that the kit was made for",
		func(f Facts) []string {
			return when(!f.Bound && !f.Keep && f.NewName != "" && f.NewName != kit.Unnamed && !strings.EqualFold(f.Here, f.NewName), "this is %s, and the kit was made for %s", f.Here, f.NewName)
		}},
	{"not-a-copy", []Step{Deactivate, Activate}, true, false, 0, "the kit is for a move, and no safety copy",
		func(f Facts) []string {
			return when(f.Keep, "the kit is a safety copy: the licences of %s are left alone", f.Title)
		}},
	{"newest-copy", []Step{Pack, Deactivate, Unpack, Undo, Activate, Verify, Retire, Return, Remove, Close}, false, false, 0, "no other copy of the kit was worked on here",
		func(f Facts) []string { return when(f.Behind != "", "%s", f.Behind) }},
	{"clock-right", []Step{Deactivate, Activate}, false, false, 0, "this computer's clock is not behind the kit",
		func(f Facts) []string {
			return when(f.Written.After(f.Now.Add(time.Hour)), "the clock of %s says %s, and the kit was written at %s", f.Here, clock(f.Now), clock(f.Written))
		}},
	{"kit-whole", []Step{Deactivate, Unpack, Activate}, true, false, NeedsKit, "the kit reads back whole",
		func(f Facts) []string { return f.Kit.Damage }},
	{"app-closed", []Step{Pack, Unpack, Undo, Retire, Return}, false, false, NeedsUse, "the app is closed, or its engine gives a consistent snapshot while it runs",
		func(f Facts) []string {
			return when(len(f.Use.Running) > 0 && !f.Use.Consistent, "%s is running: %s", f.Title, strings.Join(f.Use.Running, ", "))
		}},
	{"files-closed", []Step{Pack, Unpack, Retire}, false, false, NeedsUse, "no program has a file open that is packed as it is",
		func(f Facts) []string { return f.Use.Open }},
	{"sync-done", []Step{Pack}, false, false, NeedsPack, "everything that the app sends somewhere is sent",
		func(f Facts) []string { return f.Pack.Unsynced }},
	{"exports-there", []Step{Pack}, false, false, NeedsPack, "the app's own exports are all there",
		func(f Facts) []string { return f.Pack.TooFew }},
	{"readable", []Step{Pack}, true, false, NeedsPack, "everything that is packed can be read",
		func(f Facts) []string { return f.Pack.Unreadable }},
	{"items-there", []Step{Pack}, false, false, NeedsPack, "everything the card lists is on the old computer",
		func(f Facts) []string {
			return when(len(f.Pack.Missing) > 0, "not on this computer: %s", strings.Join(f.Pack.Missing, "; "))
		}},
	{"needs-met", []Step{Pack}, false, false, NeedsPack, "what an item cannot be used without is there too",
		func(f Facts) []string { return f.Pack.LacksNeed }},
	{"as-expected", []Step{Pack, Deactivate}, false, false, NeedsDrift, "every figure is the number that the card tells",
		func(f Facts) []string { return f.Drift.Unexpected }},
	{"serial-right", []Step{Pack}, false, false, NeedsPack, "serials agree with their check characters",
		func(f Facts) []string { return f.Pack.BadSerials }},
	{"names-fit", []Step{Pack, Unpack}, false, false, NeedsFit, "the new computer's system takes every name",
		func(f Facts) []string {
			return when(len(f.Fit.BadNames) > 0, "the new computer cannot have these names: %s", strings.Join(f.Fit.BadNames, "; "))
		}},
	{"fits", []Step{Pack, Unpack}, false, false, NeedsFit, "there is space for what is written",
		func(f Facts) []string {
			return when(f.Fit.Need > 0 && uint64(f.Fit.Need) > f.Fit.Free, "%s are needed, %s are free", humanize.Bytes(uint64(max(f.Fit.Need, 0))), humanize.Bytes(f.Fit.Free))
		}},
	{"sealed", []Step{Deactivate, Activate}, true, false, NeedsKit, "everything the card lists is sealed and reads back whole",
		func(f Facts) []string {
			if !f.Packed {
				return []string{f.Title + " is not packed"}
			}
			return when(len(f.Kit.Unsealed) > 0, "does not read back whole: %s", strings.Join(f.Kit.Unsealed, ", "))
		}},
	{"old-unchanged", []Step{Deactivate, Retire}, false, false, NeedsDrift, "nothing on the old computer changed since the pack",
		func(f Facts) []string {
			return when(len(f.Drift.OldChanged) > 0, "since it was packed, %s", strings.Join(f.Drift.OldChanged, "; "))
		}},
	{"tried-first", []Step{Deactivate}, false, false, 0, "an app that runs on trial is proven on the new computer before its licence is deactivated",
		func(f Facts) []string {
			return when(f.Trying && !f.OldLost, "%s runs on trial on %s, and its data is not proven there yet", f.Title, f.NewName)
		}},
	{"packed", []Step{Unpack, Undo, Verify}, true, false, 0, "the app was packed",
		func(f Facts) []string { return when(!f.Packed, "%s is not packed", f.Title) }},
	{"users-known", []Step{Unpack}, false, false, NeedsPlace, "every user of the old computer is on this one",
		func(f Facts) []string {
			return when(len(f.Place.NoUser) > 0, "not a user of this computer: %s", strings.Join(f.Place.NoUser, ", "))
		}},
	{"not-active-here", []Step{Undo}, false, false, NeedsUndo, "no licence of the app is active on this computer",
		func(f Facts) []string {
			return when(len(f.Undo.ActiveHere) > 0, "the licence %s is active here, and its data would be gone", strings.Join(f.Undo.ActiveHere, ", "))
		}},
	{"old-has-it", []Step{Undo}, false, false, NeedsUndo, "what was moved is on the old computer too",
		func(f Facts) []string {
			return when(len(f.Undo.OnlyHere) > 0, "removed for good on %s: %s", f.OldName, strings.Join(f.Undo.OnlyHere, ", "))
		}},
	{"set-aside-there", []Step{Undo}, false, false, NeedsUndo, "the data that unpack set aside is still there",
		func(f Facts) []string {
			return when(len(f.Undo.AsideGone) > 0, "the data that was set aside is gone: %s", strings.Join(f.Undo.AsideGone, ", "))
		}},
	{"licence-deactivated", []Step{Unpack}, false, false, NeedsPlace, "a licence that is a file is no longer on the old computer",
		func(f Facts) []string {
			return when(len(f.Place.StillHeld) > 0, "the licence %s would be on both computers: it is not deactivated on %s", strings.Join(f.Place.StillHeld, ", "), f.OldName)
		}},
	{"place-ready", []Step{Unpack}, false, false, NeedsPlace, "where an item goes, it can be put",
		func(f Facts) []string { return f.Place.Lacks }},
	{"requires-met", []Step{Unpack}, false, false, NeedsPlace, "what the app cannot work without is here",
		func(f Facts) []string {
			return when(len(f.Place.Requires) > 0, "not on this computer: %s", strings.Join(f.Place.Requires, "; "))
		}},
	{"version-rule", []Step{Unpack}, false, false, NeedsVersion, "the app here may take over the data",
		func(f Facts) []string {
			switch {
			case f.Version.Rule == "":
				return nil
			case f.Version.NewVersion == "" && len(f.Version.Withheld) > 0:
				return []string{fmt.Sprintf("the version of %s here is told by its own command, which was not run: %s", f.Title, strings.Join(f.Version.Withheld, " "))}
			case f.Version.NewVersion == "" && f.Version.OldVersion == "":
				return []string{fmt.Sprintf("%s is not installed here, and its version on %s is not known (%s)", f.Title, f.OldName, f.Version.Rule)}
			case f.Version.NewVersion == "":
				return []string{fmt.Sprintf("%s is not installed here; version %s is needed (%s)", f.Title, f.Version.OldVersion, f.Version.Rule)}
			case f.Version.OldVersion == "":
				return []string{fmt.Sprintf("the version of %s on %s is not known; %s is here", f.Title, f.OldName, f.Version.NewVersion)}
			}
			return when(!version.Allows(f.Version.Rule, f.Version.OldVersion, f.Version.NewVersion),
				"%s had version %s and has version %s here; the rule is %s", f.Title, f.Version.OldVersion, f.Version.NewVersion, f.Version.Rule)
		}},
	{"same-edition", []Step{Unpack}, false, false, NeedsVersion, "the app here is of the same edition",
		func(f Facts) []string {
			return when(f.Version.OldEdition != "" && !strings.EqualFold(f.Version.OldEdition, f.Version.NewEdition), "%s was the edition %q and is %q here", f.Title, f.Version.OldEdition, f.Version.NewEdition)
		}},
	{"old-deactivated", []Step{Activate}, true, false, NeedsSeat, "the licence is not active on the old computer, or its rule allows that",
		func(f Facts) []string {
			l := f.Seat.Licence
			switch {
			case Free(l.Old), f.BesideOld():
				return nil
			case f.Seat.Second:
				return []string{fmt.Sprintf("the licence is %s on %s, and no second seat is free: %d of %d are taken", l.Old, f.from(), l.ActiveOn, l.Seats)}
			case f.Seat.Takeover && !l.AllowsTakeover:
				return []string{fmt.Sprintf("the licence is %s on %s, and cannot be taken over", l.Old, f.from())}
			}
			if l.Old == licence.Unknown && !f.Seat.Takeover {
				return []string{fmt.Sprintf("it is not known whether the licence is deactivated on %s", f.from())}
			}
			return when(!f.Seat.Takeover, "the licence is %s on %s", l.Old, f.from())
		}},
	{"in-place", []Step{Activate}, false, false, NeedsSeat, "the app's data is in its place",
		func(f Facts) []string {
			return when(f.Seat.Licence.New != licence.Active && !f.Placed, "the data of %s is not in its place yet", f.Title)
		}},
	{"allowance", []Step{Activate}, true, false, NeedsSeat, "a transfer is left",
		func(f Facts) []string {
			moves := f.Seat.Licence.Old == licence.Deactivated || f.TakesOver()
			return when(f.Seat.Licence.New != licence.Active && moves && f.Seat.Licence.Left == 0, "no transfer is left on this licence")
		}},
	{"not-expired", []Step{Activate}, true, false, NeedsSeat, "the licence has not run out",
		func(f Facts) []string {
			l := f.Seat.Licence // whether one that is activated has run out is verify's to say
			return when(l.New != licence.Active && !l.Until.IsZero() && !l.judged(f.Now).Before(l.Until), "it ran out on %s", l.Until.Add(-time.Second).Format("2 Jan 2006"))
		}},
	{"back-in-time", []Step{Deactivate, Activate}, false, false, NeedsSeat, "there is time left to take the licence up again",
		func(f Facts) []string {
			by := f.Seat.BackBy
			if by.IsZero() {
				by = f.Seat.Licence.BackBy
			}
			return when(!by.IsZero() && f.Now.After(by), "its vendor wants it activated again by %s, which is over", clock(by))
		}},
	{"waiting-over", []Step{Activate}, false, false, NeedsSeat, "the vendor's waiting time is over",
		func(f Facts) []string {
			l := f.Seat.Licence
			return when(l.New != licence.Active && l.Again.After(l.judged(f.Now)), "it can be activated again from %s", clock(l.Again))
		}},
	{"covered", []Step{Deactivate, Unpack, Activate}, false, false, NeedsVersion, "the licence covers the version and edition on the new computer",
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
	{"proven", []Step{Retire, Remove, Close}, true, false, 0, "verify found everything equal",
		func(f Facts) []string {
			return when(!f.Proven && !f.GivenUp, "%s is not proven on the new computer", f.Title)
		}},
	{"handed-over", []Step{Remove, Close}, true, false, 0, "the hand-over is stored where the kit is not",
		func(f Facts) []string { return when(!f.HandedOver, "the hand-over is nowhere but in the kit") }},
}

// Check returns the gates that stop a step, in the order of the table. On the wrong computer the other gates do not
// matter, and are left out. It is an error if a gate needs facts that were not gathered.
func Check(step Step, f Facts) ([]Block, error) {
	var out []Block
	for _, g := range Gates {
		if !slices.Contains(g.Steps, step) {
			continue
		}
		if g.Needs&^f.gathered() != 0 {
			return nil, fault.New(fault.Internal, "the gate %s of %s was not checked: its facts were not gathered", g.Name, step)
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

// Find returns the gate of that name, or nil.
func Find(name string) *Gate {
	for i := range Gates {
		if Gates[i].Name == name {
			return &Gates[i]
		}
	}
	return nil
}
