package move_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/ready"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// did returns the results of a step by item label.
func did(out *run.Outcome) string {
	var all []string
	for _, i := range out.Items {
		all = append(all, strings.TrimSuffix(i.Item+" of "+i.User, " of ")+" "+i.Did)
	}
	return strings.Join(all, ", ")
}

// TestEach moves one item for each year and each profile (only the newest), and each company's
// database.
func TestEach(t *testing.T) {
	t.Parallel()
	cardText := `items:
  - {name: years, kind: folder, path: /srv/diary, each: '20??', newest: 2}
  - {name: profiles, kind: folder, path: ~/.app, each: Profiles/*}
  - {name: company, kind: sqlite, path: /srv/books, each: '*.db'}
`
	files := map[string]string{"new/home/mholm/x": "", "old/srv/diary/notes/x": "", "old/srv/diary/2019/a": "1", "old/srv/diary/2024/a": "2", "old/srv/diary/2025/a": "3", "old/srv/diary/2023.txt": "", "old/home/maren/.app/Profiles/Ab.default/p": "4", "old/home/maren/.app/Profiles/x.work/p": "5", "old/home/bert/.app/Profiles/x.work/p": "6", "new/home/bert/x": ""}
	o := office.New(t, cardText, "linux", files)
	for name, sqls := range map[string]string{"one": "1", "two": "2"} {
		lay.Database(t, filepath.Join(o.Dir, "old/srv/books/"+name+".db"), "CREATE TABLE t (x)", "INSERT INTO t VALUES ("+sqls+")")
	}
	os.WriteFile(filepath.Join(o.Dir, "old/srv/books/one.db-wal"), nil, 0o600)
	for year, ago := range map[string]int{"2019": 1, "2024": 900, "2025": 30} { // somebody worked in an old one last
		at := time.Now().AddDate(0, 0, -ago)
		os.Chtimes(filepath.Join(o.Dir, "old/srv/diary", year, "a"), at, at)
	}
	out := o.Pack()
	if got, want := did(out), "years@2019 sealed, years@2025 sealed, profiles@Profiles/x.work of bert sealed, profiles@Profiles/Ab.default of maren sealed, profiles@Profiles/x.work of maren sealed, company@one.db sealed, company@two.db sealed"; got != want {
		t.Fatalf("packed %s (%v)\nwant %s", got, out.Blocks, want)
	}
	if left := fmt.Sprint(out.Items[0].LeftOut); !strings.Contains(left, "1 other modified earlier: 2024") {
		t.Errorf("left out: %s", left)
	}
	unpack := func(items ...string) *run.Outcome {
		t.Helper()
		j := o.Job(o.New)
		j.Items, j.Choices.Users = items, map[string]string{"maren": "mholm"}
		j.Choices.Places = map[string]string{"app/years": "/data/years"}
		return o.Only(j.Unpack(ctx))
	}
	if got := did(unpack("app/years@2019", "app/profiles@Profiles/x.work@maren")); got != "years@2019 placed, profiles@Profiles/x.work of maren placed" {
		t.Errorf("chosen: %s", got)
	}
	unpack()
	for name, want := range map[string]string{"data/years/2019/a": "1", "data/years/2025/a": "3", "data/years/2024/a": "", "home/mholm/.app/Profiles/Ab.default/p": "4", "home/bert/.app/Profiles/x.work/p": "6"} {
		if got := o.Text("new/" + name); got != want {
			t.Errorf("%s holds %q, want %q", name, got, want)
		}
	}
	if v := o.Verify(); !v.Equal() || len(v.Items) != 7 {
		t.Errorf("%d items: %+v", len(v.Items), v.Items)
	}
	os.RemoveAll(filepath.Join(o.Dir, "new/data/years/2019"))
	if v := o.Verify(); v.Equal() {
		t.Error("one of them is gone, and verify says equal")
	}
	// Items that were added and removed on the old computer since.
	lay.Out(t, o.Dir, map[string]string{"old/srv/diary/2026/a": "new"})
	os.RemoveAll(filepath.Join(o.Dir, "old/home/maren/.app/Profiles/x.work"))
	j := o.Job(o.Old)
	l := &survey.Scanner{Host: j.Host, Run: j.Run, Kinds: j.Kinds, Since: survey.Quick}
	now, err := l.Now(ctx, j.Cards[0])
	fatal.If(t, err)
	survey.Close(now.Places)
	if got := strings.Join(now.Facts.Drift.OldChanged, "; "); !strings.Contains(got, "years@2026 changed (it is new") || !strings.Contains(got, "profiles@Profiles/x.work of maren no longer exists") || strings.Contains(got, "years@2019") {
		t.Errorf("since the pack: %s", got)
	}
	if out := o.Only(o.Job(o.Old).Pack(ctx)); !strings.Contains(did(out), "years@2026 sealed") || !strings.Contains(did(out), "profiles@Profiles/x.work of maren gone") {
		t.Errorf("packed again: %s", did(out))
	}
}

// TestEachFindsNothing uses patterns that match nothing, or too much.
func TestEachFindsNothing(t *testing.T) {
	t.Parallel()
	for pattern, want := range map[string]string{"20??": "nothing there matches 20??", "**": ""} {
		o := office.New(t, "items: [{name: years, kind: folder, path: /srv/diary, each: '"+pattern+"'}]\n", "linux", map[string]string{"old/srv/diary/x/y/z/file": ""})
		out := o.Only(o.Job(o.Old).Pack(ctx))
		if want == "" {
			if got := did(out); got != "years@x sealed" {
				t.Errorf("%s: %s", pattern, got)
			}
		} else if len(out.Blocks) != 1 || !strings.Contains(out.Blocks[0].Why, want) {
			t.Errorf("%s: %+v", pattern, out.Blocks)
		}
	}
}

// TestPathFromSettings moves data whose path comes from the app's settings on each computer.
func TestPathFromSettings(t *testing.T) {
	t.Parallel()
	cardText := `version: {file: /opt/version}
items:
  - {name: store, kind: folder, path: {from: {file: ~/.app.ini, key: Data/Path}}}
  - {name: settings, kind: file, path: ~/.app.ini, update-paths: ['*']}
  - {name: plugins, kind: folder, path: '/opt/app-{major}.{minor}/plugins'}
`
	files := map[string]string{"old/opt/version": "7.2.1", "new/opt/version": "8", "old/opt/app-7.2/plugins/p": "P", "old/home/maren/.app.ini": "[Data]\nPath=\"/home/maren/boats\"\n", "old/home/maren/boats/list": "Tern", "new/home/mholm/x": ""}
	newer := map[string]string{"version": "8 is newer"}
	for _, c := range []struct{ own, want string }{
		{"", "/home/mholm/boats"}, // translated
		{"[Data]\nPath=file:///data/our%20boats\n", "/data/our boats"},
	} {
		o := office.New(t, cardText, "linux", files)
		if c.own != "" {
			lay.Out(t, o.Dir, map[string]string{"new/home/mholm/.app.ini": c.own})
		}
		out := o.Pack()
		if got := did(out); got != "store of maren sealed, settings of maren sealed, plugins sealed" {
			t.Fatalf("%s %v", got, out.Blocks)
		}
		j := o.Job(o.New)
		j.Technician, j.Choices.Users, j.Overrides = &office.Looker{Says: true}, map[string]string{"maren": "mholm"}, map[string]string{"version-rule": newer["version"]}
		out = o.Only(j.Unpack(ctx))
		if c.own == "" { // the path is only in the kit, so the user must confirm it
			if why := out.Blocks[0].Why; office.Blocked(out) != "destination-ready" || !strings.Contains(why, "according to the kit it is "+c.want) || o.Text("new"+c.want+"/list") != "" {
				t.Errorf("not confirmed: %+v", out.Blocks)
			}
			r, err := j.Ready(ctx)
			if i := slices.IndexFunc(r.Checks, func(c ready.Check) bool { return c.Need == ready.NeedConfirm }); err != nil || i < 0 || r.Checks[i].With != c.want {
				t.Fatalf("%v %+v", err, r.Checks)
			} else {
				j.Choices.Places = map[string]string{r.Checks[i].Of: r.Checks[i].With}
			}
			out = o.Only(j.Unpack(ctx))
		}
		if office.Blocked(out) != "" || o.Text("new"+c.want+"/list") != "Tern" || o.Text("new/opt/app-8.0/plugins/p") != "P" {
			t.Errorf("own setting %q: %v %+v", c.own, out.Blocks, out.Items)
		}
		if got := o.Text("new/home/mholm/.app.ini"); got != "[Data]\nPath=\""+c.want+"\"\n" {
			t.Errorf("the settings say %q", got)
		}
		if v := o.Verify(); !v.Equal() {
			t.Errorf("%+v", v.Items)
		}
	}
	// A setting that is missing, empty, or not a full path.
	for ini, want := range map[string]string{"": "not here", "[Data]\nPath=boats\n": "not a full path", "[Data]\nPath=/gone\n": "store of maren"} {
		o := office.New(t, cardText, "linux", files)
		os.Remove(filepath.Join(o.Dir, "old/home/maren/.app.ini"))
		if ini != "" {
			lay.Out(t, o.Dir, map[string]string{"old/home/maren/.app.ini": ini})
		}
		out := o.Only(o.Job(o.Old).Pack(ctx))
		if i := slices.IndexFunc(out.Blocks, func(b steps.Block) bool { return b.Gate == "items-present" }); i < 0 || !strings.Contains(out.Blocks[i].Why, strings.TrimSuffix(want, " of maren")) {
			t.Errorf("%q: %+v", ini, out.Blocks)
		}
	}
}

// TestOtherDrives moves data from the second drive of a pulled disk to a computer without one.
func TestOtherDrives(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: data, kind: folder, path: 'D:\\Harbour'}\n  - {name: settings, kind: file, path: 'C:\\ProgramData\\app.ini', update-paths: ['*']}\n", machine.Windows, map[string]string{
		"old/ProgramData/app.ini": "data=D:\\Harbour\\boats\r\nold=d:/Else\r\n", "second/Harbour/boats": "Tern", "new/ProgramData/x": "",
	})
	lay.Out(t, o.Dir, map[string]string{"old/computer.yaml": lay.Ident("windows", "OLD", "1")})
	o.Old = office.Open(t, filepath.Join(o.Dir, "old"))
	if out := o.Pack(); office.Blocked(out) != "items-present" || !strings.Contains(out.Blocks[0].Why, "drive") {
		t.Fatalf("without the drive: %+v", out.Blocks)
	}
	_, err := o.Old.SetDrive("D", filepath.Join(o.Dir, "second"))
	fatal.If(t, err)
	o.Pack()
	j := o.Job(o.New)
	if out := o.Only(j.Unpack(ctx)); office.Blocked(out) != "destination-ready" || !strings.Contains(out.Blocks[0].Why, "drive") {
		t.Errorf("a drive that has no user here: %+v", out.Blocks)
	}
	forced := o.Job(o.New)
	forced.Overrides = map[string]string{"destination-ready": "in spite of it"}
	if out, _ := forced.Unpack(ctx); fault.KindOf(out[0].Err) != fault.Missing {
		t.Errorf("a drive that has no user here, in spite of the gate: %v", out[0].Err)
	}
	j = o.Job(o.New)
	j.Technician, j.Choices.Drives = &office.Looker{Says: true}, map[string]string{"D": `C:\Daten\D`}
	fatal.If(t, j.Redirect())
	o.Only(j.Unpack(ctx))
	if got := o.Text("new/ProgramData/app.ini"); o.Text("new/Daten/D/Harbour/boats") != "Tern" || got != "data=C:\\Daten\\D\\Harbour\\boats\r\nold=C:/Daten/D/Else\r\n" {
		t.Errorf("the settings say %q", got)
	}
	// The choice is remembered: another run does not ask.
	o.New = office.Open(t, filepath.Join(o.Dir, "new"))
	j = o.Job(o.New)
	fatal.If(t, j.Redirect())
	if v := o.Only(j.Verify(ctx)); !v.Equal() {
		t.Errorf("%+v", v.Items)
	}
}

// TestTodos ticks off exports by number once they are in place, with their names in the app, and
// compares their records.
func TestTodos(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items:
  - {name: book, kind: sqlite, path: /srv/book.db}
  - {name: pages, kind: exports, path: /srv/pages, include: ['*.pg'], exports: {item: book, query: SELECT count(*) FROM page, count: 'SELECT count(*) FROM entry WHERE page = {name}', import: in the app}}
`, "linux", map[string]string{"old/srv/pages/a.pg": "a", "old/srv/pages/b.pg": "b", "old/srv/pages/notes": "n", "new/srv/x": ""})
	lay.Database(t, o.Dir+"/old/srv/book.db", "CREATE TABLE page (n)", "CREATE TABLE entry (page)", "INSERT INTO page VALUES (1), (2), (3)", "INSERT INTO entry VALUES ('a'), ('a'), ('b')")
	agreed := func(j *move.Move) *move.Move { j.Commands = true; return j }
	if got := office.Blocked(o.Only(agreed(o.Job(o.Old)).Pack(ctx))); got != "exports-present" {
		t.Fatalf("with one missing it is stopped by %q", got)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/pages/c.pg": "c"})
	part := agreed(o.Job(o.Old))
	part.Items = []string{"app/pages"}
	if out := o.Only(part.Pack(ctx)); out.Err != nil || len(out.Items) != 2 {
		t.Errorf("a part: %+v %v", out.Items, out.Err)
	}
	o.Only(agreed(o.Job(o.Old)).Pack(ctx))
	tick := func(c machine.Computer, says string, numbers map[int]string) {
		t.Helper()
		all, err := o.Job(c).Tick(numbers)
		if says != "" && (fault.KindOf(err) != fault.Usage || !strings.Contains(err.Error(), says)) || says == "" && err != nil {
			t.Errorf("ticking %v: %v", numbers, err)
		}
		for n, as := range numbers {
			if err == nil && (!all[n-1].Done || as != "" && all[n-1].As != as) {
				t.Errorf("ticked %v: %+v", numbers, all)
			}
		}
	}
	tick(o.Old, "old computer OLD itself", map[int]string{1: ""})
	tick(o.New, "pages is not unpacked yet", map[int]string{1: ""})
	o.Unpack()
	tick(o.New, "no task with the number 4", map[int]string{4: ""})
	verify := func(want ...string) {
		t.Helper()
		for _, selected := range [][]string{nil, {"app/pages"}} { // its records are in the book, so that is compared too
			j := agreed(o.Job(o.New))
			j.Items = selected
			out := o.Only(j.Verify(ctx))
			if len(out.Items) != 2 || !slices.Equal(out.Items[1].Diffs, want) || out.Items[1].Equal != (len(want) == 0) {
				t.Errorf("verify %q: %+v, want %q", selected, out.Items, want)
			}
		}
	}
	verify("3 exports still to be imported by hand")
	tick(o.New, "", map[int]string{1: "", 2: "B2"})
	verify("1 export still to be imported by hand", "b.pg was imported as B2: 1 record then, 0 now")
	tick(o.New, "", map[int]string{2: "b", 3: "c"})
	verify()
	before := len(o.Kit.Lines())
	tick(o.New, "", map[int]string{1: "", 2: "b", 3: ""})
	todos, err := o.Job(o.New).Todos()
	if want := (move.Todo{Number: 2, App: "app", Title: "The App", Item: "pages", File: "b.pg", Do: "in the app", Done: true, As: "b"}); err != nil || len(todos) != 3 || todos[1] != want || len(o.Kit.Lines()) != before {
		t.Errorf("%+v %v, %d lines more", todos, err, len(o.Kit.Lines())-before)
	}
}

// TestOldPlaces finds paths of the old computer in files that the card does not name.
func TestOldPlaces(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: books, kind: folder, path: ~/books, update-paths: ['2025.journal']}]\n", "linux", map[string]string{
		"old/home/maren/books/2025.journal": "include /home/maren/books/accounts\n", "old/home/maren/books/2026.journal": "include /home/maren/books/accounts\n", "old/home/maren/books/accounts": "a", "old/home/maren/books/notes": "/home/marenka and /home/maren.old", "new/home/maren.holm/x": "",
	})
	o.Pack()
	j := o.Job(o.New)
	j.Choices.Users, j.Technician = map[string]string{"maren": "maren.holm"}, &yes{&office.Person{}}
	fatal.If(t, j.Redirect())
	o.Only(j.Unpack(ctx))
	j = o.Job(o.New)
	v := o.Only(j.Verify(ctx))
	if want := []string{"paths of OLD are still in 1 file of books of maren: 2026.journal"}; !v.Equal() || !slices.Equal(v.Items[0].Notes, want) {
		t.Errorf("%+v, %q", v.Items, v.Items[0].Notes)
	}
	if got := o.Job(o.New).State.Items[steps.Key{App: "app", Item: "books", User: "maren"}].Checked.Notes; len(got) != 1 {
		t.Errorf("%q", got)
	}
}

// yes agrees to path updates.
type yes struct{ *office.Person }

func (yes) Change(string, steps.Key, []pathmap.Line) (bool, error) { return true, nil }
