package machine

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
)

// openedHive is an open hive file, or the error from opening it.
type openedHive struct {
	root registry.Key
	err  error
}

// splitKey splits a registry path into its root and the rest.
func splitKey(path string) (root, rest string, err error) {
	root, rest, _ = strings.Cut(path, `\`)
	if root = strings.ToUpper(root); root != "HKLM" && root != "HKCU" {
		return "", "", fault.New(fault.BadCard, "the registry key %q starts with neither HKLM nor HKCU", path)
	}
	return root, rest, nil
}

func noKey(path string) error { return fmt.Errorf("the registry key %s: %w", path, fs.ErrNotExist) }

// Registry opens a key in the hive files of the disk. They stay open until the program ends.
func (d *disk) Registry(path string, user *User) (registry.Key, error) {
	root, rest, err := splitKey(path)
	if err != nil {
		return nil, err
	}
	if d.ident.System != Windows {
		return nil, noKey(path)
	}
	if root == "HKCU" {
		if user == nil {
			return nil, fault.New(fault.NoUser, "the registry key %s needs a user", path)
		}
		if below, ok := cutFold(rest, `Software\Classes`); ok {
			return d.find(filepath.Join(user.Home, "AppData", "Local", "Microsoft", "Windows", "UsrClass.dat"), below)
		}
		return d.find(filepath.Join(user.Home, "NTUSER.DAT"), rest)
	}
	name, below, _ := strings.Cut(rest, `\`)
	if !slices.Contains([]string{"SOFTWARE", "SYSTEM"}, strings.ToUpper(name)) {
		return nil, noKey(path)
	}
	file := d.join("Windows/System32/config/" + strings.ToUpper(name))
	if more, ok := cutFold(below, "CurrentControlSet"); ok {
		root, err := d.find(file, "")
		if err != nil {
			return nil, err
		}
		set := cmp.Or(registry.Text(root, "Select", "Current"), "1")
		below = fmt.Sprintf(`ControlSet%03s\%s`, set, more)
	}
	return d.find(file, below)
}

// Change returns an error: the system on a disk is not running.
func (d *disk) Change(path string, _ *User, _ bool) (registry.Writable, error) {
	return nil, fmt.Errorf("the registry key %s: %w", path, registry.ErrOffline)
}

// cutFold removes the prefix lead from a registry path, ignoring letter case.
func cutFold(path, lead string) (string, bool) {
	if len(path) < len(lead) || !strings.EqualFold(path[:len(lead)], lead) {
		return "", false
	}
	rest := path[len(lead):]
	return strings.TrimPrefix(rest, `\`), rest == "" || rest[0] == '\\'
}

// find opens a key in a hive file.
func (d *disk) find(file, path string) (registry.Key, error) {
	if rel, err := filepath.Rel(d.root, file); err == nil && filepath.IsLocal(rel) {
		file = d.join(filepath.ToSlash(rel))
	}
	h := d.hives[file]
	if h == nil {
		h = &openedHive{}
		d.hives[file] = h
		opened, err := registry.OpenHive(file)
		if err == nil {
			h.root, err = opened.Root()
			if opened.Unfinished {
				d.notes = append(d.notes, fmt.Sprintf("the registry in %s was not closed properly (the computer was switched off): the newest changes are in its logs and are not read", file))
			}
		}
		if h.err = err; err != nil && fault.KindOf(err) != fault.Missing {
			d.notes = append(d.notes, err.Error())
		}
	}
	if fault.KindOf(h.err) == fault.Missing {
		return nil, fmt.Errorf("%w: %w", fs.ErrNotExist, h.err)
	}
	if h.err != nil {
		return nil, h.err
	}
	return registry.Find(h.root, path)
}

func (d *disk) Notes() []string { return slices.Concat(d.notes, d.usersNotes) }

// registryText returns a value as text, or "" if it cannot be read.
func registryText(c Computer, key, value string) string {
	k, err := c.Registry(key, nil)
	if err != nil {
		return ""
	}
	defer k.Close()
	return registry.Text(k, "", value)
}

const profileList = `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList`

// notPeople lists the profile folders that Windows creates itself.
var notPeople = map[string]bool{"default": true, "default user": true, "public": true, "all users": true, "defaultapppool": true, "wdagutilityaccount": true}

// windowsUsers returns the people of a Windows computer: the profiles of local, domain and cloud accounts
// in the registry, and other profile folders beside them. notes name the profiles that cannot be reached.
func windowsUsers(c Computer, folders string) (out []User, notes []string) {
	add := func(home, sid string) {
		name := filepath.Base(home)
		info, err := os.Stat(home)
		if err != nil || !info.IsDir() || notPeople[strings.ToLower(name)] || slices.ContainsFunc(out, func(u User) bool { return strings.EqualFold(u.Home, home) }) {
			return
		}
		out = append(out, User{Name: name, Account: account(name), Home: home, sid: sid})
	}
	if list, err := c.Registry(profileList, nil); err == nil {
		defer list.Close()
		sids, _ := list.Keys()
		slices.Sort(sids) // an id comes before its copy, ID.bak
		for _, sid := range sids {
			if !strings.HasPrefix(sid, "S-1-5-21-") && !strings.HasPrefix(sid, "S-1-12-1-") {
				continue
			}
			path := registry.Text(list, sid, "ProfileImagePath")
			home, err := c.Locate(expandSystem(path), nil)
			var drive NoDrive
			if errors.As(err, &drive) {
				notes = append(notes, fmt.Sprintf("the profile %s is on the drive %s, which is not connected here, so its user is missing", path, string(drive)))
			}
			if err == nil {
				add(home, strings.TrimSuffix(sid, ".bak"))
			}
		}
	}
	listed := len(out) > 0
	beside := []string{folders}
	for _, u := range out {
		if above := filepath.Dir(u.Home); !slices.ContainsFunc(beside, func(f string) bool { return strings.EqualFold(f, above) }) {
			beside = append(beside, above)
		}
	}
	for _, folder := range beside {
		for _, u := range homeFolders(folder) {
			hive, err := Exists(filepath.Join(u.Home, "NTUSER.DAT"))
			data, derr := Exists(filepath.Join(u.Home, "AppData"))
			if !listed || cmp.Or(err, derr) != nil || hive || data {
				add(u.Home, "")
			}
		}
	}
	slices.SortFunc(out, func(a, b User) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return out, notes
}

// expandSystem replaces the system drive in a registry path with a term.
func expandSystem(path string) string {
	if rest, ok := cutFold(path, "%SystemDrive%"); ok {
		return `C:\` + rest
	}
	return path
}

// behind matches the suffix that Windows appends to an account name if the folder name was taken: a
// domain in capitals, a three-digit number, or both.
var behind = regexp.MustCompile(`(\.[A-Z0-9][A-Z0-9-]{0,14})?(\.\d{3})?$`)

// account returns the likely account name of a profile folder.
func account(folder string) string {
	if a := behind.ReplaceAllString(folder, ""); a != "" {
		return a
	}
	return folder
}

// Adapter is a network adapter.
type Adapter struct {
	Name      string `yaml:"name" json:"name"`
	Removable bool   `yaml:"removable,omitempty" json:"removable,omitempty"`
	Disabled  bool   `yaml:"disabled,omitempty" json:"disabled,omitempty"`
}

// Risk returns why a licence that is bound to this adapter could be lost, or "".
func (a Adapter) Risk() string {
	switch {
	case a.Removable && a.Disabled:
		return "is removable and disabled"
	case a.Removable:
		return "is removable"
	case a.Disabled:
		return "is disabled"
	}
	return ""
}

// netClass is the device class of network adapters.
const netClass = `HKLM\SYSTEM\CurrentControlSet\Control\Class\{4d36e972-e325-11ce-bfc1-08002be10318}`

// windowsAdapters returns the network adapters in the registry that are bus devices, without
// software adapters.
func windowsAdapters(c Computer) []Adapter {
	class, err := c.Registry(netClass, nil)
	if err != nil {
		return nil
	}
	defer class.Close()
	names, _ := class.Keys()
	var out []Adapter
	for _, n := range names {
		device := registry.Text(class, n, "DeviceInstanceID")
		bus, _, _ := strings.Cut(strings.ToUpper(device), `\`)
		if bus != "PCI" && bus != "USB" && bus != "PCMCIA" && bus != "SD" {
			continue
		}
		a := Adapter{Name: cmp.Or(registry.Text(class, n, "DriverDesc"), device), Removable: bus != "PCI"}
		flags := registryText(c, `HKLM\SYSTEM\CurrentControlSet\Enum\`+device, "ConfigFlags")
		a.Disabled = flags != "" && (flags[len(flags)-1]-'0')%2 == 1 // CONFIGFLAG_DISABLED is bit 0
		out = append(out, a)
	}
	return out
}

func (d *disk) Adapters() []Adapter {
	if len(d.ident.Adapters) > 0 || d.ident.System != Windows {
		return d.ident.Adapters
	}
	return windowsAdapters(d)
}

// shellFolders are the folders of a profile that can be elsewhere, with their values in the user's
// registry ("KNOWNFOLDERID" in the Windows documentation).
var shellFolders = [][2]string{
	{"AppData/Roaming", "AppData"}, {"AppData/Local", "Local AppData"}, {"Documents", "Personal"}, {"Desktop", "Desktop"}, {"Pictures", "My Pictures"}, {"Music", "My Music"}, {"Videos", "My Video"}, {"Favorites", "Favorites"}, {"Downloads", "{374DE290-123F-4565-9164-39C4925E467B}"},
}

const shellKey = `HKCU\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`

// redirects remembers where the folders of users are.
type redirects struct {
	mu    sync.Mutex
	users map[string]map[string]string // by home: the path as Windows writes it, by folder
}

// of returns the path of a folder in a profile that is elsewhere. rest is the path below the profile, with
// / between folders.
func (r *redirects) of(c Computer, user *User, rest string) (path string, is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	own, known := r.users[user.Home]
	if !known {
		own = map[string]string{}
		// If the registry is damaged, which the notes say, the folders are looked for in the profile.
		if k, err := c.Registry(shellKey, user); err == nil {
			for _, f := range shellFolders {
				to := registry.Text(k, "", f[1])
				if below, is := cutFold(to, "%USERPROFILE%"); is {
					to = DisplayPath(c, user.Home) + `\` + strings.TrimLeft(below, `\`)
				}
				standard := DisplayPath(c, user.Home) + `\` + strings.ReplaceAll(f[0], "/", `\`)
				if to = strings.TrimRight(expandSystem(to), `\`); to != "" && !strings.HasPrefix(to, "%") && !strings.EqualFold(to, standard) {
					own[f[0]] = to
				}
			}
			k.Close()
		}
		if r.users == nil {
			r.users = map[string]map[string]string{}
		}
		r.users[user.Home] = own
	}
	for folder, to := range own {
		if len(rest) >= len(folder) && strings.EqualFold(rest[:len(folder)], folder) && (len(rest) == len(folder) || rest[len(folder)] == '/') {
			return to + strings.ReplaceAll(rest[len(folder):], "/", `\`), true
		}
	}
	return "", false
}
