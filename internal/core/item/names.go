package item

import (
	"context"
	"slices"

	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Parts has the operations that a kind supports for one item. A nil field means that the kind does
// not do that.
type Parts struct {
	Inspector
	Mover   Mover   // nil: the item stays where it is
	Names   Names   // nil: likewise
	Merger  Merger  // nil: staged content cannot be merged into existing content
	Adder   Adder   // nil: to keep both, they need two names
	Querier Querier // nil: it is not a database
	Job     Job     // nil: the system does not start it by itself
	// Fixed reports whether names cannot be changed, because the item belongs to a system that is
	// not running. Staging then leaves a file for a manual step. nil means never.
	Fixed func() bool
	// Shared reports whether the folder at home contains other files, so that it cannot be renamed.
	// renews means that an earlier unpack put the item there. nil means never.
	Shared func(ctx context.Context, home string, renews bool) (bool, error)
}

// Inspector inspects an item. It changes nothing.
type Inspector interface {
	// Inspect inspects the item's location.
	Inspect(ctx context.Context, how Options) (*Inspection, error)
	// Compare compares the item on this computer with its sealed data, or, if the item stays, with its old address.
	Compare(ctx context.Context) (*steps.Checked, error)
	// Close releases open resources.
	Close()
}

// Mover copies an item into the kit and stages it on the new computer. "at" is a home or a spare.
type Mover interface {
	// Locate finds the item's home on this computer.
	Locate(ctx context.Context) error
	// Where returns the home in the computer's own terms, and its real path; a server's database has no path.
	Where() (spoken, disk string)
	// Volume returns a path on the disk that will hold the item, or "" if there is none or it is not known.
	Volume(ctx context.Context) string
	// Seal copies the item and its fingerprint into the kit, both from the same snapshot.
	Seal(ctx context.Context, is *Inspection) (*kit.Sealed, error)
	// Check returns an error if the sealed list is invalid. It runs before anything is written.
	Check() error
	// Lacks returns the item's requirements that this computer does not meet.
	Lacks(ctx context.Context) (Lacks, error)
	// Stage creates the complete item under the spare name stage, with updated paths, and flushes
	// it.
	Stage(ctx context.Context, stage string) (Staged, error)
	// Same reports whether the content matches the sealed data.
	Same(ctx context.Context, at string) (bool, error)
	// RecordPlaced stamps data that was just placed, so that later edits can be detected.
	RecordPlaced(ctx context.Context, at string, done *steps.Placed) error
	// Unedited reports whether the content still has the stamp.
	Unedited(ctx context.Context, at, stamp string) (bool, error)
}

// Lacks lists an item's requirements that a computer does not meet.
type Lacks struct {
	Reasons  []string // why the item cannot be put in place
	BadNames []string // names that this system does not allow
}

// Staged is the result of staging an item.
type Staged struct {
	NotRestored []string // owners and file metadata that could not be restored
	Notes       []string // notes for the technician
	ManualStep  string   // a manual step that must come first; then nothing is staged
}

// Presence says which of two names has an item's data.
type Presence string

// The presences of a home and a spare.
const (
	Neither Presence = "neither"
	AtHome  Presence = "home"
	AtSpare Presence = "spare"
	Between Presence = "between" // a move from one to the other was interrupted
	Both    Presence = "both"    // the move was complete, and other data was created under the first name since
)

// Use is the purpose of a spare.
type Use string

// The purposes of spares.
const (
	ForStage  Use = "stage"  // the same name each time
	ForAside  Use = "aside"  // existing data
	ForBeside Use = "beside" // new data that stays beside existing data
)

// Names moves an item's data between its home and spare names. MoveOut, MoveIn and Delete can be called again
// after an interruption at any point. part limits them to the files that the card selects.
type Names interface {
	// State returns which names have data. It changes nothing. An empty spare does not exist.
	State(ctx context.Context, home, spare string, part bool) (Presence, error)
	// Ours reports whether a name is home, or a name that Move Kit derives from home.
	Ours(home, name string) bool
	// Free returns an unused name.
	Free(ctx context.Context, home string, use Use) (string, error)
	// MoveOut renames the data at home to a spare.
	MoveOut(ctx context.Context, home, spare string, part bool) error
	// MoveIn renames the data at a spare to home.
	MoveIn(ctx context.Context, spare, home string, part bool) error
	// Delete deletes the data at a spare if it meets op.If, and reports whether something is left
	// there.
	Delete(ctx context.Context, spare string, op steps.Op) (left bool, err error)
}

// Merger merges staged content into existing content.
type Merger interface {
	// MergeInto moves the content of the stage into home. Conflicting data that must be kept is
	// moved to aside; used reports whether there was any.
	MergeInto(ctx context.Context, stage, home, aside string, policy tree.Policy) (used bool, err error)
}

// Adder adds existing content to placed content.
type Adder interface {
	// CopyMissing copies content that is only in spare into home, and returns a note for the
	// technician.
	CopyMissing(ctx context.Context, spare, home string) (note string, err error)
}

// Querier answers the queries of a card.
type Querier interface {
	// Ask returns the whole number that a query returns. It prevents the query from changing
	// anything.
	Ask(ctx context.Context, query string) (int64, error)
}

// Job starts and stops an item that the system runs by itself. A job that is stopped does not start again before Start.
type Job interface {
	// State returns how the system runs the job now.
	State(ctx context.Context) (steps.JobState, error)
	// Stop stops the job, and prevents the system from starting it.
	Stop(ctx context.Context) error
	// Start lets the system start the job as in was, and starts it now if it was running.
	Start(ctx context.Context, was steps.JobState) error
}

// Exists reports whether there is data of the item under a name.
func (p Parts) Exists(ctx context.Context, name string) (bool, error) {
	if name == "" || p.Names == nil {
		return false, nil
	}
	is, err := p.Names.State(ctx, name, "", false)
	return is == AtHome, err
}

// AtRest reports whether names cannot be changed, because the item belongs to a system that is not
// running.
func (p Parts) AtRest() bool { return p.Fixed != nil && p.Fixed() }

// Query returns the whole number that a query of the card returns.
func (p Parts) Query(ctx context.Context, query string) (int64, error) {
	if p.Querier == nil {
		return 0, fault.New(fault.BadCard, "this item is not a database, so it cannot be queried: %s", query)
	}
	return p.Querier.Ask(ctx, query)
}

// Result lists the data and notes that a plan left behind.
type Result struct {
	Kept      string   // spare with data that was kept, because somebody modified it; "" if none
	Conflicts string   // spare with data that conflicted with a merge; "" if none
	Meanwhile []string // spares with data that was created at home after a run was interrupted
	Gone      string   // spare that data was to be copied from, and that is gone; "" if none
	Notes     []string // notes for the technician
}

// CarryOut carries out the remaining operations of a plan. stage makes sure that the item is
// staged. save writes the plan to the journal after each operation but the last.
func (p Parts) CarryOut(ctx context.Context, plan *steps.Plan, stage, save func() error) (*Result, error) {
	out := &Result{}
	for len(plan.Left()) > 0 {
		again, err := p.do(ctx, plan, stage, out)
		if err != nil {
			return out, err
		}
		if !again {
			plan.At++
		}
		if len(plan.Left()) > 0 {
			if err := save(); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

// do carries out the next operation. again means that another operation was inserted before it.
func (p Parts) do(ctx context.Context, plan *steps.Plan, stage func() error, out *Result) (again bool, err error) {
	op := plan.Ops[plan.At]
	switch op.Do {
	case steps.MoveOut:
		is, err := p.Names.State(ctx, op.From, op.To, op.Part)
		switch {
		case err != nil || is == Neither || is == AtSpare:
			return false, err
		case is == Both: // an interrupted run moved everything, and other data was created since
			return false, p.clear(ctx, plan, plan.At+1, op.From, op.Part, out)
		}
		return false, p.Names.MoveOut(ctx, op.From, op.To, op.Part)
	case steps.MoveIn:
		is, err := p.Names.State(ctx, op.To, op.From, op.Part)
		switch {
		case err != nil || is == AtHome:
			return false, err
		case is == Neither:
			return false, fault.New(fault.Missing, "%s is gone, so it cannot be moved back to %s", op.From, op.To)
		case is == Both:
			return true, p.clear(ctx, plan, plan.At, op.To, op.Part, out)
		}
		return false, p.Names.MoveIn(ctx, op.From, op.To, op.Part)
	case steps.MergeIn:
		if err := stage(); err != nil {
			return false, err
		}
		used, err := p.Merger.MergeInto(ctx, op.From, op.To, op.Aside, tree.Policy(op.Policy))
		if used {
			out.Conflicts = op.Aside
		}
		return false, err
	case steps.CopyMissing:
		if there, err := p.Exists(ctx, op.From); err != nil || !there {
			out.Gone = op.From
			return false, err
		}
		note, err := p.Adder.CopyMissing(ctx, op.From, op.To)
		if note != "" {
			out.Notes = append(out.Notes, note)
		}
		return false, err
	}
	left, err := p.Names.Delete(ctx, op.From, op)
	if left {
		out.Kept = op.From
	}
	return false, err
}

// maxOps limits the length of a plan. Each inserted operation moves data that was created
// meanwhile.
const maxOps = 100

// clear inserts an operation that moves data created at home to an unused spare.
func (p Parts) clear(ctx context.Context, plan *steps.Plan, at int, home string, part bool, out *Result) error {
	spare, err := p.Names.Free(ctx, home, ForAside)
	if err != nil {
		return err
	}
	if len(plan.Ops) > maxOps {
		return fault.New(fault.Internal, "the data at %s cannot be moved away", home)
	}
	plan.Ops = slices.Insert(plan.Ops, at, steps.Op{Do: steps.MoveOut, From: home, To: spare, Part: part})
	out.Meanwhile = append(out.Meanwhile, spare)
	return nil
}
