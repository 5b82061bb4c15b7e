package machine

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"

	"movekit/internal/core/fault"
	"movekit/internal/core/volume"
)

// live is the computer that this program runs on.
type live struct {
	drives
	redirects redirects
	name, id  string
	users     []User
	firmware  func() string // read once
	accounts  *Accounts     // once they are read
}

func openLive() (Computer, error) {
	if err := ownSystem(); err != nil {
		return nil, err
	}
	name, err := os.Hostname()
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read this computer's name")
	}
	id, err := hardwareID()
	if err != nil || id == "" {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read this computer's hardware id")
	}
	l := &live{name: name, id: id, firmware: sync.OnceValue(firmwareID)}
	l.users = l.findUsers()
	return l, nil
}

func (l *live) Name() string       { return l.name }
func (l *live) System() System     { return liveSystem }
func (l *live) HardwareID() string { return l.id }
func (l *live) FirmwareID() string { return l.firmware() }
func (l *live) Users() []User      { return l.users }
func (l *live) Root() string       { return "" }

func (l *live) Accounts() *Accounts {
	if l.accounts == nil {
		l.accounts = liveAccounts()
	}
	return l.accounts
}

// Notes reports which data cannot be read without administrator rights.
func (l *live) Notes() []string {
	if administrator() {
		return nil
	}
	return []string{"not running as administrator (root): profiles of other users and system files are not visible. Start Move Kit again as administrator"}
}

func (l *live) Own(spoken string) (string, error) { return spoken, nil }

func (l *live) Locate(path string, user *User) (string, error) {
	path = l.here(path)
	rest, perUser, err := below(l.System(), path)
	if err != nil {
		return "", err
	}
	switch {
	case perUser && user == nil:
		return "", fault.New(fault.NoUser, "the path %q needs a user", path)
	case perUser:
		if liveSystem == Windows {
			if to, is := l.redirects.of(l, user, rest); is {
				return l.Locate(to, nil)
			}
		}
		if p := ownTerm(path, user); p != "" {
			return p, nil
		}
		return filepath.Join(user.Home, filepath.FromSlash(rest)), nil
	case strings.HasPrefix(path, "%"):
		if p := ownTerm(path, nil); p != "" {
			return p, nil
		}
		return filepath.Join(volume.SystemDrive(), filepath.FromSlash(rest)), nil
	}
	return filepath.FromSlash(rest), nil
}

// ownTerm resolves a term from this program's environment if that is more reliable than the default
// layout: for the user who runs it, and for system folders.
func ownTerm(path string, user *User) string {
	name, rest, err := split(path)
	if err != nil || user != nil && !isMe(user) {
		return ""
	}
	value := os.Getenv(strings.Trim(name, "%$"))
	if value == "" || !filepath.IsAbs(value) {
		return ""
	}
	return filepath.Join(value, filepath.FromSlash(rest))
}

// isMe reports whether a profile belongs to the user who runs this program.
func isMe(u *User) bool {
	home, err := os.UserHomeDir()
	a, b := filepath.Clean(home), filepath.Clean(u.Home)
	return err == nil && (a == b || liveSystem == Windows && strings.EqualFold(a, b))
}

func (l *live) Running(ctx context.Context, names []string) ([]Program, error) {
	if len(names) == 0 {
		return nil, nil
	}
	procs, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot list the running programs")
	}
	var all []Program
	for _, p := range procs {
		if name, err := p.NameWithContext(ctx); err == nil {
			one := Program{Name: name, PID: p.Pid}
			if ms, err := p.CreateTimeWithContext(ctx); err == nil {
				one.Since = time.UnixMilli(ms)
			}
			all = append(all, one)
		}
	}
	return slices.DeleteFunc(withNames(all, names), func(one Program) bool {
		p := process.Process{Pid: one.PID}
		state, err := p.StatusWithContext(ctx)
		return err == nil && slices.Contains(state, process.Zombie) // it has ended, and holds nothing
	}), nil
}
