package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestInstaller carries installers in the kit: one of the old computer, and a folder of the office's collection. ready says what to
// run until the app is there, and warns about one that was changed.
func TestInstaller(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{
		"old/srv/installers/hoist-3.4.bin": "setup", "cards/plotter/setup/run.sh": "#!/bin/sh\n", "cards/plotter/setup/data/x": "x", "old/srv/plots/a": "a", "old/opt/plot/version": "2",
		"cards/plot.yaml": `card: 1
name: plot
title: Plotter
version: {file: /opt/plot/version}
items: [{name: plots, kind: folder, path: /srv/plots}]
installer: {beside: plotter/setup, run: run.sh, version: '2', before: [the plotter's driver], choose: [Custom, the folder /opt/plot]}
`,
	})
	card, err := os.ReadFile(filepath.Join(dir, "diary.yaml"))
	fatal.If(t, err)
	lay.Out(t, dir, map[string]string{"cards/diary.yaml": string(card) + "installer: {path: /srv/installers/hoist-3.4.bin, version: 3.4.0}\n"})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "cards", "--to", "NEW")
	fatal.If(t, os.RemoveAll(filepath.Join(dir, "cards")))
	must(t, 0, dir, "inspect", "--kit", "kit")
	step(t, 0, dir, "old", "pack")
	fatal.If(t, os.Remove(filepath.Join(dir, "new/opt/app/version")))
	s := step(t, 5, dir, "new", "ready")
	for _, want := range []string{"Run kit/installers/diary/hoist-3.4.bin, which installs 3.4.0. Do not start the app yet.", "Run the plotter's driver first; then kit/installers/plot/run.sh, which installs 2; choose Custom, the folder /opt/plot. Do not"} {
		if !strings.Contains(s.out, want) {
			t.Errorf("no %q in\n%s", want, s.out)
		}
	}
	if text, err := os.ReadFile(filepath.Join(dir, "kit/installers/plot/data/x")); err != nil || string(text) != "x" {
		t.Errorf("%v", err)
	}
	lay.Out(t, dir, map[string]string{"new/opt/app/version": "3.4.9"}) // it was installed
	if s := step(t, 5, dir, "new", "ready"); strings.Contains(s.out, "hoist-3.4.bin") {
		t.Errorf("it is installed: %s", s.out)
	}
	// A changed file is named, by ready and by inspect.
	fatal.If(t, os.WriteFile(filepath.Join(dir, "kit/installers/plot/data/x"), []byte("y"), 0o644))
	if s := step(t, 5, dir, "new", "ready"); !strings.Contains(s.out, "do not run it") || strings.Contains(s.out, "Run the plotter") {
		t.Errorf("a changed installer: %s", s.out)
	}
	if s := run(t, dir, "inspect", "--kit", "kit"); !strings.Contains(s.out+s.err, "installers/plot/data/x was changed; do not run this installer") {
		t.Errorf("inspect: %s%s", s.out, s.err)
	}
	for text, want := range map[string]string{"{beside: ../x}": "leads elsewhere", "{beside: x, path: /srv/x}": "exactly one", "{version: '1'}": "exactly one"} {
		lay.Out(t, dir, map[string]string{"bad.yaml": string(card) + "installer: " + text + "\n"})
		if s := must(t, 1, dir, "card", "check", "bad.yaml"); !strings.Contains(s.out+s.err, want) {
			t.Errorf("%s: %s%s", text, s.out, s.err)
		}
	}
}
