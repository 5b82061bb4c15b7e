package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/dbserver"
)

// ledgerSQL creates a million rows like those of a ledger.
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

const ledgerMariaDB = `
CREATE TABLE account (id int PRIMARY KEY, name varchar(80) NOT NULL, phone varchar(30), opened date);
INSERT INTO account SELECT seq, concat('boat ', seq), concat('0', seq * 7919 % 1000000), date '2010-01-01' + interval seq % 5000 day FROM seq_1_to_50000;
CREATE TABLE entry (id bigint PRIMARY KEY, account int, at datetime, cents decimal(12,2), note text, KEY entry_account (account), KEY entry_at (at), FOREIGN KEY (account) REFERENCES account (id));
INSERT INTO entry SELECT seq, 1 + seq % 50000, timestamp '2015-01-01 00:00:00' + interval seq * 7 minute, (seq * 7919 % 100000) / 100, if(seq % 3 = 0, null, concat(md5(seq), ' mooring')) FROM seq_1_to_800000;
CREATE TABLE reading (meter int, at datetime, value double);
INSERT INTO reading SELECT seq % 200, timestamp '2020-01-01 00:00:00' + interval seq minute, sin(seq) FROM seq_1_to_150000;
`

const ledgerFirebird = `
CREATE TABLE account (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(80) NOT NULL, phone VARCHAR(30), opened DATE);
CREATE TABLE entry (id BIGINT NOT NULL PRIMARY KEY, account INTEGER REFERENCES account (id), made TIMESTAMP, cents NUMERIC(12,2), note VARCHAR(60));
CREATE TABLE reading (meter INTEGER, made TIMESTAMP, val DOUBLE PRECISION);
SET TERM ^;
COMMIT^
EXECUTE BLOCK AS DECLARE i INTEGER = 1; BEGIN
  WHILE (i <= 50000) DO BEGIN INSERT INTO account VALUES (:i, 'boat ' || :i, '0' || mod(:i * 7919, 1000000), dateadd(mod(:i, 5000) DAY TO date '2010-01-01')); i = i + 1; END i = 1;
  WHILE (i <= 800000) DO BEGIN INSERT INTO entry VALUES (:i, 1 + mod(:i, 50000), dateadd(:i * 7 MINUTE TO timestamp '2015-01-01 00:00:00'), mod(:i, 100000) / 100.0, iif(mod(:i, 3) = 0, NULL, hash(:i) || ' mooring of ' || :i)); i = i + 1; END i = 1;
  WHILE (i <= 150000) DO BEGIN INSERT INTO reading VALUES (mod(:i, 200), dateadd(:i MINUTE TO timestamp '2020-01-01 00:00:00'), sin(:i)); i = i + 1; END END^
COMMIT^
CREATE INDEX entry_made ON entry (made)^
COMMIT^
SET TERM ;^
`

// served is an engine whose databases are moved between two private servers.
type served struct {
	name, kind string
	start      func() (*dbserver.Server, error)
	login      func(*dbserver.Server) string // of the app's settings
	file       func(*dbserver.Server, string) string
	create     func(s *dbserver.Server, name string) error
	drop       func(s *dbserver.Server, name string) error
	ledger     string
	goal       float64
	theirs     string                                     // what it is compared with
	dump, load func(s *dbserver.Server) string            // of that: to their.dump's pipe, and back into the database theirs
	read       func(s *dbserver.Server) (what, sh string) // reads every row
	large      map[string]string                          // further databases, for the memory they take
}

// tables is the name of a database with many tables.
const tables = "10,000 tables"

func plain(_ *dbserver.Server, name string) string { return name }

func inAdmin(admin, create string) func(*dbserver.Server, string) error {
	return func(s *dbserver.Server, name string) error {
		_, err := s.SQL(admin, fmt.Sprintf(create, name))
		return err
	}
}

var servers = []served{
	{
		name: "PostgreSQL", kind: "postgresql", start: dbserver.Postgres, file: plain, ledger: ledgerSQL, goal: 0.8,
		login:  func(s *dbserver.Server) string { return "host=" + s.Dir + "\nuser=postgres\n" },
		create: inAdmin("postgres", "CREATE DATABASE %s"), drop: inAdmin("postgres", "DROP DATABASE IF EXISTS %s"),
		theirs: "pg_dump -Fc | zstd | age, and back with pg_restore -j2",
		dump:   func(s *dbserver.Server) string { return "pg_dump -Fc " + pg(s) + " ledger" },
		load: func(s *dbserver.Server) string {
			return "cat > their.dump; pg_restore -j2 " + pg(s) + " -d theirs their.dump; rm their.dump"
		},
		read: func(s *dbserver.Server) (string, string) {
			return "COPY TO STDOUT of every table", "psql -X " + pg(s) + " -d ledger -c 'COPY account TO STDOUT' -c 'COPY entry TO STDOUT' -c 'COPY reading TO STDOUT' > /dev/null"
		},
		large: map[string]string{
			"a row of 100 MB":   "CREATE TABLE big (id int, t text); INSERT INTO big SELECT 1, string_agg(md5(i::text), '') FROM generate_series(1, 3125000) i",
			"a bytea of 100 MB": "CREATE TABLE big (id int, b bytea); INSERT INTO big SELECT 1, decode(string_agg(md5(i::text), ''), 'hex') FROM generate_series(1, 6250000) i",
			tables:              "DO $$ BEGIN FOR i IN 1..10000 LOOP EXECUTE format('CREATE TABLE t%s (id int, n text)', i); IF i % 500 = 0 THEN COMMIT; END IF; END LOOP; END $$; INSERT INTO t1 VALUES (1, 'x')",
		},
	},
	{
		name: "MariaDB", kind: "mariadb", start: dbserver.MariaDB, file: plain, ledger: ledgerMariaDB, goal: 0.8,
		login:  func(s *dbserver.Server) string { return "host=" + s.Socket + "\nuser=root\n" },
		create: inAdmin("mysql", "CREATE DATABASE %s"), drop: inAdmin("mysql", "DROP DATABASE IF EXISTS %s"),
		theirs: "mariadb-dump --single-transaction | zstd | age, and back with mariadb",
		dump:   func(s *dbserver.Server) string { return "mariadb-dump " + my(s) + " --single-transaction ledger" },
		load:   func(s *dbserver.Server) string { return "mariadb " + my(s) + " theirs" },
		read: func(s *dbserver.Server) (string, string) {
			return "SELECT * of every table", "mariadb " + my(s) + " --quick --batch ledger -e 'SELECT * FROM account; SELECT * FROM entry; SELECT * FROM reading' > /dev/null"
		},
		large: map[string]string{
			"a row of 100 MB": "SET max_session_mem_used = DEFAULT; CREATE TABLE big (id int PRIMARY KEY, t longtext); INSERT INTO big SELECT 1, repeat('0123456789abcdef', 6250000)",
			tables:            "DELIMITER //\nCREATE PROCEDURE p() BEGIN DECLARE i int DEFAULT 1; WHILE i <= 10000 DO EXECUTE IMMEDIATE concat('CREATE TABLE t', i, ' (id int, n text)'); SET i = i + 1; END WHILE; END //\nDELIMITER ;\nCALL p(); INSERT INTO t1 VALUES (1, 'x')",
		},
	},
	{
		name: "Firebird", kind: "firebird", start: dbserver.Firebird, file: (*dbserver.Server).Path, ledger: ledgerFirebird, goal: 0.85,
		login: func(*dbserver.Server) string {
			return "host=127.0.0.1\nuser=" + dbserver.FirebirdUser + "\npassword=" + dbserver.FirebirdPassword + "\n"
		},
		create: (*dbserver.Server).Create,
		drop: func(s *dbserver.Server, name string) error {
			if err := os.Remove(s.Path(name)); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			return nil
		},
		theirs: "gbak backup | zstd | age, a read of every row, and back with gbak",
		dump: func(s *dbserver.Server) string {
			return "echo 'SELECT * FROM account; SELECT * FROM entry; SELECT * FROM reading;' | " + strings.TrimSuffix(fb(s), "gbak") + "isql-fb -q -ch NONE 127.0.0.1/" + s.Port + ":" + s.Path("ledger") + " > /dev/null; " + fb(s) + " -b -g -se 127.0.0.1/" + s.Port + ":service_mgr " + s.Path("ledger") + " stdout"
		},
		load: func(s *dbserver.Server) string {
			return fb(s) + " -c -se 127.0.0.1/" + s.Port + ":service_mgr stdin " + s.Path("theirs")
		},
	},
}

func pg(s *dbserver.Server) string { return "-h " + s.Dir + " -p " + s.Port + " -U postgres" }

func my(s *dbserver.Server) string {
	return "--no-defaults --max-allowed-packet=1G -u root -S " + s.Socket
}

func fb(*dbserver.Server) string {
	return "ISC_USER=" + dbserver.FirebirdUser + " ISC_PASSWORD=" + dbserver.FirebirdPassword + " gbak"
}

// served moves a database of 1,000,000 rows between two private servers.
func (b *bench) served(e served) error {
	old, err := e.start()
	if errors.Is(err, dbserver.ErrMissing) {
		fmt.Println(e.name + " is not installed: left out")
		return nil
	}
	if err != nil {
		return err
	}
	defer old.Stop()
	now, err := e.start()
	if err != nil {
		return err
	}
	defer now.Stop()
	fmt.Println("making a " + e.name + " database of 1,000,000 rows")
	if err := e.create(old, "ledger"); err != nil {
		return err
	}
	if _, err := old.SQL("ledger", e.ledger); err != nil {
		return err
	}
	for name, s := range map[string]*dbserver.Server{"db-old": old, "db-new": now} {
		root, err := b.computer(name)
		if err != nil {
			return err
		}
		text := fmt.Sprintf("name: %s\nsystem: linux\nhardware-id: %s\n", name, name)
		if err := os.WriteFile(filepath.Join(root, "computer.yaml"), []byte(text), 0o644); err != nil {
			return err
		}
		ini := e.login(s) + "port=" + s.Port + "\nname=" + e.file(s, "ledger") + "\n"
		if err := os.WriteFile(filepath.Join(root, "etc", "db.ini"), []byte(ini), 0o644); err != nil {
			return err
		}
	}
	card := "card: 1\nname: ledger\ntitle: Ledger\nitems:\n  - {name: data, kind: " + e.kind + ", server: {"
	for _, key := range []string{"host", "port", "database", "user", "password"} {
		card += fmt.Sprintf("%s: {file: /etc/db.ini, key: %s}, ", key, strings.Replace(key, "database", "name", 1))
	}
	if err := os.WriteFile(filepath.Join(b.dir, "ledger.yaml"), []byte(strings.TrimSuffix(card, ", ")+"}}\n"), 0o644); err != nil {
		return err
	}
	if err := b.ageKey(); err != nil {
		return err
	}
	clear := func() error {
		return errors.Join(e.drop(now, "ledger"), e.drop(now, "theirs"), b.remove("kit", "their.age"))
	}
	fresh := func() error {
		if err := clear(); err != nil {
			return err
		}
		_, err := b.timed(false, b.program, "--quiet", "new", "kit", "--root", "db-old", "--cards", "ledger.yaml")
		return err
	}
	empty := func() error { // their loaders want a database to load into
		if err := clear(); err != nil || e.kind == "firebird" {
			return err
		}
		return e.create(now, "theirs")
	}
	mk := b.program + " --quiet --kit kit "
	ours := shell(mk + "pack --root db-old && " + mk + "unpack --root db-new")
	theirs := shell("(" + e.dump(old) + ") | zstd -3 -q | age -R key.pub -o their.age && age -d -i key.txt their.age | zstd -d -q | (" + e.load(now) + ")")
	if err := b.compare(e.name+", 1,000,000 rows, pack + unpack", e.theirs, e.goal, false, side{fresh, ours}, side{empty, theirs}); err != nil {
		return err
	}
	if e.read != nil {
		if err := fresh(); err != nil {
			return err
		}
		if _, err := b.timed(false, ours[0], ours[1:]...); err != nil {
			return err
		}
		what, read := e.read(now)
		if err := b.compare(e.name+", fingerprint alone (verify)", what, 1.5, false, side{nil, b.movekit("verify", "--root", "db-new")}, side{nil, shell(read)}); err != nil {
			return err
		}
	}
	if err := b.largeRows(e, old, side{fresh, ours}, side{empty, theirs}); err != nil {
		return err
	}
	return b.remove("kit", "their.age", "db-old", "db-new", "ledger.yaml")
}

// largeRows moves a row of 100 MB and 10,000 tables, to measure the memory.
func (b *bench) largeRows(e served, old *dbserver.Server, ours, theirs side) error {
	runs := b.runs
	b.runs = 1
	defer func() { b.runs = runs }()
	for work, sql := range e.large {
		if err := errors.Join(e.drop(old, "ledger"), e.create(old, "ledger")); err != nil {
			return err
		}
		if _, err := old.SQL("ledger", sql); err != nil {
			return err
		}
		if err := b.compare(e.name+", "+work+", pack + unpack", e.theirs, map[bool]float64{true: 0.8, false: 1}[work == tables], false, ours, theirs); err != nil {
			return err
		}
	}
	return nil
}
