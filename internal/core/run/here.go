package run

import (
	"context"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/private"
	"movekit/internal/core/probe"
	"movekit/internal/core/steps"
)

// Event tells how a run gets on.
type Event struct {
	App, Item, User string
	What            string // what is being done; "" where only bytes are told, or a detail
	Total           int64  // bytes to be done in all, where What is told; 0 where not known
	Bytes           int64  // bytes done since the last event
	All             int64  // bytes of all items that follow, of App where that is told; 0 in other events
	Detail          string // for the log alone
}

// Limit is how long a network place may keep silent, where nothing else is said.
const Limit = 5 * time.Second

// Here is the computer that is worked on, and what was said about it.
type Host struct {
	Computer   machine.Computer
	Commands   bool          // whether a person has agreed to the commands of the cards
	Limit      time.Duration // how long a network place may keep silent
	Technician Technician    // who is asked
	Notify     func(Event)   // nil where nobody listens
	Private    *private.Folder

	passwords map[string]string // that were asked for, by address
}

// NewHere stands for a computer on which nobody can be asked.
func NewHost(c machine.Computer) *Host {
	return &Host{Computer: c, Limit: Limit, Technician: NonInteractive{}, Private: &private.Folder{}, passwords: map[string]string{}}
}

// Prober reads single values from the computer.
func (h *Host) Prober() probe.Prober {
	return probe.Prober{Computer: h.Computer, Commands: h.Commands}
}

// Tell tells how the run gets on.
func (h *Host) Report(e Event) {
	if h.Notify != nil {
		h.Notify(e)
	}
}

// Bytes tells that so many bytes are done.
func (h *Host) AddBytes(n int64) { h.Report(Event{Bytes: n}) }

// Begin tells that work on an item begins, and returns what counts its bytes.
// total is 0 where it is not known.
func (h *Host) Begin(key steps.Key, what string, total int64) func(int64) {
	h.Report(Event{App: key.App, Item: key.Item, User: key.User, What: what, Total: total})
	return h.AddBytes
}

// Detail tells what belongs into a log alone. It must hold no secret.
func (h *Host) Detail(key steps.Key, what string) {
	h.Report(Event{App: key.App, Item: key.Item, User: key.User, Detail: what})
}

// LetIn runs what needs a password. Where the one that is known does not do, it
// is asked for, once a run. at is what is asked for, and what lets in.
func (h *Host) WithPassword(at, known string, use func(password string) error) error {
	if known == "" {
		known = h.passwords[at]
	}
	err := use(known)
	if fault.KindOf(err) != fault.ServerLogin || known != "" {
		return err
	}
	typed, asked := h.Technician.Password("Password for " + at + ": ")
	if IsNonInteractive(asked) {
		return err
	}
	if asked != nil {
		return asked
	}
	h.passwords[at] = typed
	return use(typed)
}

// Version is an app's version and edition on a computer.
type Version struct {
	probe.Found
	Edition string
}

// Version reads the version of an app; it is empty where that is not there.
func (h *Host) Version(ctx context.Context, c *card.Card) (v Version, err error) {
	if c.Version == nil {
		return v, nil
	}
	if v.Found, err = h.Prober().Read(ctx, &c.Version.Source, nil); err != nil {
		return v, err
	}
	edition, err := h.Prober().Read(ctx, c.Version.Edition, nil)
	v.Edition = edition.Value
	return v, err
}
