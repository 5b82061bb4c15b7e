//go:build unix

package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// dumped is a database whose own programs save and load it. @DB stands for the database, @DIR for the test's folder.
type dumped struct {
	name, card   string
	make, change []string // shell commands
	shows        string   // shell command that shows its content
	kills        int
}

// TestDump moves databases with their own programs: over an existing one, which is set aside, and back with undo.
func TestDump(t *testing.T) {
	t.Parallel()
	all := []dumped{{
		name: "sqlite3", kills: 10, card: `
      save: [/usr/bin/sqlite3, @DB, '.output "{file}"', .dump]
      load: [/usr/bin/sqlite3, @DB, '.read "{file}"']
      exists: [/usr/bin/test, -s, @DB]
      remove: [/bin/rm, @DB]
      figures: [{name: boats, run: [/usr/bin/sqlite3, @DB, SELECT count(*) FROM boat]}]`,
		make:   []string{"sqlite3 @DB 'CREATE TABLE boat (n); WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c WHERE n < 20000) INSERT INTO boat SELECT n FROM c'"},
		change: []string{"sqlite3 @DB 'DELETE FROM boat WHERE n > 5; INSERT INTO boat VALUES (-1)'"}, shows: "sqlite3 @DB 'SELECT count(*), sum(n) FROM boat'",
	}}
	if s, err := dbserver.Firebird(); err == nil {
		t.Cleanup(s.Stop)
		at, login := "127.0.0.1/"+s.Port+":@DB", "-user, "+dbserver.FirebirdUser+", -password, "+dbserver.FirebirdPassword
		sql := "printf '%s' | isql-fb -q -user " + dbserver.FirebirdUser + " -password " + dbserver.FirebirdPassword + " " + at
		fatal.If(t, s.Create("boats"))
		all = append(all, dumped{name: "gbak", card: `
      save: [/usr/bin/gbak, -b, ` + login + ", " + at + `, '{file}']
      load: [/usr/bin/gbak, -c, ` + login + `, '{file}', ` + at + `]
      exists: [/usr/bin/test, -e, @DB]
      remove: [/bin/rm, @DB]
      figures: [{name: boats, run: [/bin/sh, -c, "echo 'SELECT count(*) FROM boat;' | isql-fb -q -user ` + dbserver.FirebirdUser + " -password " + dbserver.FirebirdPassword + " " + at + `"], pattern: '(?m)^\s*(\d+)\s*$'}]`,
			make: []string{fmt.Sprintf(sql, "CREATE TABLE boat (n INTEGER); COMMIT; INSERT INTO boat VALUES (1); INSERT INTO boat VALUES (2); COMMIT;")}, change: []string{fmt.Sprintf(sql, "DELETE FROM boat WHERE n = 1; COMMIT;")}, shows: fmt.Sprintf(sql, "SELECT n FROM boat;"),
		})
		all[1].card = strings.ReplaceAll(all[1].card, "@DB", s.Path("boats"))
		for _, words := range []*string{&all[1].make[0], &all[1].change[0], &all[1].shows} {
			*words = strings.ReplaceAll(*words, "@DB", s.Path("boats"))
		}
	}
	if _, err := exec.LookPath("slapadd"); err == nil {
		all = append(all, dumped{name: "slapd", card: `
      save: [/usr/sbin/slapcat, -f, @DIR/slapd.conf, -l, '{file}']
      load: [/usr/sbin/slapadd, -q, -f, @DIR/slapd.conf, -l, '{file}']
      exists: [/usr/bin/test, -s, @DIR/ldap/data.mdb]
      remove: [/bin/rm, @DIR/ldap/data.mdb, @DIR/ldap/lock.mdb]
      figures: [{name: entries, run: [/bin/sh, -c, "slapcat -f @DIR/slapd.conf | grep -c ^dn:"]}]`,
			make:   []string{`mkdir -p @DIR/ldap; printf 'include /etc/ldap/schema/core.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\ndatabase mdb\nsuffix dc=tern\ndirectory @DIR/ldap\n' > @DIR/slapd.conf; printf 'dn: dc=tern\nobjectClass: dcObject\nobjectClass: organization\no: Harbour office\ndc: tern\n\ndn: cn=Quay,dc=tern\nobjectClass: organizationalRole\ncn: Quay\n' | slapadd -q -f @DIR/slapd.conf`},
			change: []string{`rm @DIR/ldap/*.mdb; printf 'dn: dc=tern\nobjectClass: dcObject\nobjectClass: organization\no: Other\ndc: tern\n' | slapadd -q -f @DIR/slapd.conf`}, shows: "slapcat -f @DIR/slapd.conf | grep -E '^(dn|o|cn):'"})
	}
	need(t, "sqlite3", "isql-fb", "gbak")
	for _, d := range all {
		t.Run(d.name, func(t *testing.T) {
			t.Parallel()
			d.move(t)
		})
	}
}

func (d dumped) move(t *testing.T) {
	dir := t.TempDir()
	text := strings.NewReplacer("@DB", filepath.Join(dir, "boats.db"), "@DIR", dir)
	sh := func(words string) string {
		t.Helper()
		out, err := exec.CommandContext(t.Context(), "sh", "-c", text.Replace(words)).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", words, err, out)
		}
		return string(out)
	}
	lay.Out(t, dir, map[string]string{"boats.yaml": "card: 1\nname: boats\ntitle: Boats\nitems:\n  - name: database\n    kind: dump\n    path: '" + filepath.Join(dir, "dumps") + "'\n    dump:" + text.Replace(d.card) + "\n"})
	for _, words := range d.make {
		sh(words)
	}
	must(t, 0, dir, "new", "kit", "--cards", "boats.yaml", "--keep", "--yes")
	// Without consent nothing runs.
	if s := run(t, dir, "pack", "--kit", "kit"); s.code == 0 || !strings.Contains(s.out+s.err, "agreed to run") {
		t.Errorf("without consent: exit %d\n%s%s", s.code, s.out, s.err)
	}
	random := rand.New(rand.NewPCG(32, 5))
	first := sh(d.shows)
	pack := []string{"pack", "--kit", "kit", "--run-commands"}
	if d.kills > 0 {
		killedAnywhere(t, random, d.kills, 2, 400*time.Millisecond, dir, pack...)
	}
	must(t, 0, dir, pack...)
	for _, words := range d.change {
		sh(words)
	}
	second := sh(d.shows)
	if first == second {
		t.Fatalf("nothing changed: %s", first)
	}
	unpack := []string{"unpack", "--kit", "kit", "--yes", "--run-commands"}
	if d.kills > 0 {
		killedAnywhere(t, random, d.kills, 2, 600*time.Millisecond, dir, unpack...)
	}
	must(t, 0, dir, unpack...)
	if now := sh(d.shows); now != first {
		t.Errorf("after unpack %s, want %s", now, first)
	}
	if s := must(t, 0, dir, "verify", "--kit", "kit", "--run-commands"); !strings.Contains(s.out, "same") {
		t.Errorf("verify: %s", s.out)
	}
	undo := []string{"undo", "--kit", "kit", "--yes", "--run-commands"}
	if d.kills > 0 {
		killedAnywhere(t, random, d.kills, 2, 400*time.Millisecond, dir, undo...)
	}
	must(t, 0, dir, undo...)
	if now := sh(d.shows); now != second {
		t.Errorf("after undo %s, want %s", now, second)
	}
	var left []string
	filepath.WalkDir(filepath.Join(dir, "dumps"), func(path string, _ os.DirEntry, _ error) error {
		if name := filepath.Base(path); strings.Contains(name, ".saving") || strings.Contains(name, ".partial") || strings.Contains(name, ".pack") || strings.Contains(name, ".loaded") {
			left = append(left, name)
		}
		return nil
	})
	if len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}
