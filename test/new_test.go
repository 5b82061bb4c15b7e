package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/test/lay"
)

// TestNewOfficeAndAlso creates a kit with an office name and a program for another system.
func TestNewOfficeAndAlso(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"movekit.exe": "MZ the other program"})
	made(t, dir, "--office", "Tern Quay harbour office", "--also", "movekit.exe")
	if data, err := os.ReadFile(filepath.Join(dir, "kit/movekit.exe")); err != nil || string(data) != "MZ the other program" {
		t.Errorf("the other program in the kit: %q %v", data, err)
	}
	if s := must(t, 0, dir, "board", "."); !strings.Contains(s.out, "Tern Quay harbour office") {
		t.Errorf("the board does not name the office: %s", s.out)
	}
	lay.Out(t, dir, map[string]string{"kit/movekit.exe": "MZ another program"})
	if s := run(t, dir, "inspect", "--kit", "kit"); !strings.Contains(s.out, "the program movekit.exe was changed since the kit was made: do not start it") {
		t.Errorf("a program that was changed: %d %s", s.code, s.out)
	}
	must(t, 1, dir, "new", "other", "--root", "old", "--cards", "diary.yaml", "--also", "none.exe").tells(t, "none.exe")
}

// TestNewIsKilled kills the creation of a kit, and creates it again.
func TestNewIsKilled(t *testing.T) {
	t.Parallel()
	dir := office(t)
	hits := 0
	for i := range 10 {
		if killed(t, time.Duration(5+i*25)*time.Millisecond, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml") {
			hits++
			continue
		}
		break
	}
	if hits == 0 {
		t.Error("never killed")
	}
	if s := run(t, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml"); s.code != 0 && !strings.Contains(s.err, "not empty") {
		t.Fatalf("made again: %s", s.err)
	}
	step(t, 0, dir, "old", "pack")
	must(t, 0, dir, "inspect", "--kit", "kit")
}
