package run

import (
	"context"
	"errors"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/repoint"
	"movekit/internal/core/steps"
)

// Guided is one step that a person is asked to take.
type ManualStep struct {
	Key      steps.Key // app and licence
	App      string    // its title
	Action   licence.Action
	Step, Of int
	Do       string // may hold secrets: it is shown, and kept nowhere
	Ask      string // what the person is asked to type; "" where it is enough that it is done
	Secret   bool   // whether what is typed is not to be seen
	Evidence bool   // whether a file that proves it is asked for
	Letter   bool   // whether what the vendor is to be told helps
}

// What a person does besides deactivating and taking up licences.
const (
	ActionType licence.Action = "type" // types what is on a label, and not on the computer
	ActionOpen licence.Action = "open" // looks into the app, as its card says
	ActionSync licence.Action = "sync" // sees that the old computer's copy syncs no more
)

// Reply is what a person says of a step.
type Reply struct {
	Answer   string
	Evidence string // path of a file, or ""
}

// InTheWay is something that is where an item goes.
type Conflict struct {
	Key     steps.Key
	Title   string // of the app
	Where   string // as this computer writes it
	Files   int64  // of what is there
	Bytes   int64
	Newest  time.Time // zero where it is not known
	Started bool      // the app itself made it, when it was started here
	Another bool      // it is another profile of the same name than the one that comes
	Coming  steps.Item
}

// Person is who is asked. An error of the kind fault.Waits says that nobody is
// there, or that the person goes on later.
type Technician interface {
	// Password asks for a password, which is not shown.
	Password(prompt string) (string, error)
	// Agree has a person agree to what cannot be taken back.
	Agree(question string) error
	// AgreeToRun has a person agree to programs that are run.
	AgreeToRun(question string) error
	// Change shows what is to be changed in the settings of an item, and reports whether a
	// person agrees. That nobody can be asked is an error.
	Change(title string, key steps.Key, lines []repoint.Line) (bool, error)
	// Way says what happens to what is in the way (tree.Policy); "" leaves it at the usual.
	Resolve(w Conflict) (policy string, err error)
	// Guide has a person take a step, and say what was seen.
	DoStep(ctx context.Context, g ManualStep) (Reply, error)
}

// Nobody stands for a person where nobody can be asked.
type NonInteractive struct{}

var _ Technician = NonInteractive{}

// errNobody is the cause of every error of Nobody.
var errNonInteractive = errors.New("nobody can be asked here")

// IsNobody reports whether an error says that nobody could be asked.
func IsNonInteractive(err error) bool { return errors.Is(err, errNonInteractive) }

func unanswered(format string, args ...any) error {
	return &fault.Error{Kind: fault.Waits, What: fault.New(fault.Waits, format, args...).What, Err: errNonInteractive}
}

// Password fails.
func (NonInteractive) Password(prompt string) (string, error) { return "", unanswered("%s", prompt) }

// Agree fails.
func (NonInteractive) Agree(question string) error { return unanswered("%s", question) }

// AgreeToRun fails.
func (NonInteractive) AgreeToRun(question string) error { return unanswered("%s", question) }

// Change fails.
func (NonInteractive) Change(title string, key steps.Key, _ []repoint.Line) (bool, error) {
	return false, &fault.Error{Kind: fault.NotRepointed, What: "paths in the settings " + key.Item + " of " + title + " are to be changed to where things are on this computer", App: key.App, Err: errNonInteractive}
}

// Way leaves it at the usual.
func (NonInteractive) Resolve(Conflict) (string, error) { return "", nil }

// Guide fails.
func (NonInteractive) DoStep(_ context.Context, g ManualStep) (Reply, error) {
	switch g.Action {
	case ActionOpen:
		return Reply{}, unanswered("that %s shows its data is seen by a person", g.App)
	case ActionSync:
		return Reply{}, unanswered("that %s syncs on one computer only is seen to by a person", g.App)
	case ActionType:
		return Reply{}, unanswered("%s of the licence %s of %s is typed by a person", g.Ask, g.Key.Item, g.App)
	}
	return Reply{}, unanswered("step %d of %d to %s the licence %s of %s is done by a person", g.Step, g.Of, g.Action, g.Key.Item, g.App)
}
