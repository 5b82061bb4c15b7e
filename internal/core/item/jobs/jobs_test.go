//go:build unix

package jobs_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/tree"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

const unitText = "[Service]\nExecStart=/opt/quay/serve --night 'x'\n[Install]\nWantedBy=multi-user.target\n"

// system is a simulated systemd on a disk.
type system struct {
	root    string
	running map[string]bool
	calls   []string
	broken  bool // nothing starts
}

func (s *system) control(_ context.Context, name string, args ...string) (string, error) {
	s.calls = append(s.calls, name+" "+strings.Join(args, " "))
	dir, rest := filepath.Join(s.root, "etc/systemd/system"), args
	if strings.HasPrefix(args[0], "--user") {
		dir, rest = filepath.Join(s.root, "home", strings.TrimSuffix(strings.TrimPrefix(args[1], "--machine="), "@.host"), ".config/systemd/user"), args[2:]
	}
	unit := rest[len(rest)-1]
	link := filepath.Join(dir, "multi-user.target.wants", unit)
	switch rest[0] {
	case "enable":
		os.MkdirAll(filepath.Dir(link), 0o755)
		os.Remove(link)
		return "", os.Symlink(filepath.Join(dir, unit), link)
	case "disable":
		return "", os.Remove(link)
	case "is-active":
		if !s.running[unit] {
			return "", errors.New("inactive")
		}
	case "stop":
		delete(s.running, unit)
	case "start":
		if s.broken {
			return "", errors.New("Job for " + unit + " failed")
		}
		s.running[unit] = true
	}
	return "", nil
}

// acts lists the jobs that run, or that the system starts.
func (s *system) acts() (out []string) {
	for name := range s.running {
		out = append(out, name)
	}
	for _, pattern := range []string{"etc/systemd/system/*.wants/*", "home/*/.config/systemd/user/*.wants/*", "etc/cron.d/quay", "var/spool/cron/crontabs/*"} {
		found, _ := filepath.Glob(filepath.Join(s.root, pattern))
		for _, f := range found {
			if !strings.Contains(filepath.Base(f), ".") || strings.HasSuffix(f, ".service") {
				out = append(out, filepath.Base(f))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

type pair struct {
	*office.Office
	old, now *system
}

// do runs a step, and expects that no job acts on both computers.
func (p pair) do(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error), with func(*move.Move)) *run.Outcome {
	p.T.Helper()
	j := p.Job(c)
	s := map[machine.Computer]*system{p.Old: p.old, p.New: p.now}[c]
	j.Control, j.Policies = s.control, map[string]tree.Policy{"": tree.SetAside}
	if with != nil {
		with(j)
	}
	out, err := step(j, p.T.Context())
	fatal.If(p.T, errors.Join(err, out[0].Err))
	for _, name := range p.old.acts() {
		if slices.Contains(p.now.acts(), name) {
			p.T.Fatalf("%s acts on both computers", name)
		}
	}
	return out[0]
}

func (p pair) acts(s *system, want ...string) {
	p.T.Helper()
	if got := s.acts(); !slices.Equal(got, want) {
		p.T.Fatalf("on %s these act: %q, not %q (%q)", filepath.Base(s.root), got, want, s.calls)
	}
}

const jobCard = `items:
  - {name: data, kind: folder, path: /srv/quay}
  - {name: serve, kind: service, job: {linux: quay.service}}
  - {name: sync, kind: service, job: {linux: ~/quaysync.service}, optional: true}
  - {name: night, kind: schedule, job: {linux: /etc/cron.d/quay}}
  - {name: own, kind: schedule, job: {linux: crontab}}
`

func newPair(t *testing.T, card string, more map[string]string) pair {
	t.Helper()
	files := map[string]string{
		"old/srv/quay/a": "1", "old/etc/systemd/system/quay.service": unitText, "old/etc/cron.d/quay": "5 2 * * * quay /opt/quay/night\n",
		"old/home/maren/.config/systemd/user/quaysync.service": unitText, "old/var/spool/cron/crontabs/maren": "1 1 * * * backup\n",
		"new/srv/.keep": "", "new/home/maren/.keep": "", "new/etc/cron.d/.keep": "", "new/etc/systemd/system/.keep": "", "new/var/spool/cron/.keep": "",
	}
	for name, text := range more {
		files[name] = text
	}
	o := office.New(t, card, "linux", files)
	p := pair{o, &system{root: filepath.Join(o.Dir, "old"), running: map[string]bool{}}, &system{root: filepath.Join(o.Dir, "new"), running: map[string]bool{}}}
	p.old.running["quay.service"] = true
	p.old.control(t.Context(), "systemctl", "enable", "quay.service")
	p.old.control(t.Context(), "systemctl", "--user", "--machine=maren@.host", "enable", "quaysync.service")
	return p
}

// TestJobsRunOnOneComputer moves services and schedules, and takes everything back.
func TestJobsRunOnOneComputer(t *testing.T) {
	t.Parallel()
	p := newPair(t, jobCard, nil)
	all := []string{"maren", "quay", "quay.service", "quaysync.service"}
	p.acts(p.old, all...)
	p.do(p.Old, (*move.Move).Pack, func(m *move.Move) { m.StartAgain = true })
	p.acts(p.old, all...)
	p.do(p.Old, (*move.Move).Pack, nil)
	p.acts(p.old)
	if o := p.do(p.New, (*move.Move).Unpack, nil); o.Err != nil || len(o.Blocks) > 0 {
		t.Fatal(o.Err, o.Blocks)
	}
	p.acts(p.now)
	// Data that differs keeps them stopped.
	file := filepath.Join(p.Dir, "new/srv/quay/a")
	info, err := os.Stat(file)
	fatal.If(t, errors.Join(err, os.WriteFile(file, []byte("2"), 0o644)))
	p.do(p.New, (*move.Move).Verify, nil)
	p.acts(p.now)
	fatal.If(t, errors.Join(os.WriteFile(file, []byte("1"), 0o644), os.Chtimes(file, info.ModTime(), info.ModTime())))
	p.now.broken = true
	if o := p.do(p.New, (*move.Move).Verify, nil); o.Equal() || !strings.Contains(strings.Join(o.Items[1].Diffs, " "), "Job for quay.service failed") {
		t.Errorf("a service that does not start: %+v", o.Items[1])
	}
	p.now.broken = false
	for range 2 {
		if o := p.do(p.New, (*move.Move).Verify, nil); !o.Equal() {
			t.Fatalf("%+v", o)
		}
		p.acts(p.now, all...)
	}
	lay.Holds(t, filepath.Join(p.Dir, "new/etc/cron.d"), map[string]string{"quay": "5 2 * * * quay /opt/quay/night\n", ".keep": ""})
	// They cannot start on the old one as long as they run on the new one.
	p.do(p.Old, (*move.Move).Retire, nil)
	p.do(p.Old, (*move.Move).Return, nil)
	p.acts(p.old)
	// A service that stopped meanwhile is a difference.
	delete(p.now.running, "quay.service")
	if o := p.do(p.New, (*move.Move).Verify, nil); o.Equal() {
		t.Error("a service that is not running is the same")
	}
	p.do(p.New, (*move.Move).Undo, nil)
	p.acts(p.now)
	p.do(p.Old, (*move.Move).Return, nil)
	p.acts(p.old, all...)
	if p.Text("old/etc/systemd/system/quay.service") != unitText {
		t.Error("the old unit changed")
	}
}

// TestFailedPackStartsJobsAgain stops a pack by a gate and by an error.
func TestFailedPackStartsJobsAgain(t *testing.T) {
	t.Parallel()
	p := newPair(t, jobCard+"  - {name: more, kind: folder, path: /srv/more}\n", nil)
	was := p.old.acts()
	if o := p.do(p.Old, (*move.Move).Pack, nil); len(o.Blocks) == 0 {
		t.Fatalf("it packed: %+v", o)
	}
	p.acts(p.old, was...)
	if len(p.old.calls) < 6 {
		t.Errorf("nothing was stopped: %q", p.old.calls)
	}
}

// TestInstalledJobs moves to a computer on which an installer has made the jobs.
func TestInstalledJobs(t *testing.T) {
	t.Parallel()
	const own = "[Service]\nExecStart=/usr/lib/quay/serve\n"
	p := newPair(t, `items:
  - {name: data, kind: folder, path: /srv/quay}
  - {name: serve, kind: service, job: {linux: quay.service}}
  - {name: night, kind: schedule, job: {linux: /etc/cron.d/quay}}
`, map[string]string{"new/lib/systemd/system/quay.service": own, "new/etc/cron.d/quay": "1 1 1 1 * quay /usr/lib/quay/night\n"})
	p.now.running["quay.service"] = true
	p.do(p.Old, (*move.Move).Pack, nil)
	if o := p.do(p.New, (*move.Move).Unpack, nil); o.Err != nil || len(o.Blocks) > 0 {
		t.Fatal(o.Err, o.Blocks)
	}
	p.acts(p.now)
	if o := p.do(p.New, (*move.Move).Verify, nil); !o.Equal() {
		t.Fatalf("%+v", o)
	}
	p.acts(p.now, "quay", "quay.service")
	if p.Text("new/lib/systemd/system/quay.service") != own || !strings.HasPrefix(p.Text("new/etc/cron.d/quay"), "5 2") {
		t.Error("the definitions")
	}
	p.do(p.New, (*move.Move).Undo, nil)
	p.acts(p.now, "quay", "quay.service")
	if !strings.HasPrefix(p.Text("new/etc/cron.d/quay"), "1 1 1") {
		t.Errorf("the job that was here before: %s", p.Text("new/etc/cron.d/quay"))
	}
}

const taskText = "<?xml version=\"1.0\"?>\n<Task><Settings><Enabled>true</Enabled></Settings><Actions><Exec><Command>C:\\Quay\\export.exe</Command></Exec></Actions></Task>\n"

// scheduler is a simulated schtasks.exe on a disk.
type scheduler struct{ root string }

func (s scheduler) file(name string) string {
	return filepath.Join(s.root, "Windows/System32/Tasks", strings.ReplaceAll(name, `\`, "/"))
}

func (s scheduler) control(_ context.Context, name string, args ...string) (string, error) {
	at := s.file(args[2])
	data, err := os.ReadFile(at)
	switch {
	case name != "schtasks" || args[1] != "/TN":
		return "", errors.New("unknown command")
	case args[0] == "/Create":
		if data, err = os.ReadFile(args[4]); err == nil {
			err = errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, data, 0o644))
		}
	case err != nil:
	case args[0] == "/Delete":
		err = os.Remove(at)
	case args[0] == "/Change":
		err = os.WriteFile(at, regexp.MustCompile("<Enabled>.*</Enabled>").ReplaceAll(data, []byte("<Enabled>"+map[bool]string{true: "true", false: "false"}[args[3] == "/ENABLE"]+"</Enabled>")), 0o644)
	}
	return "", err
}

func (s scheduler) acts() bool {
	data, _ := os.ReadFile(s.file(`\Quay\Export`))
	return strings.Contains(string(data), "<Enabled>true")
}

// TestTasks moves a scheduled task of Windows.
func TestTasks(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: data, kind: folder, path: 'C:\\Quay'}\n  - {name: export, kind: schedule, job: {windows: '\\Quay\\Export'}}\n", "windows", map[string]string{
		"old/computer.yaml": lay.Ident("windows", "OLD", "1"), "old/Quay/a": "1", "old/Windows/System32/Tasks/Quay/Export": taskText, "new/Windows/System32/Tasks/Microsoft/x": "", "new/ProgramData/x": "",
	})
	old, now := scheduler{filepath.Join(o.Dir, "old")}, scheduler{filepath.Join(o.Dir, "new")}
	do := func(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error), onOld, onNew bool) *run.Outcome {
		t.Helper()
		j := o.Job(c)
		j.Control = map[machine.Computer]scheduler{o.Old: old, o.New: now}[c].control
		out := o.Only(step(j, t.Context()))
		if len(out.Blocks) > 0 || old.acts() != onOld || now.acts() != onNew {
			t.Fatalf("it acts on the old one: %v, on the new one: %v; %+v", old.acts(), now.acts(), out)
		}
		return out
	}
	do(o.Old, (*move.Move).Pack, false, false)
	do(o.New, (*move.Move).Unpack, false, false)
	for range 2 {
		if out := do(o.New, (*move.Move).Verify, false, true); !out.Equal() {
			t.Errorf("%+v", out)
		}
	}
	do(o.Old, (*move.Move).Retire, false, true)
	do(o.Old, (*move.Move).Return, false, true)
	do(o.New, (*move.Move).Undo, false, false)
	do(o.Old, (*move.Move).Return, true, false)
	if there, _ := machine.Exists(now.file(`\Quay\Export`)); there {
		t.Error("the task is still registered on the new computer")
	}
}
