package main

import (
	"archive/zip"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
)

// made creates a release with placeholders for the programs.
func made(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	b := batch{version: "1.2.3-4+5", at: time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC), programs: map[target]string{}, modules: []*debug.Module{{Path: "example.org/a", Version: "v1"}, {Path: "x", Replace: &debug.Module{Path: "example.org/b", Version: "v2"}}}}
	for _, target := range targets {
		name := filepath.Join(dir, target.system+target.processor)
		fatal.If(t, os.WriteFile(name, []byte("#!/bin/sh\necho started\n"), 0o755))
		b.programs[target] = name
	}
	out := filepath.Join(dir, "out")
	fatal.If(t, b.pack(out))
	return out
}

func TestRelease(t *testing.T) {
	one, two := made(t), made(t)
	entries, err := os.ReadDir(one)
	if err != nil || len(entries) != 11 {
		t.Fatalf("%d files, %v", len(entries), err)
	}
	for _, e := range entries {
		a, _ := os.ReadFile(filepath.Join(one, e.Name()))
		b, _ := os.ReadFile(filepath.Join(two, e.Name()))
		if !bytes.Equal(a, b) || len(a) == 0 {
			t.Errorf("%s is another the second time", e.Name())
		}
	}
	z, err := zip.OpenReader(filepath.Join(one, "movekit-1.2.3-4+5-stick.zip"))
	fatal.If(t, err)
	defer z.Close()
	var names []string
	for _, f := range z.File {
		names = append(names, f.Name)
	}
	if all := strings.Join(names, " "); !strings.Contains(all, "movekit/START.html") || !strings.Contains(all, "movekit/movekit.exe") || !strings.Contains(all, "movekit/movekit-32bit.exe") || !strings.Contains(all, "movekit/movekit ") || !strings.Contains(all, "movekit/movekit-macos-arm64") || !strings.Contains(all, "movekit/cards/examples/tidewright.yaml") {
		t.Errorf("the stick has %s", all)
	}
	if bill, _ := os.ReadFile(filepath.Join(one, "movekit-1.2.3-4+5.cdx.json")); !strings.Contains(string(bill), "pkg:golang/example.org/a@v1") || !strings.Contains(string(bill), "pkg:golang/example.org/b@v2") {
		t.Errorf("the modules: %s", bill)
	}
	if _, err := exec.LookPath("sha256sum"); err == nil {
		cmd := exec.Command("sha256sum", "-c", "SHA256SUMS")
		cmd.Dir = one
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%v %s", err, out)
		}
	}
}

// TestInstall installs the Debian package into a folder, checks the files, and removes it.
func TestInstall(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("dpkg is not installed")
	}
	out, root := made(t), t.TempDir()
	for _, dir := range []string{"info", "updates", "triggers"} {
		os.MkdirAll(filepath.Join(root, "var/lib/dpkg", dir), 0o755)
	}
	for _, name := range []string{"status", "available"} {
		os.WriteFile(filepath.Join(root, "var/lib/dpkg", name), nil, 0o644)
	}
	architecture, err := exec.Command("dpkg", "--print-architecture").Output()
	fatal.If(t, err)
	deb := filepath.Join(out, "movekit_1.2.3-4+5_"+strings.TrimSpace(string(architecture))+".deb")
	if _, err := os.Stat(deb); err != nil {
		t.Skip("there is no package for this processor")
	}
	dpkg := func(args ...string) {
		t.Helper()
		cmd := exec.Command("dpkg", append([]string{"--root=" + root, "--force-not-root", "--force-script-chrootless", "--log=" + filepath.Join(root, "log")}, args...)...)
		if said, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("dpkg %v: %v\n%s", args, err, said)
		}
	}
	dpkg("-i", deb)
	for _, name := range []string{"usr/bin/movekit", "usr/share/man/man1/movekit.1.gz", "usr/share/man/man1/movekit-card-make.1.gz", "usr/share/bash-completion/completions/movekit", "usr/share/applications/movekit.desktop"} {
		if info, err := os.Stat(filepath.Join(root, name)); err != nil || info.Size() == 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
	if said, err := exec.Command(filepath.Join(root, "usr/bin/movekit")).Output(); err != nil || string(said) != "started\n" {
		t.Errorf("the program: %v %s", err, said)
	}
	if page, err := exec.Command("zcat", filepath.Join(root, "usr/share/man/man1/movekit-unpack.1.gz")).Output(); err != nil || !strings.Contains(string(page), ".TH") || !strings.Contains(string(page), "existing") || !strings.Contains(string(page), "\n  replace     overwrite it") {
		t.Errorf("the page: %v %.200s", err, page)
	}
	if _, err := exec.LookPath("bash"); err == nil {
		cmd := exec.Command("bash", "-c", ". "+filepath.Join(root, "usr/share/bash-completion/completions/movekit")+" && complete -p movekit")
		if said, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(said), "__start_movekit") {
			t.Errorf("completion: %v %s", err, said)
		}
	}
	dpkg("--purge", "movekit")
	left, _ := filepath.Glob(filepath.Join(root, "usr/*/movekit*"))
	if pages, _ := filepath.Glob(filepath.Join(root, "usr/share/*/*/movekit*")); len(left)+len(pages) > 0 {
		t.Errorf("left behind: %v %v", left, pages)
	}
}
