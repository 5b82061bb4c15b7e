package main

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	_ "modernc.org/sqlite" // makes the database
)

// sqlite packs a database of 1,000,000 rows.
func (b *bench) sqlite() error {
	if _, err := exec.LookPath("sqlite3"); err != nil {
		fmt.Println("sqlite3 is not installed: left out")
		return nil
	}
	fmt.Println("making a SQLite database of 1,000,000 rows")
	root, err := b.computer("lite-old")
	if err != nil {
		return err
	}
	name := filepath.Join(root, "srv", "ledger.db")
	db, err := sql.Open("sqlite", name)
	if err != nil {
		return err
	}
	for _, q := range []string{
		"CREATE TABLE entry (id INTEGER PRIMARY KEY, account INTEGER, at TEXT, cents REAL, note TEXT)",
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000) INSERT INTO entry SELECT i, 1 + i % 50000, datetime(1420070400 + i * 420, 'unixepoch'), i * 7919 % 100000 / 100.0, CASE WHEN i % 3 THEN hex(i * 7919) || ' mooring of boat ' || i END FROM n",
		"CREATE INDEX entry_account ON entry (account)",
	} {
		if _, err := db.Exec(q); err != nil {
			return err
		}
	}
	if err := db.Close(); err != nil {
		return err
	}
	card := "card: 1\nname: ledger\ntitle: Ledger\nitems:\n  - {name: data, kind: sqlite, path: /srv/ledger.db}\n"
	if err := os.WriteFile(filepath.Join(b.dir, "ledger.yaml"), []byte(card), 0o644); err != nil {
		return err
	}
	if err := b.ageKey(); err != nil {
		return err
	}
	fresh := func() error {
		if err := b.remove("kit"); err != nil {
			return err
		}
		_, err := b.timed(false, b.program, "--quiet", "new", "kit", "--root", "lite-old", "--cards", "ledger.yaml")
		return err
	}
	for _, against := range []struct {
		what, does string
		goal       float64
	}{
		{".backup, integrity_check, .sha3sum, zstd, age, flushed", "sqlite3 lite-old/srv/ledger.db '.backup their.db' && [ \"$(sqlite3 their.db 'PRAGMA integrity_check')\" = ok ] && sqlite3 their.db .sha3sum > /dev/null && zstd -3 -q -c their.db | age -R key.pub -o their.age && sync -f their.age", 0.75},
		{"VACUUM INTO and age, flushed: it checks nothing", "sqlite3 lite-old/srv/ledger.db \"VACUUM INTO 'their.db'\" && age -R key.pub -o their.age their.db && sync -f their.age", 0},
	} {
		if err := b.compare("SQLite, 1,000,000 rows, pack", against.what, against.goal, false, side{fresh, b.movekit("pack", "--root", "lite-old")}, side{func() error { return b.remove("their.db", "their.age") }, shell(against.does)}); err != nil {
			return err
		}
	}
	return b.remove("kit", "their.db", "their.age", "lite-old", "ledger.yaml")
}
