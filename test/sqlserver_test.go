package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/simsql"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// fleet is a database with n boats, whose owner is named.
func fleet(n int, owner string) *simsql.Database {
	t := simsql.Table{Schema: "dbo", Name: "boat", Columns: []simsql.Column{{Name: "id", Type: "int", Key: 1}, {Name: "name", Type: "nvarchar"}, {Name: "photo", Type: "nvarchar"}}}
	for i := range n {
		t.Rows = append(t.Rows, []simsql.Cell{simsql.Number(int32(i)), simsql.Chars(fmt.Sprint(owner, " ", i)), simsql.Chars("/home/maren/photos/1.png")})
	}
	return &simsql.Database{Owner: "sa", Tables: []simsql.Table{t}, Objects: map[string][][]string{"table": {{"dbo.boat", "TABLE"}}}, Options: map[string]string{"collation": "Latin1_General_CI_AS"}, Users: []simsql.User{{Name: "berthing", SID: "0x01AB"}}}
}

// TestSQLServerMove moves a database between two simulated servers with the built program, over an existing one, killed at random
// moments: at the end there is one complete database under the app's name, and the earlier one is set aside. Undo brings it back.
func TestSQLServerMove(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sides := map[string]*simsql.Server{}
	for _, name := range []string{"old", "new"} {
		s := &simsql.Server{Dir: filepath.Join(dir, "server", name), Version: "15.0.4261.1", Password: "gate"}
		port, err := s.Start()
		fatal.If(t, err)
		t.Cleanup(s.Close)
		sides[name] = s
		user := map[string]string{"old": "maren", "new": "mholm"}[name]
		lay.Out(t, dir, map[string]string{
			name + "/computer.yaml":     "name: " + strings.ToUpper(name) + "\nsystem: linux\nhardware-id: h-" + name + "\n",
			name + "/etc/passwd":        user + ":x:1000:1000::/home/" + user + ":/bin/sh\n",
			name + "/opt/berths/db.ini": "[db]\nserver=127.0.0.1," + port + "\npassword=gate\n", name + "/home/" + user + "/x": "",
		})
	}
	lay.Out(t, dir, map[string]string{"berths.yaml": `card: 1
name: berths
title: Berths
items:
  - name: settings
    kind: file
    path: /opt/berths/app.cfg
    optional: true
  - name: database
    kind: sqlserver
    server:
      host: {file: /opt/berths/db.ini, key: db/server}
      database: Berths
      user: sa
      password: {file: /opt/berths/db.ini, key: db/password}
    counts: [{name: boats, query: SELECT count(*) FROM boat}]
    update-paths: [boat.photo]
`})
	old, now := sides["old"], sides["new"]
	fatal.If(t, old.Put("Berths", fleet(300, "quay")))
	fatal.If(t, now.Put("Berths", fleet(3, "earlier")))
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "berths.yaml", "--to", "NEW", "--yes")
	if s := must(t, 0, dir, "survey", "--kit", "kit", "--root", "old"); !strings.Contains(s.out, "SQL Server 15.0.4261.1") || !strings.Contains(s.out, "1 table") {
		t.Errorf("survey: %s", s.out)
	}
	random := rand.New(rand.NewPCG(32, 4))
	pack := []string{"pack", "--kit", "kit", "--root", "old"}
	killedAnywhere(t, random, 6, 2, 400*time.Millisecond, dir, pack...)
	must(t, 0, dir, pack...)
	unpack := []string{"unpack", "--kit", "kit", "--root", "new", "--user", "maren=mholm", "--yes"}
	undo := []string{"undo", "--yes", "--kit", "kit", "--root", "new"}
	// A refused step leaves nothing of it on the server.
	for _, refused := range []string{"DBCC", "CREATE LOGIN", "UPDATE x"} {
		now.Refuse(func(statement string) *simsql.Error {
			if strings.HasPrefix(statement, refused) {
				return &simsql.Error{Number: 262, Text: "permission denied"}
			}
			return nil
		})
		if s := run(t, dir, unpack...); s.code == 0 && refused != "UPDATE x" || len(now.Names()) != 1 && refused != "UPDATE x" {
			t.Errorf("%s refused: exit %d, databases %v\n%s", refused, s.code, now.Names(), s.err)
		}
	}
	now.Refuse(nil)
	must(t, 0, dir, undo...)
	killedAnywhere(t, random, 12, 2, 900*time.Millisecond, dir, unpack...)
	s := must(t, 0, dir, unpack...)
	names := now.Names()
	if len(names) != 2 || names[0] != "Berths" || !strings.HasPrefix(names[1], "Berths_set_aside_") {
		t.Fatalf("databases: %v\n%s", names, s.out+s.err)
	}
	d := now.Get("Berths")
	if len(d.Tables[0].Rows) != 300 || d.Tables[0].Rows[7][2].Shown != "/home/mholm/photos/1.png" {
		t.Errorf("%d rows, %q", len(d.Tables[0].Rows), d.Tables[0].Rows[7][2].Shown)
	}
	if s := must(t, 0, dir, "verify", "--kit", "kit", "--root", "new"); !strings.Contains(s.out, "same") || !strings.Contains(s.out, "300 boats") {
		t.Errorf("verify: %s", s.out)
	}
	// One changed byte is found, and its row is shown.
	d.Tables[0].Rows[7][1] = simsql.Chars("quay seven")
	fatal.If(t, now.Put("Berths", d))
	if s := must(t, 3, dir, "verify", "--kit", "kit", "--root", "new"); !strings.Contains(s.out+s.err, "quay seven") || !strings.Contains(s.out+s.err, "quay 7") {
		t.Errorf("verify: %s%s", s.out, s.err)
	}
	d.Tables[0].Rows[7][1] = simsql.Chars("quay 7")
	fatal.If(t, now.Put("Berths", d))
	killedAnywhere(t, random, 6, 1, 300*time.Millisecond, dir, undo...)
	must(t, 0, dir, undo...)
	if d := now.Get("Berths"); d == nil || len(d.Tables[0].Rows) != 3 || !slices.Equal(now.Names(), []string{"Berths"}) {
		t.Errorf("after undo: %v", now.Names())
	}
	must(t, 0, dir, unpack...)
	must(t, 0, dir, "verify", "--kit", "kit", "--root", "new")
	must(t, 0, dir, "retire", "--kit", "kit", "--root", "old")
	if names := old.Names(); len(names) != 1 || !strings.HasPrefix(names[0], "Berths_set_aside_") {
		t.Errorf("on the old server: %v", names)
	}
	for _, side := range sides {
		if left, _ := os.ReadDir(filepath.Join(side.Dir, "backup")); len(left) > 0 {
			t.Errorf("left in the folder for backups: %v", left)
		}
	}
}
