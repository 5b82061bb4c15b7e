package machine

import (
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/fault"
)

// drives maps Windows drive letters to folders.
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

// move maps a drive letter of another computer to a folder on this one, in this computer's own
// terms.
func (d *drives) move(letter, folder string) error {
	if letterOf(folder) == "" {
		return fault.New(fault.Missing, "there is no folder %s for the drive %s:", folder, letter)
	}
	if d.moved == nil {
		d.moved = map[string]string{}
	}
	d.moved[letter] = strings.TrimRight(folder, `\/`)
	return nil
}

// drive parses a drive letter.
func drive(letter string) (string, error) {
	letter = strings.ToUpper(strings.TrimSuffix(letter, ":"))
	if len(letter) != 1 || letterOf(letter+":") == "" {
		return "", fault.New(fault.Usage, "%q is not a drive letter", letter)
	}
	return letter, nil
}

// SetDrive sets a drive of a computer's disk.
func (d *disk) SetDrive(letter, folder string) (moved bool, err error) {
	if letter, err = drive(letter); err != nil {
		return false, err
	}
	if is, err := d.mountAt(letter, folder); is || err != nil {
		return false, err
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
	return path
}

// mount returns the folder with the content of the path's drive, or "".
func (d *drives) mount(path string) string { return d.mounted[letterOf(path)] }

// OnDrive returns a real path on a mounted drive as the computer writes it.
func (d *drives) OnDrive(real string) (string, bool) {
	for letter, folder := range d.mounted {
		if rel, is := under(folder, real); is {
			return letter + `:\` + strings.ReplaceAll(rel, "/", `\`), true
		}
	}
	return "", false
}
