package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"movekit/internal/dbserver"
)

// ledgerSQL makes a million rows of the sort that a ledger has.
const ledgerSQL = `
CREATE TABLE account (id int PRIMARY KEY, name text NOT NULL, phone text, opened date);
INSERT INTO account SELECT i, 'boat ' || i, '0' || i::bigint * 7919 % 1000000, date '2010-01-01' + i % 5000 FROM generate_series(1, 50000) i;
CREATE TABLE entry (id bigint PRIMARY KEY, account int REFERENCES account, at timestamptz, cents numeric(12,2), note text);
INSERT INTO entry SELECT i, 1 + i % 50000, timestamptz '2015-01-01' + i * interval '7 minutes', (i::bigint * 7919 % 100000) / 100.0, CASE WHEN i % 3 = 0 THEN NULL ELSE md5(i::text) || ' mooring' END FROM generate_series(1, 800000) i;
CREATE INDEX entry_account ON entry (account); CREATE INDEX entry_at ON entry (at);
CREATE TABLE reading (meter int, at timestamp, value float8);
INSERT INTO reading SELECT i % 200, timestamp '2020-01-01' + i * interval '1 minute', sin(i) FROM generate_series(1, 150000) i;
VACUUM ANALYZE;
`

// postgres moves a database of 1,000,000 rows between two private servers.
func (b *bench) postgres() error {
	old, err := dbserver.Postgres()
	if errors.Is(err, dbserver.ErrMissing) {
		fmt.Println("PostgreSQL is not installed: left out")
		return nil
	}
	if err != nil {
		return err
	}
	defer old.Stop()
	now, err := dbserver.Postgres()
	if err != nil {
		return err
	}
	defer now.Stop()
	fmt.Println("making a PostgreSQL database of 1,000,000 rows")
	if _, err := old.SQL("postgres", "CREATE DATABASE ledger"); err != nil {
		return err
	}
	if _, err := old.SQL("ledger", ledgerSQL); err != nil {
		return err
	}
	for name, s := range map[string]*dbserver.Server{"pg-old": old, "pg-new": now} {
		root, err := b.computer(name)
		if err != nil {
			return err
		}
		text := fmt.Sprintf("name: %s\nsystem: linux\nhardware-id: %s\n", name, name)
		if err := os.WriteFile(filepath.Join(root, "computer.yaml"), []byte(text), 0o644); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(root, "etc", "db.ini"), []byte("host="+s.Dir+"\nport="+s.Port+"\n"), 0o644); err != nil {
			return err
		}
	}
	card := "card: 1\nname: ledger\ntitle: Ledger\nitems:\n  - {name: data, kind: postgresql, server: {host: {file: /etc/db.ini, key: host}, port: {file: /etc/db.ini, key: port}, database: ledger, user: postgres}}\n"
	if err := os.WriteFile(filepath.Join(b.dir, "ledger.yaml"), []byte(card), 0o644); err != nil {
		return err
	}
	if err := b.ageKey(); err != nil {
		return err
	}
	clear := func() error {
		_, err := now.SQL("postgres", "DROP DATABASE IF EXISTS ledger; DROP DATABASE IF EXISTS theirs")
		return errors.Join(err, b.remove("kit", "their.age"))
	}
	fresh := func() error {
		if err := clear(); err != nil {
			return err
		}
		_, err := b.timed(false, b.program, "--quiet", "new", "kit", "--root", "pg-old", "--cards", "ledger.yaml")
		return err
	}
	mk := b.program + " --quiet --kit kit "
	conn := func(s *dbserver.Server) string { return "-h " + s.Dir + " -p " + s.Port + " -U postgres" }
	ours := shell(mk + "pack --root pg-old && " + mk + "unpack --root pg-new")
	theirs := shell("pg_dump -Fc " + conn(old) + " ledger | zstd -3 -q | age -R key.pub -o their.age && createdb " + conn(now) + " theirs && age -d -i key.txt their.age | zstd -d -q > their.dump && pg_restore -j2 " + conn(now) + " -d theirs their.dump && rm their.dump")
	if err := b.compare("PostgreSQL, 1,000,000 rows, pack + unpack", "pg_dump -Fc | zstd | age, and back with pg_restore -j2", "1.15", false, side{fresh, ours}, side{clear, theirs}); err != nil {
		return err
	}
	if err := fresh(); err != nil {
		return err
	}
	if _, err := b.timed(false, ours[0], ours[1:]...); err != nil {
		return err
	}
	copyOut := "psql -X " + conn(now) + " -d ledger -c 'COPY account TO STDOUT' -c 'COPY entry TO STDOUT' -c 'COPY reading TO STDOUT' > /dev/null"
	if err := b.compare("PostgreSQL, fingerprint alone (verify)", "COPY TO STDOUT of every table", "1.50", false, side{nil, b.movekit("verify", "--root", "pg-new")}, side{nil, shell(copyOut)}); err != nil {
		return err
	}
	if err := b.largeRows(old, now, ours, fresh); err != nil {
		return err
	}
	return b.remove("kit", "their.age", "pg-old", "pg-new", "ledger.yaml")
}

// largeRows moves a row of 100 MB, and 10,000 tables, for the memory it takes.
func (b *bench) largeRows(old, now *dbserver.Server, ours []string, fresh func() error) error {
	runs := b.runs
	b.runs = 1
	defer func() { b.runs = runs }()
	for work, sql := range map[string]string{
		"PostgreSQL, a row of 100 MB": "CREATE TABLE big (id int, t text); INSERT INTO big SELECT 1, string_agg(md5(i::text), '') FROM generate_series(1, 3125000) i",
		"PostgreSQL, 10,000 tables":   "DO $$ BEGIN FOR i IN 1..10000 LOOP EXECUTE format('CREATE TABLE t%s (id int, n text)', i); IF i % 500 = 0 THEN COMMIT; END IF; END LOOP; END $$; INSERT INTO t1 VALUES (1, 'x')",
	} {
		if _, err := old.SQL("postgres", "DROP DATABASE ledger"); err != nil {
			return err
		}
		if _, err := old.SQL("postgres", "CREATE DATABASE ledger"); err != nil {
			return err
		}
		if _, err := old.SQL("ledger", sql); err != nil {
			return err
		}
		dump := shell("pg_dump -Fc -h " + old.Dir + " -p " + old.Port + " -U postgres ledger > their.dump && rm their.dump")
		if err := b.compare(work+", pack + unpack", "pg_dump -Fc alone", "200 MB", false, side{fresh, ours}, side{nil, dump}); err != nil {
			return err
		}
	}
	return nil
}
