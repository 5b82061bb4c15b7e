package machine

import (
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/fault"
)

// drives are folders that stand for drives of Windows, by letter.
type drives struct {
	mounted map[string]string // real folder with what is on a drive of the computer
	moved   map[string]string // path of the computer that has what was on a drive of another
}

// letterOf is the drive of a path (C:\...), or "".
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

// mountAt has a real folder stand for a drive of the computer, where it is one.
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

// move has a folder of the computer, as it writes it, stand for a drive of another.
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

// drive is the letter that a person means.
func drive(letter string) (string, error) {
	letter = strings.ToUpper(strings.TrimSuffix(letter, ":"))
	if len(letter) != 1 || letterOf(letter+":") == "" {
		return "", fault.New(fault.Usage, "%q is no letter of a drive", letter)
	}
	return letter, nil
}

// SetDrive is for the disk of a computer.
func (d *disk) SetDrive(letter, folder string) (moved bool, err error) {
	if letter, err = drive(letter); err != nil {
		return false, err
	}
	if is, err := d.mountAt(letter, folder); is || err != nil {
		return false, err
	}
	return true, d.drives.move(letter, folder)
}

// SetDrive is for the running computer, which mounts its drives itself.
func (l *live) SetDrive(letter, folder string) (moved bool, err error) {
	if letter, err = drive(letter); err == nil {
		err = l.drives.move(letter, folder)
	}
	return true, err
}

// here is a path with what was on a drive of another computer where it lies on this one.
// It is asked once a path, so that two drives can change places.
func (d *drives) here(path string) string {
	if to := d.moved[letterOf(path)]; to != "" {
		return to + path[2:]
	}
	return path
}

// mount is the folder that has what is on the drive of a path; "" where none was named.
func (d *drives) mount(path string) string { return d.mounted[letterOf(path)] }

// OnDrive is a real path on a mounted drive as the computer writes it.
func (d *drives) OnDrive(real string) (string, bool) {
	for letter, folder := range d.mounted {
		if rel, is := under(folder, real); is {
			return letter + `:\` + strings.ReplaceAll(rel, "/", `\`), true
		}
	}
	return "", false
}
