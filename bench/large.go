package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"movekit/test/hivetest"
)

// trip packs, unpacks and verifies the data of a computer once, each beside another command, to measure the memory. last is the
// last step.
func (b *bench) trip(what, name, last, against, script string) error {
	runs := b.runs
	b.runs = 1
	defer func() { b.runs = runs }()
	if _, err := b.computer("new"); err != nil {
		return err
	}
	theirs := side{nil, shell(script)}
	for _, step := range []string{"pack", "unpack", "verify"} {
		ours := side{nil, b.movekit(step, "--root", "new")}
		if step == "pack" {
			ours = side{func() error { return b.newKit(name) }, b.movekit("pack", "--root", name)}
		}
		if err := b.compare(what+", "+step, against, 0, false, ours, theirs); err != nil || step == last {
			return err
		}
	}
	return nil
}

// million measures a million small files.
func (b *bench) million() error {
	root, err := b.computer("million")
	if err != nil {
		return err
	}
	fmt.Println("making 1,000,000 files")
	for d := range 1000 {
		dir := filepath.Join(root, "srv", "data", fmt.Sprintf("folder-%03d", d))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		for f := range 1000 {
			if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("record-%03d-%03d.txt", d, f)), []byte(fmt.Sprintf("record %d of %d\n", f, d)), 0o644); err != nil {
				return err
			}
		}
	}
	err = b.trip("1,000,000 files", "million", "verify", "find over them", "find million/srv/data -printf '%s %T@ %p\\n' > /dev/null")
	return errors.Join(err, b.remove("million", "new", "kit"))
}

// sparse measures one file of 50 GB, of which a few bytes are not holes.
func (b *bench) sparse() error {
	root, err := b.computer("sparse")
	if err != nil {
		return err
	}
	name := filepath.Join(root, "srv", "data", "disk.img")
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(name, []byte("begin"), 0o644); err != nil {
		return err
	}
	if err := os.Truncate(name, 50e9); err != nil {
		return err
	}
	err = b.trip("a file of 50 GB with holes", "sparse", "verify", "a read of it", "cat sparse/srv/data/disk.img > /dev/null")
	return errors.Join(err, b.remove("sparse", "new", "kit"))
}

// registry measures a key with 4,000 values of 15 KB, in a hive file.
func (b *bench) registry() error {
	if _, err := exec.LookPath("hivexregedit"); err != nil {
		fmt.Println("hivexregedit is not installed: the registry is left out")
		return nil
	}
	hive := filepath.Join(b.dir, "registry/Windows/System32/config/SOFTWARE")
	if err := os.MkdirAll(filepath.Dir(hive), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(hive, hivetest.Empty(), 0o600); err != nil {
		return err
	}
	// The text is written in small pieces: the memory of this process would count as that of the ones that it starts.
	merge := exec.Command("hivexregedit", "--merge", hive)
	to, err := merge.StdinPipe()
	if err == nil {
		err = merge.Start()
	}
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(1, 2))
	fmt.Fprint(to, "Windows Registry Editor Version 5.00\n\n[\\Harbour]\n")
	for n := range 4000 {
		fmt.Fprintf(to, "\"v%04d\"=hex:%s\n", n, strings.ReplaceAll(fmt.Sprintf("% x", noise(r, 15_000)), " ", ","))
	}
	if err := errors.Join(to.Close(), merge.Wait()); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(b.dir, "registry", "computer.yaml"), []byte("name: REGISTRY\nsystem: windows\nhardware-id: bench-registry\n"), 0o644); err != nil {
		return err
	}
	b.card = "card: 1\nname: bulk\ntitle: Bulk\nitems: [{name: key, kind: registry, key: 'HKLM\\SOFTWARE\\Harbour'}]\n"
	defer func() { b.card = cardText }()
	err = b.trip("a registry key of 60 MB", "registry", "pack", "a read of the hive", "cat registry/Windows/System32/config/SOFTWARE > /dev/null")
	return errors.Join(err, b.remove("registry", "new", "kit"))
}
