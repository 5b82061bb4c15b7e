package test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/dbserver"
)

// servers starts an old and a new PostgreSQL server.
func servers(t *testing.T) (old, now *dbserver.Server) {
	t.Helper()
	for _, s := range []**dbserver.Server{&old, &now} {
		var err error
		if *s, err = dbserver.Postgres(); err != nil {
			if errors.Is(err, dbserver.ErrMissing) && os.Getenv("CI") != "true" {
				t.Skip(err)
			}
			t.Fatal(err)
		}
		t.Cleanup((*s).Stop)
	}
	return old, now
}

func query(t *testing.T, s *dbserver.Server, database, text string) string {
	t.Helper()
	out, err := s.SQL(database, text)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// ledgerOffice makes two computers whose settings name their own server.
func ledgerOffice(t *testing.T) (dir string, old, now *dbserver.Server) {
	t.Helper()
	old, now = servers(t)
	dir = t.TempDir()
	ini := func(s *dbserver.Server) string {
		return fmt.Sprintf("[db]\nhost=%s\nport=%s\nname=ledger\nuser=postgres\npassword=s3cret-of-the-ledger\n", s.Dir, s.Port)
	}
	lay(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/etc/pontoon.ini": ini(old), "new/etc/pontoon.ini": ini(now),
		"ledger.yaml": `card: 1
name: pontoon
title: Pontoon Ledger
programs: [pontoon]
items:
  - name: ledger
    kind: postgresql
    server:
      host: {file: /etc/pontoon.ini, key: db/host}
      port: {file: /etc/pontoon.ini, key: db/port}
      database: {file: /etc/pontoon.ini, key: db/name}
      user: {file: /etc/pontoon.ini, key: db/user}
      password: {file: /etc/pontoon.ini, key: db/password}
    mask: [account.phone, phone]
    counts: [{name: accounts, query: SELECT count(*) FROM account}]
sync: [{about: bookings, item: ledger, query: SELECT count(*) FROM account WHERE unsent}]
`})
	query(t, old, "postgres", "CREATE DATABASE ledger; CREATE ROLE pontoon_app LOGIN PASSWORD 'x'")
	query(t, old, "ledger", "CREATE TABLE account (id int PRIMARY KEY, name text, phone text, unsent bool DEFAULT false); INSERT INTO account SELECT i, 'boat ' || i, '0' || i FROM generate_series(1, 300) i; ALTER TABLE account OWNER TO pontoon_app; CREATE TABLE pad AS SELECT i, repeat(md5(i::text), 10) AS x FROM generate_series(1, 40000) i")
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "ledger.yaml", "--to", "NEW")
	return dir, old, now
}

func TestPostgresMove(t *testing.T) {
	dir, old, now := ledgerOffice(t)
	query(t, old, "ledger", "UPDATE account SET unsent = true WHERE id = 3")
	if s := step(t, 0, dir, "old", "survey"); !strings.Contains(s.out, "2 tables") || !strings.Contains(s.out, "1 record still to be sent") || strings.Contains(s.out, "s3cret") {
		t.Errorf("survey: %s%s", s.out, s.err)
	}
	query(t, old, "ledger", "UPDATE account SET unsent = false")
	before := query(t, old, "ledger", "SELECT md5(string_agg(a::text, ',' ORDER BY id)) FROM account a")
	first := step(t, 0, dir, "old", "pack")
	// Every sealed file of it is one of the kit, and damage to any is seen.
	if s := must(t, 0, dir, "inspect", "--kit", "kit"); strings.Contains(s.out, "not of the kit") {
		t.Errorf("inspect: %s", s.out)
	}
	sealed, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/pontoon/ledger.*"))
	if len(sealed) != 3 {
		t.Errorf("sealed: %v", sealed)
	}
	for _, name := range sealed {
		data, _ := os.ReadFile(name)
		data[len(data)/2] ^= 1
		os.WriteFile(name, data, 0o644)
		must(t, 1, dir, "inspect", "--kit", "kit")
		data[len(data)/2] ^= 1
		os.WriteFile(name, data, 0o644)
	}
	query(t, now, "postgres", "CREATE DATABASE ledger")
	query(t, now, "ledger", "CREATE TABLE theirs (n int)")
	if s := step(t, 0, dir, "new", "survey", "--on-new"); !strings.Contains(s.out, "something else is in the way") {
		t.Errorf("on the new one: %s", s.out)
	}
	u := step(t, 0, dir, "new", "unpack")
	if !strings.Contains(u.out, "role pontoon_app was made on the new server without a password") || !strings.Contains(u.out, "/ledger_set_aside_") {
		t.Errorf("unpack: %s", u.out)
	}
	if got := query(t, now, "ledger", "SELECT md5(string_agg(a::text, ',' ORDER BY id)) FROM account a"); got != before {
		t.Error("the rows are not the same")
	}
	aside := query(t, now, "postgres", "SELECT datname FROM pg_database WHERE datname LIKE 'ledger_set%'")
	if query(t, now, aside, "SELECT count(*) FROM theirs") != "0" {
		t.Error("what was in the way is lost")
	}
	if got := query(t, now, "postgres", "SELECT count(*) FROM pg_database WHERE datname LIKE '%stage%'"); got != "0" {
		t.Errorf("%s staged databases were left", got)
	}
	if s := step(t, 0, dir, "new", "verify"); !strings.Contains(s.out, "accounts") || !strings.Contains(s.out, "300") {
		t.Errorf("verify: %s", s.out)
	}
	if s := step(t, 0, dir, "new", "unpack"); !strings.Contains(s.out, "the same already") {
		t.Errorf("again: %s", s.out)
	}
	query(t, now, "ledger", "UPDATE account SET phone = '999', name = 'other' WHERE id = 7; DELETE FROM account WHERE id = 8")
	if s := step(t, 3, dir, "new", "verify"); !strings.Contains(s.out, "id 7: name was boat 7, is other; phone was •••, is •••") || !strings.Contains(s.out, "id 8: the row is missing") {
		t.Errorf("verify: %s", s.out)
	}
	step(t, 0, dir, "new", "unpack", "--in-the-way", "keep-both")
	if query(t, now, "ledger_from_OLD", "SELECT count(*) FROM account") != "300" || query(t, now, "ledger", "SELECT count(*) FROM account") != "299" {
		t.Error("keep-both")
	}
	// What was worked in beside the other is not lost when it is put there again.
	query(t, now, "ledger_from_OLD", "UPDATE account SET name = 'worked in' WHERE id = 1")
	step(t, 0, dir, "new", "unpack", "--in-the-way", "keep-both")
	worked := 0
	for _, name := range strings.Fields(query(t, now, "postgres", "SELECT datname FROM pg_database WHERE datname LIKE 'ledger_from_OLD%'")) {
		if query(t, now, name, "SELECT count(*) FROM account WHERE name = 'worked in'") == "1" {
			worked++
		}
	}
	if worked != 1 || query(t, now, "ledger_from_OLD", "SELECT count(*) FROM account") != "300" {
		t.Errorf("what was worked in is there %d times", worked)
	}
	if got := query(t, old, "ledger", "SELECT md5(string_agg(a::text, ',' ORDER BY id)) FROM account a"); got != before {
		t.Error("the old database was changed")
	}
	filepath.WalkDir(filepath.Join(dir, "kit"), func(path string, e os.DirEntry, _ error) error {
		if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), "s3cret") {
			t.Errorf("%s tells the password", path)
		}
		return nil
	})
	if strings.Contains(first.out+first.err+u.out+u.err, "s3cret") {
		t.Error("the screen tells the password")
	}
}

// TestPostgresFaults has servers go away, and the program killed, in the middle
// of the steps: the same command again ends well.
func TestPostgresFaults(t *testing.T) {
	dir, old, now := ledgerOffice(t)
	old.Halt()
	s := step(t, 4, dir, "old", "pack")
	if !strings.Contains(s.err, "does not answer") || strings.Contains(s.err, "s3cret") {
		t.Errorf("with the server down: %s", s.err)
	}
	if err := old.Start(); err != nil {
		t.Fatal(err)
	}
	step(t, 0, dir, "old", "pack")
	query(t, now, "postgres", "CREATE DATABASE ledger")
	query(t, now, "ledger", "CREATE TABLE theirs (n int)")
	// Killed at moments of the unpack, at first early and then later.
	for _, wait := range []time.Duration{300, 500, 700, 900, 1200} {
		cmd := command(t.Context(), dir, "unpack", "--kit", "kit", "--root", "new")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(wait * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
	}
	now.Halt()
	if s := run(t, dir, "unpack", "--kit", "kit", "--root", "new"); s.code != 1 || !strings.Contains(s.err, "does not answer") {
		t.Errorf("with the new server down: %d %s", s.code, s.err)
	}
	if err := now.Start(); err != nil {
		t.Fatal(err)
	}
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "verify")
	theirs := 0
	for _, name := range strings.Fields(query(t, now, "postgres", "SELECT datname FROM pg_database WHERE NOT datistemplate AND datname <> 'postgres'")) {
		if query(t, now, name, "SELECT count(*) FROM pg_class WHERE relname = 'theirs'") == "1" {
			theirs++
		}
	}
	if theirs != 1 || query(t, now, "ledger", "SELECT count(*) FROM account") != "300" {
		t.Errorf("what was in the way is there %d times", theirs)
	}
}

// TestPulledDrive sees that the settings of a pulled drive do not lead to the
// server of the computer that it is attached to.
func TestPulledDrive(t *testing.T) {
	dir, old, _ := ledgerOffice(t)
	os.Remove(filepath.Join(dir, "old/computer.yaml"))
	lay(t, dir, map[string]string{"old/etc/hostname": "OLD", "old/etc/machine-id": "h-old"})
	for _, host := range []string{old.Dir, "localhost", "127.0.0.1", ""} {
		lay(t, dir, map[string]string{"old/etc/pontoon.ini": fmt.Sprintf("[db]\nhost=%s\nport=%s\nname=ledger\nuser=postgres\n", host, old.Port)})
		if s := step(t, 0, dir, "old", "survey"); !strings.Contains(s.out, "can only be read by a running server") || strings.Contains(s.out, "2 tables") {
			t.Errorf("%q: %s", host, s.out)
		}
	}
}
