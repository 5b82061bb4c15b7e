package machine

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"

	"movekit/internal/core/fault"
	"movekit/internal/core/yamltext"
)

// IdentityFile is in the root of a simulated computer, or beside the folders of a pulled drive. It
// has the facts that the disk itself does not show.
const IdentityFile = "computer.yaml"

// Identity is the content of an IdentityFile.
type Identity struct {
	Name       string    `yaml:"name"`
	System     System    `yaml:"system"`
	HardwareID string    `yaml:"hardware-id"`
	FirmwareID string    `yaml:"firmware-id,omitempty"`
	Running    []Program `yaml:"running,omitempty"`  // running programs of a simulated computer
	Adapters   []Adapter `yaml:"adapters,omitempty"` // network adapters of a simulated computer
}

// disk is a computer whose disk is in a folder.
type disk struct {
	drives
	redirects redirects
	root      string
	ident     Identity
	users     []User
	hives     map[string]*openedHive
	notes     []string

	usersNotes []string  // on profiles that cannot be reached
	accounts   *Accounts // once they are read
}

func openDisk(root string) (Computer, error) {
	abs, err := filepath.Abs(root)
	if err == nil {
		abs, err = filepath.EvalSymlinks(abs)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Missing, err, "there is no disk at %s", root)
	}
	d := &disk{root: abs, hives: map[string]*openedHive{}}
	if err := d.identify(); err != nil {
		return nil, err
	}
	switch d.ident.System {
	case Windows:
		d.users, d.usersNotes = windowsUsers(d, d.join("Users"))
	case MacOS:
		d.users = macUsers(d.join("Users"))
	default:
		d.users = passwdUsers(d.join("etc/passwd"), func(home string) string { return d.join(home) })
		if len(d.users) == 0 {
			d.users = homeFolders(d.join("home"))
		}
	}
	return d, nil
}

func (d *disk) join(rest string) string {
	p, err := walkDown(d.root, d.root, rest, d.ident.System)
	if err != nil {
		return filepath.Join(d.root, filepath.FromSlash(rest))
	}
	return p
}

// identify reads the IdentityFile, and takes missing values from the disk.
func (d *disk) identify() error {
	name := filepath.Join(d.root, IdentityFile)
	data, err := os.ReadFile(name)
	if err == nil {
		if err := yamltext.Decode(data, &d.ident, yaml.Strict()); err != nil {
			return fault.Wrap(fault.Usage, err, "cannot read %s", name)
		}
	} else if !os.IsNotExist(err) {
		return fault.Wrap(fault.Unreadable, err, "cannot read %s", name)
	}
	id := &d.ident
	if id.System == "" {
		id.System = d.guessSystem()
	}
	if id.System == Windows && (id.Name == "" || id.HardwareID == "") {
		id.Name = cmp.Or(id.Name, registryText(d, `HKLM\SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName`, "ComputerName"))
		id.HardwareID = cmp.Or(id.HardwareID, registryText(d, `HKLM\SOFTWARE\Microsoft\Cryptography`, "MachineGuid"))
	}
	switch {
	case !slices.Contains(Systems, id.System):
		return fault.New(fault.Usage, "%s is not the disk of a known system: it has neither Users and Windows, nor Users and Library, nor etc and home", d.root)
	case id.System == Linux:
		id.Name = cmp.Or(id.Name, firstLine(d.join("etc/hostname")))
		id.HardwareID = cmp.Or(id.HardwareID, firstLine(d.join("etc/machine-id")))
	case id.System == MacOS && (id.Name == "" || id.HardwareID == ""):
		name, hardware := d.identifyMac()
		id.Name, id.HardwareID = cmp.Or(id.Name, name), cmp.Or(id.HardwareID, hardware)
	}
	if id.Name == "" || id.HardwareID == "" {
		return fault.New(fault.Usage, "the disk at %s does not identify its computer: write the name, system and hardware-id into %s", d.root, name)
	}
	return nil
}

func (d *disk) guessSystem() System {
	for _, probe := range []struct {
		name string
		sys  System
	}{{"System/Library", MacOS}, {"Library/Preferences", MacOS}, {"Users", Windows}, {"ProgramData", Windows}, {"Windows", Windows}, {"etc", Linux}, {"home", Linux}} {
		at, err := walkDown(d.root, d.root, probe.name, Windows)
		if there, terr := Exists(at); err == nil && terr == nil && there {
			return probe.sys
		}
	}
	return ""
}

func (d *disk) Name() string       { return d.ident.Name }
func (d *disk) System() System     { return d.ident.System }
func (d *disk) HardwareID() string { return d.ident.HardwareID }
func (d *disk) FirmwareID() string { return d.ident.FirmwareID }
func (d *disk) Users() []User      { return d.users }
func (d *disk) Root() string       { return d.root }

func (d *disk) Accounts() *Accounts {
	switch {
	case d.accounts != nil:
	case d.ident.System == Linux:
		d.accounts = accountsOf(d.join("etc/passwd"), d.join("etc/group"))
	case d.ident.System == MacOS:
		d.accounts = macAccounts(d.join("Users"))
	}
	return d.accounts
}

func (d *disk) Locate(path string, user *User) (string, error) { return d.locate(d.here(path), user) }

func (d *disk) Own(spoken string) (string, error) { return d.locate(spoken, nil) }

func (d *disk) locate(path string, user *User) (string, error) {
	rest, perUser, err := below(d.ident.System, path)
	if err != nil {
		return "", err
	}
	root, base := d.root, d.root
	if perUser {
		if user == nil {
			return "", fault.New(fault.NoUser, "the path %q needs a user", path)
		}
		base = user.Home
		if d.ident.System == Windows {
			if to, is := d.redirects.of(d, user, rest); is {
				return d.locate(to, nil)
			}
		}
	}
	if letter := letterOf(rest); letter != "" {
		if at := d.mount(rest); at != "" {
			root, base = at, at
		} else if letter != "C" {
			return "", fault.Wrap(fault.Missing, NoDrive(letter), "the path %q cannot be reached at %s", path, d.root)
		}
		rest = rest[2:]
	}
	real, err := walkDown(root, base, rest, d.ident.System)
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "cannot follow %q", path)
	}
	return real, nil
}

// Running returns the programs in the IdentityFile. Nothing runs on a pulled drive.
func (d *disk) Running(_ context.Context, names []string) ([]Program, error) {
	return withNames(d.ident.Running, names), nil
}

// OpenFiles returns the open files in the IdentityFile.
func (d *disk) OpenFiles(_ context.Context, paths []string) ([]OpenFile, error) {
	var out []OpenFile
	for _, p := range d.ident.Running {
		for _, open := range p.Open {
			real, err := d.Locate(open, nil)
			if err != nil {
				return nil, err
			}
			for _, path := range paths {
				if within(real, path) {
					out = append(out, OpenFile{p, real})
				}
			}
		}
	}
	return out, nil
}

// within reports whether path is outer or below it.
func within(path, outer string) bool {
	_, is := under(outer, path)
	return is
}

func withNames(all []Program, names []string) []Program {
	var out []Program
	for _, p := range all {
		for _, n := range names {
			if strings.EqualFold(strings.TrimSuffix(strings.ToLower(p.Name), ".exe"), strings.TrimSuffix(strings.ToLower(n), ".exe")) {
				out = append(out, p)
				break
			}
		}
	}
	return out
}

func homeFolders(dir string) []User {
	entries, _ := os.ReadDir(dir)
	var out []User
	for _, e := range entries {
		if e.IsDir() {
			out = append(out, User{Name: e.Name(), Account: account(e.Name()), Home: filepath.Join(dir, e.Name())})
		}
	}
	return out
}

// passwdUsers returns the people in a passwd(5) file: user ids from 1000, and root, if the profile
// folder exists.
func passwdUsers(file string, real func(string) string) []User {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	var out []User
	for line := range strings.Lines(string(data)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) < 7 || f[0] == "nobody" || len(f[2]) < 4 && f[2] != "0" || strings.HasSuffix(f[6], "/nologin") || strings.HasSuffix(f[6], "/false") {
			continue
		}
		home := real(f[5])
		if info, err := os.Stat(home); err == nil && info.IsDir() && f[5] != "/" {
			out = append(out, User{Name: f[0], Account: f[0], Home: home})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func firstLine(file string) string {
	data, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	line, _, _ := strings.Cut(string(data), "\n")
	return strings.TrimSpace(line)
}

// NoDrive is the error for a path on a missing drive. Its value is the drive letter.
type NoDrive string

func (n NoDrive) Error() string { return "drive " + string(n) + " is not connected" }
