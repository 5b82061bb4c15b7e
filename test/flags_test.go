package test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestNewOfficeAndAlso makes a kit for an office that is named, with the program for another system in it.
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

// TestInstead goes on with another new computer, once the user says why.
func TestInstead(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"third/computer.yaml": "name: THIRD\nsystem: linux\nhardware-id: h-third\n", "third/opt/app/version": "3.4.9", "third/srv/.keep": ""})
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 4, dir, "third", "unpack").tells(t, "the new computer of this move is NEW")
	step(t, 2, dir, "third", "unpack", "--instead", " ")
	step(t, 0, dir, "third", "unpack", "--instead", "NEW fell into the harbour")
	step(t, 0, dir, "third", "verify")
	step(t, 4, dir, "new", "verify").tells(t, "the new computer of this move is THIRD")
	if s := step(t, 0, dir, "third", "report"); s.err == "" && s.out == "" {
		t.Error("no report")
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "kit/report/handover.txt")); !strings.Contains(string(text), "NEW fell into the harbour") {
		t.Errorf("the reason is not in the hand-over: %s", text)
	}
}

// TestSecondSeat activates a second seat, and leaves the old computer's active.
func TestSecondSeat(t *testing.T) {
	t.Parallel()
	dir := office(t)
	addLicence(t, dir, strings.NewReplacer("OLD-ID", oldID(t, dir), "seats: 1", "seats: 2").Replace(oneSeat))
	d := startDesk(t, dir, "127.0.0.1:0")
	seat(t, dir, d, d.url)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 4, dir, "new", "activate", "--yes").tells(t, "old-deactivated")
	step(t, 2, dir, "new", "activate", "--yes", "--second-seat", "")
	step(t, 0, dir, "new", "activate", "--yes", "--second-seat", "both desks are used until May")
	if active, _ := atDesk(t, dir); len(active) != 2 {
		t.Errorf("active on %v", active)
	}
	step(t, 0, dir, "new", "verify")
}

// TestWideDays counts what changed within some days as recent.
func TestWideDays(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Database(t, filepath.Join(dir, "old/srv/app/boats.db"), "CREATE TABLE boat (n)")
	at := time.Now().Add(-20 * 24 * time.Hour)
	fatal.If(t, os.Chtimes(filepath.Join(dir, "old/srv/app/boats.db"), at, at))
	recent := func(days string) string {
		return must(t, 0, dir, "survey", "--wide", "--root", "old", "--cards", "diary.yaml", "--days", days).out
	}
	if a, b := recent("30"), recent("10"); a == b || !strings.Contains(a, "30 days") || !strings.Contains(b, "10 days") {
		t.Errorf("30 days:\n%s\n10 days:\n%s", a, b)
	}
}

// TestBoardPageAndStore writes the board as a page, and keeps it in a database.
func TestBoardPageAndStore(t *testing.T) {
	t.Parallel()
	server, err := dbserver.Postgres()
	if errors.Is(err, dbserver.ErrMissing) {
		need(t, "postgres")
	}
	fatal.If(t, err)
	t.Cleanup(server.Stop)
	_, err = server.SQL("postgres", "CREATE DATABASE moves")
	fatal.If(t, err)
	dir := office(t)
	made(t, dir, "--office", "Tern Quay")
	store := "postgres://postgres@/moves?host=" + server.Dir + "&port=" + server.Port
	s := must(t, 0, dir, "board", ".", "--page", "board.html", "--store", store)
	page, err := os.ReadFile(filepath.Join(dir, "board.html"))
	if fatal.If(t, err); !strings.Contains(string(page), "Tern Quay") || !strings.Contains(s.out, "stored: 1 move") || !strings.Contains(s.out, "wrote board.html") {
		t.Errorf("%s\n%.300s", s.out, page)
	}
	if s := must(t, 0, dir, "board", "--from", store); !strings.Contains(s.out, "Tern Quay") {
		t.Errorf("from the database: %s", s.out)
	}
	lay.Out(t, dir, map[string]string{"file": ""})
	must(t, 1, dir, "board", ".", "--page", "file/board.html").tells(t, "cannot write the page")
}

// TestColourAndDetail checks that colours go only to a terminal, and not with --no-color; and that --verbose says more.
func TestColourAndDetail(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	for flag, colour := range map[string]bool{"": true, "--no-color": false} {
		args := []string{"status", "--kit", "kit", "--root", "old"}
		if flag != "" {
			args = append(args, flag)
		}
		if out := atTerminal(t, dir, "", args...); strings.Contains(out, "\x1b[") != colour {
			t.Errorf("%q: %q", flag, out)
		}
	}
	if s := step(t, 0, dir, "old", "status"); strings.Contains(s.out+s.err, "\x1b[") {
		t.Errorf("not at a terminal: %q", s.out)
	}
	quiet, verbose := step(t, 0, dir, "old", "pack"), step(t, 0, dir, "old", "pack", "--verbose")
	if len(verbose.err) <= len(quiet.err) || !strings.Contains(verbose.out, "kept") {
		t.Errorf("verbose: %q, else %q", verbose.err, quiet.err)
	}
}
