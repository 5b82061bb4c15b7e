//go:build unix

package mariadb

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/served"
	"movekit/internal/dbserver"
	"movekit/test/dbcases"
	"movekit/test/fatal"
)

var old, now *dbserver.Server

func TestMain(m *testing.M) { dbcases.Main(m, dbserver.MariaDB, &old, &now) }

// openAt opens a session that lasts as long as the test.
func openAt(t *testing.T, s served.Server) *session {
	o := Engine{}.Open(s, nil).(*session)
	t.Cleanup(o.Close)
	return o
}

func server(s *dbserver.Server, database string) served.Server {
	return served.Server{Kind: card.MariaDB, Host: s.Socket, User: "root", Database: database}
}

// fresh creates a database on the old server.
func fresh(t *testing.T, name, text string) served.Server {
	t.Helper()
	dbcases.SQL(t, old, "mysql", "DROP DATABASE IF EXISTS "+name+"; CREATE DATABASE "+name+" CHARACTER SET utf8mb4 COLLATE utf8mb4_swedish_ci")
	dbcases.SQL(t, old, name, text)
	return server(old, name)
}

func sealed(t *testing.T, s served.Server, counts ...card.Count) (*schema.Sealed, served.Loading, []byte) {
	t.Helper()
	return dbcases.Sealed(t, Engine{}, openAt(t, s), s.Database, counts)
}

func place(t *testing.T, d *schema.Sealed, p served.Loading, to served.Server) string {
	t.Helper()
	return dbcases.Place(t, Engine{}, openAt(t, to), to.Database, d, p, "")
}

func same(t *testing.T, d *schema.Sealed, s served.Server, counts ...card.Count) {
	t.Helper()
	dbcases.Same(t, openAt(t, s), s.Database, d, counts)
}

const everything = `
CREATE TABLE account (id int unsigned NOT NULL AUTO_INCREMENT, name varchar(60) NOT NULL, phone varchar(30) CHARACTER SET latin1, balance decimal(12,2) DEFAULT 0, cents bigint GENERATED ALWAYS AS (balance * 100) STORED, upname varchar(60) AS (upper(name)) VIRTUAL,
  state enum('open','it''s paid') DEFAULT 'open', marks set('a','b'), seen timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(), born date, flags bit(5), extra json, pic longblob, ratio float, hidden int INVISIBLE DEFAULT 7, CHECK (balance > -1000000),
  PRIMARY KEY (id), UNIQUE KEY by_name (name), KEY by_born (born DESC), KEY by_note (phone(5)), FULLTEXT KEY words (name)) ENGINE=InnoDB COMMENT 'it''s the accounts; all of them';
SET sql_mode='NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', time_zone='+00:00';
INSERT INTO account (id, name, phone, balance, state, marks, seen, born, flags, extra, pic, ratio) SELECT seq, concat('boat ', seq), concat('+49 é ', seq), seq * 1.25, if(seq % 2, 'open', 'it''s paid'), if(seq % 3, 'a,b', ''), '2026-01-01 10:00:00' + interval seq hour, if(seq % 7, '2020-02-29', '0000-00-00'), seq % 32, concat('{"n": ', seq, '}'), unhex(hex(repeat(char(seq % 256), 40))), seq / 3 FROM seq_1_to_500;
INSERT INTO account (id, name, born) VALUES (0, 'zero; -- not a comment', '2026-02-31'), (1000, 'line
break	tab \\ back ''quoted'' "double" 😀', NULL);
CREATE TABLE entry (id bigint PRIMARY KEY, account int unsigned, day date, note text, CONSTRAINT of_account FOREIGN KEY (account) REFERENCES account (id) ON DELETE CASCADE, KEY of_day (day, account)) PARTITION_HERE;
INSERT INTO entry SELECT seq, 1 + seq % 500, '2024-06-01' + interval seq day, repeat('n', seq % 50) FROM seq_1_to_900;
CREATE TABLE self (id int PRIMARY KEY, boss int, FOREIGN KEY (boss) REFERENCES self (id)); SET foreign_key_checks=0; INSERT INTO self VALUES (1, 3), (2, 1), (3, 1);
CREATE TABLE parts (id int, y int) PARTITION BY RANGE (y) (PARTITION p0 VALUES LESS THAN (2020), PARTITION p1 VALUES LESS THAN MAXVALUE); INSERT INTO parts VALUES (1, 2019), (2, 2026);
CREATE TABLE aria_one (a int NOT NULL AUTO_INCREMENT, b int, PRIMARY KEY (b, a), KEY (a)) ENGINE=Aria; INSERT INTO aria_one (b) VALUES (1), (2);
CREATE TABLE isam (t varchar(20), FULLTEXT KEY (t)) ENGINE=MyISAM; INSERT INTO isam VALUES ('fast'), (NULL);
CREATE TABLE shape (g geometry NOT NULL, SPATIAL KEY (g)); INSERT INTO shape VALUES (ST_GeomFromText('POINT(1 2)')), (ST_GeomFromText('POLYGON((0 0,0 1,1 1,0 0))'));
CREATE TABLE ` + "`we``ird; \"t'`" + ` (` + "`a b`" + ` int, ` + "`Ünï,(`" + ` text COMMENT 'x; y'); INSERT INTO ` + "`we``ird; \"t'`" + ` VALUES (1, 'x'), (NULL, NULL), (2, '');
CREATE TABLE nothing (g int AS (1) VIRTUAL, h int AS (2) STORED); INSERT INTO nothing VALUES (), ();
CREATE SEQUENCE numbers START WITH 100 INCREMENT BY 5; SELECT nextval(numbers), nextval(numbers);
CREATE FUNCTION double_of(n int) RETURNS int DETERMINISTIC RETURN n * 2;
CREATE VIEW a_last AS SELECT id, name, double_of(id) AS twice FROM z_first;
CREATE OR REPLACE VIEW z_first AS SELECT * FROM account WHERE state = 'open';
DELIMITER //
CREATE PROCEDURE touch(IN who int) SQL SECURITY INVOKER BEGIN
  -- INSERT INTO ` + "`entry`" + ` (a line that looks like rows)
  UPDATE account SET balance = balance + 1 WHERE id = who; END //
SET sql_mode='ANSI_QUOTES'//
CREATE DEFINER='boss'@'%' TRIGGER entry_in BEFORE INSERT ON entry FOR EACH ROW BEGIN
  SET NEW.note = coalesce(NEW.note, 'it''s new;'); END //
DELIMITER ;
CREATE TRIGGER entry_out AFTER DELETE ON entry FOR EACH ROW UPDATE account SET balance = 0 WHERE id = OLD.account;
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2026-01-01 03:00:00' COMMENT 'it''s nightly' DO DELETE FROM entry WHERE day < '2000-01-01';
`

func all() string {
	text := strings.Replace(everything, " PARTITION_HERE", "", 1)
	// A view that another view needs.
	first := "CREATE VIEW z_first AS SELECT id, name FROM account;\nCREATE VIEW a_last"
	return strings.Replace(text, "CREATE VIEW a_last", first, 1)
}

func TestEverythingMoves(t *testing.T) {
	s := fresh(t, "everything", all())
	dbcases.SQL(t, old, "mysql", "CREATE OR REPLACE USER 'office'@'%' IDENTIFIED BY 's3cret-word'; GRANT SELECT, INSERT ON everything.* TO 'office'@'%'; GRANT SELECT ON mysql.* TO 'office'@'%'")
	count := card.Count{Name: "accounts", Query: "SELECT count(*) FROM account"}
	d, p, data := sealed(t, s, count)
	notes := place(t, d, p, server(now, "everything"))
	same(t, d, server(now, "everything"), count)
	if d.Counts[0].Value != 502 || d.Rows() < 1400 {
		t.Errorf("%v, %d rows", d.Counts, d.Rows())
	}
	for _, want := range []string{"trigger entry_in run as `boss`@`%`, who does not exist on the new server", "'office'@'%' does not exist on the new server", "GRANT SELECT, INSERT ON `everything`.*"} {
		if !strings.Contains(notes, want) {
			t.Errorf("not told: %s\n%s", want, notes)
		}
	}
	if strings.Contains(notes, "mysql.") || strings.Contains(notes+fmt.Sprint(*d)+string(data), "s3cret") || strings.Contains(fmt.Sprint(*d), "IDENTIFIED") {
		t.Errorf("told or sealed too much: %s", notes)
	}
	for _, c := range [][2]string{
		{"SELECT count(*), sum(cents), max(hidden) FROM account", "502\t15656250\t7"}, {"SELECT name FROM account WHERE id = 0", "zero; -- not a comment"},
		{"SELECT count(*) FROM account WHERE born = '0000-00-00'", "71"}, {"SELECT born FROM account WHERE id = 0", "2026-02-31"}, {"SELECT twice FROM a_last WHERE id = 7", "14"},
		{"SELECT ST_AsText(g) FROM shape ORDER BY 1 LIMIT 1", "POINT(1 2)"}, {"SELECT hex(pic) LIKE '0707%', phone, flags+0, ratio FROM account WHERE id = 7", "1\t+49 é 7\t7\t2.33333"},
		{"SELECT nextval(numbers) > 105", "1"}, {"INSERT INTO account (name) VALUES ('next'); SELECT last_insert_id()", "1001"}, {"SELECT count(*) FROM nothing", "2"},
		{"CALL touch(3); SELECT balance FROM account WHERE id = 3", "4.75"}, {"SELECT @@collation_database", "utf8mb4_swedish_ci"},
		{"SELECT sql_mode FROM information_schema.triggers WHERE trigger_name = 'entry_in'", "ANSI_QUOTES"}, {"SELECT status, event_comment FROM information_schema.events WHERE event_schema = 'everything'", "ENABLED\tit's nightly"},
		{"DELETE FROM account WHERE id = 9; SELECT count(*) FROM entry WHERE account = 9", "0"},
	} {
		if got, err := now.SQL("everything", c[0]); err != nil || got != c[1] {
			t.Errorf("%s gives %q, want %q (%v)", c[0], got, c[1], err)
		}
	}
	if _, err := now.SQL("everything", "INSERT INTO entry VALUES (5000, 1, '2026-01-01', NULL)"); err == nil || !strings.Contains(err.Error(), "definer") {
		t.Errorf("the trigger of somebody who is not there runs: %v", err)
	}
	// Placed again over modified data, as the user who unpacks.
	p.Mine = true
	if notes := place(t, d, p, server(now, "everything")); !strings.Contains(notes, "now they run as the user who unpacked") {
		t.Errorf("%q", notes)
	}
	if got := dbcases.SQL(t, now, "everything", "INSERT INTO entry VALUES (5000, 1, '2026-01-01', NULL); SELECT note FROM entry WHERE id = 5000"); got != "it's new;" {
		t.Errorf("the trigger says %q", got)
	}
	// Loaded without Move Kit, with the server's own client.
	dbcases.SQL(t, now, "mysql", "CREATE DATABASE byhand CHARACTER SET utf8mb4 COLLATE utf8mb4_swedish_ci")
	dbcases.SQL(t, now, "byhand", string(data))
	same(t, d, server(now, "byhand"))
}

// TestEveryByte moves every byte in every character set, numbers of an enum or set that have no name, and
// long rows whose keys have types that no literal of a text equals.
func TestEveryByte(t *testing.T) {
	var sql []string
	sets := strings.Fields(dbcases.SQL(t, old, "mysql", "SELECT character_set_name FROM information_schema.character_sets WHERE character_set_name NOT IN ('binary', 'utf8mb4', 'utf8mb3') ORDER BY 1"))
	if len(sets) < 30 {
		t.Fatalf("%q", sets)
	}
	for _, set := range sets {
		sql = append(sql, fmt.Sprintf("CREATE TABLE %s (n int PRIMARY KEY, c char(4) CHARACTER SET %[1]s, v varchar(9) CHARACTER SET %[1]s, t text CHARACTER SET %[1]s, l longtext CHARACTER SET %[1]s, e enum('a', 'b') CHARACTER SET %[1]s)", set))
		if strings.Contains(" big5 cp932 eucjpms euckr gb2312 gbk sjis ucs2 ujis utf16 utf16le utf32 ", " "+set+" ") {
			sql = append(sql, fmt.Sprintf("INSERT INTO %s VALUES (1, 'a~', 'b', CONVERT('\\\\表ソ漢字 é€~¥' USING %[1]s), '漢', 'b')", set))
			continue
		}
		var values []string
		for b := 1; b < 256; b++ {
			values = append(values, fmt.Sprintf("(%d, x'%02[1]x', x'41%02[1]x', x'%02[1]x%02[1]x', x'%02[1]x41', 'a')", b))
		}
		sql = append(sql, fmt.Sprintf("INSERT INTO %s VALUES %s", set, strings.Join(values, ",")))
	}
	s := fresh(t, "bytes", "SET sql_mode = '';"+strings.Join(sql, ";")+`;CREATE TABLE kinds (n int PRIMARY KEY, e enum('x', '2', '1') NOT NULL, s set('a', 'b')); INSERT INTO kinds VALUES (1, 0, 0), (2, 'none', 'a,b'), (3, '1', 'b'), (4, '2', NULL);
		CREATE TABLE by_float (f float PRIMARY KEY, t longtext CHARACTER SET latin1); INSERT INTO by_float VALUES (0.1, repeat('é', 9000000)), (2.5, 'x');
		CREATE TABLE by_bit (b bit(40) PRIMARY KEY, t longtext); INSERT INTO by_bit VALUES (b'100000000000000000000000000000001', repeat('y', 9000000)), (b'1', 'x');
		CREATE TABLE by_enum (e enum('p', 'q'), t longtext, PRIMARY KEY (e)); INSERT INTO by_enum VALUES ('q', repeat('z', 9000000)), ('p', 'x');
		CREATE TABLE by_text (k varchar(9) CHARACTER SET hebrew PRIMARY KEY, t longtext); INSERT INTO by_text VALUES (x'a1', repeat('w', 9000000)), (x'fe', 'x')`)
	d, p, _ := sealed(t, s)
	place(t, d, p, server(now, "bytes"))
	same(t, d, server(now, "bytes"))
	for _, set := range sets {
		sums := "SELECT count(*), sum(crc32(concat_ws('|', n, hex(c), hex(v), hex(t), hex(l), e + 0))) FROM " + set
		if was, is := dbcases.SQL(t, old, "bytes", sums), dbcases.SQL(t, now, "bytes", sums); was != is {
			t.Errorf("%s: was %s, is %s", set, was, is)
		}
	}
	for _, sums := range []string{"SELECT n, e + 0, s + 0 FROM kinds ORDER BY n", "SELECT f, length(t), md5(t) FROM by_float ORDER BY 1", "SELECT b + 0, length(t), md5(t) FROM by_bit ORDER BY 1", "SELECT e + 0, length(t), md5(t) FROM by_enum ORDER BY 1", "SELECT hex(k), length(t), md5(t) FROM by_text ORDER BY 1"} {
		was, is := dbcases.SQL(t, old, "bytes", sums), dbcases.SQL(t, now, "bytes", sums)
		if was != is || !strings.Contains(was, "\n") {
			t.Errorf("%s: was %s\nis %s", sums, was, is)
		}
	}
}

// TestNamesLikeSQL moves a database with a table of its own name, defaults that are the next of a sequence,
// and names and comments that contain SQL.
func TestNamesLikeSQL(t *testing.T) {
	s := fresh(t, "tickets", "CREATE SEQUENCE q INCREMENT BY 5; CREATE TABLE tickets (id int PRIMARY KEY DEFAULT nextval(q), n int DEFAULT (nextval(tickets.q)) COMMENT 'it''s (`tickets`.`q`), KEY `x` (`n`)') COMMENT = ' AUTO_INCREMENT=77 tickets.tickets'; CREATE TABLE log (id int);"+
		"CREATE TABLE counted (id int AUTO_INCREMENT PRIMARY KEY) COMMENT = 'x AUTO_INCREMENT=5'; INSERT INTO counted VALUES (41);"+
		"CREATE VIEW v AS SELECT tickets.id, log.id AS l FROM tickets JOIN log ON tickets.id = log.id; CREATE VIEW w AS SELECT tickets.tickets.id FROM tickets.tickets;"+
		"CREATE FUNCTION f() RETURNS int RETURN (SELECT count(tickets.id) FROM tickets.tickets WHERE tickets.id > 0) + length('tickets.f()'); CREATE FUNCTION g() RETURNS int RETURN tickets.f();"+
		"CREATE TRIGGER tr AFTER INSERT ON tickets FOR EACH ROW INSERT INTO tickets.log VALUES (NEW.id); CREATE PROCEDURE p() INSERT INTO log SELECT tickets.id FROM tickets;"+
		"CREATE EVENT `keep PRESERVE ENABLE x` ON SCHEDULE EVERY 1 DAY ON COMPLETION PRESERVE COMMENT 'ON COMPLETION NOT PRESERVE DISABLE' DO DELETE FROM tickets.log; CREATE EVENT `off PRESERVE DISABLE` ON SCHEDULE EVERY 1 DAY ON COMPLETION PRESERVE DISABLE DO DELETE FROM tickets WHERE tickets.id < 0; INSERT INTO tickets (n) VALUES (1), (2)")
	dbcases.SQL(t, old, "mysql", "ALTER DATABASE tickets COMMENT = 'a; DROP TABLE x;\\nCOMMENT ON DATABASE'")
	d, p, _ := sealed(t, s)
	for range 2 { // the second time, a database is there that is set aside
		place(t, d, p, server(now, "tickets"))
		same(t, d, server(now, "tickets"))
	}
	const facts = "SELECT table_name, auto_increment, table_comment FROM information_schema.tables WHERE table_schema = 'tickets' AND table_type = 'BASE TABLE' ORDER BY 1; SELECT event_name, status, on_completion, event_comment FROM information_schema.events WHERE event_schema = 'tickets' ORDER BY 1; SELECT schema_comment FROM information_schema.schemata WHERE schema_name = 'tickets'; SELECT column_default, column_comment FROM information_schema.columns WHERE table_schema = 'tickets' AND table_name = 'tickets'; SELECT f(), g(), (SELECT count(*) FROM w)"
	if was, is := dbcases.SQL(t, old, "tickets", facts), dbcases.SQL(t, now, "tickets", facts); was != is {
		t.Errorf("was %s\nis %s", was, is)
	}
	if got := dbcases.SQL(t, now, "tickets", "CALL p(); INSERT INTO tickets (n) VALUES (5); SELECT count(*), max(id) - min(id) >= 10 FROM tickets; SELECT count(*) FROM v"); got != "3\t1\n5" {
		t.Errorf("%q", got)
	}
}

// TestLongRows moves rows that are read and loaded in pieces.
func TestLongRows(t *testing.T) {
	s := fresh(t, "longs", `CREATE TABLE page (k varchar(10) CHARACTER SET latin1, b binary(2), t longtext CHARACTER SET latin1, bl longblob, n int, u mediumtext CHARACTER SET utf8mb4, PRIMARY KEY (k, b));
INSERT INTO page VALUES ('it''s é', x'0027', repeat('é''\\\n,(', 1500000), unhex(repeat('00ff27', 999999)), 7, NULL), ('short', x'0000', 'x', '', 8, ''), ('b', x'ffff', NULL, unhex(repeat('5c', 4200001)), NULL, repeat('😀', 100));
CREATE TABLE keyless (t longtext); INSERT INTO keyless SELECT t FROM page;`)
	d, p, data := sealed(t, s)
	place(t, d, p, server(now, "longs"))
	same(t, d, server(now, "longs"))
	const sums = "SELECT k, md5(t), md5(bl), n, md5(u) FROM page ORDER BY k; SELECT md5(t) FROM keyless ORDER BY 1"
	if was, is := dbcases.SQL(t, old, "longs", sums), dbcases.SQL(t, now, "longs", sums); was != is {
		t.Errorf("was %s\nis %s", was, is)
	}
	dbcases.SQL(t, now, "mysql", "DROP DATABASE IF EXISTS byhand; CREATE DATABASE byhand CHARACTER SET utf8mb4 COLLATE utf8mb4_swedish_ci")
	dbcases.SQL(t, now, "byhand", string(data))
	same(t, d, server(now, "byhand"))
	dbcases.SQL(t, now, "longs", "UPDATE page SET n = 9 WHERE k = 'b'")
	diffs, err := dbprint.DiffRows(*d.Table("page"), Engine{}.SealedRows(p.Rows, *d.Table("page")), openAt(t, server(now, "longs")).Rows(t.Context(), server(now, "longs").Database, *d.Table("page")), nil)
	if err != nil || len(diffs) != 1 || !strings.HasSuffix(diffs[0], "n was NULL, is 9") {
		t.Errorf("%q %v", diffs, err)
	}
	// A long row that contains anything but literals is not loaded.
	hostile := bytes.Replace(data, []byte("x'78',x'',8,''"), []byte("x'78',x'',sleep(1),''"), 1)
	long := bytes.Replace(data, []byte(",7,NULL)"), []byte(",(SELECT 7),NULL)"), 1)
	for _, text := range [][]byte{hostile, long, data[:len(data)/3], data[:len(data)-20], bytes.Replace(data, []byte("INSERT INTO `page` ("), []byte("INSERT INTO `page` (k) SELECT 1; -- ("), 1)} {
		p.Rows = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }
		if _, err := openAt(t, server(now, "longs")).Stage(t.Context(), d, p); fault.KindOf(err) != fault.Hostile && fault.KindOf(err) != fault.Damaged {
			t.Errorf("loaded: %v (%s)", err, fault.KindOf(err))
		}
	}
}

func TestFaults(t *testing.T) {
	s := fresh(t, "faults", "CREATE TABLE boat (id int PRIMARY KEY, name varchar(20)); INSERT INTO boat VALUES (1, 'x')")
	with := func(change func(*served.Server)) served.Server {
		c := s
		change(&c)
		return c
	}
	dbcases.SQL(t, old, "mysql", "CREATE OR REPLACE USER reader IDENTIFIED BY 'r'; GRANT SELECT ON faults.* TO reader; CREATE OR REPLACE USER blind IDENTIFIED BY 'b'")
	for name, c := range map[string]struct {
		s    served.Server
		kind fault.Kind
	}{
		"wrong password": {with(func(s *served.Server) { s.User, s.Password = "reader", "s3cret-word" }), fault.ServerLogin}, "server down": {with(func(s *served.Server) { s.Host, s.Port = "127.0.0.1", "1" }), fault.ServerDown},
		"no socket": {with(func(s *served.Server) { s.Host = "/nowhere" }), fault.ServerDown}, "no such database": {with(func(s *served.Server) { s.Database += "x" }), fault.Missing}, "no right": {with(func(s *served.Server) { s.User, s.Password = "blind", "b" }), fault.ServerLogin},
	} {
		if _, err := openAt(t, c.s).Look(t.Context(), c.s.Database); fault.KindOf(err) != c.kind || strings.Contains(fmt.Sprint(err), "s3cret") {
			t.Errorf("%s: %v (%s)", name, err, fault.KindOf(err))
		}
	}
	l, err := openAt(t, with(func(s *served.Server) { s.User, s.Password = "reader", "r" })).Look(t.Context(), s.Database)
	if err != nil || l.Tables != 1 || !strings.HasPrefix(l.Engine, "MariaDB 1") {
		t.Errorf("%+v %v", l, err)
	}
	dbcases.Slow(t, "SELECT count(*) FROM information_schema.collations a, information_schema.collations b, information_schema.collations c, information_schema.collations d", func(ctx context.Context, query string) (int64, error) {
		return openAt(t, s).Ask(ctx, s.Database, query)
	})
	for query, kind := range map[string]fault.Kind{"SELECT 'x'": fault.BadCard, "SELECT 1, 2": fault.BadCard, "SELECT id FROM boat WHERE false": fault.BadCard, "SELECT * FROM nothing": fault.Changed} {
		if _, err := openAt(t, s).Ask(t.Context(), s.Database, query); fault.KindOf(err) != kind {
			t.Errorf("%s: %v (%s)", query, err, fault.KindOf(err))
		}
	}
	if _, err := openAt(t, s).Ask(t.Context(), s.Database, "DELETE FROM boat"); err == nil || dbcases.SQL(t, old, "faults", "SELECT count(*) FROM boat") != "1" {
		t.Errorf("a query that deletes was run: %v", err)
	}
	if _, err := openAt(t, s).Ask(t.Context(), s.Database, "SELECT 1 INTO OUTFILE '"+old.Dir+"/written'"); err == nil {
		t.Error("a query that writes a file was run")
	}
	d, p, _ := sealed(t, s)
	for want, change := range map[string]func(*schema.Sealed){
		"old one was MySQL 8.0.36": func(d *schema.Sealed) { d.Engine = "MySQL 8.0.36" }, "old one was MariaDB 99.1.0": func(d *schema.Sealed) { d.Engine = "MariaDB 99.1.0" },
		"storage engine TOKUDB is not": func(d *schema.Sealed) { d.Needs = []string{"storage engine TOKUDB"} }, "max_allowed_packet=": func(d *schema.Sealed) { d.Longest = 1 << 40 },
	} {
		other := *d
		change(&other)
		if lacks, err := openAt(t, server(now, "faults")).Lacks(t.Context(), "faults", &other); err != nil || len(lacks) != 1 || !strings.Contains(lacks[0], want) {
			t.Errorf("%s: %q %v", want, lacks, err)
		}
	}
	// A login without enough rights is reported before anything is tried.
	dbcases.SQL(t, now, "mysql", "CREATE OR REPLACE USER little IDENTIFIED BY 'l'")
	weak, more := server(now, "faults"), *d
	weak.User, weak.Password = "little", "l"
	more.Defined = []schema.Object{{Sort: "VIEW", Name: "v", SQL: "CREATE VIEW v AS SELECT 1", Definer: "`boss`@`%`", Mode: "NO_SUCH_MODE"}}
	lacks, err := openAt(t, weak).Lacks(t.Context(), "faults", &more)
	for _, want := range []string{"cannot create databases", "sql_mode NO_SUCH_MODE", "create objects that run as `boss`@`%`"} {
		if err != nil || !strings.Contains(strings.Join(lacks, "\n"), want) {
			t.Errorf("%s: %q %v", want, lacks, err)
		}
	}
	// The error for a row that breaks a rule of the new server names the table.
	p.Rows = func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader("INSERT INTO `boat` (`id`,`name`) VALUES\n(1,'x');\nINSERT INTO `boat` (`id`,`name`) VALUES\n(1,'y');\n")), nil
	}
	if _, err := openAt(t, server(now, "faults")).Stage(t.Context(), d, p); fault.KindOf(err) != fault.BadDatabase || !strings.Contains(err.Error(), "boat") {
		t.Errorf("a key twice: %v", err)
	}
}

// TestChanges checks that every change of the definitions is detected.
func TestChanges(t *testing.T) {
	s := fresh(t, "changes", dbcases.Base[dbcases.MariaDB])
	o := openAt(t, s)
	d, p, _ := sealed(t, s)
	place(t, d, p, server(now, "changes"))
	same(t, d, server(now, "changes"))
	dbcases.Changes(t, dbcases.MariaDB, func(t *testing.T, text string) { dbcases.SQL(t, old, "changes", text) }, func(t *testing.T) *dbprint.Fingerprint {
		f, err := o.Fingerprint(t.Context(), "changes", nil, nil)
		fatal.If(t, err)
		return f
	})
}

// TestSchemas moves the databases of real applications. A copy is the same by our comparison and by
// the engine's own dump.
func TestSchemas(t *testing.T) {
	dbcases.Schemas(t, dbcases.MariaDB, func(t *testing.T, text string) {
		dbcases.SQL(t, now, "mysql", "DROP DATABASE IF EXISTS zm")
		name := "schema_of"
		if strings.Contains(text, "USE `zm`") {
			name = "zm"
		}
		s := fresh(t, name, text)
		d, p, _ := sealed(t, s)
		to := server(now, name)
		place(t, d, p, to)
		same(t, d, to)
		dbcases.SameDumps(t, old, now, name, func(s string) string { return s })
		fatal.If(t, openAt(t, to).Drop(t.Context(), name))
	})
}

func TestCases(t *testing.T) {
	dbcases.Try(t, dbcases.MariaDB, func(t *testing.T, sql []string) {
		fresh(t, "cases", "SET sql_mode = 'ALLOW_INVALID_DATES';\n"+strings.Join(sql, ";\n"))
	}, func(t *testing.T, otherwise bool) *dbprint.Fingerprint {
		if otherwise {
			dbcases.SQL(t, old, "mysql", "SET GLOBAL time_zone = '+05:45', GLOBAL sql_mode = 'PAD_CHAR_TO_FULL_LENGTH,ANSI,NO_ZERO_DATE,STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES', GLOBAL character_set_server = 'ucs2', GLOBAL div_precision_increment = 9, GLOBAL lc_time_names = 'de_DE'")
			defer dbcases.SQL(t, old, "mysql", "SET GLOBAL time_zone = 'SYSTEM', GLOBAL sql_mode = DEFAULT, GLOBAL character_set_server = DEFAULT, GLOBAL div_precision_increment = DEFAULT, GLOBAL lc_time_names = DEFAULT")
		}
		f, err := openAt(t, server(old, "cases")).Fingerprint(t.Context(), server(old, "cases").Database, nil, nil)
		fatal.If(t, err)
		return f
	})
	// Names that the old server distinguished stay distinct.
	for name, types := range map[string]string{"double": "v double", "single": "v float", "moment": "v timestamp(6) NULL, w datetime"} {
		s := fresh(t, "cases", "SET sql_mode=''; CREATE TABLE c ("+types+"); INSERT INTO c (v) VALUES (NULL), (0), ("+map[string]string{"double": "-0e0), (0.30000000000000004), (5e-324", "single": "0.1), (16777217), (1e-38", "moment": "20260329013000.000001"}[name]+")")
		d, p, _ := sealed(t, s)
		place(t, d, p, server(now, "cases"))
		same(t, d, server(now, "cases"))
	}
}

// dumped are databases as the server's own tool writes them.
func dumped(t *testing.T, databases ...string) string {
	t.Helper()
	all := ""
	for _, name := range databases {
		text, err := now.Dump(name)
		fatal.If(t, err)
		all += name + ":\n" + strings.ReplaceAll(text, "`"+name+"`", "``")
	}
	return all
}

// TestExistingDatabase refuses every statement of setting a database aside in turn, and
// interrupts at every one. The existing database is always complete under one of its names
// (compared with its server's dump), and the same command completes the work. Undo restores
// everything too.
func TestExistingDatabase(t *testing.T) {
	d, p, _ := sealed(t, fresh(t, "inway", "CREATE TABLE boat (id int PRIMARY KEY); INSERT INTO boat VALUES (1), (2); CREATE VIEW v AS SELECT * FROM boat; CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO SET @x = 1"))
	to := server(now, "inway")
	theirs := `CREATE TABLE account (id int PRIMARY KEY AUTO_INCREMENT, name varchar(20)); INSERT INTO account (name) VALUES ('a'), ('b');
CREATE TABLE entry (id int PRIMARY KEY, account int, note text, FOREIGN KEY (account) REFERENCES account (id) ON DELETE CASCADE); INSERT INTO entry VALUES (1, 1, 'x');
CREATE SEQUENCE numbers START WITH 100; CREATE FUNCTION double_of(n int) RETURNS int DETERMINISTIC RETURN n * 2;
CREATE VIEW z_first AS SELECT id, name FROM account; CREATE VIEW a_last AS SELECT id, double_of(id) AS twice FROM z_first; CREATE OR REPLACE VIEW z_first AS SELECT id FROM account WHERE name = 'a';
SET sql_mode='ANSI_QUOTES'; CREATE DEFINER='boss'@'%' TRIGGER entry_in BEFORE INSERT ON entry FOR EACH ROW SET NEW."note" = coalesce(NEW.note, 'it''s new;'); SET sql_mode = '';
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 03:00:00' COMMENT 'it''s ENABLE' DO DELETE FROM entry WHERE id < 0;
CREATE TRIGGER inway.second BEFORE INSERT ON inway.entry FOR EACH ROW FOLLOWS entry_in SET NEW.note = concat(NEW.note, '!');
CREATE TRIGGER first BEFORE INSERT ON entry FOR EACH ROW PRECEDES entry_in SET NEW.id = (SELECT coalesce(max(id), 0) + 1 FROM inway.entry);
CREATE VIEW inway.named AS SELECT id FROM inway.account;
CREATE PROCEDURE inway.whole() SELECT 'inway.account' AS t, count(*) FROM ` + "`inway` . `account`" + `;
SET sql_mode = 'ORACLE';
DELIMITER //
CREATE PACKAGE pack AS FUNCTION one RETURN int; END; //
CREATE PACKAGE BODY pack AS FUNCTION one RETURN int AS BEGIN RETURN (SELECT count(*) FROM inway.account); END; END; //
DELIMITER ;
SET sql_mode = ''; SET timestamp = 1; CREATE EVENT once ON SCHEDULE AT '2020-01-01 00:00:00' DO DELETE FROM entry WHERE id < 0; CREATE EVENT past ON SCHEDULE EVERY 1 DAY STARTS '2019-01-01 00:00:00' ENDS '2020-01-01 00:00:00' DISABLE DO SET @x = 2; SET timestamp = DEFAULT; CREATE EVENT sleeping ON SCHEDULE EVERY 1 DAY DISABLE DO SET @x = 'ENABLE';`
	stops, count := 0, 0
	defer func() { client.Refused = func(string) error { return nil } }()
	dbcases.SQL(t, now, "mysql", "DROP DATABASE IF EXISTS inway; CREATE DATABASE inway CHARACTER SET utf8mb4 COMMENT 'it''s'; CREATE OR REPLACE USER 'boss'@'%'")
	dbcases.SQL(t, now, "inway", theirs)
	before := dumped(t, "inway")
	for _, kill := range []bool{false, true} {
		for stop, step := dbcases.Every(6); ; stop += step {
			refuse := func(at int) {
				count = 0
				client.Refused = func(sql string) error {
					if strings.HasPrefix(sql, "SET ") || strings.HasPrefix(sql, "USE ") {
						return nil // changes nothing: as the next one
					}
					if count++; count == at || kill && count > at {
						return &mysql.MySQLError{Number: 1105, Message: "refused here: " + sql}
					}
					return nil
				}
			}
			// The next run completes an interrupted one. In between everything exists.
			whole := func(name, other string) {
				t.Helper()
				client.Refused = func(string) error { return nil }
				s := Engine{}.Open(to, nil).(*session)
				defer s.Close()
				if there, err := s.Exists(t.Context(), other); err != nil || there {
					name = other
				}
				if err := s.on(t.Context(), "", func(c *conn) error { return c.recover(t.Context()) }); err != nil {
					t.Fatalf("stopped at %d: %v", stop, err)
				}
				if name == "inway" {
					if is := dumped(t, name); is != before {
						t.Fatalf("stopped at %d (cut off: %v) the database is not whole:\n%s", stop, kill, firstDifference(before, is))
					}
				}
			}
			o := Engine{}.Open(to, nil).(*session)
			refuse(stop)
			err := o.Rename(t.Context(), "inway", "inway_aside", served.AtRest)
			reached := count
			if err != nil {
				whole("inway", "inway_aside")
				before := dbcases.SQL(t, now, "mysql", "SELECT table_schema, table_name FROM information_schema.tables WHERE table_schema LIKE 'inway%' ORDER BY 1, 2")
				_, err := o.Unfinished(t.Context(), "inway", "inway_aside")
				if _, xerr := o.Exists(t.Context(), "inway_aside"); err != nil || xerr != nil || dbcases.SQL(t, now, "mysql", "SELECT table_schema, table_name FROM information_schema.tables WHERE table_schema LIKE 'inway%' ORDER BY 1, 2") != before {
					t.Fatalf("a look changes the server: %v %v", err, xerr)
				}
				again := o.Resume(t.Context(), "inway", "inway_aside")
				if there, err := o.Exists(t.Context(), "inway"); err != nil {
					t.Fatal(err)
				} else if there {
					again = o.Rename(t.Context(), "inway", "inway_aside", served.AtRest)
				}
				if again != nil {
					t.Fatalf("stopped at %d, and then: %v", stop, again)
				}
			}
			client.Refused = func(string) error { return nil }
			if got := dbcases.SQL(t, now, "inway_aside", "SELECT count(*) FROM named; SELECT count(*) FROM z_first; CALL whole(); SELECT group_concat(trigger_name ORDER BY action_order) FROM information_schema.triggers WHERE trigger_schema = 'inway_aside' AND event_object_table = 'entry' AND action_timing = 'BEFORE'; SELECT group_concat(status) FROM information_schema.events WHERE event_schema = 'inway_aside'"); got != "2\n1\ninway.account\t2\nfirst,entry_in,second\nDISABLED,DISABLED,DISABLED,DISABLED" {
				t.Fatalf("set aside: %s", got)
			}
			// Placing and undoing are interrupted too.
			_, err = o.Stage(t.Context(), d, p)
			fatal.If(t, err)
			refuse(stop)
			errPut := dbcases.InPlace(t.Context(), o, "inway", p.Stage, "inway_aside")
			reachedPut := count
			client.Refused = func(string) error { return nil }
			if errPut != nil {
				_, err := o.Stage(t.Context(), d, p)
				fatal.If(t, err)
				if there, err := o.Exists(t.Context(), "inway"); err != nil {
					t.Fatal(err)
				} else if there {
					fatal.If(t, o.Drop(t.Context(), "inway"))
				}
				fatal.If(t, dbcases.InPlace(t.Context(), o, "inway", p.Stage, "inway_aside"))
			}
			same(t, d, to)
			if got := dbcases.SQL(t, now, "inway", "SELECT status FROM information_schema.events WHERE event_schema = 'inway'; SELECT count(*) FROM information_schema.tables WHERE table_schema = 'inway'"); got != "ENABLED\n2" {
				t.Fatalf("what was put there: %s", got)
			}
			fatal.If(t, o.Drop(t.Context(), "inway"))
			refuse(stop)
			errBack := o.Rename(t.Context(), "inway_aside", "inway", served.InService)
			reachedBack := count
			client.Refused = func(string) error { return nil }
			if errBack != nil {
				again := o.Resume(t.Context(), "inway_aside", "inway")
				if there, err := o.Exists(t.Context(), "inway_aside"); err != nil {
					t.Fatal(err)
				} else if there {
					again = o.Rename(t.Context(), "inway_aside", "inway", served.InService)
				}
				if again != nil {
					t.Fatalf("undo stopped at %d, and then: %v", stop, again)
				}
			}
			if is := dumped(t, "inway"); is != before {
				t.Fatalf("stopped at %d, what was in the way came back otherwise:\n%s", stop, firstDifference(before, is))
			}
			if got := dbcases.SQL(t, now, "mysql", "SELECT group_concat(schema_name ORDER BY 1) FROM information_schema.schemata WHERE schema_name LIKE 'inway%'"); got != "inway" {
				t.Fatalf("left behind: %s", got)
			}
			o.Close()
			if stop > max(reached, reachedPut, reachedBack) && err == nil && errPut == nil && errBack == nil {
				stops += stop - 1
				break
			}
		}
	}
	t.Logf("%d statements of a setting aside, of a placing and of an undo were refused or cut off", stops)
	if err := openAt(t, to).Rename(t.Context(), "inway", "mysql", served.AtRest); fault.KindOf(err) != fault.Changed {
		t.Errorf("renamed over another: %v", err)
	}
	// If a definition cannot be created again, nothing is changed, and the message names it.
	dbcases.SQL(t, now, "inway", "CREATE TABLE gone (x int); CREATE VIEW broken AS SELECT x FROM gone; DROP TABLE gone")
	print := func() *dbprint.Fingerprint {
		f, err := openAt(t, to).Fingerprint(t.Context(), "inway", nil, nil)
		fatal.If(t, err)
		return f
	}
	was := print()
	err := openAt(t, to).Rename(t.Context(), "inway", "inway_aside", served.AtRest)
	if err == nil || !strings.Contains(err.Error(), "view broken") || len(dbprint.Compare(was, print(), nil)) > 0 || dbcases.SQL(t, now, "inway", "SELECT count(*) FROM information_schema.views WHERE table_schema = 'inway' AND table_name = 'broken'") != "1" {
		t.Errorf("%v", err)
	}
	// A view whose definer is missing or lacks rights is not broken.
	dbcases.SQL(t, now, "inway", "CREATE DEFINER='nobody'@'%' VIEW ofnobody AS SELECT id FROM account; CREATE OR REPLACE USER 'weak'@'%'; CREATE DEFINER='weak'@'%' VIEW ofweak AS SELECT id FROM account")
	l, err := openAt(t, to).Look(t.Context(), "inway")
	if all := strings.Join(l.Left, "; "); err != nil || !strings.Contains(all, "view broken") || strings.Contains(all, "ofnobody") || strings.Contains(all, "ofweak") {
		t.Errorf("%+v %v", l, err)
	}
	dbcases.SQL(t, now, "inway", "DROP VIEW broken")
	if err := openAt(t, to).Rename(t.Context(), "inway", "inway_aside", served.AtRest); err != nil || dbcases.SQL(t, now, "inway_aside", "SELECT count(*) FROM information_schema.views WHERE table_schema = 'inway_aside' AND table_name LIKE 'of%'") != "2" {
		t.Errorf("%v", err)
	}
}

// TestBinaryLog uses a server with a binary log. Its requirements are reported before anything is
// tried.
func TestBinaryLog(t *testing.T) {
	cert, key := dbcases.Certificate(t, old.Dir)
	strict, err := dbserver.MariaDBWith("--log-bin=log", "--server-id=1", "--ssl-cert="+cert, "--ssl-key="+key, "--require-secure-transport=ON")
	fatal.If(t, err)
	defer strict.Stop()
	to := server(strict, "logged")
	o := Engine{}.Open(to, nil)
	defer o.Close()
	for sql, told := range map[string]string{"CREATE FUNCTION f() RETURNS int RETURN 1": "rejects the function f", "CREATE FUNCTION f() RETURNS int DETERMINISTIC RETURN 1": "", "CREATE TABLE boat (id int); CREATE TRIGGER t BEFORE INSERT ON boat FOR EACH ROW SET @x = 1": ""} {
		d, p, _ := sealed(t, fresh(t, "logged", sql))
		lacks, err := o.Lacks(t.Context(), "logged", d)
		if err != nil || (told == "") != (len(lacks) == 0) || told != "" && !strings.Contains(lacks[0], told) {
			t.Errorf("%s: %q %v", sql, lacks, err)
		}
		_, err = o.Stage(t.Context(), d, p)
		if (told == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), "the function f cannot be created") {
			t.Errorf("%s: %v", sql, err)
		}
	}
	// Connected by host name over the network, encrypted if the server supports it.
	for s, encrypted := range map[*dbserver.Server]int64{strict: 1, old: 0} {
		over := served.Server{Kind: card.MariaDB, Host: "localhost", Port: s.Port, User: "root", Database: "mysql"}
		n, err := openAt(t, over).Ask(t.Context(), "mysql", "SELECT count(*) FROM information_schema.session_status WHERE variable_name = 'SSL_CIPHER' AND variable_value <> ''")
		if n != encrypted || err != nil {
			t.Errorf("encrypted: %d, not %d: %v", n, encrypted, err)
		}
	}
}

func firstDifference(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range x {
		if i >= len(y) || x[i] != y[i] {
			return fmt.Sprintf("line %d: %.300q\n%.300q", i, x[i], strings.Join(y[min(i, len(y)):min(i+1, len(y))], ""))
		}
	}
	return "more lines"
}

// TestOneMoment seals while the app writes to two tables that always agree. One of them has no
// transactions.
func TestOneMoment(t *testing.T) {
	s := fresh(t, "busy", "CREATE TABLE a (n int PRIMARY KEY); CREATE TABLE b (n int PRIMARY KEY); CREATE TABLE log (n int) ENGINE=MyISAM; CREATE TABLE pad (x char(250)); INSERT INTO pad SELECT repeat('x', 250) FROM seq_1_to_20000")
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan int)
	go func() {
		c, err := connect(ctx, s)
		n := 0
		for ; err == nil && ctx.Err() == nil; n++ {
			err = c.Run(ctx, "BEGIN", fmt.Sprintf("INSERT INTO a VALUES (%d)", n), fmt.Sprintf("INSERT INTO b VALUES (%d)", n), "COMMIT", fmt.Sprintf("INSERT INTO log VALUES (%d)", n))
		}
		ended <- n
	}()
	for range 5 {
		d, _, data := sealed(t, s)
		if a, b := d.Table("a"), d.Table("b"); a.Rows != b.Rows {
			t.Errorf("%d rows of a, %d of b", a.Rows, b.Rows)
		}
		if got := strings.Count(string(data), "'"+strings.Repeat("x", 250)+"'"); got != 20000 {
			t.Errorf("%d rows of pad", got)
		}
	}
	cancel()
	if n := <-ended; n < 10 {
		t.Errorf("the app wrote %d rows only", n)
	}
}

// TestChangedWhileRead drops a table while the database is read: the drop waits for the reader. A
// table that is gone already makes the read fail.
func TestChangedWhileRead(t *testing.T) {
	s := fresh(t, "changing", "CREATE TABLE a (n int); INSERT INTO a VALUES (1); CREATE TABLE z (n int); INSERT INTO z VALUES (2)")
	c, err := connect(t.Context(), s)
	fatal.If(t, err)
	let, err := c.snapshot(t.Context())
	fatal.If(t, err)
	done := func() { let(); c.Close() }
	dropped := make(chan error)
	go func() {
		_, err := old.SQL("changing", "DROP TABLE z")
		dropped <- err
	}()
	d := &schema.Sealed{}
	if err := c.take(t.Context(), d, nil, nil, nil); err != nil || d.Table("z").Rows != 1 {
		t.Errorf("%+v %v", d.Tables, err)
	}
	done()
	if err := <-dropped; err != nil {
		t.Error(err)
	}
	if _, err := openAt(t, s).Fingerprint(t.Context(), s.Database, []card.Count{{Name: "z", Query: "SELECT count(*) FROM z"}}, nil); fault.KindOf(err) != fault.Changed && fault.KindOf(err) != fault.BadCard {
		t.Errorf("a count of a table that is gone: %v (%s)", err, fault.KindOf(err))
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := openAt(t, s).Fingerprint(ctx, s.Database, nil, nil); fault.KindOf(err) != fault.Stopped {
		t.Errorf("stopped: %v (%s)", err, fault.KindOf(err))
	}
}

// TestManyTables reads a database with so many tables that other connections hold them.
func TestManyTables(t *testing.T) {
	was := tablesKept
	tablesKept = 2
	defer func() { tablesKept = was }()
	s := fresh(t, "many", dbcases.Base[dbcases.MariaDB]+"CREATE TABLE isam (n int) ENGINE=MyISAM; INSERT INTO isam VALUES (1)")
	d, p, _ := sealed(t, s)
	place(t, d, p, server(now, "many"))
	tablesKept = was
	same(t, d, server(now, "many"))
	same(t, d, s)
	if d.Rows() != 3 || len(d.Tables) != 5 {
		t.Errorf("%+v", d.Tables)
	}
}

func TestVersions(t *testing.T) {
	for _, c := range []struct {
		here, old string
		takes     bool
	}{
		{"10.11.6-MariaDB-1:10.11.6+maria~deb12", "MariaDB 10.11.19", true}, {"11.4.2-MariaDB", "MariaDB 10.3.39", true}, {"10.5.1-MariaDB", "MariaDB 10.11.6", false},
		{"8.0.36", "MySQL 8.0.30", true}, {"8.4.0-log", "MySQL 8.0.30", true}, {"8.0.36", "MariaDB 10.3.1", false}, {"5.5.5-10.6.1-MariaDB", "MariaDB 10.6.0", true},
	} {
		if got := client.ParseVersion(c.here).Takes(client.ParseVersion(c.old)); got != c.takes {
			t.Errorf("%s takes %s: %v", client.ParseVersion(c.here), c.old, got)
		}
	}
}

// TestStamp checks that every change of a database changes its stamp, and that an inspection does
// not.
func TestStamp(t *testing.T) {
	s := fresh(t, "stamped", "CREATE TABLE boat (id int PRIMARY KEY, n int); CREATE VIEW v AS SELECT 1 AS one; CREATE EVENT e ON SCHEDULE EVERY 1 DAY DISABLE DO SET @x = 1; CREATE OR REPLACE USER clerk")
	look := func() string {
		t.Helper()
		l, err := openAt(t, s).Look(t.Context(), s.Database)
		fatal.If(t, err)
		return l.Stamp
	}
	was := look()
	// The server may still purge rows that other tests deleted. Once it is idle, an inspection
	// changes nothing.
	for n, now := 0, look(); now != was; n, was, now = n+1, now, look() {
		if n == 100 {
			t.Fatalf("looked at twice: %s, %s", was, now)
		}
		time.Sleep(200 * time.Millisecond)
	}
	for _, change := range []string{"INSERT INTO boat VALUES (1, 1)", "ALTER TABLE boat COMMENT = 'x'", "CREATE TRIGGER t BEFORE INSERT ON boat FOR EACH ROW SET NEW.n = 1", "DROP TRIGGER t", "CREATE OR REPLACE VIEW v AS SELECT 2 AS one",
		"CREATE FUNCTION f() RETURNS int RETURN 1", "ALTER EVENT e ENABLE COMMENT 'x'", "GRANT SELECT ON stamped.* TO clerk", "GRANT UPDATE (n) ON stamped.boat TO clerk", "ALTER DATABASE stamped CHARACTER SET latin1"} {
		dbcases.SQL(t, old, "stamped", change)
		now := look()
		if now == was {
			t.Errorf("not seen: %s", change)
		}
		was = now
	}
}

// TestEmptyDatabase moves a database without anything in it: it exists on both servers.
func TestEmptyDatabase(t *testing.T) {
	d, p, _ := sealed(t, fresh(t, "nothing", ""))
	o := Engine{}.Open(server(now, "nothing"), nil).(*session)
	defer o.Close()
	_, err := o.Stage(t.Context(), d, p)
	fatal.If(t, err)
	fatal.If(t, o.Rename(t.Context(), p.Stage, "nothing", served.InService))
	for name, want := range map[string]bool{"nothing": true, p.Stage: false} {
		if there, err := o.Exists(t.Context(), name); err != nil || there != want {
			t.Errorf("%s exists: %v, %v", name, there, err)
		}
	}
}

// TestConditions packs from a server that demands TLS and speaks another language, and by a login that may only read.
func TestConditions(t *testing.T) {
	cert, key := dbcases.Certificate(t, old.Dir)
	strict, err := dbserver.MariaDBWith("--ssl-cert="+cert, "--ssl-key="+key, "--require-secure-transport=on", "--lc-messages=de_DE", "--sql-mode=ANSI,STRICT_ALL_TABLES", "--lower-case-table-names=1")
	fatal.If(t, err)
	t.Cleanup(strict.Stop)
	dbcases.SQL(t, strict, "mysql", "CREATE DATABASE conditions; CREATE USER reading IDENTIFIED BY 'r'; GRANT SELECT, SHOW VIEW, TRIGGER, EVENT ON conditions.* TO reading; GRANT SELECT ON mysql.proc TO reading; CREATE USER blind IDENTIFIED BY 'b'")
	dbcases.SQL(t, strict, "conditions", "CREATE TABLE boat (n int PRIMARY KEY, name varchar(40)); INSERT INTO boat VALUES (1, 'Grey Wagtail'), (2, 'back\\\\slash'); CREATE VIEW boats AS SELECT count(*) AS n FROM boat; CREATE TRIGGER seen BEFORE INSERT ON boat FOR EACH ROW SET NEW.name = trim(NEW.name)")
	for _, s := range []served.Server{
		{Kind: card.MariaDB, Host: "127.0.0.1", Port: strict.Port, User: "reading", Password: "r", Database: "conditions"}, {Kind: card.MariaDB, Host: strict.Socket, User: "root", Database: "conditions"},
	} {
		d, p, _ := sealed(t, s)
		to := server(now, "conditions")
		place(t, d, p, to)
		same(t, d, to)
		if d.Rows() != 2 || len(d.Schema) < 3 {
			t.Errorf("%s: %d rows, %+v", s.User, d.Rows(), d.Schema)
		}
	}
	blind := served.Server{Kind: card.MariaDB, Host: "127.0.0.1", Port: strict.Port, User: "blind", Password: "b", Database: "conditions"}
	if _, err := openAt(t, blind).Look(t.Context(), "conditions"); fault.KindOf(err) != fault.ServerLogin {
		t.Errorf("a login without rights, in German: %v (%s)", err, fault.KindOf(err))
	}
	nothing := blind
	nothing.User, nothing.Password, nothing.Host, nothing.Port, nothing.Database = "root", "", strict.Socket, "", "nichts"
	if _, err := openAt(t, nothing).Look(t.Context(), "nichts"); fault.KindOf(err) != fault.Missing {
		t.Errorf("no database, in German: %v (%s)", err, fault.KindOf(err))
	}
}

// TestRandomSchemas sets generated databases aside and back: with all kinds of objects, names and comments that look like SQL. The
// engine's own dump is the same before and after, and the moved database is the same as the old one.
func TestRandomSchemas(t *testing.T) {
	runs := 4
	if os.Getenv("MOVEKIT_SOAK") == "1" {
		runs = 60
	}
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1))
	odd := []string{"keep PRESERVE ENABLE x", "x AUTO_INCREMENT=77", "sel`ect", "it's; DROP", `q"uote`, "back\\slash", "ümlaut ß", "from", "a.b", strings.Repeat("n", 50), "-- no", "/* c */", "DEFINER=`x`@`y`", "日本", "ON COMPLETION NOT PRESERVE", "tickets"}
	text := func() string { return odd[r.IntN(len(odd))] }
	name := func(s string) string { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }
	quote := func(s string) string {
		return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'"
	}
	for run := range runs {
		database := "tickets"
		if r.IntN(2) == 0 {
			database = "db " + strings.NewReplacer("/", "", "\\", "", ".", "", `"`, "", "'", "").Replace(text()) // names that the engine's own dump takes
		}
		var b strings.Builder
		var tables []string
		for i := range 3 + r.IntN(4) {
			n := name(fmt.Sprint(i, " ", text()))
			if i == 0 {
				n = name(database) // named like its database
			}
			column := name("c " + text())
			fmt.Fprintf(&b, "CREATE TABLE %s (id int PRIMARY KEY AUTO_INCREMENT, %s varchar(90) DEFAULT %s COMMENT %s, twice int AS (kind * 2) VIRTUAL, kind int DEFAULT 1 CHECK (kind > 0)) COMMENT %s;\nINSERT INTO %s (%s) VALUES (%s), (DEFAULT);\n", n, column, quote(text()), quote(text()), quote(text()), n, column, quote(text()))
			tables = append(tables, n)
		}
		for i := range 6 {
			table, n := tables[r.IntN(len(tables))], name(fmt.Sprint("o", i, " ", text()))
			switch r.IntN(6) {
			case 0:
				fmt.Fprintf(&b, "CREATE VIEW %s AS SELECT id, %s AS %s FROM %s.%s;\n", n, quote(text()), name("x "+text()), name(database), table)
			case 1:
				fmt.Fprintf(&b, "CREATE TRIGGER %s BEFORE INSERT ON %s FOR EACH ROW SET @x = %s;\n", n, table, quote(text()))
			case 2:
				fmt.Fprintf(&b, "CREATE FUNCTION %s() RETURNS varchar(200) DETERMINISTIC COMMENT %s RETURN (SELECT concat(count(*), %s) FROM %s.%s);\n", n, quote(text()), quote(text()), name(database), table)
			case 3:
				fmt.Fprintf(&b, "CREATE PROCEDURE %s() COMMENT %s SELECT %s FROM %s;\n", n, quote(text()), quote(text()), table)
			case 4:
				fmt.Fprintf(&b, "CREATE EVENT %s ON SCHEDULE EVERY 1 DAY STARTS '2035-01-01' %s COMMENT %s DO DELETE FROM %s WHERE id = -1;\n", n, []string{"ENABLE", "DISABLE", "ON COMPLETION PRESERVE ENABLE"}[r.IntN(3)], quote(text()), table)
			case 5:
				fmt.Fprintf(&b, "CREATE SEQUENCE %s START WITH %d;\n", n, 1+r.IntN(1000))
			}
		}
		for _, s := range []*dbserver.Server{old, now} {
			dbcases.SQL(t, s, "mysql", "DROP DATABASE IF EXISTS "+name(database)+"; CREATE DATABASE "+name(database)+" CHARACTER SET utf8mb4 COMMENT "+quote(text()))
		}
		if out, err := old.SQL(database, b.String()); err != nil {
			t.Fatalf("seed %d, run %d: the generated schema is wrong: %s\n%s", seed, run, out, b.String())
		}
		before, err := old.Dump(database)
		fatal.If(t, err)
		d, p, _ := sealed(t, server(old, database))
		to := server(now, database)
		place(t, d, p, to)
		same(t, d, to)
		o := openAt(t, server(old, database))
		fatal.If(t, o.Rename(t.Context(), database, "aside of it", served.AtRest))
		if err := o.Rename(t.Context(), "aside of it", database, served.InService); err != nil {
			t.Fatalf("seed %d, run %d: %v\n%s", seed, run, err, b.String())
		}
		if after, err := old.Dump(database); err != nil || after != before {
			t.Fatalf("seed %d, run %d: %v %s\n%s", seed, run, err, firstDifference(before, after), b.String())
		}
	}
}
