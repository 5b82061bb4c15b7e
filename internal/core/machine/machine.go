// Package machine stands for a computer: the live one, or the disk of one in
// a folder (a drive pulled from a dead computer, or a simulated computer).
package machine

import (
	"context"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
)

// System is the kind of operating system whose terms a computer's paths use.
type System string

// The systems that cards speak of.
const (
	Windows System = "windows"
	Linux   System = "linux"
	MacOS   System = "macos"
)

// Systems are all of them.
var Systems = []System{Windows, Linux, MacOS}

// Separator is what stands between the folders of a path.
func (s System) Separator() string {
	if s == Windows {
		return `\`
	}
	return "/"
}

// Folds reports whether names that differ in letter case only are the same one.
func (s System) Folds() bool { return s != Linux }

// User is a person's profile on a computer.
type User struct {
	Name    string // that of the profile folder
	Account string // the person's, where the folder's has a domain or number behind it
	Home    string // the real path of the profile folder
	sid     string // of Windows
}

// SameAs reports whether both are the same person; nobody is nobody.
func (u *User) SameAs(other *User) bool {
	return u == other || u != nil && other != nil && u.Name == other.Name
}

// SID is the user's security id; "" elsewhere than on Windows.
func (u User) SID() string { return u.sid }

// Program is a running program.
type Program struct {
	Name  string    `yaml:"name" json:"name"`
	PID   int32     `yaml:"pid" json:"pid"`
	Since time.Time `yaml:"since,omitempty" json:"since,omitzero"` // when it was started
	Open  []string  `yaml:"open,omitempty" json:"-"`               // of a simulated computer: the paths it has open
}

// Holder is a running program that has a file open.
type OpenFile struct {
	Program
	Path string // real path of the file
}

// Computer answers what the steps ask about the computer they work on.
type Computer interface {
	Name() string
	System() System
	HardwareID() string // the system's, which licences are bound to; never empty
	// FirmwareID is the one that the hardware itself has; "" where it has none, or
	// it cannot be read.
	FirmwareID() string
	Users() []User
	// Accounts are those to whom files belong; nil where files have no such owners.
	Accounts() *Accounts
	// Locate returns the real path of a card's path, for the user given where
	// the path is a per-user one. The path need not exist.
	Locate(path string, user *User) (string, error)
	// Running returns the running programs with one of these names.
	Running(ctx context.Context, names []string) ([]Program, error)
	// Holding returns the running programs that have a file at or below one of
	// these real paths open, one line a program and path asked for.
	OpenFiles(ctx context.Context, paths []string) ([]OpenFile, error)
	// Registry opens a key of the registry (HKLM\... or HKCU\...), for the user
	// given where it is a user's. One that is not there, or a computer without
	// a registry, gives an error that is fs.ErrNotExist.
	Registry(path string, user *User) (registry.Key, error)
	// Change opens a key for changes, and with create makes it where it is not there. That
	// of a system that does not run, or of a user who is not signed in, gives an error that is
	// registry.ErrOffline.
	Change(path string, user *User, create bool) (registry.Writable, error)
	// Adapters returns the network adapters that are part of the hardware.
	Adapters() []Adapter
	// Notes are what a person should know of how the computer is read.
	Notes() []string
	// Root is the folder that holds the computer's disk, or "" for the live one.
	Root() string
	// SetDrive says which folder stands for a drive: of a disk, the real folder that has
	// what is on the drive; or, as the computer itself writes it, the one where what was on
	// that drive of another computer lies here, which is moved.
	SetDrive(letter, folder string) (moved bool, err error)
	// Own returns the real path of what the computer itself writes so.
	Own(spoken string) (real string, err error)
	// OnDrive is a real path on a mounted drive, as the computer writes it.
	OnDrive(real string) (spoken string, is bool)
}

// ID returns a short name for a computer's system that does not tell its id
// itself: the first 16 bytes of the id's BLAKE3 hash, in hex.
func ID(c Computer) string { return IDOf(c.HardwareID()) }

// IDOf is the same of any text that tells one computer from others.
func IDOf(text string) string {
	sum := blake3.Sum256([]byte("movekit computer\x00" + text))
	return hex.EncodeToString(sum[:16])
}

// Open returns the computer whose disk is in root, or the live one where
// root is empty.
func Open(root string) (Computer, error) {
	if root == "" {
		return openLive()
	}
	return openDisk(root)
}

// scope says for whom a path stands.
type term struct {
	perUser bool
	windows string // below the profile or the drive
	posix   string // below the home of another system
}

// terms are the words that a card's path may start with, by upper-case name.
// The Windows ones are environment variables, the Linux ones those of the
// XDG Base Directory Specification.
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

// split takes a card's path apart into its term and the rest, with / between
// folders. A path without a term has the name "".
func split(path string) (name, rest string, err error) {
	slashed := strings.ReplaceAll(path, `\`, "/")
	if strings.HasPrefix(path, "/") || strings.HasPrefix(path, "~") || strings.HasPrefix(path, "$") {
		slashed = path // a backslash is an ordinary character there
	}
	if !strings.HasPrefix(slashed, "%") && !strings.HasPrefix(slashed, "~") && !strings.HasPrefix(slashed, "$") {
		return "", slashed, nil
	}
	name, rest, _ = strings.Cut(slashed, "/")
	if _, known := terms[strings.ToUpper(name)]; !known {
		return "", "", fault.New(fault.BadCard, "the path %q starts with %s, which is no term that Move Kit knows", path, name)
	}
	return strings.ToUpper(name), rest, nil
}

// PerUser reports whether a card's path stands for a place in every user's
// profile.
func PerUser(path string) bool {
	name, _, err := split(path)
	return err == nil && terms[name].perUser
}

// below returns the folders that lead from the profile or the system drive
// to a card's path.
func below(sys System, path string) (rest string, perUser bool, err error) {
	name, rest, err := split(path)
	if err != nil {
		return "", false, err
	}
	if name == "" {
		return rest, false, nil
	}
	t := terms[name]
	windowsTerm := strings.HasPrefix(name, "%")
	if windowsTerm != (sys == Windows) || strings.HasPrefix(name, "$XDG_") && sys == MacOS {
		return "", false, fault.New(fault.BadCard, "the path %q is not one of a %s computer", path, sys)
	}
	lead := t.posix
	if windowsTerm {
		lead = strings.ReplaceAll(t.windows, `\`, "/")
	}
	return strings.Trim(lead+"/"+rest, "/"), t.perUser, nil
}

// Profiles returns the users a card's path stands for: every user for a
// per-user path, else one nil.
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

// FindUser returns the user of that name; letter case is ignored where the system ignores it.
func FindUser(c Computer, name string) *User {
	for _, u := range c.Users() {
		if u.Name == name || c.System().Folds() && strings.EqualFold(u.Name, name) {
			return &u
		}
	}
	return nil
}

// Exists reports whether something is at a real path. A place that cannot be
// looked at gives the error.
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

// walkDown finds rest below base one folder at a time. With fold, a name that
// is not there is looked for without regard to letter case, as Windows would.
// Links are followed as the computer itself would follow them: an absolute
// one starts again at root, and none leads out of root.
func walkDown(root, base, rest string, fold bool) (string, error) {
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
		if os.IsNotExist(err) && fold {
			if same := foldName(at, part); same != "" {
				next = filepath.Join(at, same)
				info, err = os.Lstat(next)
			}
		}
		if err != nil {
			// What is not there yet has no links in it: the rest is plain.
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
			return "", fmt.Errorf("the links at %s lead in a circle", next)
		}
		if filepath.IsAbs(target) {
			at = root
		}
		lead := strings.FieldsFunc(filepath.ToSlash(target), func(r rune) bool { return r == '/' })
		parts = append(lead, parts...)
	}
	return at, nil
}

// foldName returns the name in dir that equals name but for letter case.
func foldName(dir, name string) string {
	d, err := os.Open(dir)
	if err != nil {
		return ""
	}
	defer d.Close()
	names, _ := d.Readdirnames(-1)
	for _, n := range names {
		if strings.EqualFold(n, name) {
			return n
		}
	}
	return ""
}
