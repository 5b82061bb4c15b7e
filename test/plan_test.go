package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestAfternoon moves twelve computers from one table, with two technicians at once on one share: three commands for each move, and
// the passphrase of the sheet.
func TestAfternoon(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const computers = 12
	table := "Old;New;Office;Technician;Users\r\n"
	files := map[string]string{"office/diary.yaml": "card: 1\nname: diary\ntitle: Diary\nversion: {file: /opt/diary/version}\nitems:\n  - {name: data, kind: folder, path: /srv/diary}\n  - {name: settings, kind: folder, path: ~/.diary}\ninstaller: {path: /srv/setup/diary-3.bin}\nopens: {run: [/bin/cat, /srv/diary/a], pattern: '(of) '}\n"}
	for i := range computers {
		old, now := fmt.Sprintf("QUAY-%02d", i+1), fmt.Sprintf("PIER-%02d", i+1)
		table += fmt.Sprintf("%s;%s;Tern Quay;%s;maren=mholm\r\n", old, now, []string{"Anna", "Bert"}[i%2])
		for name, user := range map[string]string{old: "maren", now: "mholm"} {
			files[name+"/computer.yaml"] = "name: " + name + "\nsystem: linux\nhardware-id: h-" + name + "\n"
			files[name+"/etc/passwd"] = user + ":x:1000:1000::/home/" + user + ":/bin/sh\n"
			files[name+"/opt/diary/version"] = "3"
			files[name+"/home/"+user+"/x"], files[name+"/srv/x"] = "", ""
		}
		files[old+"/srv/setup/diary-3.bin"] = "installs version 3"
		files[old+"/srv/diary/a"], files[old+"/home/maren/.diary/s"] = "of "+old, "s"
	}
	files["moves.csv"] = "\ufeff" + table
	lay.Out(t, dir, files)
	must(t, 2, dir, "plan", "moves.csv", "share").tells(t, "--sheet")
	must(t, 2, dir, "plan", "moves.csv", "share", "--sheet", "share/sheet.html").tells(t, "kept apart")
	// The commands of the office's cards are agreed to once.
	if out := atTerminal(t, dir, "y\n", "plan", "moves.csv", "share", "--sheet", "sheet.html", "--cards", "office"); !strings.Contains(out, "/bin/cat /srv/diary/a") || !strings.Contains(out, "Allow them in 12 moves?") {
		t.Errorf("planned: %s", out)
	}
	if s := must(t, 0, dir, "plan", "moves.csv", "share", "--sheet", "again.html"); !strings.Contains(s.out, "0 new kits, 12 planned before") {
		t.Errorf("planned twice: %s", s.out)
	}
	if _, err := os.Stat(filepath.Join(dir, "again.html")); err == nil {
		t.Error("a sheet without passphrases was written")
	}
	if s := must(t, 0, dir, "board", "share"); strings.Count(s.out, "new  QUAY-") != computers || !strings.Contains(s.out, "Tern Quay: QUAY-01 to PIER-01 (Anna)") {
		t.Errorf("the board of what is planned: %s", s.out)
	}
	info, err := os.Stat(filepath.Join(dir, "sheet.html"))
	fatal.If(t, err)
	page, _ := os.ReadFile(filepath.Join(dir, "sheet.html"))
	if info.Mode().Perm() != 0o600 {
		t.Errorf("others can read the passphrases: %v", info.Mode())
	}
	pass := map[string]string{}
	for _, m := range regexp.MustCompile(`(QUAY-\d\d) to (PIER-\d\d)</h2>\s*<p class="pass">([a-z-]+)</p>`).FindAllStringSubmatch(string(page), -1) {
		pass[m[1]], pass[m[2]] = m[3], m[3]
	}
	if len(pass) != 2*computers {
		t.Fatalf("%d passphrases\n%s", len(pass), page)
	}
	// The program is in the folder once, and in no kit.
	once := filepath.Join(dir, "share/movekit")
	commands := 0
	var mu sync.Mutex
	at := func(code int, computer string, args ...string) said {
		cmd := command(t.Context(), dir, append(args, "--root", computer, "--yes")...)
		who := map[bool]string{true: "Anna", false: "Bert"}[computer[len(computer)-1]%2 == 1]
		cmd.Path, cmd.Env = once, append(cmd.Env, "MOVEKIT_PASSPHRASE="+pass[computer], "MOVEKIT_TECHNICIAN="+who)
		s := finish(t, cmd)
		mu.Lock()
		commands++
		mu.Unlock()
		if s.code != code {
			t.Errorf("%s %v: exit %d\n%s%s", computer, args, s.code, s.out, s.err)
		}
		return s
	}
	if s := at(2, "PIER-01", "new", "share/quay-01-to-pier-01"); !strings.Contains(s.err, "planned for QUAY-01") {
		t.Errorf("on the wrong computer: %s", s.err)
	}
	for text, want := range map[string]string{"old,new\nA,B\nA,C\n": "is in line 2 too", "old,to\nA,B\n": "a column", "old\nA\n": "no column", "old,new\nA,\n": "not valid", "old,new,users\nA,B,x\n": "not OLD=NEW", "old,new\n": "has no moves", "old,new\n\"A": "not a table"} {
		lay.Out(t, dir, map[string]string{"bad.csv": text})
		must(t, 2, dir, "plan", "bad.csv", "elsewhere", "--sheet", "s.html").tells(t, want)
	}
	// A run that ended before it removed the plan has created the kit all the same.
	plan, err := os.ReadFile(filepath.Join(dir, "share/quay-02-to-pier-02/planned.yaml"))
	fatal.If(t, err)
	at(0, "QUAY-02", "new", "share/quay-02-to-pier-02")
	fatal.If(t, os.WriteFile(filepath.Join(dir, "share/quay-02-to-pier-02/planned.yaml"), plan, 0o644))
	// The guide proposes it on the old computer.
	if out := atTerminal(t, filepath.Join(dir, "share"), "plan\nCleo\n"+pass["QUAY-01"]+"\nq\n", "--root", "../QUAY-01"); !strings.Contains(out, "create the kit that is planned for QUAY-01") || !strings.Contains(out, "Created the kit") || !strings.Contains(out, "From QUAY-01 to PIER-01") {
		t.Errorf("the guide: %s", out)
	}
	commands = 0
	begun := time.Now()
	var technicians sync.WaitGroup
	for who := range 2 {
		technicians.Go(func() {
			for i := who; i < computers; i += 2 {
				old, now := fmt.Sprintf("QUAY-%02d", i+1), fmt.Sprintf("PIER-%02d", i+1)
				at(0, old, "run", "--plan", "share")
				at(0, now, "run", "--plan", "share", "--user", "maren=mholm")
				at(0, old, "retire", "--kit", "share/"+strings.ToLower(old+"-to-"+now))
			}
		})
	}
	technicians.Wait()
	t.Logf("%d moves, %d commands, %.0f s", computers, commands, time.Since(begun).Seconds())
	for i := range computers {
		old, now := fmt.Sprintf("QUAY-%02d", i+1), fmt.Sprintf("PIER-%02d", i+1)
		if text, _ := os.ReadFile(filepath.Join(dir, now, "srv/diary/a")); string(text) != "of "+old {
			t.Errorf("%s has %q", now, text)
		}
		if _, err := os.Stat(filepath.Join(dir, now, "home/mholm/.diary/s")); err != nil {
			t.Error(err)
		}
	}
	for _, what := range []string{"movekit", "installers/diary/diary-3.bin"} { // one copy of the guide, whose program is elsewhere
		if copies, _ := filepath.Glob(filepath.Join(dir, "share/quay-*", what)); len(copies) != 1 {
			t.Errorf("copies of %s: %v", what, copies)
		}
	}
	if s := must(t, 0, dir, "board", "share"); strings.Count(s.out, "Tern Quay: QUAY-") != computers || !strings.Contains(s.out, "report") || !strings.Contains(s.out, "QUAY-01 to PIER-01 (Cleo, Anna)") || !strings.Contains(s.out, "QUAY-04 to PIER-04 (Bert)") {
		t.Errorf("the board: %s", s.out)
	}
	at(0, "PIER-04", "report", "--kit", "share/quay-04-to-pier-04", "--to", "papers")
	text, _ := os.ReadFile(filepath.Join(dir, "papers/handover.txt"))
	if !strings.Contains(string(text), "Bert on QUAY-04: new, pack, retire") || !strings.Contains(string(text), "Bert on PIER-04: unpack, verify") {
		t.Errorf("who did what: %s", text)
	}
	// The shared installer serves every kit, until somebody changes it.
	installer, _ := filepath.Glob(filepath.Join(dir, "share/installers/*/diary-3.bin"))
	fatal.If(t, os.Remove(filepath.Join(dir, "PIER-03/opt/diary/version")))
	ready := func() string {
		cmd := command(t.Context(), dir, "ready", "--kit", "share/quay-03-to-pier-03", "--root", "PIER-03")
		cmd.Env = append(cmd.Env, "MOVEKIT_PASSPHRASE="+pass["QUAY-03"])
		s := finish(t, cmd)
		return strings.Join(strings.Fields(s.out+s.err), " ")
	}
	if out := ready(); len(installer) != 1 || !strings.Contains(out, "Run share/installers/"+filepath.Base(filepath.Dir(installer[0]))+"/diary-3.bin") {
		t.Errorf("ready: %s", out)
	}
	at(0, "QUAY-03", "inspect", "--kit", "share/quay-03-to-pier-03")
	fatal.If(t, os.WriteFile(installer[0], []byte("something else"), 0o644))
	if out := ready(); !strings.Contains(out, "do not run it") {
		t.Errorf("ready: %s", out)
	}
	if s := at(0, "QUAY-03", "inspect", "--kit", "share/quay-03-to-pier-03"); !strings.Contains(s.out, "diary-3.bin was changed; do not run this installer") {
		t.Errorf("inspect: %s", s.out)
	}
}

// TestPlanChanged changes a plan and a card after they were planned: the kit is not created from the plan, and the commands of the
// other card are not agreed to.
func TestPlanChanged(t *testing.T) {
	t.Parallel()
	dir := office(t)
	const card = "card: 1\nname: diary\ntitle: Diary\nitems:\n  - {name: data, kind: folder, path: /srv/diary}\nopens: {run: [/bin/true], pattern: '(x)'}\n"
	lay.Out(t, dir, map[string]string{"moves.csv": "old,new,users\nOLD,NEW,a=b\n", "cards/diary.yaml": card})
	must(t, 0, dir, "plan", "moves.csv", "share", "--sheet", "sheet.html", "--run-commands")
	page, _ := os.ReadFile(filepath.Join(dir, "sheet.html"))
	found := regexp.MustCompile(`class="pass">([a-z-]+)<`).FindSubmatch(page)
	if found == nil {
		t.Fatalf("no passphrase in %s", page)
	}
	at := func(code int, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), filepath.Join(dir, "share"), append(args, "--root", "../old")...)
		cmd.Env = append(cmd.Env, "MOVEKIT_PASSPHRASE="+string(found[1]))
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d, want %d\n%s%s", args, s.code, code, s.out, s.err)
		}
		return s
	}
	name := filepath.Join(dir, "share/old-to-new/planned.yaml")
	plan, err := os.ReadFile(name)
	fatal.If(t, err)
	fatal.If(t, os.WriteFile(name, []byte(strings.Replace(string(plan), "a: b", "a: c", 1)), 0o644))
	at(1, "new", "old-to-new").tells(t, "was changed without its passphrase")
	fatal.If(t, os.WriteFile(name, plan, 0o644))
	for _, changed := range []bool{true, false} {
		text := card
		if changed {
			text = strings.Replace(card, "/bin/true", "/bin/false", 1)
		}
		lay.Out(t, dir, map[string]string{"share/cards/diary.yaml": text})
		at(0, "new", "old-to-new")
		journal, _ := os.ReadFile(filepath.Join(dir, "share/old-to-new/journal.jsonl"))
		if strings.Contains(string(journal), `"agreed"`) == changed {
			t.Errorf("changed %v: %s", changed, journal)
		}
		if changed { // begin again
			fatal.If(t, os.RemoveAll(filepath.Join(dir, "share/old-to-new")))
			fatal.If(t, os.RemoveAll(filepath.Join(dir, "share/cards")))
			must(t, 0, dir, "plan", "moves.csv", "share", "--sheet", "sheet-2.html", "--run-commands")
			page, _ := os.ReadFile(filepath.Join(dir, "sheet-2.html"))
			found = regexp.MustCompile(`class="pass">([a-z-]+)<`).FindSubmatch(page)
		}
	}
}
