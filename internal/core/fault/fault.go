// Package fault gives every failure that a person can meet a kind, so that
// the interface can say what to do next without reading error texts.
package fault

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Kind sorts failures by what a person should do about them.
type Kind string

// The kinds of failure.
const (
	Usage           Kind = "usage"            // the call itself is wrong
	BadCard         Kind = "bad-card"         // an app card cannot be used
	NotAKit         Kind = "not-a-kit"        // the folder holds no kit
	NewerFormat     Kind = "newer-format"     // the kit was made by a newer tool
	Damaged         Kind = "damaged"          // bytes of the kit are not what was written
	Forged          Kind = "forged"           // the kit was altered by somebody without the passphrase
	Hostile         Kind = "hostile"          // a sealed list leads outside its target
	WrongPassphrase Kind = "wrong-passphrase" // the passphrase does not open the kit
	NoPassphrase    Kind = "no-passphrase"    // no passphrase was given and nobody can be asked
	Busy            Kind = "busy"             // another run is working on the kit
	Pulled          Kind = "pulled"           // the kit's medium was taken out
	NoSpace         Kind = "no-space"         // a disk is full
	ReadOnly        Kind = "read-only"        // a disk cannot be written to
	Scanned         Kind = "scanned"          // a virus scanner keeps something from being read
	Unreadable      Kind = "unreadable"       // something on the computer cannot be read
	Changed         Kind = "changed"          // something changed while it was being read
	Missing         Kind = "missing"          // something the card lists is not there
	BadDatabase     Kind = "bad-database"     // a database fails its own integrity check
	CannotPlace     Kind = "cannot-place"     // something could not be put in its place
	NoUser          Kind = "no-user"          // a user of the old computer is not on the new one
	ServerDown      Kind = "server-down"      // a database server does not answer, or went away
	ServerLogin     Kind = "server-login"     // a database server does not let us in, or not do it
	ServerRefused   Kind = "server-refused"   // a database server says no
	DeskDown        Kind = "desk-down"        // the licence service does not answer
	DeskNonsense    Kind = "desk-nonsense"    // the licence service answers something else
	DeskSignature   Kind = "desk-signature"   // an answer is not signed by the pinned key
	DeskRefused     Kind = "desk-refused"     // the licence service says no
	Waits           Kind = "waits"            // a step is left for a person
	NotAgreed       Kind = "not-agreed"       // a card's program would be run, and nobody has agreed to that
	NotRepointed    Kind = "not-repointed"    // settings would be changed, and nobody has agreed to that
	NotPlaced       Kind = "not-placed"       // an item must be unpacked first
	Issue           Kind = "issue"            // a licence's vendor must issue it again
	Stopped         Kind = "stopped"          // a person interrupted the run
	Unanswered      Kind = "unanswered"       // a question that nobody can be asked here
	Elsewhere       Kind = "elsewhere"        // it is for another computer of the move
	Internal        Kind = "internal"         // anything else
)

// Error is a failure with its kind. Its text says what happened and to what.
type Error struct {
	Kind Kind
	What string // what happened, to what: a clause without a full stop
	Err  error  // the cause, or nil
	Lost string // what was lost by it; empty where nothing was
	App  string // the app that it is about, where what to do names one
}

// Error returns the clause and its cause.
func (e *Error) Error() string {
	if e.Err == nil {
		return e.What
	}
	var inner *Error
	if errors.Is(e.Err, context.Canceled) && !errors.As(e.Err, &inner) {
		if strings.Contains(e.What, "stopped") {
			return e.What
		}
		return e.What + ": it was stopped"
	}
	return e.What + ": " + e.Err.Error()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// New makes an Error without a cause.
func New(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, What: fmt.Sprintf(format, args...)}
}

// Wrap makes an Error around cause. A cause that says more about itself
// (a full or read-only disk, an Error of its own) keeps its kind.
func Wrap(kind Kind, cause error, format string, args ...any) *Error {
	e := &Error{Kind: kind, What: fmt.Sprintf(format, args...), Err: cause}
	var inner *Error
	switch {
	case errors.As(cause, &inner):
		e.Kind, e.Lost, e.App = inner.Kind, inner.Lost, inner.App
	case errors.Is(cause, context.Canceled):
		e.Kind = Stopped
	case isFull(cause):
		e.Kind = NoSpace
	case isReadOnly(cause):
		e.Kind = ReadOnly
	case isScanned(cause):
		e.Kind = Scanned
	}
	return e
}

// KindOf returns the kind of err: Internal for an error that has none.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return Internal
}
