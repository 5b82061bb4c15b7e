package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// slowRate is the write rate of the slow medium, in bytes per second.
const slowRate = 30 << 20

// slow packs onto a medium of 30 MB/s: a disk in a file, whose rate the block layer limits (Linux, version 1 of control groups).
func (b *bench) slow() error {
	disk, end, err := b.slowDisk()
	if err != nil {
		fmt.Println("a slow medium cannot be made here: left out:", err)
		return nil
	}
	defer end()
	if _, err := os.Stat(filepath.Join(b.dir, "key.pub")); err != nil { // unpack needs the one of pack
		if err := b.ageKey(); err != nil {
			return err
		}
	}
	kit := filepath.Join(disk, "kit")
	fresh := func() error {
		if err := errors.Join(os.WriteFile(filepath.Join(b.dir, "bulk.yaml"), []byte(cardText), 0o644), os.RemoveAll(kit), os.RemoveAll(filepath.Join(disk, "their.age"))); err != nil {
			return err
		}
		_, err := b.timed(false, b.program, "--quiet", "new", kit, "--root", "bulk", "--cards", "bulk.yaml")
		return err
	}
	runs := b.runs
	b.runs = 1 // the medium sets the time
	defer func() { b.runs = runs }()
	their := filepath.Join(disk, "their.age")
	return b.compare("pack onto a medium of 30 MB/s", "tar | zstd -3 -T0 | age, and sync", 0.9, false,
		side{fresh, []string{b.program, "--quiet", "pack", "--kit", kit, "--root", "bulk"}},
		side{func() error { return os.RemoveAll(kit) }, shell("tar -C bulk/srv/data -c . | zstd -3 -T0 -q | age -R key.pub -o " + their + " && sync -f " + their)})
}

// slowDisk mounts a slow disk. end unmounts it.
func (b *bench) slowDisk() (dir string, end func(), err error) {
	dir, groups, image := filepath.Join(b.dir, "slow"), filepath.Join(b.dir, "groups"), filepath.Join(b.dir, "slow.img")
	var undo []func()
	end = func() {
		for i := len(undo) - 1; i >= 0; i-- {
			undo[i]()
		}
	}
	defer func() {
		if err != nil {
			end()
		}
	}()
	sh := func(command string, args ...string) string {
		if err != nil {
			return ""
		}
		var out []byte
		if out, err = exec.Command(command, args...).CombinedOutput(); err != nil {
			err = fmt.Errorf("%s: %w %s", command, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	err = errors.Join(os.MkdirAll(dir, 0o755), os.MkdirAll(groups, 0o755), os.WriteFile(image, nil, 0o600))
	undo = append(undo, func() { os.Remove(image) })
	if err == nil {
		err = os.Truncate(image, 3<<30)
	}
	sh("mkfs.ext4", "-q", "-O", "^has_journal", image)
	loop := sh("losetup", "-f", "--show", image)
	if err != nil {
		return dir, end, err
	}
	undo = append(undo, func() { exec.Command("losetup", "-d", loop).Run() })
	if sh("mount", loop, dir); err != nil {
		return dir, end, err
	}
	undo = append(undo, func() { exec.Command("umount", dir).Run() })
	if sh("mount", "-t", "cgroup", "-o", "blkio", "none", groups); err != nil {
		return dir, end, err
	}
	undo = append(undo, func() { exec.Command("umount", groups).Run() })
	number, err := os.ReadFile("/sys/block/" + filepath.Base(loop) + "/dev")
	if err == nil {
		err = os.WriteFile(filepath.Join(groups, "blkio.throttle.write_bps_device"), fmt.Appendf(nil, "%s %d", strings.TrimSpace(string(number)), slowRate), 0o200)
	}
	return dir, end, err
}
