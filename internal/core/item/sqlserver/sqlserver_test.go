package sqlserver_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
	"movekit/internal/core/item/sqlserver"
	"movekit/internal/simsql"
	"movekit/test/fatal"
)

// berths is the content of a small database, with names and bytes that are easily damaged.
func berths() *simsql.Database {
	return &simsql.Database{
		Owner: `QUAY-DESK-1\maren`,
		Tables: []simsql.Table{
			{Schema: "dbo", Name: "boat", Columns: []simsql.Column{{Name: "id", Type: "int", Key: 1}, {Name: "name", Type: "nvarchar"}, {Name: "mark", Type: "varchar"}, {Name: "photo", Type: "nvarchar"}}, Rows: [][]simsql.Cell{
				{simsql.Number(1), simsql.Chars("Grey Wagtail"), {Bytes: []byte{0x80, 0xff}, Shown: "€ÿ"}, simsql.Chars(`C:\Users\maren\p.png`)},
				{simsql.Number(2), simsql.Chars("Nuthatch 'N'"), {}, {}},
			}},
			{Schema: "dbo", Name: "odd], [name", Columns: []simsql.Column{{Name: "a], [b", Type: "sql_variant"}}, Rows: [][]simsql.Cell{{simsql.Chars("x")}}},
		},
		Objects:  map[string][][]string{"module": {{"dbo.lifts", "V", "CREATE VIEW lifts AS SELECT 1 AS a", "1"}}, "user": {{"berthing", "SQL_USER", "dbo", ""}}},
		Options:  map[string]string{"collation": "Latin1_General_CI_AS", "compatibility level": "140"},
		Users:    []simsql.User{{Name: "berthing", SID: "0x01AB"}, {Name: "reports", SID: "0x02CD"}, {Name: "known", SID: "0x03EF"}},
		Far:      [][]string{{"dbo.lifts", "", "Ledger"}, {"dbo.fees", "QUAY-SRV", "Fees"}},
		Triggers: nil,
	}
}

// start starts a simulated server.
func start(t *testing.T, s *simsql.Server) served.Server {
	t.Helper()
	s.Dir, s.Password = t.TempDir(), "p'w"
	if s.Version == "" {
		s.Version = "15.0.4261.1"
	}
	port, err := s.Start()
	fatal.If(t, err)
	t.Cleanup(s.Close)
	return served.Server{Kind: card.SQLServer, Host: "127.0.0.1," + port, User: "sa", Password: s.Password, Database: "Berths"}
}

func open(t *testing.T, s served.Server) served.Session[*sqlserver.Sealed] {
	session := sqlserver.Engine{}.Open(s, nil)
	t.Cleanup(session.Close)
	return session
}

// loading returns how to load a sealed backup.
func loading(data []byte, stage string) served.Loading {
	return served.Loading{Stage: stage, Rows: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
}

// TestWholeDatabase seals a database, restores it on another server, and compares everything; then it renames and drops it.
func TestWholeDatabase(t *testing.T) {
	t.Parallel()
	old, now := &simsql.Server{Jobs: map[string][]string{"Berths": {"Nightly"}}}, &simsql.Server{Version: "16.0.1000.6"}
	a, b := open(t, start(t, old)), open(t, start(t, now))
	fatal.If(t, old.Put("Berths", berths()))
	now.Login("reports", "0x0999")
	now.Login("whoever", "0x03EF")
	look, err := a.Look(t.Context(), "Berths")
	fatal.If(t, err)
	if left := strings.Join(look.Left, "\n"); look.Tables != 2 || !strings.Contains(left, "the job Nightly") || !strings.Contains(left, "dbo.lifts uses the database Ledger") || !strings.Contains(left, "dbo.fees uses the linked server QUAY-SRV") {
		t.Errorf("%+v", look)
	}
	var data bytes.Buffer
	d, err := a.Seal(t.Context(), "Berths", []card.Count{{Name: "boats", Query: "SELECT count(*) FROM boat"}}, nil, &data, nil)
	fatal.If(t, err)
	if left, _ := os.ReadDir(filepath.Join(old.Dir, "backup")); len(left) > 0 || d.Rows() != 3 || d.Counts[0].Value != 2 {
		t.Errorf("backups left: %v, %d rows, %+v", left, d.Rows(), d.Counts)
	}
	lacks, err := b.Lacks(t.Context(), "Berths", d)
	if err != nil || len(lacks) > 0 {
		t.Fatalf("%v %v", lacks, err)
	}
	for range 2 { // the second time, the first one is in the way
		notes, err := b.Stage(t.Context(), d, loading(data.Bytes(), "Berths_stage_1"))
		fatal.If(t, err)
		if all := strings.Join(notes, "\n"); strings.Count(all, "login berthing was created") > 1 || !strings.Contains(all, `its owner was QUAY-DESK-1\maren`) || strings.Contains(all, "known") {
			t.Errorf("%s", all)
		}
	}
	if users := now.Get("Berths_stage_1").Users; users[1].SID != "0x0999" {
		t.Errorf("the user has no login: %+v", users)
	}
	fatal.If(t, b.Rename(t.Context(), "Berths_stage_1", "Berths", served.InService))
	f, err := b.Fingerprint(t.Context(), "Berths", []card.Count{{Name: "boats", Query: "SELECT count(*) FROM boat"}}, nil)
	fatal.If(t, err)
	if diffs := dbprint.Compare(d.Print(), f, nil); len(diffs) > 0 {
		t.Errorf("%+v", diffs)
	}
	// A byte that Unicode does not have, an object and a setting are noticed.
	for what, change := range map[string]func(*simsql.Database){
		"boat":      func(d *simsql.Database) { d.Tables[0].Rows[0][2].Bytes[0] = 0x81 },
		"NULL":      func(d *simsql.Database) { d.Tables[0].Rows[1][2].Bytes = []byte{} },
		"lifts":     func(d *simsql.Database) { d.Objects["module"][0][2] += " " },
		"collation": func(d *simsql.Database) { d.Options["collation"] = "Latin1_General_CS_AS" },
		"column":    func(d *simsql.Database) { d.Objects["column"] = [][]string{{"dbo.boat.id", "U", "dbo.bigint"}} },
	} {
		d2 := berths()
		d2.Users = now.Get("Berths").Users
		change(d2)
		fatal.If(t, now.Put("Berths", d2))
		f, err := b.Fingerprint(t.Context(), "Berths", nil, nil)
		fatal.If(t, err)
		if len(dbprint.Compare(d.Print(), f, nil)) == 0 {
			t.Errorf("%s: no difference is seen", what)
		}
	}
	fatal.If(t, now.Put("Berths", berths()))
	rows := 0
	fatal.If(t, b.Rows(t.Context(), "Berths", d.Tables[0])(func(r dbprint.Row) error {
		rows++
		if r.Cells()[0] == "2" && r.Cells()[2] != "NULL" {
			t.Errorf("%q", r.Cells())
		}
		return nil
	}))
	if rows != 2 {
		t.Errorf("%d rows", rows)
	}
	fatal.If(t, b.Drop(t.Context(), "Berths"))
	if there, err := b.Exists(t.Context(), "Berths"); there || err != nil || len(now.Names()) > 0 {
		t.Errorf("%v %v %v", there, err, now.Names())
	}
}

// TestLacks reports what a server cannot take, before anything is done.
func TestLacks(t *testing.T) {
	t.Parallel()
	old := open(t, start(t, &simsql.Server{Version: "11.0.2100.60", Express: true}))
	d := &sqlserver.Sealed{Version: "15.0.1", Bytes: 11 << 30, Key: "AB12", FullText: true, FileStream: true, CLR: true}
	out, err := old.Lacks(t.Context(), "Berths", d)
	fatal.If(t, err)
	for _, want := range []string{"no older server can read", "takes 10 GB", "Full-Text Search", "FILESTREAM", "clr enabled", "thumbprint AB12"} {
		if !strings.Contains(strings.Join(out, "\n"), want) {
			t.Errorf("%q is missing: %v", want, out)
		}
	}
	far := open(t, served.Server{Kind: card.SQLServer, Host: `QUAY-SRV\SQLEXPRESS`, Database: "x"})
	if out, err := far.Lacks(t.Context(), "x", d); err != nil || len(out) != 1 || !strings.Contains(out[0], "another computer") {
		t.Errorf("%v %v", out, err)
	}
	ancient := open(t, start(t, &simsql.Server{Version: "10.50.1600.1"}))
	if _, err := ancient.Look(t.Context(), "Berths"); fault.KindOf(err) != fault.ServerRefused || !strings.Contains(err.Error(), "2012") {
		t.Errorf("%v", err)
	}
}

// TestRefusals classifies the server's errors, and leaves nothing behind.
func TestRefusals(t *testing.T) {
	t.Parallel()
	sim := &simsql.Server{}
	at := start(t, sim)
	s := open(t, at)
	fatal.If(t, sim.Put("Berths", berths()))
	if _, err := s.Look(t.Context(), "Nothing"); fault.KindOf(err) != fault.Missing {
		t.Errorf("%v", err)
	}
	wrong := at
	wrong.Password = "no"
	if _, err := open(t, wrong).Look(t.Context(), "Berths"); fault.KindOf(err) != fault.ServerLogin {
		t.Errorf("%v", err)
	}
	down := at
	down.Host = "127.0.0.1,1"
	if _, err := open(t, down).Look(t.Context(), "Berths"); fault.KindOf(err) != fault.ServerDown {
		t.Errorf("%v", err)
	}
	var data bytes.Buffer
	d, err := s.Seal(t.Context(), "Berths", nil, nil, &data, nil)
	fatal.If(t, err)
	damaged := bytes.Replace(data.Bytes(), []byte("nvarchar"), []byte("nvarchax"), 1)
	for name, c := range map[string]struct {
		data   []byte
		fail   string // start of the statement that the server refuses
		number int
		kind   fault.Kind
	}{
		"a damaged backup": {damaged, "", 0, fault.BadDatabase}, "no backup": {[]byte("x"), "", 0, fault.BadDatabase},
		"a full disk": {data.Bytes(), "RESTORE DATABASE", 3257, fault.NoSpace}, "an inconsistent database": {data.Bytes(), "DBCC", 8939, fault.BadDatabase},
	} {
		sim.Refuse(func(statement string) *simsql.Error {
			if c.fail != "" && strings.HasPrefix(statement, c.fail) {
				return &simsql.Error{Number: c.number, Text: "refused"}
			}
			return nil
		})
		_, err := s.Stage(t.Context(), d, loading(c.data, "Berths_stage_1"))
		if fault.KindOf(err) != c.kind || !slices.Equal(sim.Names(), []string{"Berths"}) {
			t.Errorf("%s: %v, databases %v", name, err, sim.Names())
		}
	}
	sim.Refuse(nil)
	if left, _ := os.ReadDir(filepath.Join(sim.Dir, "backup")); len(left) > 0 {
		t.Errorf("left in the server's folder: %v", left)
	}
	// A change while the backup is made, and a database in use.
	sim.Refuse(func(statement string) *simsql.Error {
		if strings.HasPrefix(statement, "RESTORE VERIFYONLY") {
			sim.Refuse(nil)
			sim.Put("Berths", berths())
		}
		return nil
	})
	if _, err := s.Seal(t.Context(), "Berths", nil, nil, io.Discard, nil); fault.KindOf(err) != fault.Changed {
		t.Errorf("changed meanwhile: %v", err)
	}
	// A view could run anything.
	sim.Refuse(nil)
	if _, err := s.Ask(t.Context(), "Berths", "SELECT count(*) FROM Lifts"); fault.KindOf(err) != fault.BadCard || !strings.Contains(err.Error(), "lifts") {
		t.Errorf("a query of a view: %v", err)
	}
	// A trigger of the database would run with the rights of whoever changes a user.
	with := berths()
	with.Triggers = []string{"watch"}
	fatal.If(t, sim.Put("Trapped", with))
	data.Reset()
	d, err = s.Seal(t.Context(), "Trapped", nil, nil, &data, nil)
	fatal.If(t, err)
	sim.Login("berthing", "0x0777")
	sim.Refuse(func(statement string) *simsql.Error {
		if strings.HasPrefix(statement, "ALTER USER") {
			t.Error("a user was changed, so the trigger ran")
		}
		return nil
	})
	notes, err := s.Stage(t.Context(), d, loading(data.Bytes(), "Trapped_stage_1"))
	if err != nil || !strings.Contains(strings.Join(notes, "\n"), "watch") {
		t.Errorf("%v %v", notes, err)
	}
}

// TestUpdateTexts changes texts in a column, except if a trigger would run.
func TestUpdateTexts(t *testing.T) {
	t.Parallel()
	sim := &simsql.Server{}
	s := open(t, start(t, sim))
	fatal.If(t, sim.Put("Berths", berths()))
	table := dbprint.Table{Name: "dbo.boat", Key: []string{"id"}}
	found := map[string]string{}
	fatal.If(t, s.Texts(t.Context(), "Berths", table, "photo", func(key, text string) error {
		found[key] = text
		return nil
	}))
	if len(found) != 1 || found["1"] != `C:\Users\maren\p.png` {
		t.Fatalf("%v", found)
	}
	fatal.If(t, s.Rewrite(t.Context(), "Berths", table, "photo", map[string]string{found["1"]: `C:\Users\m'holm\p.png`}))
	if now := sim.Get("Berths").Tables[0].Rows[0][3].Shown; now != `C:\Users\m'holm\p.png` {
		t.Errorf("%q", now)
	}
	with := berths()
	with.On = [][]string{{"[dbo].[boat]", "the trigger note"}}
	fatal.If(t, sim.Put("Berths", with))
	if err := s.Rewrite(t.Context(), "Berths", table, "photo", map[string]string{"a": "b"}); err == nil || !strings.Contains(err.Error(), "trigger note") {
		t.Errorf("%v", err)
	}
}

// TestLongAnswers reads values that need several packets, and ends when it is cancelled.
func TestLongAnswers(t *testing.T) {
	t.Parallel()
	sim := &simsql.Server{}
	s := open(t, start(t, sim))
	d := berths()
	d.Tables[0].Rows[0][1] = simsql.Chars(strings.Repeat("long ", 200_000))
	fatal.If(t, sim.Put("Berths", d))
	n := 0
	fatal.If(t, s.Rows(t.Context(), "Berths", dbprint.Table{Name: "dbo.boat"})(func(r dbprint.Row) error {
		n = max(n, len(r.Cells()[1]))
		return nil
	}))
	if n != 1_000_000 {
		t.Errorf("%d characters", n)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	sim.Refuse(func(string) *simsql.Error { time.Sleep(time.Second); return nil })
	if _, err := s.Fingerprint(ctx, "Berths", nil, nil); err == nil {
		t.Error("it did not stop")
	}
}
