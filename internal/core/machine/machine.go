// Package machine represents a computer: the live one, or a disk in a folder (pulled from a dead
// computer, or simulated).
package machine

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
)

// System is an operating system, which determines the form of paths.
type System string

// The supported systems.
const (
	Windows System = "windows"
	Linux   System = "linux"
	MacOS   System = "macos"
)

// Systems lists the supported systems.
var Systems = []System{Windows, Linux, MacOS}

// Separator returns the separator between the folders of a path.
func (s System) Separator() string {
	if s == Windows {
		return `\`
	}
	return "/"
}

// Folds reports whether names that differ only in letter case are the same.
func (s System) Folds() bool { return s != Linux }

// Same reports whether two names are the same: Windows and macOS ignore letter case, and macOS also
// whether é is one character or two (Unicode normalization forms C and D).
func (s System) Same(a, b string) bool {
	switch s {
	case Windows:
		return strings.EqualFold(a, b)
	case MacOS:
		return strings.EqualFold(norm.NFC.String(a), norm.NFC.String(b))
	}
	return a == b
}

// User is a person's profile on a computer.
type User struct {
	Name    string // name of the profile folder
	Account string // account name, without the domain or number that the folder name may have
	Home    string // real path of the profile folder
	sid     string // Windows only
}

// SameAs reports whether both are the same user. Two nil users are the same.
func (u *User) SameAs(other *User) bool {
	return u == other || u != nil && other != nil && u.Name == other.Name
}

// SID returns the user's security id; "" except on Windows.
func (u User) SID() string { return u.sid }

// Program is a running program.
type Program struct {
	Name  string    `yaml:"name" json:"name"`
	PID   int32     `yaml:"pid" json:"pid"`
	Since time.Time `yaml:"since,omitempty" json:"since,omitzero"` // when it was started
	Open  []string  `yaml:"open,omitempty" json:"-"`               // for a simulated computer: its open paths
}

// OpenFile is a running program and a file that it has open.
type OpenFile struct {
	Program
	Path string // real path of the file
}

// Computer is the interface to the computer that a step works on.
type Computer interface {
	Name() string
	System() System
	HardwareID() string // id of the installed system, which licences are bound to; never empty
	// FirmwareID returns the id of the hardware; "" if it has none or it cannot be read.
	FirmwareID() string
	Users() []User
	// Accounts returns the owners of files; nil if files have no such owners.
	Accounts() *Accounts
	// Locate returns the real path of a path in a card. user is needed for a per-user path. The
	// path need not exist.
	Locate(path string, user *User) (string, error)
	// Running returns the running programs with one of these names.
	Running(ctx context.Context, names []string) ([]Program, error)
	// OpenFiles returns the running programs that have a file at or below one of these real paths
	// open, with one entry per program and given path.
	OpenFiles(ctx context.Context, paths []string) ([]OpenFile, error)
	// Registry opens a registry key (HKLM\... or HKCU\...). user is needed for HKCU. If the key or
	// the registry does not exist, the error is fs.ErrNotExist.
	Registry(path string, user *User) (registry.Key, error)
	// Change opens a key for changes, and creates it if create is true. If the system is not
	// running or the user is not signed in, the error is registry.ErrOffline.
	Change(path string, user *User, create bool) (registry.Writable, error)
	// Adapters returns the hardware network adapters.
	Adapters() []Adapter
	// Notes returns notes on limits of reading this computer.
	Notes() []string
	// Root returns the folder with the computer's disk, or "" for the live computer.
	Root() string
	// SetDrive maps a drive letter or mount point to a folder. For a disk, folder is the real folder with the
	// drive's content. If the computer has no such drive, folder is the path here, in its own
	// terms, with the content of another computer's drive; then moved is true.
	SetDrive(letter, folder string) (moved bool, err error)
	// Own returns the real path of a path in the computer's own terms.
	Own(spoken string) (real string, err error)
	// OnDrive returns a real path on a mounted drive in the computer's own terms.
	OnDrive(real string) (spoken string, is bool)
}

// ID returns a short id for a computer that does not reveal its hardware id: the first 16 bytes of
// the id's BLAKE3 hash, in hex.
func ID(c Computer) string { return IDOf(c.HardwareID()) }

// IDOf returns a short id for any identifying text.
func IDOf(text string) string {
	sum := digest.Of([]byte("movekit computer\x00" + text))
	return hex.EncodeToString(sum[:16])
}

// Open returns the computer whose disk is in root, or the live one if root is empty.
func Open(root string) (Computer, error) {
	if root == "" {
		return openLive()
	}
	return openDisk(root)
}

// term is the location of a term.
type term struct {
	perUser bool
	windows string // below the profile or the drive
	posix   string // below the home of another system
}

// terms are the terms that can start a card's path, by upper-case name. The Windows ones are
// environment variables, the Linux ones are from the XDG Base Directory Specification.
var terms = map[string]term{
	"%APPDATA%":           {perUser: true, windows: `AppData\Roaming`},
	"%LOCALAPPDATA%":      {perUser: true, windows: `AppData\Local`},
	"%USERPROFILE%":       {perUser: true, windows: ``},
	"%PROGRAMDATA%":       {windows: `ProgramData`},
	"%ALLUSERSPROFILE%":   {windows: `ProgramData`},
	"%PROGRAMFILES%":      {windows: `Program Files`},
	"%PROGRAMFILES(X86)%": {windows: `Program Files (x86)`},
	"%PUBLIC%":            {windows: `Users\Public`},
	"%WINDIR%":            {windows: `Windows`},
	"%SYSTEMROOT%":        {windows: `Windows`},
	"%SYSTEMDRIVE%":       {windows: ``},
	"~":                   {perUser: true, posix: ``},
	"$HOME":               {perUser: true, posix: ``},
	"$XDG_CONFIG_HOME":    {perUser: true, posix: `.config`},
	"$XDG_DATA_HOME":      {perUser: true, posix: `.local/share`},
	"$XDG_STATE_HOME":     {perUser: true, posix: `.local/state`},
	"$XDG_CACHE_HOME":     {perUser: true, posix: `.cache`},
}

// split splits a card's path into its term and the rest, with / between folders. A path without a
// term has the term "".
func split(path string) (name, rest string, err error) {
	slashed := strings.ReplaceAll(path, `\`, "/")
	if strings.HasPrefix(path, "/") || strings.HasPrefix(path, "~") || strings.HasPrefix(path, "$") {
		slashed = path // there, a backslash is an ordinary character
	}
	if !strings.HasPrefix(slashed, "%") && !strings.HasPrefix(slashed, "~") && !strings.HasPrefix(slashed, "$") {
		return "", slashed, nil
	}
	name, rest, _ = strings.Cut(slashed, "/")
	if _, known := terms[strings.ToUpper(name)]; !known {
		return "", "", fault.New(fault.BadCard, "the path %q starts with %s, which is not a known term", path, name)
	}
	return strings.ToUpper(name), rest, nil
}

// PerUser reports whether a card's path is in every user's profile.
func PerUser(path string) bool {
	name, _, err := split(path)
	return err == nil && terms[name].perUser
}

// below returns a card's path relative to the profile or the system drive.
func below(sys System, path string) (rest string, perUser bool, err error) {
	name, rest, err := split(path)
	if err != nil {
		return "", false, err
	}
	if name == "" {
		if sys == Windows {
			rest, err = local(rest)
		}
		return rest, false, err
	}
	t := terms[name]
	windowsTerm := strings.HasPrefix(name, "%")
	if windowsTerm != (sys == Windows) || strings.HasPrefix(name, "$XDG_") && sys == MacOS {
		return "", false, fault.New(fault.BadCard, "the path %q is not a path on a %s computer", path, sys)
	}
	lead := t.posix
	if windowsTerm {
		lead = strings.ReplaceAll(t.windows, `\`, "/")
	}
	return strings.Trim(lead+"/"+rest, "/"), t.perUser, nil
}

// local returns a Windows path, with / between folders, without the prefix of an extended path. A path on
// a share is an error ("File path formats on Windows systems" in the Windows documentation).
func local(path string) (string, error) {
	rest, extended := strings.CutPrefix(strings.ReplaceAll(path, "//./", "//?/"), "//?/")
	switch server, share := strings.CutPrefix(path, "//"); {
	case extended && letterOf(rest) != "":
		return rest, nil
	case share:
		server, _, _ = strings.Cut(strings.TrimPrefix(strings.TrimPrefix(server, "?/"), "UNC/"), "/")
		return "", fault.Wrap(fault.Missing, errShare, "the path %q is not on this computer, but on %s", strings.ReplaceAll(path, "/", `\`), server)
	}
	return path, nil
}

// errShare is the error for a path on a share.
var errShare = errors.New("data on a share is not moved: choose a folder of this computer, or describe the share with the kind network")

// Profiles returns the users that a card's path applies to: every user for a per-user path, else a
// single nil.
func Profiles(c Computer, path string) []*User {
	if !PerUser(path) {
		return []*User{nil}
	}
	var out []*User
	for _, u := range c.Users() {
		out = append(out, &u)
	}
	return out
}

// FindUser returns the user with that name. It ignores letter case if the system does.
func FindUser(c Computer, name string) *User {
	for _, u := range c.Users() {
		if u.Name == name || c.System().Same(u.Name, name) {
			return &u
		}
	}
	return nil
}

// Exists reports whether a real path exists. If it cannot be read, Exists returns the error.
func Exists(path string) (bool, error) {
	_, err := os.Lstat(path)
	if err == nil {
		return true, nil
	}
	if os.IsNotExist(err) {
		return false, nil
	}
	return false, err
}

// walkDown resolves rest below base, one folder at a time. A missing name can be written differently, if
// the system treats that as the same name. It follows links as the computer itself would: an absolute link
// restarts at root, and no link leads out of root.
func walkDown(root, base, rest string, system System) (string, error) {
	at := base
	parts := strings.FieldsFunc(rest, func(r rune) bool { return r == '/' })
	for links := 0; len(parts) > 0; {
		part := parts[0]
		parts = parts[1:]
		if part == "." {
			continue
		}
		if part == ".." {
			if at != root {
				at = filepath.Dir(at)
			}
			continue
		}
		next := filepath.Join(at, part)
		info, err := os.Lstat(next)
		if os.IsNotExist(err) && system.Folds() {
			if same := sameName(at, part, system); same != "" {
				next = filepath.Join(at, same)
				info, err = os.Lstat(next)
			}
		}
		if err != nil {
			// The remaining folders do not exist, so they have no links.
			return filepath.Join(append([]string{next}, parts...)...), nil
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			at = next
			continue
		}
		target, err := os.Readlink(next)
		if err != nil {
			return "", err
		}
		if links++; links > 40 {
			return "", fmt.Errorf("the links at %s form a loop", next)
		}
		if filepath.IsAbs(target) {
			at = root
		}
		lead := strings.FieldsFunc(filepath.ToSlash(target), func(r rune) bool { return r == '/' })
		parts = append(lead, parts...)
	}
	return at, nil
}

// sameName returns the name in dir that is the same as name for the system.
func sameName(dir, name string, system System) string {
	d, err := os.Open(dir)
	if err != nil {
		return ""
	}
	defer d.Close()
	names, _ := d.Readdirnames(-1)
	for _, n := range names {
		if system.Same(n, name) {
			return n
		}
	}
	return ""
}
