package run

import (
	"context"
	"errors"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/steps"
)

// ManualStep is one step that the technician carries out.
type ManualStep struct {
	Key      steps.Key // app and licence
	App      string    // the app's title
	Action   licence.Action
	Step, Of int
	Do       string // may contain secrets: shown, and stored nowhere
	Ask      string // the question to answer; "" if a confirmation is enough
	Optional bool   // an empty answer means that nobody knows it
	Secret   bool   // hide the answer while it is typed
	Evidence bool   // ask for a file as evidence
	Letter   bool   // a letter to the vendor may help
}

// Manual actions besides deactivation and activation.
const (
	ActionType licence.Action = "type" // enters a serial from a label
	ActionOpen licence.Action = "open" // checks the app, as its card says
	ActionSync licence.Action = "sync" // confirms that the old computer's copy no longer syncs
)

// Reply is the technician's answer to a step.
type Reply struct {
	Answer   string
	Evidence string // path of a file, or ""
}

// Conflict is existing data at an item's destination.
type Conflict struct {
	Key     steps.Key
	Title   string // the app's title
	Where   string // location, as this computer writes it
	Files   int64  // of the existing data
	Bytes   int64
	Newest  time.Time // zero if unknown
	Started bool      // the app created it when it was first started here
	Another bool      // it is a different profile with the same name
	Coming  steps.Item
}

// Technician answers questions. An error of kind fault.ManualStep means that nobody can answer now, or
// that the technician continues later.
type Technician interface {
	// Password asks for a password without showing it.
	Password(prompt string) (string, error)
	// Agree asks for consent to something irreversible.
	Agree(question string) error
	// AgreeToRun asks for consent to run programs. The question can have several lines.
	AgreeToRun(question string) error
	// Change shows planned changes to an item's settings, and reports whether the user agrees. If
	// nobody can answer, it returns an error.
	Change(title string, key steps.Key, lines []pathmap.Line) (bool, error)
	// Resolve returns the policy for existing data (tree.Policy), or "" for the default.
	Resolve(w Conflict) (policy string, err error)
	// DoStep asks the technician to carry out a step and returns the reply.
	DoStep(ctx context.Context, g ManualStep) (Reply, error)
}

// NonInteractive is a Technician that cannot be asked.
type NonInteractive struct{}

var _ Technician = NonInteractive{}

// errNonInteractive is wrapped by every error of NonInteractive.
var errNonInteractive = errors.New("this run is non-interactive")

// IsNonInteractive reports whether an error means that nobody could be asked.
func IsNonInteractive(err error) bool { return errors.Is(err, errNonInteractive) }

func unanswered(format string, args ...any) error {
	return &fault.Error{Kind: fault.ManualStep, What: fault.New(fault.ManualStep, format, args...).What, Err: errNonInteractive}
}

// Password returns an error.
func (NonInteractive) Password(prompt string) (string, error) { return "", unanswered("%s", prompt) }

// Agree returns an error.
func (NonInteractive) Agree(question string) error { return unanswered("%s", question) }

// AgreeToRun returns an error.
func (NonInteractive) AgreeToRun(question string) error { return unanswered("%s", question) }

// Change returns an error.
func (NonInteractive) Change(title string, key steps.Key, _ []pathmap.Line) (bool, error) {
	return false, &fault.Error{Kind: fault.PathsOutdated, What: "the settings " + key.Item + " of " + title + " contain paths that must be updated for this computer", App: key.App, Err: errNonInteractive}
}

// Resolve returns the default.
func (NonInteractive) Resolve(Conflict) (string, error) { return "", nil }

// DoStep returns an error.
func (NonInteractive) DoStep(_ context.Context, g ManualStep) (Reply, error) {
	switch g.Action {
	case ActionOpen:
		return Reply{}, unanswered("checking the data in %s is a manual step", g.App)
	case ActionSync:
		return Reply{}, unanswered("making sure that %s syncs on one computer only is a manual step", g.App)
	case ActionType:
		return Reply{}, unanswered("%s of the licence %s of %s must be typed", g.Ask, g.Key.Item, g.App)
	}
	return Reply{}, unanswered("step %d of %d to %s the licence %s of %s is a manual step", g.Step, g.Of, g.Action, g.Key.Item, g.App)
}
