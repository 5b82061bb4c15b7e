package test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestWideDays counts changes within a number of days as recent.
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

// TestWideAndDraft finds data that no card covers, drafts cards for it, and then finds none of it
// again.
func TestWideAndDraft(t *testing.T) {
	t.Parallel()
	root := windowsDisk(t)
	dir := t.TempDir()
	before := picture(t, root)
	wide := func(code int, more ...string) (out []string, text string) {
		t.Helper()
		var r struct {
			Findings []struct{ What, Where string }
		}
		fatal.If(t, json.Unmarshal([]byte(must(t, code, dir, append([]string{"survey", "--wide", "--json", "--root", root}, more...)...).out), &r))
		for _, f := range r.Findings {
			out = append(out, f.What+" "+f.Where)
		}
		return out, strings.Join(out, "\n")
	}
	found, text := wide(0)
	for i, want := range []string{`SQLite database C:\ProgramData\Tidewright\bookings.db`, `Firebird database (on-disk structure 12) C:\ProgramData\Pontoon\ledger.fdb`, `desktop database (Jet) C:\ProgramData\Pontoon\moorings.mdb`, `dBase table C:\ProgramData\Pontoon\accounts.dbf`} {
		if i >= len(found) || found[i] != want {
			t.Errorf("%d: want %s in\n%s", i, want, text)
		}
	}
	for _, want := range []string{`private key (PEM) C:\ProgramData\Chartroom\sign.key`, `MariaDB dump C:\ProgramData\Pontoon\night.sql`, `dBase table C:\OldYard\yard.dat`, `C:\Users\maren.TERNQUAY\AppData\Roaming\Slipway\Hoist`, "Pontoon Ledger HKLM", `registry tree of software HKLM\SOFTWARE\Mole Head`, `HKCU\Software\Ebb and Flow Programs`, "drive P:, mapped to a share HKCU", "printer Berth plans HKLM"} {
		if !strings.Contains(text, want) {
			t.Errorf("not found: %s in\n%s", want, text)
		}
	}
	for _, not := range []string{"cache", "System32", "Microsoft Windows"} {
		if strings.Contains(text, not) {
			t.Errorf("wrongly found: %s", not)
		}
	}
	s := must(t, 0, dir, "survey", "--wide", "--root", root)
	for _, fact := range []string{"its lock file exists: the database is open, or was not closed properly", "Not searched: caches", "by Mole Head Software", "service PontoonNight", `as .\pontoon`, "started at sign-in: Tide"} {
		if !strings.Contains(s.out, fact) || strings.Contains(s.out, "System32") {
			t.Errorf("--wide does not say %q, or says too much:\n%s", fact, s.out)
		}
	}
	os.Mkdir(filepath.Join(dir, "cards"), 0o755)
	must(t, 0, dir, "card", "draft", "tidewright", "--root", root, "--to", "cards/tide.yaml", "--from", `%PROGRAMDATA%\Tidewright`, `%APPDATA%\Tidewright`)
	must(t, 0, dir, "card", "draft", "pontoon", "--root", root, "--to", "cards/pontoon.yaml", "--title", "Pontoon Ledger", "--from", filepath.Join(root, "ProgramData/Pontoon"), "--from", `C:\ProgramData\Chartroom`, `C:\OldYard`, `%APPDATA%\Slipway`)
	must(t, 0, dir, "card", "check", "cards/tide.yaml", "cards/pontoon.yaml")
	must(t, 2, dir, "card", "draft", "x", "--root", root, "--to", "cards/tide.yaml", "--from", `C:\OldYard`).tells(t, "already exists")
	must(t, 2, dir, "card", "draft", "X Y", "--root", root, "--from", `C:\OldYard`).tells(t, "is not valid")
	must(t, 2, dir, "card", "draft", "x", "--root", root).tells(t, "--from")
	must(t, 1, dir, "card", "draft", "x", "--root", root, "--from", `C:\Nowhere`).tells(t, "does not exist")
	draft, _ := os.ReadFile(filepath.Join(dir, "cards/tide.yaml"))
	for _, line := range []string{"# It is 8.2.1 here.", "secret: true", `line 1: `, `SELECT count(*) FROM "boat"`, "because the settings use it: drive P:, mapped to a share", "because the settings use it: printer Berth plans"} {
		if !strings.Contains(string(draft), strings.Replace(line, "line 1", "line 2", 1)) {
			t.Errorf("the draft does not say %q:\n%s", line, draft)
		}
	}
	if _, text := wide(0, "--cards", "cards"); strings.Contains(text, "ProgramData") || strings.Contains(text, "DisplayName") || strings.Contains(text, "Pontoon Ledger") {
		t.Errorf("found although a card covers it:\n%s", text)
	}
	if after := picture(t, root); after != before {
		t.Error("the search has changed the disk")
	}
}

// TestWideSeesAServer starts a PostgreSQL server and finds it with its databases.
func TestWideSeesAServer(t *testing.T) {
	t.Parallel()
	bin := "/usr/lib/postgresql/15/bin"
	if _, err := os.Stat(bin); err != nil || os.Geteuid() != 0 {
		if os.Getenv("CI") == "true" && err != nil {
			t.Fatal("PostgreSQL is not installed, and is needed with CI=true")
		}
		t.Skip("PostgreSQL 15 is not installed, or this is not root")
	}
	dir, err := os.MkdirTemp("", "movekit-pg-")
	fatal.If(t, err)
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o777)
	as := func(args string) {
		t.Helper()
		if out, err := exec.Command("su", "postgres", "-c", "cd "+dir+" && "+bin+"/"+args).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", args, err, out)
		}
	}
	as("initdb -D data -A peer -N")
	as(fmt.Sprintf("pg_ctl -D data -w -l log -o '-k %s -c listen_addresses= -c fsync=off -p 5871' start", dir))
	defer as("pg_ctl -D data -m immediate stop")
	as("createdb -h " + dir + " -p 5871 ledger")
	s := must(t, 0, dir, "survey", "--wide", "--json", "--cards", emptyCard(t))
	if !strings.Contains(s.out, `"data folder `+dir+`/data"`) || !regexp.MustCompile(`"database ledger, [\d.]+ MB"`).MatchString(s.out) || !strings.Contains(s.out, `"port 5871"`) {
		t.Errorf("the server is not told with its database:\n%.3000s", s.out)
	}
}
