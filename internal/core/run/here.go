package run

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/machine"
	"movekit/internal/core/private"
	"movekit/internal/core/probe"
	"movekit/internal/core/shadow"
	"movekit/internal/core/steps"
)

// Event reports the progress of a run.
type Event struct {
	App, Item, User string
	What            string // the current work; "" for a byte count or a detail
	Total           int64  // total bytes of this work; 0 if unknown
	Bytes           int64  // bytes done since the last event
	All             int64  // bytes of all items still to come, of App if it is set; 0 in other events
	Detail          string // for the log only
}

// Limit is the default time that a network location may take to answer.
const Limit = 5 * time.Second

// Host is the computer that a step works on, and the way to ask its user.
type Host struct {
	Computer   machine.Computer
	Commands   bool          // the user has agreed to run the cards' commands
	Limit      time.Duration // how long a network location may take to answer
	Technician Technician    // answers questions
	Notify     func(Event)   // nil if nobody listens
	Private    *private.Folder
	// Control runs a program of the system that starts and stops jobs. It returns the program's output, and an error if
	// the program cannot be run or fails. nil on a disk, whose system is not running.
	Control func(ctx context.Context, name string, args ...string) (string, error)

	Shadows   *shadow.Copies    // nil except on a running Windows
	passwords map[string]string // passwords that the user entered, by address
}

// NewHost returns a non-interactive host.
func NewHost(c machine.Computer) *Host {
	h := &Host{Computer: c, Limit: Limit, Technician: NonInteractive{}, Private: &private.Folder{}, passwords: map[string]string{}}
	if c.Root() == "" {
		h.Control = control
		h.Shadows = &shadow.Copies{Control: control, InUse: filemeta.InUse}
	}
	return h
}

// controlTime limits the time of a program that starts or stops a job.
const controlTime = time.Minute

func control(ctx context.Context, name string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, controlTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	if text := strings.TrimSpace(string(out)); err != nil && text != "" {
		err = fmt.Errorf("%w: %s", err, text[:min(len(text), 500)])
	}
	return string(out), err
}

// Prober returns a reader of single values on the computer.
func (h *Host) Prober() probe.Prober {
	return probe.Prober{Computer: h.Computer, Commands: h.Commands}
}

// Report passes an event to the listener.
func (h *Host) Report(e Event) {
	if h.Notify != nil {
		h.Notify(e)
	}
}

// AddBytes reports finished bytes.
func (h *Host) AddBytes(n int64) { h.Report(Event{Bytes: n}) }

// Begin reports the start of work on an item, and returns a function that counts its bytes. total
// is 0 if unknown.
func (h *Host) Begin(key steps.Key, what string, total int64) func(int64) {
	h.Report(Event{App: key.App, Item: key.Item, User: key.User, What: what, Total: total})
	return h.AddBytes
}

// Detail writes to the log only. what must not contain secrets.
func (h *Host) Detail(key steps.Key, what string) {
	h.Report(Event{App: key.App, Item: key.Item, User: key.User, Detail: what})
}

// WithPassword calls use with a password. If the known one fails, it asks the user once per run. at
// names the server or file that needs it.
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

// Version reads the version of an app. The result is empty if the app is not installed.
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
