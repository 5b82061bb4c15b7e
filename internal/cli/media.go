package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/volume"
	"movekit/internal/table"
)

// connectMedia makes the folders of --medium known to a kit, and lets it ask for others. With extend, the kit continues in those
// that are not used yet, when the medium before is full.
func (e *env) connectMedia(k *kit.Kit, extend bool) error {
	var unused []string
	for _, dir := range e.media {
		m, err := kit.MediumIn(dir)
		if err == nil && (m != nil || !extend) {
			err = k.Media.Use(dir, k.Manifest.ID)
		} else if err == nil {
			unused = append(unused, dir)
		}
		if err != nil {
			return err
		}
	}
	k.Media.Find = func(number int) (string, error) { return e.findMedium(k.Manifest.ID, number) }
	if !extend || e.mirror != nil || len(unused) == 0 && !e.canAsk() {
		return nil
	}
	k.Media.Next = func(full string) (string, error) {
		if len(unused) > 0 {
			dir := unused[0]
			unused = unused[1:]
			return dir, nil
		}
		if !e.canAsk() {
			return "", fault.New(fault.NoSpace, "the medium of %s is full", full)
		}
		return e.askForMedium(k, full)
	}
	return nil
}

// askForMedium asks for a folder on another medium, until the kit can continue in it.
func (e *env) askForMedium(k *kit.Kit, full string) (string, error) {
	e.done()
	table.Fprintf(fold(e.err), "\n%s The medium of %s is full. Leave it connected, and connect another one: the kit continues there.\n", e.paint("full:", table.Note), full)
	for {
		dir, err := e.text("Folder on the other medium")
		if err != nil {
			return "", err
		}
		if dir == "" {
			continue
		}
		if err = k.Extend(dir); err == nil {
			return dir, nil
		}
		table.Fprintf(fold(e.err), "%v\n", err)
	}
}

// findMedium returns the folder of a medium: on a disk that is connected, or as the user enters it; "" if nobody can be asked.
func (e *env) findMedium(id string, number int) (string, error) {
	for asked := false; ; asked = true {
		if dir := connected(id, number); dir != "" {
			return dir, nil
		}
		if !e.canAsk() {
			return "", nil
		}
		if asked {
			table.Fprintf(fold(e.err), "No connected disk has it.\n")
		}
		dir, err := e.read(fmt.Sprintf("Connect medium %d of the kit, and press Enter (or enter its folder): ", number), false)
		if err != nil {
			return "", err
		}
		if dir = strings.TrimSpace(dir); dir == "" {
			continue
		}
		if m, err := kit.MediumIn(dir); err == nil && m != nil && *m == (kit.Medium{Kit: id, Number: number}) {
			return dir, nil
		}
		table.Fprintf(fold(e.err), "%s is not medium %d of this kit.\n", dir, number)
	}
}

// connected returns the folder of a medium on a disk of this computer: the root of the disk, or a folder in it; "" if there is none.
func connected(id string, number int) string {
	for _, mount := range volume.Mounts() {
		if mount.Remote {
			continue // it may not answer
		}
		root := mount.Path
		tries := []string{root}
		entries, _ := os.ReadDir(root)
		for _, entry := range entries {
			if entry.IsDir() {
				tries = append(tries, filepath.Join(root, entry.Name()))
			}
		}
		for _, dir := range tries {
			if m, err := kit.MediumIn(dir); err == nil && m != nil && *m == (kit.Medium{Kit: id, Number: number}) {
				return dir
			}
		}
	}
	return ""
}

// emptyMedia empties the other media of a closed kit, and says which are not connected.
func (e *env) emptyMedia(k *kit.Kit) error {
	k.Media.Find = func(number int) (string, error) { return connected(k.Manifest.ID, number), nil } // nobody needs to fetch it
	var away []string
	for _, n := range k.Numbers() {
		dir, err := k.Connected(n)
		switch {
		case fault.KindOf(err) == fault.NoMedium:
			away = append(away, fmt.Sprint(n))
		case err != nil:
			return err
		default:
			if err := kit.EmptyMedium(e.ctx, dir); err != nil {
				return err
			}
		}
	}
	if len(away) > 0 {
		e.say("Not connected: medium %s. Without the key, nobody can read the sealed files there; erase them.\n", strings.Join(away, ", medium "))
	}
	return nil
}
