package test

import (
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestBoardPageAndStore writes the board as a page, and stores it in a database.
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
	s := must(t, 0, dir, "board", ".", "--html", "board.html", "--store", store)
	page, err := os.ReadFile(filepath.Join(dir, "board.html"))
	if fatal.If(t, err); !strings.Contains(string(page), "Tern Quay") || !strings.Contains(s.out, "stored: 1 move") || !strings.Contains(s.out, "wrote board.html") {
		t.Errorf("%s\n%.300s", s.out, page)
	}
	if s := must(t, 0, dir, "board", "--from", store); !strings.Contains(s.out, "Tern Quay") {
		t.Errorf("from the database: %s", s.out)
	}
	// One line for each move, and the apps of one on request.
	step(t, 0, dir, "old", "pack", "diary")
	s = must(t, 0, dir, "board", ".")
	if line := strings.Join(strings.Fields(s.out), " "); !strings.Contains(line, "#-.-.. unpack NEW 0 Tern Quay: OLD to NEW kit") || !strings.Contains(line, "steps: pack, deactivate, unpack, activate, verify, retire") {
		t.Errorf("the move's line: %s", s.out)
	}
	if s := must(t, 0, dir, "board", ".", "--move", "old"); !strings.Contains(strings.Join(strings.Fields(s.out), " "), "Hoistbook done") {
		t.Errorf("the move's apps: %s", s.out)
	}
	must(t, 2, dir, "board", ".", "--move", "QUAY-1").tells(t, "there is no move of QUAY-1")
	if !strings.Contains(string(page), `data-sort="due"`) || !strings.Contains(string(page), "due (1)") {
		t.Errorf("the page has no filters: %.2000s", page)
	}
	lay.Out(t, dir, map[string]string{"file": ""})
	must(t, 1, dir, "board", ".", "--html", "file/board.html").tells(t, "cannot write the page")
}

// TestTechnician records who did a step. The flag wins over the environment.
func TestTechnician(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir, "--technician", "Maren Holm")
	step(t, 0, dir, "old", "pack", "--technician", "Tobias Ove")
	journal, err := os.ReadFile(filepath.Join(dir, "kit/journal.jsonl"))
	fatal.If(t, err)
	for _, line := range []string{`"event":"made"`, `"event":"packed"`} {
		by := map[string]string{`"event":"made"`: "Maren Holm", `"event":"packed"`: "Tobias Ove"}[line]
		if !regexp.MustCompile(`(?m)^.*` + line + `.*"by":"` + by + `"|^.*"by":"` + by + `".*` + line).Match(journal) {
			t.Errorf("%s was not by %s:\n%s", line, by, journal)
		}
	}
	if s := must(t, 0, dir, "board", ".", "--move", "old"); !strings.Contains(s.out, "Maren Holm") || !strings.Contains(s.out, "Tobias Ove") {
		t.Errorf("the board: %s", s.out)
	}
}
