package steps

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/card"
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

// Facts are what was observed about one app before a step. A step fills in
// those that its gates look at.
type Facts struct {
	Side    Side
	Here    string // name of this computer
	OldName string
	NewName string // that the kit was made for, or that is bound
	Bound   bool   // whether a computer is bound as the new one
	Keep    bool   // whether the kit is a safety copy
	Title   string // of the app

	KitDamage []string // what Inspect found
	Need      int64    // bytes the step writes at most
	Free      uint64   // bytes free where it writes; ignored where Need is 0

	Running    []string // programs of the app that run
	Consistent bool     // every item of the app may be packed in use
	Missing    []string // what the card lists and is not here
	Open       []string // programs that have files of the app open, which are not packed in use
	TooFew     []string // exports that are fewer than there must be
	Unsynced   []string // what is not sent yet
	Unreadable []string // places that cannot be read
	BadSerials []string // serials that do not agree with their check characters
	Unexpected []string // figures that are not the numbers that the card tells
	LacksNeed  []string // items here without one they need
	BadNames   []string // names that the new computer's system forbids
	NoUser     []string // users whose counterpart is not here

	Packed   bool     // every item of the app is sealed
	Unsealed []string // sealed items that do not read back whole

	ActiveHere []string // licences that are active on the new computer
	OnlyHere   []string // items that were removed on the old computer for good
	AsideGone  []string // items whose set-aside data is not there any more

	StillHeld []string // licences that are files, and not freed on the old computer

	Requires   []string  // what the app cannot work without, and is not here
	Covered    []Cover   // what the app's licences cover
	Lacks      []string  // why an item cannot be put where it goes
	Rule       card.Rule // "" where the card has none
	OldVersion string
	NewVersion string
	Withheld   []string // the command that would tell the version here, and was not run
	OldEdition string
	NewEdition string

	Licence  Standing  // of the licence that a step is about
	BackBy   time.Time // by when a licence that is freed now must be taken up again
	Takeover bool      // a person asked for it to be taken over from the old computer
	Second   bool      // a person asked for a second seat, beside that of the old computer
	OldLost  bool      // a person said that nothing can be freed on the old computer itself

	Now     time.Time
	Written time.Time // when the kit was last written, by the clock that was there

	Behind string // what another copy of the kit has and this one has not

	Placed     bool     // every item of the app is in its place
	Proven     bool     // verify found everything equal
	Trying     bool     // its data is to be proven on the new computer first, where it runs on trial
	GivenUp    bool     // a person gives the move up
	HandedOver bool     // the hand-over is stored outside the kit
	OldChanged []string // what changed on the old computer since the pack
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
	if c.Edition != "" && f.NewEdition != "" && !strings.EqualFold(c.Edition, f.NewEdition) {
		return []string{fmt.Sprintf("the licence covers the edition %q; %q is %s", c.Edition, f.NewEdition, where)}
	}
	covers, v := version.Numbers(c.Version), version.Numbers(f.NewVersion)
	return when(len(covers) > 0 && (len(v) == 0 && f.Side != OldSide || len(v) > 0 && covers[0] != v[0]), "the licence covers version %s; version %q is %s", c.Version, f.NewVersion, where)
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
	Place bool // whether it is about which computer this is
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
func (f Facts) TakesOver() bool { return f.Takeover && f.Licence.Takeable && f.Licence.Old.Held() }

// BesideOld reports whether a second seat is taken, as the licence's rule
// allows and a person wants it. Without that wish the seat on the old computer
// would be stranded when that is wiped.
func (f Facts) BesideOld() bool {
	l := f.Licence
	return f.Second && l.Old.Held() && l.Seats > 1 && (l.Taken < l.Seats || l.New == licence.Active && l.Taken <= l.Seats)
}

// from is the computer that the licence is freed on.
func (f Facts) from() string { return cmp.Or(f.Licence.From, f.OldName) }

// Moment is a time as a person says it.
func Moment(t time.Time) string { return t.Local().Format("15:04 on 2 January 2006") }

func clock(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

// Gates is the table of all gates.
var Gates = []Gate{
	{"old-computer", []Step{Pack, Deactivate, Retire, Return, Remove}, true, true, "this step runs on the old computer",
		func(f Facts) []string {
			return when(f.Side != OldSide && !f.OldLost, "this is %s, not the old computer %s", f.Here, f.OldName)
		}},
	{"other-computer", []Step{Unpack, Undo, Activate, Verify}, true, true, "this step does not run on the old computer",
		func(f Facts) []string {
			return when(f.Side == OldSide && !f.Keep, "this is the old computer %s itself", f.Here)
		}},
	{"new-computer", []Step{Deactivate, Unpack, Undo, Activate, Verify}, true, true, "no other computer is the new one",
		func(f Facts) []string {
			return when(f.Side == ThirdSide, "this is %s, and the new computer of this move is %s", f.Here, f.NewName)
		}},
	{"right-name", []Step{Unpack, Activate}, false, true, "the new computer has the name that the kit was made for",
		func(f Facts) []string {
			return when(!f.Bound && !f.Keep && f.NewName != "" && f.NewName != kit.Unnamed && !strings.EqualFold(f.Here, f.NewName), "this is %s, and the kit was made for %s", f.Here, f.NewName)
		}},
	{"not-a-copy", []Step{Deactivate, Activate}, true, false, "the kit is for a move, and no safety copy",
		func(f Facts) []string {
			return when(f.Keep, "the kit is a safety copy: the licences of %s are left alone", f.Title)
		}},
	{"newest-copy", []Step{Pack, Deactivate, Unpack, Undo, Activate, Verify, Retire, Return, Remove, Close}, false, false, "no other copy of the kit was worked on here",
		func(f Facts) []string { return when(f.Behind != "", "%s", f.Behind) }},
	{"clock-right", []Step{Deactivate, Activate}, false, false, "this computer's clock is not behind the kit",
		func(f Facts) []string {
			return when(f.Written.After(f.Now.Add(time.Hour)), "the clock of %s says %s, and the kit was written at %s", f.Here, clock(f.Now), clock(f.Written))
		}},
	{"kit-whole", []Step{Deactivate, Unpack, Activate}, true, false, "the kit reads back whole",
		func(f Facts) []string { return f.KitDamage }},
	{"app-closed", []Step{Pack, Unpack, Undo, Retire, Return}, false, false, "the app is closed, or its engine gives a consistent snapshot while it runs",
		func(f Facts) []string {
			return when(len(f.Running) > 0 && !f.Consistent, "%s is running: %s", f.Title, strings.Join(f.Running, ", "))
		}},
	{"files-closed", []Step{Pack, Unpack, Retire}, false, false, "no program has a file open that is packed as it is",
		func(f Facts) []string { return f.Open }},
	{"sync-done", []Step{Pack}, false, false, "everything that the app sends somewhere is sent",
		func(f Facts) []string { return f.Unsynced }},
	{"exports-there", []Step{Pack}, false, false, "the app's own exports are all there",
		func(f Facts) []string { return f.TooFew }},
	{"readable", []Step{Pack}, true, false, "everything that is packed can be read",
		func(f Facts) []string { return f.Unreadable }},
	{"items-there", []Step{Pack}, false, false, "everything the card lists is on the old computer",
		func(f Facts) []string {
			return when(len(f.Missing) > 0, "not on this computer: %s", strings.Join(f.Missing, "; "))
		}},
	{"needs-met", []Step{Pack}, false, false, "what an item cannot be used without is there too",
		func(f Facts) []string { return f.LacksNeed }},
	{"as-expected", []Step{Pack, Deactivate}, false, false, "every figure is the number that the card tells",
		func(f Facts) []string { return f.Unexpected }},
	{"serial-right", []Step{Pack}, false, false, "serials agree with their check characters",
		func(f Facts) []string { return f.BadSerials }},
	{"names-fit", []Step{Pack, Unpack}, false, false, "the new computer's system takes every name",
		func(f Facts) []string {
			return when(len(f.BadNames) > 0, "the new computer cannot have these names: %s", strings.Join(f.BadNames, "; "))
		}},
	{"fits", []Step{Pack, Unpack}, false, false, "there is space for what is written",
		func(f Facts) []string {
			return when(f.Need > 0 && uint64(f.Need) > f.Free, "%s are needed, %s are free", humanize.Bytes(uint64(max(f.Need, 0))), humanize.Bytes(f.Free))
		}},
	{"sealed", []Step{Deactivate, Activate}, true, false, "everything the card lists is sealed and reads back whole",
		func(f Facts) []string {
			if !f.Packed {
				return []string{f.Title + " is not packed"}
			}
			return when(len(f.Unsealed) > 0, "does not read back whole: %s", strings.Join(f.Unsealed, ", "))
		}},
	{"old-unchanged", []Step{Deactivate, Retire}, false, false, "nothing on the old computer changed since the pack",
		func(f Facts) []string {
			return when(len(f.OldChanged) > 0, "since it was packed, %s", strings.Join(f.OldChanged, "; "))
		}},
	{"tried-first", []Step{Deactivate}, false, false, "an app that runs on trial is proven on the new computer before its licence is freed",
		func(f Facts) []string {
			return when(f.Trying && !f.OldLost, "%s runs on trial on %s, and its data is not proven there yet", f.Title, f.NewName)
		}},
	{"packed", []Step{Unpack, Undo, Verify}, true, false, "the app was packed",
		func(f Facts) []string { return when(!f.Packed, "%s is not packed", f.Title) }},
	{"users-known", []Step{Unpack}, false, false, "every user of the old computer is on this one",
		func(f Facts) []string {
			return when(len(f.NoUser) > 0, "not a user of this computer: %s", strings.Join(f.NoUser, ", "))
		}},
	{"not-active-here", []Step{Undo}, false, false, "no licence of the app is active on this computer",
		func(f Facts) []string {
			return when(len(f.ActiveHere) > 0, "the licence %s is active here, and its data would be gone", strings.Join(f.ActiveHere, ", "))
		}},
	{"old-has-it", []Step{Undo}, false, false, "what was moved is on the old computer too",
		func(f Facts) []string {
			return when(len(f.OnlyHere) > 0, "removed for good on %s: %s", f.OldName, strings.Join(f.OnlyHere, ", "))
		}},
	{"set-aside-there", []Step{Undo}, false, false, "the data that unpack set aside is still there",
		func(f Facts) []string {
			return when(len(f.AsideGone) > 0, "the data that was set aside is gone: %s", strings.Join(f.AsideGone, ", "))
		}},
	{"licence-freed", []Step{Unpack}, false, false, "a licence that is a file is no longer on the old computer",
		func(f Facts) []string {
			return when(len(f.StillHeld) > 0, "the licence %s would be on both computers: it is not deactivated on %s", strings.Join(f.StillHeld, ", "), f.OldName)
		}},
	{"place-ready", []Step{Unpack}, false, false, "where an item goes, it can be put",
		func(f Facts) []string { return f.Lacks }},
	{"requires-met", []Step{Unpack}, false, false, "what the app cannot work without is here",
		func(f Facts) []string {
			return when(len(f.Requires) > 0, "not on this computer: %s", strings.Join(f.Requires, "; "))
		}},
	{"version-rule", []Step{Unpack}, false, false, "the app here may take over the data",
		func(f Facts) []string {
			switch {
			case f.Rule == "":
				return nil
			case f.NewVersion == "" && len(f.Withheld) > 0:
				return []string{fmt.Sprintf("the version of %s here is told by its own command, which was not run: %s", f.Title, strings.Join(f.Withheld, " "))}
			case f.NewVersion == "" && f.OldVersion == "":
				return []string{fmt.Sprintf("%s is not installed here, and its version on %s is not known (%s)", f.Title, f.OldName, f.Rule)}
			case f.NewVersion == "":
				return []string{fmt.Sprintf("%s is not installed here; version %s is needed (%s)", f.Title, f.OldVersion, f.Rule)}
			case f.OldVersion == "":
				return []string{fmt.Sprintf("the version of %s on %s is not known; %s is here", f.Title, f.OldName, f.NewVersion)}
			}
			return when(!version.Allows(f.Rule, f.OldVersion, f.NewVersion),
				"%s had version %s and has version %s here; the rule is %s", f.Title, f.OldVersion, f.NewVersion, f.Rule)
		}},
	{"same-edition", []Step{Unpack}, false, false, "the app here is of the same edition",
		func(f Facts) []string {
			return when(f.OldEdition != "" && !strings.EqualFold(f.OldEdition, f.NewEdition), "%s was the edition %q and is %q here", f.Title, f.OldEdition, f.NewEdition)
		}},
	{"old-deactivated", []Step{Activate}, true, false, "the licence is not active on the old computer, or its rule allows that",
		func(f Facts) []string {
			l := f.Licence
			switch {
			case Free(l.Old), f.BesideOld():
				return nil
			case f.Second:
				return []string{fmt.Sprintf("the licence is %s on %s, and no second seat is free: %d of %d are taken", l.Old, f.from(), l.Taken, l.Seats)}
			case f.Takeover && !l.Takeable:
				return []string{fmt.Sprintf("the licence is %s on %s, and cannot be taken over", l.Old, f.from())}
			}
			return when(!f.Takeover, "the licence is %s on %s", l.Old, f.from())
		}},
	{"in-place", []Step{Activate}, false, false, "the app's data is in its place",
		func(f Facts) []string {
			return when(f.Licence.New != licence.Active && !f.Placed, "the data of %s is not in its place yet", f.Title)
		}},
	{"allowance", []Step{Activate}, true, false, "a transfer is left",
		func(f Facts) []string {
			moves := f.Licence.Old == licence.Deactivated || f.TakesOver()
			return when(f.Licence.New != licence.Active && moves && f.Licence.Left == 0, "no transfer is left on this licence")
		}},
	{"not-expired", []Step{Activate}, true, false, "the licence has not run out",
		func(f Facts) []string {
			l := f.Licence // whether one that is taken up has run out is verify's to say
			return when(l.New != licence.Active && !l.Until.IsZero() && !l.judged(f.Now).Before(l.Until), "it ran out on %s", l.Until.Add(-time.Second).Format("2 Jan 2006"))
		}},
	{"back-in-time", []Step{Deactivate, Activate}, false, false, "there is time left to take the licence up again",
		func(f Facts) []string {
			by := f.BackBy
			if by.IsZero() {
				by = f.Licence.BackBy
			}
			return when(!by.IsZero() && f.Now.After(by), "its maker wants it taken up again by %s, which is over", clock(by))
		}},
	{"waiting-over", []Step{Activate}, false, false, "the maker's waiting time is over",
		func(f Facts) []string {
			l := f.Licence
			return when(l.New != licence.Active && l.Again.After(l.judged(f.Now)), "it can be taken up again from %s", clock(l.Again))
		}},
	{"covered", []Step{Deactivate, Unpack, Activate}, false, false, "the licence covers the version and edition on the new computer",
		func(f Facts) (out []string) {
			for _, c := range append(f.Covered, Cover{f.Licence.Covers, f.Licence.Edition}) {
				out = append(out, c.Lacks(f)...)
			}
			return slices.Compact(out)
		}},
	{"proven", []Step{Retire, Remove, Close}, true, false, "verify found everything equal",
		func(f Facts) []string {
			return when(!f.Proven && !f.GivenUp, "%s is not proven on the new computer", f.Title)
		}},
	{"handed-over", []Step{Remove, Close}, true, false, "the hand-over is stored where the kit is not",
		func(f Facts) []string { return when(!f.HandedOver, "the hand-over is nowhere but in the kit") }},
}

// Check returns the gates that stop a step, in the order of the table. On the
// wrong computer the others say nothing that matters, and are left out.
func Check(step Step, f Facts) []Block {
	var out []Block
	for _, g := range Gates {
		if !slices.Contains(g.Steps, step) {
			continue
		}
		for _, why := range g.stops(f) {
			out = append(out, Block{Gate: g.Name, Why: why, Firm: g.Firm})
		}
		if g.Place && len(out) > 0 {
			return out
		}
	}
	return out
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
