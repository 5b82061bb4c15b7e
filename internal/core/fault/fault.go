// Package fault gives every failure that a user can meet a kind, so that the interface can say what
// to do next without parsing error texts.
package fault

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Kind classifies failures by what to do about them.
type Kind string

// The kinds of failure.
const (
	Usage           Kind = "usage"            // the command line is wrong
	BadCard         Kind = "bad-card"         // an app card is not valid
	NotAKit         Kind = "not-a-kit"        // the folder contains no kit
	NewerFormat     Kind = "newer-format"     // the kit was made by a newer version
	Damaged         Kind = "damaged"          // files of the kit were changed or damaged
	Forged          Kind = "forged"           // somebody without the passphrase changed the kit
	Hostile         Kind = "hostile"          // a sealed list leads outside its destination
	WrongPassphrase Kind = "wrong-passphrase" // the passphrase does not open the kit
	NoPassphrase    Kind = "no-passphrase"    // no passphrase was given, and the run is non-interactive
	Busy            Kind = "busy"             // another run is using the kit
	NoMedium        Kind = "no-medium"        // one of several media of the kit is not connected
	Pulled          Kind = "pulled"           // the kit's medium was pulled out
	Unconnected     Kind = "unconnected"      // the computer that shares the kit cannot be reached
	NoSpace         Kind = "no-space"         // a disk is full
	ReadOnly        Kind = "read-only"        // a disk cannot be written to
	Scanned         Kind = "scanned"          // a virus scanner blocked access
	Unreadable      Kind = "unreadable"       // something on the computer cannot be read
	Changed         Kind = "changed"          // something changed while it was being read
	Missing         Kind = "missing"          // something in the card is missing
	BadDatabase     Kind = "bad-database"     // a database fails its own integrity check
	CannotPlace     Kind = "cannot-place"     // something could not be put in its place
	NoUser          Kind = "no-user"          // a user of the old computer has no user on the new one
	ServerDown      Kind = "server-down"      // a database server does not answer
	ServerLogin     Kind = "server-login"     // a database server rejected the login or lacks a permission
	ServerRefused   Kind = "server-refused"   // a database server refused a request
	DeskDown        Kind = "desk-down"        // the licence service does not answer
	DeskNonsense    Kind = "desk-nonsense"    // the licence service sent an invalid answer
	DeskSignature   Kind = "desk-signature"   // an answer is not signed by the pinned key
	DeskRefused     Kind = "desk-refused"     // the licence service refused
	ManualStep      Kind = "manual-step"      // a manual step is left
	NotAgreed       Kind = "not-agreed"       // a card's program would run without consent
	Outside         Kind = "outside"          // the kit names a place that is not the item's
	Unconfirmed     Kind = "unconfirmed"      // the kit proposes a place that the user must confirm
	PathsOutdated   Kind = "paths-outdated"   // settings would be changed without consent
	NotPlaced       Kind = "not-placed"       // an item must be unpacked first
	Issue           Kind = "issue"            // a licence's vendor must issue it again
	Stopped         Kind = "stopped"          // the user interrupted the run
	Unanswered      Kind = "unanswered"       // a question in a non-interactive run
	Elsewhere       Kind = "elsewhere"        // it is for the other computer of the move
	Internal        Kind = "internal"         // anything else
)

// Error is a failure with its kind. Its text says what happened, and to what.
type Error struct {
	Kind Kind
	What string // a clause without a full stop
	Err  error  // the cause, or nil
	Lost string // what was lost; "" if nothing was
	App  string // the app that the advice is about; "" if none
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
		return e.What + ": stopped"
	}
	return e.What + ": " + e.Err.Error()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// New returns an Error without a cause.
func New(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, What: fmt.Sprintf(format, args...)}
}

// Wrap returns an Error around cause. If cause is more specific (a full or read-only disk, another
// Error), its kind is kept.
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

// KindOf returns the kind of err, or Internal if it has none.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return Internal
}
