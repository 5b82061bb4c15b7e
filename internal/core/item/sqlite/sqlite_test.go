package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/test/dbcases"
	"movekit/test/fatal"
)

var ctx = context.Background()

// open opens a database that stays open like that of a running app.
func open(t *testing.T, name, mode string, statements ...string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", name)
	fatal.If(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	for _, s := range append([]string{"PRAGMA journal_mode=" + mode}, statements...) {
		if _, err := db.Exec(s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	return db
}

var boats = []string{
	`CREATE TABLE boat (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, length REAL, seen DATETIME, afloat BOOLEAN, picture BLOB)`,
	`CREATE INDEX boat_name ON boat(name)`,
	`CREATE VIEW long_boat AS SELECT * FROM boat WHERE length > 12`,
	`CREATE TABLE berth (pier TEXT, place INTEGER, wide REAL GENERATED ALWAYS AS (place * 0.5), PRIMARY KEY (pier, place)) WITHOUT ROWID`,
	`CREATE VIRTUAL TABLE notes USING fts5(body)`,
	`INSERT INTO boat VALUES (1,'Grey Wagtail',9.5,'2026-05-01 10:00:00',1,x'00ff'), (2,'Ærøskøbing',14.25,NULL,0,NULL)`,
	`INSERT INTO berth VALUES ('A',1), ('B',2)`,
	`INSERT INTO notes VALUES ('mast to be looked at')`,
	`PRAGMA user_version=7`,
}

var counts = []card.Count{{Name: "boats", Query: "SELECT count(*) FROM boat"}}

// TestChanges checks that every change of the definitions is detected.
func TestChanges(t *testing.T) {
	name := filepath.Join(t.TempDir(), "changes.sqlite")
	db := open(t, name, "delete", dbcases.Base[dbcases.SQLite])
	dbcases.Changes(t, dbcases.SQLite, func(t *testing.T, text string) {
		_, err := db.Exec(text)
		fatal.If(t, err)
	}, func(t *testing.T) *dbprint.Fingerprint {
		f, err := Take(ctx, name, t.TempDir(), nil, nil)
		fatal.If(t, err)
		return f
	})
}

// TestQueriesRead uses queries that do more than read: the engine rejects them.
func TestQueriesRead(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "q.sqlite")
	open(t, name, "delete", "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1), (2)")
	for _, query := range []string{"DELETE FROM boat RETURNING 1", "ATTACH '" + dir + "/other.sqlite' AS other", "PRAGMA user_version = 7", "SELECT load_extension('x')", "CREATE TABLE more (n)", "VACUUM INTO '" + dir + "/copy.sqlite'"} {
		if n, err := Ask(ctx, name, dir, query); err == nil {
			t.Errorf("%s gives %d", query, n)
		}
	}
	if n, err := Ask(ctx, name, dir, "WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 3) SELECT (SELECT max(i) FROM c) + count(*) FROM boat"); n != 5 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	dbcases.Slow(t, "WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c) SELECT count(*) FROM c", func(ctx context.Context, query string) (int64, error) {
		return Ask(ctx, name, dir, query)
	})
	if left, _ := filepath.Glob(filepath.Join(dir, "*")); len(left) != 1 {
		t.Errorf("left: %q", left)
	}
}

// TestSchemas copies the databases of real applications. A copy is the same by our comparison and
// by the engine's own dump.
func TestSchemas(t *testing.T) {
	dbcases.Schemas(t, dbcases.SQLite, func(t *testing.T, text string) {
		name := filepath.Join(t.TempDir(), "app.sqlite")
		open(t, name, "wal", text)
		snapshot, err := Snapshot(ctx, name, t.TempDir(), nil)
		fatal.If(t, err)
		f := fingerprintOf(t, snapshot)
		if diffs := dbprint.Compare(fingerprintOf(t, name), f, nil); len(diffs) > 0 {
			t.Errorf("old and new differ: %+v", diffs)
		}
		if client, err := exec.LookPath("sqlite3"); err == nil {
			before, err1 := exec.Command(client, name, ".dump").Output()
			after, err2 := exec.Command(client, snapshot, ".dump").Output()
			if err1 != nil || err2 != nil || !bytes.Equal(before, after) {
				t.Errorf("the client's dumps differ: %v %v", err1, err2)
			}
		}
	})
}

func fingerprint(t *testing.T, name string) *dbprint.Fingerprint {
	t.Helper()
	f, err := Take(ctx, name, t.TempDir(), counts, nil)
	fatal.If(t, err)
	return f
}

func TestSnapshotOfADatabaseInUse(t *testing.T) {
	for _, mode := range []string{"wal", "delete"} {
		t.Run(mode, func(t *testing.T) {
			name := filepath.Join(t.TempDir(), "boats #1 100%.db")
			db := open(t, name, mode, boats...)
			if mode == "wal" && len(SideFiles(name)) == 0 {
				t.Fatal("the rows are not in the write-ahead log")
			}
			raw, _ := os.ReadFile(name)
			if mode == "wal" && strings.Contains(string(raw), "Grey Wagtail") {
				t.Fatal("the rows are checkpointed already")
			}
			snap, err := Snapshot(ctx, name, t.TempDir(), nil)
			fatal.If(t, err)
			if _, err := db.Exec("INSERT INTO boat(name) VALUES ('later')"); err != nil {
				t.Fatalf("the app cannot write after the snapshot: %v", err)
			}
			f := fingerprint(t, snap)
			if f.Counts[0].Value != 2 || f.Settings["user_version"] != "7" {
				t.Errorf("counts %v, user_version %s", f.Counts, f.Settings["user_version"])
			}
			now := fingerprint(t, name)
			diffs := dbprint.Compare(f, now, nil)
			if len(diffs) != 2 || diffs[0].Table != "boat" || diffs[1].Table != "sqlite_sequence" {
				t.Errorf("after one insert: %v", diffs)
			}
		})
	}
}

func TestSnapshotWhileTheAppKeepsWriting(t *testing.T) {
	name := filepath.Join(t.TempDir(), "boats.db")
	db := open(t, name, "wal", `CREATE TABLE a (n INTEGER)`, `CREATE TABLE b (n INTEGER)`)
	stop, stopped := make(chan bool), make(chan error)
	go func() {
		for i := 0; ; i++ {
			select {
			case <-stop:
				stopped <- nil
				return
			default:
			}
			// Both tables get a row or neither does. A snapshot must not fall between.
			if _, err := db.Exec(fmt.Sprintf("BEGIN; INSERT INTO a VALUES (%d); INSERT INTO b VALUES (%d); COMMIT", i, i)); err != nil {
				stopped <- err
				return
			}
		}
	}()
	for range 20 {
		snap, err := Snapshot(ctx, name, t.TempDir(), nil)
		fatal.If(t, err)
		f := fingerprintOf(t, snap)
		if f.Tables[0].Rows != f.Tables[1].Rows || f.Tables[0].Digest != f.Tables[1].Digest {
			t.Fatalf("the snapshot fell into a transaction: %v", f.Tables)
		}
	}
	close(stop)
	if err := <-stopped; err != nil {
		t.Errorf("the app was held up: %v", err)
	}
}

func fingerprintOf(t *testing.T, name string) *dbprint.Fingerprint {
	t.Helper()
	f, err := Take(ctx, name, t.TempDir(), nil, nil)
	fatal.If(t, err)
	return f
}

func TestReadingLeavesNoTrace(t *testing.T) {
	for _, mode := range []string{"wal", "delete"} {
		dir := t.TempDir()
		name := filepath.Join(dir, "boats.db")
		open(t, name, mode, boats...).Close()
		before := listing(t, dir)
		_, err := Snapshot(ctx, name, t.TempDir(), nil)
		fatal.If(t, err)
		fingerprint(t, name)
		if after := listing(t, dir); after != before {
			t.Errorf("%s: the folder was %s, is %s", mode, before, after)
		}
	}
	// As after a power failure: a log, and no process that has it open.
	live, dir := filepath.Join(t.TempDir(), "live.db"), t.TempDir()
	open(t, live, "wal", boats...)
	name := filepath.Join(dir, "cut.db")
	for _, e := range []string{"", "-wal"} {
		fatal.If(t, copyFile(live+e, name+e))
	}
	before := listing(t, dir)
	if f := fingerprint(t, name); f.Counts[0].Value != 2 {
		t.Errorf("%d boats in the log, want 2", f.Counts[0].Value)
	}
	if after := listing(t, dir); after != before {
		t.Errorf("cut off: the folder was %s, is %s", before, after)
	}
}

func listing(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		info, _ := e.Info()
		fmt.Fprintf(&b, "%s %d %d; ", e.Name(), info.Size(), info.ModTime().UnixNano())
	}
	return b.String()
}

func TestFingerprintDependsOnContentAlone(t *testing.T) {
	dir := t.TempDir()
	base := filepath.Join(dir, "base.db")
	open(t, base, "delete", boats...).Close()
	same := filepath.Join(dir, "same.db")
	other := slices.Clone(boats)
	other[5] = `INSERT INTO boat VALUES (2,'Ærøskøbing',14.25,NULL,0,NULL), (1,'Grey Wagtail',9.5,'2026-05-01 10:00:00',1,x'00ff')`
	open(t, same, "delete", other...).Close()
	if d := dbprint.Compare(fingerprint(t, base), fingerprint(t, same), nil); len(d) > 0 {
		t.Errorf("the same rows in another order: %v", d)
	}
	for change, table := range map[string]string{
		`UPDATE boat SET name='Ærøskøbing ' WHERE id=2`: "boat",  // a trailing space
		`UPDATE boat SET seen='' WHERE id=2`:            "boat",  // empty is not NULL
		`UPDATE boat SET picture='00ff' WHERE id=1`:     "boat",  // text is not a blob
		`UPDATE boat SET length=-0.0 WHERE id=1`:        "boat",  // a value
		`UPDATE boat SET seen=20260501 WHERE id=1`:      "boat",  // a number in a text column
		`INSERT INTO boat(id,name) VALUES (9,'x')`:      "boat",  // a row
		`DELETE FROM berth WHERE place=1`:               "berth", // a row fewer
		`UPDATE sqlite_sequence SET seq=40`:             "sqlite_sequence",
		`CREATE INDEX more ON boat(length)`:             "",
		`DROP VIEW long_boat`:                           "",
		`PRAGMA user_version=8`:                         "",
		`DROP TABLE berth`:                              "berth",
	} {
		name := filepath.Join(dir, "changed.db")
		os.Remove(name)
		open(t, name, "delete", append(boats, change)...).Close()
		d := dbprint.Compare(fingerprint(t, base), fingerprint(t, name), nil)
		if len(d) == 0 || d[0].Table != table {
			t.Errorf("%s: %v", change, d)
		}
	}
}

func TestCases(t *testing.T) {
	name := ""
	dbcases.Try(t, dbcases.SQLite, func(t *testing.T, sql []string) {
		name = filepath.Join(t.TempDir(), "cases.db")
		open(t, name, "DELETE", sql...)
	}, func(t *testing.T, otherwise bool) *dbprint.Fingerprint {
		from := name
		if otherwise { // the same rows on other pages
			from = filepath.Join(t.TempDir(), "again.db")
			open(t, name, "DELETE", "PRAGMA page_size=512", "VACUUM INTO '"+from+"'")
		}
		f, err := Take(ctx, from, t.TempDir(), nil, nil)
		fatal.If(t, err)
		return f
	})
}

func TestBadDatabases(t *testing.T) {
	dir := t.TempDir()
	good := filepath.Join(dir, "good.db")
	open(t, good, "delete", append(boats, "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<5000) INSERT INTO boat(name) SELECT 'boat '||i FROM n")...).Close()
	whole, _ := os.ReadFile(good)
	torn := append([]byte(nil), whole...)
	for i := 4096 * 3; i < 4096*12; i++ {
		torn[i] = 0xa5
	}
	for name, c := range map[string]struct {
		data []byte
		kind fault.Kind
	}{
		"garbage":   {[]byte(strings.Repeat("encrypted bytes? ", 400)), fault.BadDatabase},
		"corrupt":   {torn, fault.BadDatabase},
		"truncated": {whole[:len(whole)/2], fault.BadDatabase},
		"short":     {whole[:50], fault.BadDatabase},
	} {
		file := filepath.Join(dir, name+".db")
		os.WriteFile(file, c.data, 0o600)
		snap, err := Snapshot(ctx, file, t.TempDir(), nil)
		if err == nil {
			_, err = Whole(ctx, snap, nil)
		}
		if fault.KindOf(err) != c.kind {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Snapshot(ctx, filepath.Join(dir, "none.db"), t.TempDir(), nil); fault.KindOf(err) != fault.Missing {
		t.Errorf("missing: %v", err)
	}
}

func TestHotJournalOfADeadComputer(t *testing.T) {
	dir := t.TempDir()
	live := filepath.Join(dir, "live.db")
	db := open(t, live, "delete", boats...)
	db.Exec("PRAGMA cache_size=2")
	db.Exec("PRAGMA cache_spill=1")
	db.Exec("BEGIN")
	db.Exec("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<20000) INSERT INTO boat(name) SELECT 'unsaved '||i FROM n")
	// The computer dies here: the files are copied as they are.
	dead := filepath.Join(dir, "dead.db")
	for _, e := range []string{"", "-journal"} {
		fatal.If(t, copyFile(live+e, dead+e))
	}
	db.Exec("ROLLBACK")
	before := listing(t, dir)
	snap, err := Snapshot(ctx, dead, t.TempDir(), nil)
	fatal.If(t, err)
	if f := fingerprint(t, snap); f.Counts[0].Value != 2 {
		t.Errorf("%d boats after the recovery, want 2", f.Counts[0].Value)
	}
	if after := listing(t, dir); after != before {
		t.Errorf("the dead computer's files were %s, are %s", before, after)
	}
}

// scrambled looks like an encrypted database.
func scrambled(n int) []byte {
	out := make([]byte, 0, n)
	for h := digest.Of([]byte("scrambled")); len(out) < n; h = digest.Of(h[:]) {
		out = append(out, h[:]...)
	}
	return out[:n]
}

func TestEncryptedIsMovedAsAFile(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "e.db")
	data := scrambled(8192)
	os.WriteFile(name, data, 0o600)
	copied, err := Snapshot(t.Context(), name, t.TempDir(), nil)
	fatal.If(t, err)
	if got, _ := os.ReadFile(copied); string(got) != string(data) {
		t.Error("the copy is another")
	}
	a, err := Take(t.Context(), name, dir, nil, nil)
	if err != nil || len(a.Tables) != 1 {
		t.Fatalf("%+v %v", a, err)
	}
	data[5000]++
	os.WriteFile(name, data, 0o600)
	if b, err := Take(t.Context(), name, dir, nil, nil); err != nil || len(dbprint.Compare(a, b, nil)) != 1 {
		t.Errorf("a changed byte: %+v %v", b, err)
	}
	os.WriteFile(name+"-wal", []byte("newest data"), 0o600)
	if _, err := Snapshot(t.Context(), name, t.TempDir(), nil); fault.KindOf(err) != fault.Changed {
		t.Errorf("with a log: %v", err)
	}
	os.WriteFile(name+"-wal", nil, 0o600)
	if _, err := Snapshot(t.Context(), name, t.TempDir(), nil); err != nil {
		t.Errorf("with an empty log: %v", err)
	}
	// Content that is not noise, or not whole pages, is a damaged database.
	for what, bad := range map[string][]byte{"text": []byte(strings.Repeat("some text ", 1000)), "half a page": scrambled(8192 + 100), "short": scrambled(512), "zeros": make([]byte, 8192)} {
		os.WriteFile(name, bad, 0o600)
		if enc, err := Encrypted(name); enc || err != nil {
			t.Errorf("%s counts as encrypted (%v)", what, err)
		}
	}
}

// TestFeatures moves features that few databases use.
func TestFeatures(t *testing.T) {
	name := filepath.Join(t.TempDir(), "f.db")
	db, err := sql.Open("sqlite", name)
	fatal.If(t, err)
	for _, q := range []string{
		"CREATE TABLE w (a TEXT, b INT, PRIMARY KEY (a, b)) WITHOUT ROWID", "INSERT INTO w VALUES ('x', 1), ('x', 2)",
		"CREATE TABLE g (n INT, twice INT GENERATED ALWAYS AS (n * 2) STORED, virt INT AS (n + 1))", "INSERT INTO g (n) VALUES (1), (NULL)",
		"CREATE VIRTUAL TABLE notes USING fts5(body)", "INSERT INTO notes VALUES ('grey wagtail'), ('plover')", "CREATE VIRTUAL TABLE box USING rtree(id, x0, x1)", "INSERT INTO box VALUES (1, 0, 2)",
		"CREATE TABLE s (a TEXT NOT NULL, b ANY) STRICT", "INSERT INTO s VALUES ('a', x'00'), ('b', -0.0), ('c', 0.0), ('d', '')", "CREATE TRIGGER tr AFTER INSERT ON s BEGIN DELETE FROM w; END", "CREATE VIEW v AS SELECT * FROM g",
		"PRAGMA user_version = 7", "PRAGMA application_id = 99",
	} {
		if _, err := db.Exec(q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	db.Close()
	before, err := Take(t.Context(), name, t.TempDir(), nil, nil)
	fatal.If(t, err)
	copied, err := Snapshot(t.Context(), name, t.TempDir(), nil)
	fatal.If(t, err)
	after, err := Take(t.Context(), copied, t.TempDir(), []card.Count{{Name: "found", Query: "SELECT count(*) FROM notes WHERE notes MATCH 'wagtail'"}}, nil)
	if err != nil || len(dbprint.Compare(before, after, nil)) > 0 || after.Counts[0].Value != 1 {
		t.Errorf("%+v %v", dbprint.Compare(before, after, nil), err)
	}
	for _, table := range []string{"w", "g", "s", "notes_content", "box_node"} {
		if before.Table(table) == nil || before.Table(table).Rows == 0 {
			t.Errorf("%s is not fingerprinted", table)
		}
	}
	if w := before.Table("w"); len(w.Key) != 2 || len(before.Table("g").Columns) != 4 {
		t.Errorf("%+v %+v", w, before.Table("g"))
	}
}

// TestSnapshotsOfOneMoment copies two databases that an app writes to together.
func TestSnapshotsOfOneMoment(t *testing.T) {
	for _, mode := range []string{"wal", "delete"} {
		dir := t.TempDir()
		main, side := filepath.Join(dir, "main.db"), filepath.Join(dir, "side.db")
		tick := "CREATE TABLE tick (n INTEGER)"
		open(t, side, mode, tick, "INSERT INTO tick VALUES (0)").Close()
		app := open(t, main, mode, tick, "INSERT INTO tick VALUES (0)", "PRAGMA busy_timeout=5000")
		app.SetMaxOpenConns(1)
		_, err := app.Exec("ATTACH ? AS side", side)
		fatal.If(t, err)
		write := func() {
			if _, err := app.Exec("BEGIN IMMEDIATE; UPDATE main.tick SET n = n + 1; UPDATE side.tick SET n = n + 1; COMMIT"); err != nil {
				t.Error(err)
			}
		}
		stop, ended := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(ended)
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				case <-time.After(time.Duration(i%5) * 25 * time.Millisecond):
					write()
				}
			}
		}()
		for range 6 {
			snaps, err := Snapshots(ctx, []string{main, side}, t.TempDir(), nil)
			if err != nil {
				t.Fatal(mode, err)
			}
			n, err1 := Ask(ctx, snaps[0], t.TempDir(), "SELECT n FROM tick")
			m, err2 := Ask(ctx, snaps[1], t.TempDir(), "SELECT n FROM tick")
			if err1 != nil || err2 != nil || n != m {
				t.Errorf("%s: %d and %d are not at one moment (%v %v)", mode, n, m, err1, err2)
			}
		}
		close(stop)
		<-ended
		app.Close()
	}
}

// TestIndexes checks all kinds of indexes, intact and damaged. Only the engine's check decides that
// an index is damaged, and no damage is missed.
func TestIndexes(t *testing.T) {
	const rows = "INSERT INTO boat SELECT value, CASE value % 5 WHEN 0 THEN NULL WHEN 1 THEN 'Boat ' || value WHEN 2 THEN lower('boat ') || value || '  ' WHEN 3 THEN value / 7.0 ELSE CAST('x' || value AS BLOB) END, value % 10 FROM generate_series(1, 3000)"
	boat := []string{"CREATE TABLE boat (id INTEGER PRIMARY KEY, name, berth INTEGER)", "WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 3000) " + rows[:len(rows)-len("generate_series(1, 3000)")] + "n",
		"INSERT INTO boat VALUES (9007199254740993, 9007199254740993, 1), (9007199254740994, 9007199254740992.0, 1), (9007199254740995, -9.3e18, 1), (9007199254740996, 1e19, 1)"}
	schema := func(old, now string) []string {
		return []string{"PRAGMA writable_schema = ON", "UPDATE sqlite_schema SET sql = replace(sql, '" + old + "', '" + now + "') WHERE name = 'i'"}
	}
	// A table changes while its index is missing, and then gets the index back.
	behind := func(change string) []string {
		return []string{"PRAGMA writable_schema = ON", "CREATE TABLE kept AS SELECT * FROM sqlite_schema WHERE name = 'i'", "DELETE FROM sqlite_schema WHERE name = 'i'", "", change, "PRAGMA writable_schema = ON", "INSERT INTO sqlite_schema SELECT * FROM kept"}
	}
	for name, c := range map[string]struct {
		index   string
		then    []string // "" opens the database anew
		ours    bool     // whether it is compared by us
		damaged bool
	}{
		"plain":         {"CREATE INDEX i ON boat (name)", nil, true, false},
		"down, no case": {"CREATE INDEX i ON boat (name COLLATE NOCASE DESC, berth)", nil, true, false},
		"trimmed":       {"CREATE INDEX i ON boat (berth DESC, name COLLATE RTRIM)", nil, true, false},
		"unique":        {"CREATE UNIQUE INDEX i ON boat (name, id)", nil, true, false},
		"with nulls":    {"CREATE UNIQUE INDEX i ON boat (name)", nil, true, false},
		"partial":       {"CREATE INDEX i ON boat (name) WHERE berth > 3", nil, false, false},
		"expression":    {"CREATE INDEX i ON boat (lower(name))", nil, false, false},
		"generated":     {"ALTER TABLE boat ADD COLUMN twice AS (berth * 2); CREATE INDEX i ON boat (twice)", nil, true, false},
		"own rowid":     {"CREATE TABLE pier (rowid, name); CREATE INDEX i ON pier (name)", nil, false, false},
		"keyed":         {"CREATE TABLE pier (name PRIMARY KEY, n UNIQUE) WITHOUT ROWID; INSERT INTO pier SELECT id, id FROM boat", nil, false, false},
		"missing":       {"CREATE INDEX i ON boat (name)", behind("INSERT INTO boat VALUES (5000, 'late', 1)"), false, true},
		"left over":     {"CREATE INDEX i ON boat (name)", behind("DELETE FROM boat WHERE id = 77"), false, true},
		"other value":   {"CREATE INDEX i ON boat (name)", behind("UPDATE boat SET name = 'renamed' WHERE id = 77"), false, true},
		"other order":   {"CREATE INDEX i ON boat (name)", schema("(name)", "(name COLLATE NOCASE)"), false, true},
		"other way":     {"CREATE INDEX i ON boat (name)", schema("(name)", "(name DESC)"), false, true},
		"not unique":    {"CREATE INDEX i ON boat (berth)", schema("CREATE INDEX", "CREATE UNIQUE INDEX"), false, true},
	} {
		file := filepath.Join(t.TempDir(), "i.db")
		open(t, file, "delete", append(boat, c.index)...).Close()
		var now []string
		for _, q := range append(c.then, "") {
			if q != "" {
				now = append(now, q)
				continue
			}
			open(t, file, "delete", now...).Close()
			now = nil
		}
		if _, err := Whole(ctx, file, nil); (fault.KindOf(err) == fault.BadDatabase) != c.damaged || err != nil && !c.damaged {
			t.Errorf("%s: %v", name, err)
		}
		err := with(ctx, file, "mode=ro&immutable=1", func(conn *sql.Conn) error {
			rows, found := entrySums{}, entrySums{}
			tables, err := found.read(ctx, conn)
			if err == nil {
				_, err = take(ctx, conn, nil, nil, rows)
			}
			if all := doubtful(tables, rows, found); (len(all) == 0) != c.ours {
				t.Errorf("%s: for the engine to judge: %q", name, all)
			}
			return err
		})
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}
