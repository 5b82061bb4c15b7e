package jobs

import (
	"context"
	"os"
	"path/filepath"

	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// unit is a systemd unit of the system or of one user (systemd.unit(5)).
type unit struct {
	o    *item.Instance
	name string
}

// packaged lists the folders with the units of Debian packages.
var packaged = []string{"/lib/systemd/system", "/usr/lib/systemd/system"}

// locate uses the package's own unit if the administrator has none of this name.
func (u *unit) locate() error {
	if there, err := machine.Exists(u.o.Path); err != nil || there || u.o.User != nil {
		return err
	}
	for _, dir := range packaged {
		at, err := u.o.Computer.Locate(dir+"/"+u.name, nil)
		if err != nil {
			return err
		}
		if there, err := machine.Exists(at); err == nil && there {
			u.o.Path = at
			return nil
		}
	}
	return nil
}

// installed reports whether a package has the unit.
func (u *unit) installed() (bool, error) {
	for _, dir := range packaged {
		if at, err := u.o.Computer.Locate(dir, nil); err == nil && filepath.Dir(u.o.Path) == at {
			return machine.Exists(u.o.Path)
		}
	}
	return false, nil
}

// State reads the links that start the unit, and asks systemd whether it is running.
func (u *unit) State(ctx context.Context) (steps.JobState, error) {
	now := state(u.o, steps.Manually, false)
	dir := filepath.Dir(u.o.Path)
	if is, err := u.installed(); err == nil && is {
		if dir, err = u.o.Computer.Locate("/etc/systemd/system", nil); err != nil {
			return now, err
		}
	}
	for _, pattern := range []string{"*.wants", "*.requires"} {
		links, _ := filepath.Glob(filepath.Join(dir, pattern, u.name))
		for _, link := range links {
			if _, err := os.Lstat(link); err == nil {
				now.Starts = steps.Automatic
			}
		}
	}
	if live(u.o) {
		_, err := u.systemctl(ctx, "is-active", "--quiet", u.name)
		now.Running = err == nil
	}
	return now, nil
}

// systemctl runs systemctl(1) for the unit's manager.
func (u *unit) systemctl(ctx context.Context, args ...string) (string, error) {
	if u.o.User != nil {
		args = append([]string{"--user", "--machine=" + u.o.User.Account + "@.host"}, args...)
	}
	return u.o.Control(ctx, "systemctl", args...)
}

// Stop removes the links that start the unit, and stops it.
func (u *unit) Stop(ctx context.Context) error {
	now, err := u.State(ctx)
	if err == nil && now.Starts == steps.Automatic {
		_, err = u.systemctl(ctx, "disable", u.name)
	}
	if err == nil && now.Running {
		_, err = u.systemctl(ctx, "stop", u.name)
	}
	return cannot(err, "stopped", u.name)
}

// Start creates the links again, and starts the unit if it was running.
func (u *unit) Start(ctx context.Context, was steps.JobState) error {
	var err error
	if was.Starts == steps.Automatic {
		_, err = u.systemctl(ctx, "enable", u.name)
	}
	if err == nil && was.Running {
		_, err = u.systemctl(ctx, "start", u.name)
	}
	return cannot(err, "started", u.name)
}

func (u *unit) define(context.Context, string) error { return nil }

// forget makes systemd read its units again. Without systemd there is nothing to read.
func (u *unit) forget(ctx context.Context) error {
	if live(u.o) {
		u.systemctl(ctx, "daemon-reload") //nolint:errcheck // systemd is not running
	}
	return nil
}
