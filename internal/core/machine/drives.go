package machine

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/volume"
)

// drives maps Windows drive letters, and mount points of other systems, to folders.
type drives struct {
	mounted map[string]string // real folder with the content of a drive of this computer
	moved   map[string]string // path on this computer with the content of another computer's drive
}

// letterOf returns the drive letter of a path (C:\...), or "".
func letterOf(path string) string {
	if len(path) < 2 || path[1] != ':' {
		return ""
	}
	letter := strings.ToUpper(path[:1])
	if letter < "A" || letter > "Z" {
		return ""
	}
	return letter
}

// mountAt maps a drive letter of the computer to a real folder. It returns false if folder is not a
// directory.
func (d *drives) mountAt(letter, folder string) (is bool, err error) {
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return false, nil
	}
	abs, err := filepath.Abs(folder)
	if err == nil {
		abs, err = filepath.EvalSymlinks(abs)
	}
	if err != nil {
		return false, fault.Wrap(fault.Missing, err, "there is no disk at %s", folder)
	}
	if d.mounted == nil {
		d.mounted = map[string]string{}
	}
	d.mounted[letter] = abs
	return true, nil
}

// move maps a drive or mount point of another computer to a folder on this one, in this computer's own
// terms.
func (d *drives) move(letter, folder string) error {
	if mount := strings.HasPrefix(letter, "/"); mount && !strings.HasPrefix(folder, "/") || !mount && letterOf(folder) == "" {
		return fault.New(fault.Missing, "there is no folder %s for the drive %s", folder, letter)
	}
	if d.moved == nil {
		d.moved = map[string]string{}
	}
	d.moved[letter] = strings.TrimRight(folder, `\/`)
	return nil
}

// drive parses a drive letter or mount point.
func drive(letter string) (string, error) {
	if strings.HasPrefix(letter, "/") && letter != "/" {
		return path.Clean(letter), nil
	}
	letter = strings.ToUpper(strings.TrimSuffix(letter, ":"))
	if len(letter) != 1 || letterOf(letter+":") == "" {
		return "", fault.New(fault.Usage, "%q is not a drive letter or mount point", letter)
	}
	return letter, nil
}

// SetDrive sets a drive of a computer's disk.
func (d *disk) SetDrive(letter, folder string) (moved bool, err error) {
	if letter, err = drive(letter); err != nil {
		return false, err
	}
	if letterOf(letter+":") != "" {
		if is, err := d.mountAt(letter, folder); is || err != nil {
			if err == nil && d.ident.System == Windows { // profiles can be on it
				d.users, d.usersNotes = windowsUsers(d, d.join("Users"))
			}
			return false, err
		}
	}
	return true, d.drives.move(letter, folder)
}

// SetDrive sets a drive of the old computer. The running computer mounts its own drives.
func (l *live) SetDrive(letter, folder string) (moved bool, err error) {
	if letter, err = drive(letter); err == nil {
		err = l.drives.move(letter, folder)
	}
	return true, err
}

// here returns the path on this computer of a path on another computer's drive. It maps each path
// only once, so that two drives can be swapped.
func (d *drives) here(path string) string {
	if to := d.moved[letterOf(path)]; to != "" {
		return to + path[2:]
	}
	longest := ""
	for mount := range d.moved {
		if strings.HasPrefix(path+"/", mount+"/") && len(mount) > len(longest) {
			longest = mount
		}
	}
	return d.moved[longest] + path[len(longest):]
}

// mount returns the folder with the content of the path's drive, or "".
func (d *drives) mount(path string) string { return d.mounted[letterOf(path)] }

// Volumes returns the folders or drives of a Windows computer besides the system's, and those of its drives
// that are not its own: removable ones and those of other computers.
func Volumes(c Computer) (own, others []string) {
	if d, is := c.(*disk); is {
		for _, folder := range d.mounted {
			own = append(own, folder)
		}
		slices.Sort(own)
		return own, nil
	}
	if liveSystem != Windows || c.Root() != "" {
		return nil, nil
	}
	for _, m := range volume.Mounts() {
		switch {
		case m.Foreign:
			others = append(others, m.Path)
		case !strings.EqualFold(m.Path, volume.SystemDrive()):
			own = append(own, m.Path)
		}
	}
	return own, others
}

// OnDrive returns a real path on a mounted drive as the computer writes it.
func (d *drives) OnDrive(real string) (string, bool) {
	for letter, folder := range d.mounted {
		if rel, is := under(folder, real); is {
			return letter + `:\` + strings.ReplaceAll(rel, "/", `\`), true
		}
	}
	return "", false
}

// ofSystem lists folders of every Unix system. If one is a disk of its own, another computer still has
// the folder.
var ofSystem = []string{"/", "/boot", "/home", "/opt", "/root", "/tmp", "/usr", "/var", "/Users", "/System/Volumes/Data"}

// MountPoint returns the mount point of the disk that a real path is on, in the computer's terms. It is ""
// on the system's own disks and on Windows. A pulled disk lists its mount points in fstab(5).
func MountPoint(c Computer, real string) string {
	if c.System() == Windows {
		return ""
	}
	if c.Root() == "" {
		for at := real; at != filepath.Dir(at); at = filepath.Dir(at) {
			if volume.IsMount(at) {
				return unlessSystem(at)
			}
		}
		return ""
	}
	at, err := c.Own("/etc/fstab")
	if err != nil {
		return ""
	}
	data, err := os.ReadFile(at)
	if err != nil {
		return ""
	}
	spoken, longest := DisplayPath(c, real), ""
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		if len(f) < 3 || strings.HasPrefix(f[0], "#") {
			continue
		}
		mount := volume.Octal.Replace(f[1])
		if strings.HasPrefix(spoken+"/", strings.TrimSuffix(mount, "/")+"/") && len(mount) > len(longest) {
			longest = mount
		}
	}
	return unlessSystem(longest)
}

func unlessSystem(mount string) string {
	if slices.Contains(ofSystem, mount) {
		return ""
	}
	return mount
}
