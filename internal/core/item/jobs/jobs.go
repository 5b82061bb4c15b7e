// Package jobs moves services and scheduled jobs: their definitions, which are files or registry keys, and how the system
// starts them. A job runs on one computer only. The old computer's job is stopped before its app is packed. On the new
// computer the job is defined so that nothing starts it, until verify has proven the app's data.
package jobs

import (
	"context"
	"os"
	"os/user"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/files"
	"movekit/internal/core/item/keys"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// restEnding is the suffix of a definition that the system must not see. No system reads a file with such a name: cron
// ignores names with dots (cron(8)), and launchd reads only *.plist (launchd.plist(5)).
const restEnding = ".stopped-by-movekit"

// manager defines, starts and stops the jobs of one sort.
type manager interface {
	item.Job
	// locate changes o.Path if the definition is elsewhere now.
	locate() error
	// installed reports whether an installer has defined the job on this computer.
	installed() (bool, error)
	// define makes the system know the definition at spare, before it is moved home. forget makes the system forget one
	// that was moved away.
	define(ctx context.Context, spare string) error
	forget(ctx context.Context) error
}

// mover moves the definition of one job.
type mover struct {
	item.Mover
	item.Names
	item.Inspector
	o   *item.Instance
	job manager
}

// New returns the parts for one job.
func New(o *item.Instance) item.Parts {
	system := o.Computer.System()
	o.Item = o.Item.On(string(system))
	var inner item.Parts
	var job manager
	name := o.Item.Job.On(string(system))
	switch {
	case system == machine.Windows && o.Item.Key != "":
		it := *o.Item
		it.Skip = append([]string{"Start", "Security/**", "Enum/**", "Security/", "Enum/"}, it.Skip...) // the service manager's own
		o.Item = &it
		inner, job = keys.New(o), &service{o, name}
	case system == machine.Windows:
		inner, job = files.File(o), &task{o, name}
	case strings.HasPrefix(name, "/") || name == card.Crontab || system == machine.MacOS:
		inner, job = files.File(o), &file{o, name}
	default:
		inner, job = files.File(o), &unit{o, strings.TrimPrefix(name, "~/")}
	}
	m := mover{inner.Mover, inner.Names, inner.Inspector, o, job}
	return item.Parts{Inspector: m, Mover: m, Names: m, Fixed: inner.Fixed, Job: job}
}

// Locate finds the definition.
func (m mover) Locate(ctx context.Context) error {
	if m.o.Item.Key == "" && m.o.Item.Path.IsZero() {
		return fault.New(fault.BadCard, "the card has no name of %s for a %s computer", m.o.Item.Name, m.o.Computer.System())
	}
	if err := m.Mover.Locate(ctx); err != nil {
		return err
	}
	return m.job.locate()
}

// Inspect adds how the system starts the job.
func (m mover) Inspect(ctx context.Context, how item.Options) (*item.Inspection, error) {
	is, err := m.Inspector.Inspect(ctx, how)
	if err != nil || is.State != item.IsHere {
		return is, err
	}
	now, err := m.job.State(ctx)
	if err != nil {
		is.Unreadable = append(is.Unreadable, err.Error())
		return is, nil
	}
	is.Details = append(is.Details, now.String())
	return is, nil
}

// Same also accepts a job that an installer has defined.
func (m mover) Same(ctx context.Context, at string) (bool, error) {
	if same, err := m.Mover.Same(ctx, at); err != nil || same || at != m.o.Path {
		return same, err
	}
	return m.job.installed()
}

// Compare also accepts a job that an installer has defined.
func (m mover) Compare(ctx context.Context) (*steps.Checked, error) {
	out, err := m.Inspector.Compare(ctx)
	if err != nil || out.Equal {
		return out, err
	}
	is, err := m.job.installed()
	if err == nil && is {
		return &steps.Checked{Equal: true, Rows: []steps.Row{{What: "definition", Old: "sealed", New: "by its installer", Same: true, Text: true}}}, nil
	}
	return out, err
}

// Ours also accepts the name of a job that runs, where the journal has the one of the job at rest, or the reverse.
func (m mover) Ours(home, name string) bool {
	plain := func(path string) string { return strings.Replace(path, restEnding, "", 1) }
	return m.Names.Ours(home, name) || m.Names.Ours(plain(home), plain(name))
}

// MoveOut also makes the system forget the definition.
func (m mover) MoveOut(ctx context.Context, home, spare string, part bool) error {
	if err := m.Names.MoveOut(ctx, home, spare, part); err != nil {
		return err
	}
	return m.job.forget(ctx)
}

// MoveIn also makes the system know the definition.
func (m mover) MoveIn(ctx context.Context, spare, home string, part bool) error {
	if err := m.job.define(ctx, spare); err != nil {
		return err
	}
	return m.Names.MoveIn(ctx, spare, home, part)
}

// Close closes the definition.
func (m mover) Close() { m.Inspector.Close() }

// live reports whether jobs can be started and stopped: not on a disk, whose system is not running.
func live(o *item.Instance) bool { return o.Control != nil }

// state returns a state of a job on this computer.
func state(o *item.Instance, starts steps.Starts, running bool) steps.JobState {
	on := machine.ID(o.Computer)
	if o.Run != nil {
		on = o.Run.Self().ID
	}
	return steps.JobState{On: on, Starts: starts, Running: running}
}

func cannot(err error, do, name string) error {
	if err == nil {
		return nil
	}
	return fault.Wrap(fault.CannotPlace, err, "%s could not be %s", name, do)
}

// file is a job that runs because its file is there: in cron, or as a launchd agent. It is stopped under another name.
type file struct {
	o    *item.Instance
	name string
}

func (f *file) active() string { return strings.TrimSuffix(f.o.Path, restEnding) }

// locate finds the definition where it acts or, if it is not there, where it does not.
func (f *file) locate() error {
	if f.name == card.Crontab {
		path, err := f.o.Computer.Locate("/var/spool/cron/crontabs/"+f.o.User.Account, nil)
		if err != nil {
			return err
		}
		f.o.Path = path
	}
	there, err := machine.Exists(f.o.Path)
	if resting, rerr := machine.Exists(f.o.Path + restEnding); err == nil && !there && (live(f.o) || rerr == nil && resting) {
		f.o.Path += restEnding
	}
	return err
}

func (*file) installed() (bool, error)             { return false, nil }
func (*file) define(context.Context, string) error { return nil }
func (*file) forget(context.Context) error         { return nil }

// State reports that the job starts if its file is where it acts.
func (f *file) State(context.Context) (steps.JobState, error) {
	there, err := machine.Exists(f.active())
	if !there {
		return state(f.o, steps.Never, false), err
	}
	return state(f.o, steps.Automatic, f.agent()), err
}

// agent reports whether the job is an agent of launchd, which must be told.
func (f *file) agent() bool { return f.o.Computer.System() == machine.MacOS }

// domain is the target of launchctl(1) for the agent.
func (f *file) domain() string {
	if f.o.User == nil {
		return "system"
	}
	u, err := user.Lookup(f.o.User.Account)
	if err != nil {
		return "gui"
	}
	return "gui/" + u.Uid
}

// Stop gives the file a name that the system does not read.
func (f *file) Stop(ctx context.Context) error {
	there, err := machine.Exists(f.active())
	if err != nil || !there {
		return err
	}
	if f.agent() {
		f.o.Control(ctx, "launchctl", "bootout", f.domain(), f.active()) //nolint:errcheck // it fails if the agent is not loaded
	}
	return cannot(f.rename(f.active(), f.active()+restEnding), "stopped", f.active())
}

// Start gives the file its name again.
func (f *file) Start(ctx context.Context, was steps.JobState) error {
	if resting, err := machine.Exists(f.active() + restEnding); err != nil || !resting || !was.Acts() {
		return err
	}
	err := f.rename(f.active()+restEnding, f.active())
	if err == nil && f.agent() {
		_, err = f.o.Control(ctx, "launchctl", "bootstrap", f.domain(), f.active())
	}
	return cannot(err, "started", f.active())
}

func (f *file) rename(from, to string) error {
	if there, err := machine.Exists(to); err != nil || there {
		if err == nil {
			err = os.ErrExist
		}
		return err
	}
	f.o.Path = to
	return os.Rename(from, to)
}
