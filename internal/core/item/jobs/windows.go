package jobs

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/registry"
	"movekit/internal/core/steps"
)

// service is a Windows service. Its definition is a key ("Service Configuration" in the Windows documentation), and the
// service manager must know it.
type service struct {
	o    *item.Instance
	name string
}

func (*service) locate() error { return nil }

// definition is what the service manager needs to know about a service.
type definition struct {
	Program, Account, Title string
	Type, OnError           uint32 // with the numbers of winnt.h
	Needs                   []string
	Group                   string
}

// programs of their own and shared ones, also those that may talk to the user (winnt.h). Others are drivers.
var ofPrograms = map[string]bool{"16": true, "32": true, "272": true, "288": true}

// read returns the text of a value of the service's key, or of its spare.
func (s *service) read(key, value string) string {
	k, err := s.o.Computer.Registry(key, s.o.User)
	if err != nil {
		return ""
	}
	defer k.Close()
	return registry.Text(k, "", value)
}

func (s *service) key() string { return card.Services + s.name }

// State reads the service's key, and asks the service manager whether it is running.
func (s *service) State(context.Context) (steps.JobState, error) {
	now := state(s.o, steps.Never, false)
	if kind := s.read(s.key(), "Type"); kind != "" && !ofPrograms[kind] {
		return now, fault.New(fault.BadCard, "%s is a driver, not a service: install it on the new computer", s.name)
	}
	switch s.read(s.key(), "Start") {
	case "2":
		now.Starts = steps.Automatic
		if s.read(s.key(), "DelayedAutostart") == "1" {
			now.Starts = steps.Delayed
		}
	case "3":
		now.Starts = steps.Manually
	}
	if !live(s.o) {
		return now, nil
	}
	var err error
	now.Running, err = serviceRuns(s.name)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return now, err
}

// Stop stops the service, and disables it.
func (s *service) Stop(ctx context.Context) error {
	err := setServiceStart(s.name, steps.Never)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = stopService(ctx, s.name)
	}
	return cannot(err, "stopped", "the service "+s.name)
}

// Start sets how the service starts, and starts it if it was running.
func (s *service) Start(_ context.Context, was steps.JobState) error {
	err := setServiceStart(s.name, was.Starts)
	if err == nil && was.Running {
		err = startService(s.name)
	}
	return cannot(err, "started", "the service "+s.name)
}

// installed reports whether the key here is for the same program, in any folder and with the same arguments, and for the
// same account: then an installer has made it.
func (s *service) installed() (bool, error) {
	if s.o.InKit == nil {
		return false, nil
	}
	var sealed []registry.Branch
	if err := s.o.Run.OpenJSON(s.o.Key.App, s.o.InKit.Sealed.List, &sealed); err != nil {
		return false, err
	}
	here, err := s.o.Computer.Registry(s.key(), nil)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer here.Close()
	for _, b := range sealed {
		for _, v := range b.Values {
			if b.Path != "" {
				continue
			}
			now := registry.Text(here, "", v.Name)
			if strings.EqualFold(v.Name, "ImagePath") && command(now) != command(v.Text()) || strings.EqualFold(v.Name, "ObjectName") && !strings.EqualFold(now, v.Text()) {
				return false, nil
			}
		}
	}
	return true, nil
}

var withFolder = regexp.MustCompile(`(?i)^"?(?:[^"]*\\)?([^"\\]+?\.(?:exe|com|bat|cmd))"?(?:\s+(.*))?$`)

// command returns a program without its folder, and its arguments.
func command(text string) string {
	if m := withFolder.FindStringSubmatch(strings.TrimSpace(text)); m != nil {
		return strings.ToLower(m[1]) + " " + m[2]
	}
	return text
}

// noPassword matches accounts without a password.
var noPassword = regexp.MustCompile(`(?i)^(|LocalSystem|(NT AUTHORITY|NT SERVICE|NT-AUTORITÄT|AUTORITE NT)\\.*|.*\$)$`)

// define creates the service, disabled. The password of its account is asked for, because no computer reveals it.
func (s *service) define(_ context.Context, spare string) error {
	number := func(value string, usual uint32) uint32 {
		n, err := strconv.ParseUint(s.read(spare, value), 10, 32)
		if err != nil {
			return usual
		}
		return uint32(n)
	}
	d := definition{Program: s.read(spare, "ImagePath"), Account: s.read(spare, "ObjectName"), Title: s.read(spare, "DisplayName"), Type: number("Type", 16), OnError: number("ErrorControl", 1), Group: s.read(spare, "Group")}
	if needs := s.read(spare, "DependOnService"); needs != "" {
		d.Needs = strings.Split(needs, "\n")
	}
	if d.Program == "" || !ofPrograms[strconv.FormatUint(uint64(d.Type), 10)] {
		return fault.New(fault.BadCard, "%s has no program: it is not a service", s.name)
	}
	password := ""
	if !noPassword.MatchString(d.Account) {
		var err error
		if password, err = s.o.Technician.Password("Password of " + d.Account + ", the account of the service " + s.name); err != nil {
			return err
		}
	}
	return cannot(createService(s.name, d, password), "created", "the service "+s.name)
}

// forget makes the service manager forget the service.
func (s *service) forget(context.Context) error {
	err := deleteService(s.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return cannot(err, "removed", "the service "+s.name)
}

// task is a scheduled task of Windows. Its definition is an XML file (the Task Scheduler schema) that schtasks.exe registers.
type task struct {
	o    *item.Instance
	name string // with its folder, such as \Quay\Export
}

// ownTasks is the folder with definitions of tasks that are not registered yet.
const ownTasks = `%PROGRAMDATA%\Move Kit\Tasks`

// registered returns the path of the definition of a task that is registered.
func (t *task) registered() (string, error) { return t.o.Computer.Locate(card.Tasks+t.name, nil) }

// locate puts the definition into a folder of its own on the new computer, because only schtasks.exe registers a task.
func (t *task) locate() error {
	if t.o.Run == nil || t.o.Run.Side() == steps.OldSide {
		return nil
	}
	path, err := t.o.Computer.Locate(ownTasks+t.name+".xml", nil)
	t.o.Path = path
	return err
}

func (*task) installed() (bool, error)             { return false, nil }
func (*task) define(context.Context, string) error { return nil }

// forget deletes the task.
func (t *task) forget(ctx context.Context) error {
	if there, err := t.there(); err != nil || !there || !live(t.o) {
		return err
	}
	_, err := t.o.Control(ctx, "schtasks", "/Delete", "/TN", t.name, "/F")
	return cannot(err, "removed", "the task "+t.name)
}

func (t *task) there() (bool, error) {
	at, err := t.registered()
	if err != nil {
		return false, err
	}
	return machine.Exists(at)
}

var disabledTask = regexp.MustCompile(`(?s)<Settings>.*<Enabled>\s*false\s*</Enabled>.*</Settings>`)

// State reads the task's file.
func (t *task) State(context.Context) (steps.JobState, error) {
	now := state(t.o, steps.Never, false)
	at, err := t.registered()
	if err != nil {
		return now, err
	}
	data, err := os.ReadFile(at)
	if errors.Is(err, fs.ErrNotExist) {
		return now, nil
	}
	if err != nil {
		return now, fault.Wrap(fault.Unreadable, err, "cannot read the task %s (try it as administrator)", t.name)
	}
	text, err := io.ReadAll(transform.NewReader(bytes.NewReader(data), unicode.BOMOverride(unicode.UTF8.NewDecoder())))
	if err == nil && !disabledTask.Match(text) {
		now.Starts = steps.Automatic
	}
	return now, err
}

// Stop disables the task, and ends it if it is running.
func (t *task) Stop(ctx context.Context) error {
	now, err := t.State(ctx)
	if err != nil || !now.Acts() {
		return err
	}
	_, err = t.o.Control(ctx, "schtasks", "/Change", "/TN", t.name, "/DISABLE")
	if err == nil {
		t.o.Control(ctx, "schtasks", "/End", "/TN", t.name) //nolint:errcheck // it fails if the task is not running
	}
	return cannot(err, "stopped", "the task "+t.name)
}

// Start registers the task if it is not registered, and enables it.
func (t *task) Start(ctx context.Context, was steps.JobState) error {
	there, err := t.there()
	if err == nil && !there {
		_, err = t.o.Control(ctx, "schtasks", "/Create", "/TN", t.name, "/XML", t.o.Path)
	}
	if err == nil && was.Acts() {
		_, err = t.o.Control(ctx, "schtasks", "/Change", "/TN", t.name, "/ENABLE")
	}
	return cannot(err, "started", "the task "+t.name)
}
