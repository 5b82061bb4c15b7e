package move_test

import (
	"archive/tar"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

var ctx = context.Background()

func TestUsersWithOtherNames(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: settings, kind: folder, path: ~/.app}]\n", "linux", map[string]string{
		"old/home/anna/.app/x": "anna's", "old/home/bert/.app/x": "bert's", "old/home/cora/y": "", "new/home/anna/z": "", "new/home/robert/z": "",
	})
	if got := len(o.Pack().Items); got != 2 {
		t.Fatalf("%d items were packed, want those of two users", got)
	}
	if out := o.Unpack(); office.Blocked(out) != "users-known" || !strings.Contains(out.Blocks[0].Why, "bert") {
		t.Errorf("%v", out.Blocks)
	}
	j := o.Job(o.New)
	j.Choices.Users = map[string]string{"bert": "anna"}
	if out := o.Only(j.Unpack(ctx)); office.Blocked(out) != "destination-ready" || !strings.Contains(out.Blocks[0].Why, "would both go to") {
		t.Errorf("two users into one: %+v", out.Blocks)
	}
	j.Choices.Users = map[string]string{"bert": "robert"}
	o.Only(j.Unpack(ctx))
	if o.Text("new/home/anna/.app/x") != "anna's" || o.Text("new/home/robert/.app/x") != "bert's" {
		t.Error("the users' settings are not in their places")
	}
	if out := o.Verify(); !out.Equal() {
		t.Errorf("verify without being told of the users again: %+v", out.Items)
	}
}

func TestPackPreconditions(t *testing.T) {
	t.Parallel()
	cardText := `programs: [app]
items:
  - {name: data, kind: folder, path: /srv/data, needs: [key]}
  - {name: key, kind: file, path: /etc/app.key, optional: true}
  - {name: more, kind: file, path: /etc/more, optional: true}
`
	o := office.New(t, cardText, "windows", map[string]string{"old/srv/data/aux.txt": "", "old/srv/data/Read.me": "", "old/srv/data/READ.ME": "", "old/srv/data/fine": ""})
	out := o.Pack()
	if office.Blocked(out) != "dependencies-present names-fit" {
		t.Fatalf("%v", out.Blocks)
	}
	why := out.Blocks[1].Why
	if !strings.Contains(why, "aux.txt (AUX is a device name") || !strings.Contains(why, "letter case") || strings.Contains(why, "fine") {
		t.Errorf("names: %s", why)
	}
	j := o.Job(o.Old)
	j.Overrides = map[string]string{"dependencies-present": "the key is in the safe", "names-fit": "they are not used"}
	if out := o.Only(j.Pack(ctx)); len(out.Items) != 1 || len(out.Overrode) != 2 {
		t.Errorf("%+v", out)
	}
	if s := o.Job(o.Old).State; len(s.Overrides) != 2 || s.Overrides[0].Because != "the key is in the safe" {
		t.Errorf("kept: %+v", s.Overrides)
	}
	// A kit cannot contain itself.
	lay.Out(t, o.Dir, map[string]string{"outer.yaml": "card: 1\nname: app\ntitle: A\nitems: [{name: all, kind: folder, path: /}]\n"})
	c, _ := card.Read(filepath.Join(o.Dir, "outer.yaml"))
	k, err := kit.Create(filepath.Join(o.Dir, "old", "stick", "kit"), kit.New{Cards: []*card.Card{c}, Passphrase: "agency-balcony-cabana-dagger-eagle-fable", Old: kit.Computer{ID: machine.ID(o.Old)}})
	fatal.If(t, err)
	defer k.Close()
	inside := move.New(o.Run(k, o.Old))
	if got, _ := inside.Pack(ctx); fault.KindOf(got[0].Err) != fault.Usage {
		t.Errorf("a kit in what it packs: %v", got[0].Err)
	}
}

func TestPartOfAFolderLeavesTheRestAlone(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: records, kind: folder, path: /srv/data, include: ['**/*.rec'], counts: [{name: records, files: '**/*.rec', expect: 2}]}]\n", "linux",
		map[string]string{"old/srv/data/a.rec": "A", "old/srv/data/sub/b.rec": "B", "old/srv/data/c.tmp": "C",
			"new/srv/data/a.rec": "mine", "new/srv/data/own.txt": "own", "new/srv/data/sub/b.rec": "B"})
	o.Pack()
	if out := o.Unpack(); o.Text("new/srv/data/own.txt") != "own" || o.Text("new/srv/data/c.tmp") != "" || out.Items[0].Aside == "" || !o.Verify().Equal() {
		t.Errorf("more or less than the records was placed: %+v", out.Items[0])
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/data/d.rec": "D"})
	again := o.Job(o.Old)
	again.Overrides = map[string]string{"counts-expected": "one came in today"}
	o.Only(again.Pack(ctx))
	o.Unpack()
	v := o.Verify()
	if v.Equal() || len(v.Items[0].Diffs) != 1 || !strings.Contains(v.Items[0].Diffs[0], "the card expects 2") {
		t.Errorf("three records where two are expected: %+v", v.Items[0])
	}
}

// TestKeepBoth merges an unpacked folder with existing data, and undoes it, with every run
// interrupted again and again.
func TestKeepBoth(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a.txt": "old", "old/srv/diary/deep/b": "same", "new/srv/diary/a.txt": "mine", "new/srv/diary/deep/b": "same", "new/srv/diary/own": "own"})
	o.Pack()
	first := office.Files(t, o.Dir+"/new")
	out := office.WhateverCutBy(o, o.New, func(j *move.Move) { j.Policies = map[string]tree.Policy{"": tree.KeepBoth} }, (*move.Move).Unpack)
	if got, want := office.Files(t, o.Dir+"/new/srv"), []string{"diary(aside)/a.txt", "diary(aside)/deep/b", "diary(aside)/own", "diary/a (2).txt", "diary/a.txt", "diary/deep/b", "diary/own"}; !slices.Equal(got, want) || o.Text("new/srv/diary/a.txt") != "old" || o.Text("new/srv/diary/a (2).txt") != "mine" {
		t.Errorf("%q: %+v", got, out.Items)
	}
	if out := o.Verify(); !out.Equal() {
		t.Errorf("%+v", out.Items)
	}
	office.WhateverCut(o, o.New, (*move.Move).Undo)
	if got := office.Files(t, o.Dir+"/new"); !slices.Equal(got, first) || o.Text("new/srv/diary/a.txt") != "mine" {
		t.Errorf("after undo %q, before %q", got, first)
	}
}

func TestSingleFile(t *testing.T) {
	t.Parallel()
	for policy, want := range map[tree.Policy][2]string{
		tree.SetAside: {"old", "mine"}, tree.KeepBoth: {"mine", "old"}, tree.Skip: {"mine", ""}, tree.Replace: {"old", ""},
	} {
		o := office.New(t, "items: [{name: key, kind: file, path: {linux: /etc/app.key}}]\n", "linux", map[string]string{"old/etc/app.key": "old", "new/etc/app.key": "mine"})
		o.Pack()
		j := o.Job(o.New)
		j.Policies = map[string]tree.Policy{"": policy}
		out := o.Only(j.Unpack(ctx))
		if got := o.Text("new/etc/app.key"); got != want[0] {
			t.Errorf("%s: the file is %q", policy, got)
		}
		other := out.Items[0].Aside
		if policy == tree.KeepBoth {
			other = out.Items[0].To
		}
		if other != "" && o.Text("new/etc/"+filepath.Base(other)) != want[1] || (other == "") != (want[1] == "") {
			t.Errorf("%s: beside it %q is %q", policy, other, o.Text("new/etc/"+filepath.Base(other)))
		}
		v := o.Verify()
		if got := v.Items[0]; !v.Equal() || got.Equal == (policy == tree.Skip) || got.Skipped != (policy == tree.Skip) || (out.Items[0].Did == "skipped") != (policy == tree.Skip) || o.Job(o.New).State.Proven(o.Kit.Cards[0]) == (policy == tree.Skip) {
			t.Errorf("%s: %+v", policy, got)
		}
	}
}

func TestExistingDatabase(t *testing.T) {
	t.Parallel()
	for policy, want := range map[tree.Policy]int{tree.SetAside: 2, tree.KeepBoth: 1, tree.Skip: 1, tree.Replace: 2} {
		o := office.New(t, "items: [{name: data, kind: sqlite, path: /srv/b.db, counts: [{name: boats, query: SELECT count(*) FROM boat}]}]\n", "linux", nil)
		lay.Database(t, filepath.Join(o.Dir, "old/srv/b.db"), "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1), (2)")
		there := filepath.Join(o.Dir, "new/srv/b.db")
		lay.Database(t, there, "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (7)")
		lay.Out(t, o.Dir, map[string]string{"new/srv/b.db-journal": "an old journal that must not be beside another database"})
		os.Chmod(filepath.Join(o.Dir, "old/srv/b.db"), 0o640)
		o.Pack()
		j := o.Job(o.New)
		j.Policies = map[string]tree.Policy{"": policy}
		out := o.Only(j.Unpack(ctx))
		if _, err := os.Stat(there + "-journal"); (err == nil) != (policy == tree.KeepBoth || policy == tree.Skip) {
			t.Errorf("%s: the old journal: %v", policy, err)
		}
		os.Remove(there + "-journal")
		db, _ := sql.Open("sqlite", there)
		var n int
		if err := db.QueryRow("SELECT count(*) FROM boat").Scan(&n); err != nil || n != want {
			t.Errorf("%s: %d boats, want %d (%v)", policy, n, want, err)
		}
		db.Close()
		if aside := out.Items[0].Aside; policy == tree.SetAside && o.Text("new/srv/"+filepath.Base(aside)+"-journal") == "" {
			t.Errorf("%s: the old journal is not at %s", policy, aside)
		}
		v := o.Verify()
		if got := v.Items[0]; !v.Equal() || got.Equal == (policy == tree.Skip) || got.Skipped != (policy == tree.Skip) || o.Job(o.New).State.Proven(o.Kit.Cards[0]) == (policy == tree.Skip) {
			t.Errorf("%s: %+v", policy, got)
		}
		if info, err := os.Stat(out.Items[0].To); policy == tree.SetAside && (err != nil || info.Mode().Perm() != 0o640) {
			t.Errorf("%s: permissions %v %v", policy, info.Mode(), err)
		}
		if _, err := os.Stat(filepath.Join(o.Dir, "temp")); err == nil {
			t.Errorf("%s: the private folder is still there", policy)
		}
	}
}

func TestVerifyNamesWhatDiffersInADatabase(t *testing.T) {
	t.Parallel()
	for change, want := range map[string]string{
		"INSERT INTO boat VALUES (3)":                           "table boat: had 2 rows, has 3;   rowid 3: the row is new",
		"DELETE FROM boat WHERE n = 2":                          "table boat: had 2 rows, has 1;   rowid 2: the row is missing",
		"UPDATE boat SET n = 9 WHERE n = 1":                     "table boat: has the same number of rows, but different ones;   rowid 1: n was 1, is 9",
		"UPDATE owner SET name = 'B', phone = '2' WHERE id = 1": `table owner: has the same number of rows, but different ones;   id 1: name was "A", is "B"; phone was •••, is •••`,
		"DROP TABLE pier":                                       "table pier: the table is missing",
		"CREATE INDEX i ON boat(n)":                             "index i: was not in the sealed data",
		"PRAGMA user_version = 4":                               "user_version was 0, is 4",
		"CREATE TABLE more (n)":                                 "table more: the table was not in the sealed data",
		"garbage":                                               "is not a SQLite database",
		"remove":                                                "the database is missing",
	} {
		o := office.New(t, "items: [{name: data, kind: sqlite, path: /srv/b.db, mask: [owner.phone]}]\n", "linux", map[string]string{"new/srv/.keep": ""})
		lay.Database(t, filepath.Join(o.Dir, "old/srv/b.db"), "CREATE TABLE owner (id INTEGER PRIMARY KEY, name TEXT, phone TEXT)", "INSERT INTO owner VALUES (1, 'A', '1')", "CREATE TABLE boat (n)", "CREATE TABLE pier (n)", "INSERT INTO boat VALUES (1), (2)")
		o.Pack()
		o.Unpack()
		name := filepath.Join(o.Dir, "new/srv/b.db")
		switch change {
		case "garbage":
			os.WriteFile(name, []byte(strings.Repeat("x", 4096)), 0o600)
		case "remove":
			os.Remove(name)
		default:
			lay.Database(t, name, change)
		}
		v := o.Verify()
		if v.Equal() || !strings.Contains(strings.Join(v.Items[0].Diffs, "; "), want) {
			t.Errorf("%s: %v", change, v.Items[0].Diffs)
		}
	}
}

func TestDamagedDatabaseIsNotPacked(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: data, kind: sqlite, path: /srv/b.db}]\n", "linux", map[string]string{"old/srv/b.db": strings.Repeat("not a database ", 300)})
	out, err := o.Job(o.Old).Pack(ctx)
	if err != nil || fault.KindOf(out[0].Err) != fault.BadDatabase {
		t.Errorf("%v %v", err, out[0].Err)
	}
	if s := o.Job(o.Old).State; s.Packed["app"] != nil || len(s.Items) != 0 {
		t.Error("the damaged database counts as packed")
	}
	if out := o.Only(o.Job(o.Old).Deactivate(ctx)); office.Blocked(out) != "sealed" {
		t.Errorf("deactivate: %v", out.Blocks)
	}
}

func TestCancelled(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: data, kind: folder, path: /srv/data}]\n", "linux", map[string]string{"old/srv/data/x": strings.Repeat("x", 3<<20), "new/srv/.keep": ""})
	stopping := func(c machine.Computer, do func(*move.Move, context.Context) ([]*run.Outcome, error)) {
		t.Helper()
		ctx, cancel := context.WithCancel(ctx)
		j := o.Job(c)
		j.Notify = func(e run.Event) {
			if e.What == "sealing" || e.What == "unpacking" {
				cancel()
			}
		}
		out, err := do(j, ctx)
		if err == nil {
			err = out[0].Err
		}
		if fault.KindOf(err) != fault.Stopped {
			t.Errorf("stopped: %v", err)
		}
		var known *fault.Error
		if !errors.As(err, &known) {
			t.Errorf("%v has no kind", err)
		}
	}
	stopping(o.Old, (*move.Move).Pack)
	o.Pack()
	stopping(o.New, (*move.Move).Unpack)
	if left, _ := filepath.Glob(filepath.Join(o.Dir, "new/srv/data*")); len(left) > 0 {
		t.Errorf("left after the stop: %v", left)
	}
	o.Unpack()
	if !o.Verify().Equal() {
		t.Error("differs after the stops")
	}
}

func TestStateShowsProgress(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: data, kind: folder, path: /srv/data}]\n", "linux", map[string]string{"old/srv/data/x": "1", "new/srv/.keep": ""})
	expect := func(want string) {
		t.Helper()
		s, got := o.Job(o.Old).State, []string{}
		for _, step := range []steps.Step{steps.Pack, steps.Deactivate, steps.Unpack, steps.Activate, steps.Verify} {
			got = append(got, string(s.Progress(o.Kit.Cards[0], step)))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("progress %v, want %s", got, want)
		}
	}
	expect("- none - none -")
	o.Pack()
	expect("done none - none -")
	o.Unpack()
	expect("done none done none -")
	o.Verify()
	expect("done none done none done")
	lay.Out(t, o.Dir, map[string]string{"new/srv/data/x": "2"})
	o.Verify()
	expect("done none done none differs")
	lay.Out(t, o.Dir, map[string]string{"old/srv/data/x": "3"})
	o.Pack() // what was placed and checked was another content
	expect("done none - none -")
}

// TestHostileKit seals lists and streams that lead elsewhere, as somebody with the passphrase
// could. Nothing is written from them.
func TestHostileKit(t *testing.T) {
	t.Parallel()
	root := tree.Entry{Path: ".", Type: tree.Dir, Mode: 0o755}
	for name, c := range map[string]struct {
		list []tree.Entry
		tar  []tar.Header
	}{
		"upwards":      {[]tree.Entry{root, {Path: "../../../evil", Type: tree.File}}, []tar.Header{{Name: "./", Typeflag: tar.TypeDir}, {Name: "../../../evil", Typeflag: tar.TypeReg}}},
		"absolute":     {[]tree.Entry{root, {Path: "/evil", Type: tree.File}}, []tar.Header{{Name: "./", Typeflag: tar.TypeDir}, {Name: "/evil", Typeflag: tar.TypeReg}}},
		"through link": {[]tree.Entry{root, {Path: "l", Type: tree.Link, Target: "../.."}, {Path: "l/evil", Type: tree.File}}, []tar.Header{{Name: "./", Typeflag: tar.TypeDir}, {Name: "l", Typeflag: tar.TypeSymlink, Linkname: "../.."}, {Name: "l/evil", Typeflag: tar.TypeReg}}},
		"other stream": {[]tree.Entry{root, {Path: "fine", Type: tree.File}}, []tar.Header{{Name: "./", Typeflag: tar.TypeDir}, {Name: "../evil", Typeflag: tar.TypeReg}}},
		"device":       {[]tree.Entry{root, {Path: "fine", Type: tree.File}}, []tar.Header{{Name: "./", Typeflag: tar.TypeDir}, {Name: "fine", Typeflag: tar.TypeChar}}},
	} {
		o := office.New(t, "items: [{name: data, kind: folder, path: /srv/deep/data}]\n", "linux", map[string]string{"old/srv/deep/data/x": "1", "new/srv/deep/data/mine": "mine"})
		o.Pack()
		j := o.Job(o.Old)
		sealed := j.State.Items[steps.Key{App: "app", Item: "data"}].Sealed
		sealed.List = sealing(t, j, item.ListEnding, func(w io.Writer) {
			for _, e := range c.list {
				json.NewEncoder(w).Encode(e)
			}
		})
		sealed.Parts = sealing(t, j, ".tar.zst.age", func(w io.Writer) {
			tw := tar.NewWriter(w)
			for _, h := range c.tar {
				tw.WriteHeader(&h)
			}
			tw.Close()
		})
		key := steps.Key{App: "app", Item: "data"}
		fatal.If(t, errors.Join(j.RecordSealed(key, sealed), j.Record(journal.EventPacked, steps.Key{App: "app"}, steps.Packed{Items: []steps.Key{key}})))
		out, err := o.Job(o.New).Unpack(ctx)
		if err != nil || fault.KindOf(out[0].Err) != fault.Hostile {
			t.Errorf("%s: %v %v %v", name, err, out[0].Err, out[0].Blocks)
		}
		found := ""
		filepath.WalkDir(o.Dir, func(path string, e os.DirEntry, _ error) error {
			if e.Name() == "evil" || strings.HasSuffix(e.Name(), spare.StageEnding) {
				found = path
			}
			return nil
		})
		if found != "" || o.Text("new/srv/deep/data/mine") != "mine" {
			t.Errorf("%s: wrote %s", name, found)
		}
	}
}

// TestAttachedDatabases packs two databases in one snapshot, and both again if one has changed.
func TestAttachedDatabases(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: bookings, kind: sqlite, path: /srv/bookings.db}\n  - {name: archive, kind: sqlite, path: /srv/archive.db, attached-to: bookings}\n  - {name: charts, kind: sqlite, path: /srv/charts.db}\n", "linux", map[string]string{"old/srv/.keep": "", "new/srv/.keep": ""})
	for _, name := range []string{"bookings", "archive", "charts"} {
		lay.Database(t, filepath.Join(o.Dir, "old/srv", name+".db"), "CREATE TABLE berth (n INTEGER)", "INSERT INTO berth VALUES (1)")
	}
	did := func(want string) {
		t.Helper()
		got := ""
		for _, i := range o.Pack().Items {
			got += i.Did + " "
		}
		if strings.TrimSpace(got) != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	did("sealed sealed sealed")
	did("kept kept kept")
	lay.Database(t, filepath.Join(o.Dir, "old/srv/archive.db"), "INSERT INTO berth VALUES (2)")
	did("sealed sealed kept")
	o.Unpack()
	if v := o.Verify(); !v.Equal() || v.Items[1].Rows[1].New != "2" {
		t.Errorf("%+v", v.Items)
	}
}

// TestCancelledIsNotDamaged stops the reading of the kit. No damage is reported.
func TestCancelledIsNotDamaged(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	o.Pack()
	gone, cancel := context.WithCancel(ctx)
	j := o.Job(o.New)
	j.Exceptions.Lost, j.Technician = "it burnt", office.Agreeing{}
	j.Notify = func(e run.Event) {
		if e.What == "verifying the sealed data" {
			cancel()
		}
	}
	all, err := j.Deactivate(gone)
	if len(all) > 0 && (len(all[0].Blocks) > 0 || fault.KindOf(all[0].Err) != fault.Stopped) || len(all) == 0 && fault.KindOf(err) != fault.Stopped {
		t.Errorf("deactivate: %+v %v", all, err)
	}
	if in, err := kit.Inspect(gone, o.Kit.Dir, nil, nil, nil, nil); fault.KindOf(err) != fault.Stopped {
		t.Errorf("inspect: %+v %v", in, err)
	}
}

// berths writes a dBase table with a number of records. It needs a memo file.
func berths(records int) string {
	b := make([]byte, 65)
	b[0], b[64] = 0x83, 0x0d
	binary.LittleEndian.PutUint32(b[4:], uint32(records))
	binary.LittleEndian.PutUint16(b[8:], 65)
	binary.LittleEndian.PutUint16(b[10:], 11)
	return string(b) + strings.Repeat(" Grey Wagta", records)
}

const jet = "\x00\x01\x00\x00Standard Jet DB\x00"

// TestDesktopDatabases moves complete sets of files, and not while they are open.
func TestDesktopDatabases(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: tables, kind: dbase, path: /srv/tables, counts: [{name: tables, files: '*.dbf'}]}\n  - {name: yard, kind: jet, path: /srv/yard.mdb}\n", "linux", map[string]string{
		"old/srv/tables/berth.dbf": berths(5), "old/srv/yard.mdb": jet, "old/srv/yard.ldb": strings.Repeat("QUAY-DESK-1\x00", 6)[:64], "new/srv/x": "",
	})
	stopped := func(want, why string) {
		t.Helper()
		out := o.Only(o.Job(o.Old).Pack(ctx))
		if office.Blocked(out) != want || !strings.Contains(out.Blocks[0].Why, why) {
			t.Errorf("stopped by %q, want %q: %+v", office.Blocked(out), want, out.Blocks)
		}
	}
	stopped("files-closed dependencies-present database-whole", "lock file yard.ldb lists QUAY-DESK-1")
	os.Remove(filepath.Join(o.Dir, "old/srv/yard.ldb"))
	stopped("dependencies-present database-whole", "berth.dbf has memo fields, but its .dbt file is missing")
	lay.Out(t, o.Dir, map[string]string{"old/srv/tables/BERTH.DBT": "memo", "old/srv/tables/berth.dbf": berths(5)[:100]})
	stopped("readable database-whole", "needs 120")
	lay.Out(t, o.Dir, map[string]string{"old/srv/tables/berth.dbf": berths(5), "old/srv/yard.mdb": "no database"})
	stopped("readable", "not a Jet or ACE database")
	lay.Out(t, o.Dir, map[string]string{"old/srv/yard.mdb": jet + "rest"})
	stopped("database-whole", "its first page is incomplete")
	j := o.Job(o.Old)
	j.Overrides = map[string]string{"database-whole": "the app finds nothing wrong"}
	if out := o.Only(j.Pack(ctx)); len(out.Blocks) > 0 {
		t.Fatalf("%+v", out.Blocks)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/tables/berth.dbf": "what the first start made"})
	o.Unpack()
	v := o.Verify()
	if !v.Equal() || o.Text("new/srv/tables/BERTH.DBT") != "memo" || o.Text("new/srv/yard.mdb") != jet+"rest" {
		t.Errorf("%+v", v.Items)
	}
	records := func(now string) bool {
		for _, r := range o.Verify().Items[0].Rows {
			if r.What == "records of berth.dbf" {
				return r.Old == "5" && r.New == now && r.Same == (now == "5")
			}
		}
		return false
	}
	if !records("5") {
		t.Error("the records are not told")
	}
	for text, now := range map[string]string{berths(4): "4", berths(9)[:80]: "damaged"} {
		lay.Out(t, o.Dir, map[string]string{"new/srv/tables/berth.dbf": text})
		if !records(now) || o.Verify().Equal() {
			t.Errorf("records of another table: %+v", o.Verify().Items[0].Rows)
		}
	}
	os.Remove(filepath.Join(o.Dir, "new/srv/tables/berth.dbf"))
	if !records("missing") {
		t.Error("a table that is missing")
	}
}

// TestJetRecords shows the records of a Jet database, old and new. Its file has the published
// layout, and mdbtools can read it.
func TestJetRecords(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("testdata/yard.mdb")
	fatal.If(t, err)
	o := office.New(t, "items:\n  - {name: yard, kind: jet, path: /srv/yard.mdb}\n", "linux", map[string]string{"old/srv/yard.mdb": string(data), "new/srv/x": ""})
	o.Pack()
	o.Unpack()
	rows := func() map[string]string {
		out := map[string]string{}
		for _, r := range o.Verify().Items[0].Rows {
			out[r.What] = r.Old + " " + r.New
		}
		return out
	}
	if got := rows(); got["records of Moorings"] != "40 40" || got["records of Lift orders"] != "3 3" {
		t.Errorf("%v", got)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/yard.mdb": string(data[:6000])})
	if got := rows(); got["records of Moorings"] != "40 damaged" {
		t.Errorf("cut off: %v", got)
	}
}
