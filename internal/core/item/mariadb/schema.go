package mariadb

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"movekit/internal/core/item/mariadb/sqltext"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
)

// Sealed is what a sealed database is known by, besides its rows.
type Sealed struct {
	dbprint.Fingerprint
	Database  string   `json:"database"` // its name on the old server
	Charset   string   `json:"charset"`
	Collation string   `json:"collation"`
	Comment   string   `json:"comment,omitempty"`
	Make      []Make   `json:"make,omitempty"`
	Defined   []Object `json:"defined,omitempty"` // in the order in which they can be made
	Users     []User   `json:"users,omitempty"`   // who may use the database
	Needs     []string `json:"needs,omitempty"`   // storage engines and collations
	Broken    []string `json:"broken,omitempty"`  // views that name what is not there: they are not sealed
	Longest   int64    `json:"longest"`           // longest row as SQL, in bytes
}

// Make makes a table or a sequence.
type Make struct {
	Name  string   `json:"name"`
	SQL   string   `json:"sql"`             // without what comes after the rows
	Keys  []string `json:"keys,omitempty"`  // of ALTER TABLE, after the rows
	Links []string `json:"links,omitempty"` // the same, after the keys of every table: foreign keys
	After string   `json:"after,omitempty"` // of a sequence: its value
	table *table
}

// table is one whose rows are moved.
type table struct {
	dbprint.Table
	cols []sqltext.Column
}

// Object is a view, routine, trigger or event, made in a session like that in
// which it was made first.
type Object struct {
	Sort      string `json:"sort"` // VIEW, FUNCTION, PROCEDURE, TRIGGER, EVENT, PACKAGE, PACKAGE BODY
	Name      string `json:"name"`
	SQL       string `json:"sql"`               // without its definer
	Definer   string `json:"definer,omitempty"` // as SQL writes it
	Mode      string `json:"mode"`              // sql_mode
	Charset   string `json:"charset"`           // character_set_client
	Collation string `json:"collation"`         // collation_connection
	Zone      string `json:"zone,omitempty"`    // of an event
	Base      string `json:"base,omitempty"`    // collation of the database when it was made
	Order     string `json:"order,omitempty"`   // of a trigger, among those of the same event
}

// print is what an object of a database is compared by, whatever the database is
// called.
func (o Object) print(database string) dbprint.Object {
	sql := sqltext.Requalified(o.SQL, o.Mode, database, "")
	return dbprint.NewObject(strings.ToLower(o.Sort), o.Name, strings.Join([]string{sql, o.Definer, o.Mode, o.Charset, o.Collation, o.Zone, o.Base, o.Order}, "\x00"), sql+"\x00"+o.Mode+"\x00"+o.Order)
}

// User is who may use a database, without the password; or a role.
type User struct {
	Name   string   `json:"name"` // as SQL writes it: 'office'@'%'
	Role   bool     `json:"role,omitempty"`
	Grants []string `json:"grants"` // the database is called ``
}

// anyName is a name in any quotes: which ones depends on the sql_mode in which
// an object was made.
const anyName = "`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\"|'(?:[^']|'')*'"

var (
	definer   = regexp.MustCompile("^CREATE (?:OR REPLACE )?(?:ALGORITHM=[A-Z]+ )?(DEFINER=(" + anyName + ")(?:@(" + anyName + "))? )")
	nextValue = regexp.MustCompile(` AUTO_INCREMENT=(\d+)`)
	keyLine   = regexp.MustCompile("^(?:UNIQUE )?KEY (`(?:[^`]|``)*`) \\((`(?:[^`]|``)*`)")
	linkLine  = regexp.MustCompile("^CONSTRAINT (`(?:[^`]|``)*`) FOREIGN KEY ")
	nameLine  = regexp.MustCompile("^(PRIMARY KEY|(?:UNIQUE |FULLTEXT |SPATIAL |VECTOR )?KEY|CONSTRAINT|PERIOD FOR|) ?(`(?:[^`]|``)*`)?")
)

// schema reads what a database is made of, into the facts and the fingerprint.
func (c *conn) schema(ctx context.Context, d *Sealed) error {
	v, err := c.version(ctx)
	if err != nil {
		return err
	}
	if err := c.whole(ctx); err != nil {
		return err
	}
	d.Engine, d.Settings = v.String(), map[string]string{}
	if err := c.charset(ctx, d); err != nil {
		return err
	}
	d.Settings["character set"], d.Settings["collation"], d.Settings["comment"] = long(d.Charset), long(d.Collation), d.Comment
	if err := c.tables(ctx, d); err != nil {
		return err
	}
	if err := c.objects(ctx, d); err != nil {
		return err
	}
	return c.needs(ctx, d)
}

// charset reads what the session's database is written in, unless a table says
// otherwise.
func (c *conn) charset(ctx context.Context, d *Sealed) error {
	base, err := c.one(ctx, "SELECT default_character_set_name, default_collation_name, schema_name FROM information_schema.schemata WHERE schema_name = database()")
	if err != nil {
		return err
	}
	d.Charset, d.Collation, d.Database = base[0], base[1], base[2]
	if comment, err := c.one(ctx, "SELECT schema_comment FROM information_schema.schemata WHERE schema_name = database()"); err == nil { // before 10.5 there is none
		d.Comment = comment[0]
	}
	return ctx.Err()
}

// create makes an empty database like the sealed one.
func (d *Sealed) create(name string) string {
	sql := fmt.Sprintf("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", sqltext.Quoted(name), d.Charset, d.Collation)
	if d.Comment != "" {
		sql += " COMMENT " + sqltext.Literal(d.Comment)
	}
	return sql
}

// long writes out the character set that servers call by two names.
func long(name string) string {
	if name == "utf8" || strings.HasPrefix(name, "utf8_") {
		return "utf8mb3" + strings.TrimPrefix(name, "utf8")
	}
	return name
}

// tables reads tables and sequences.
func (c *conn) tables(ctx context.Context, d *Sealed) error {
	all, err := c.table(ctx, "SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = database() AND table_type <> 'VIEW' AND table_type NOT LIKE '%TEMPORARY%' ORDER BY 1")
	if err != nil {
		return err
	}
	columns, err := c.columns(ctx)
	if err != nil {
		return err
	}
	for _, t := range all {
		name := t[0]
		if name == atRest || name == mark {
			continue
		}
		if strings.ContainsAny(name, "\n\r") {
			return fault.New(fault.ServerRefused, "the table %q has a line break in its name, which cannot be written line by line: rename it", name)
		}
		if t[1] == "SEQUENCE" {
			if err := c.sequence(ctx, d, name); err != nil {
				return err
			}
			continue
		}
		made, err := c.one(ctx, "SHOW CREATE TABLE "+sqltext.Quoted(name))
		if err != nil {
			return err
		}
		if err := c.release(ctx); err != nil {
			return err
		}
		text, own := made[1], columns[name]
		if m := nextValue.FindStringSubmatch(text); m != nil {
			d.Settings["next number of "+name] = m[1]
		}
		m := Make{Name: name, table: &table{dbprint.Table{Name: name}, own.moved}}
		for _, col := range own.moved {
			m.table.Columns = append(m.table.Columns, col.Name)
		}
		m.table.Key = own.key
		lines := strings.Split(text, "\n")
		end := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, ")") })
		if end < 0 {
			end = len(lines) - 1
		}
		kept := []string{}
		for _, line := range lines[1:end] {
			line = strings.TrimSuffix(strings.TrimSpace(line), ",")
			named := nameLine.FindStringSubmatch(line)
			d.Schema = append(d.Schema, dbprint.NewObject(strings.ToLower(or(named[1], "column")), name+"."+strings.Trim(named[2], "`"), line, line))
			key := keyLine.FindStringSubmatch(line)
			switch {
			case linkLine.MatchString(line):
				m.Links = append(m.Links, "ADD "+line)
			case key != nil && key[2] != sqltext.Quoted(own.counter):
				m.Keys = append(m.Keys, "ADD "+line)
			default:
				kept = append(kept, "  "+line)
			}
		}
		tail := nextValue.ReplaceAllString(strings.Join(lines[end:], "\n"), "")
		d.Schema = append(d.Schema, dbprint.NewObject("table", name, tail, tail))
		m.SQL = lines[0] + "\n" + strings.Join(kept, ",\n") + "\n" + strings.Join(lines[end:], "\n")
		d.Make = append(d.Make, m)
	}
	return nil
}

// owned are the columns of a table.
type owned struct {
	moved   []sqltext.Column
	key     []string
	counter string // the column that is counted up
}

func (c *conn) columns(ctx context.Context) (map[string]*owned, error) {
	all, err := c.table(ctx, `SELECT table_name, column_name, data_type, extra, coalesce(generation_expression, ''), coalesce(character_set_name, '') FROM information_schema.columns WHERE table_schema = database() ORDER BY table_name, ordinal_position`)
	if err != nil {
		return nil, err
	}
	out := map[string]*owned{}
	for _, col := range all {
		o := out[col[0]]
		if o == nil {
			o = &owned{}
			out[col[0]] = o
		}
		extra := strings.ToLower(col[3])
		if col[4] == "" && !strings.Contains(extra, "generated") || strings.Contains(extra, "default_generated") {
			o.moved = append(o.moved, sqltext.Column{Name: col[1], Sort: sqltext.SortOf(col[2]), Large: sqltext.Large(col[2]), UTF8: col[5] == "utf8mb4"})
		}
		if strings.Contains(extra, "auto_increment") {
			o.counter = col[1]
		}
	}
	keys, err := c.table(ctx, "SELECT table_name, column_name FROM information_schema.statistics WHERE table_schema = database() AND index_name = 'PRIMARY' ORDER BY table_name, seq_in_index")
	for _, k := range keys {
		if o := out[k[0]]; o != nil {
			o.key = append(o.key, k[1])
		}
	}
	return out, err
}

// sequence reads a sequence and its value. Numbers that the server keeps ready
// are passed over, as after it was started again.
func (c *conn) sequence(ctx context.Context, d *Sealed, name string) error {
	made, err := c.one(ctx, "SHOW CREATE SEQUENCE "+sqltext.Quoted(name))
	if err != nil {
		return err
	}
	value, err := c.one(ctx, "SELECT next_not_cached_value, cycle_count FROM "+sqltext.Quoted(name))
	if err != nil {
		return err
	}
	d.Settings["sequence "+name] = value[0]
	d.Schema = append(d.Schema, dbprint.NewObject("sequence", name, made[1], made[1]))
	d.Make = append(d.Make, Make{Name: name, SQL: made[1], After: fmt.Sprintf("SELECT SETVAL(%s, %s, 0, %s)", sqltext.Quoted(name), value[0], value[1])})
	return nil
}

// objects reads views, routines, triggers and events.
func (c *conn) objects(ctx context.Context, d *Sealed) error {
	var views, rest []Object
	awake, err := c.awake(ctx, d.Database)
	if err != nil {
		return err
	}
	for _, kind := range []struct{ sort, names string }{
		{"FUNCTION", "SELECT routine_name FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'FUNCTION' ORDER BY 1"},
		{"PROCEDURE", "SELECT routine_name FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'PROCEDURE' ORDER BY 1"},
		{"PACKAGE", "SELECT routine_name FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'PACKAGE' ORDER BY 1"},
		{"PACKAGE BODY", "SELECT routine_name FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'PACKAGE BODY' ORDER BY 1"},
		{"VIEW", "SELECT table_name FROM information_schema.views WHERE table_schema = database() ORDER BY 1"},
		{"TRIGGER", "SELECT trigger_name, action_order FROM information_schema.triggers WHERE trigger_schema = database() ORDER BY event_object_table, action_timing, event_manipulation, action_order"},
		{"EVENT", "SELECT event_name FROM information_schema.events WHERE event_schema = database() ORDER BY 1"},
	} {
		names, err := c.table(ctx, kind.names)
		if err != nil {
			return err
		}
		for _, n := range names {
			if kind.sort == "VIEW" {
				broken, err := c.broken(ctx, n[0])
				if err != nil {
					return err
				}
				if broken {
					d.Broken = append(d.Broken, n[0])
					continue
				}
			}
			o, err := c.object(ctx, kind.sort, n[0])
			if err != nil {
				return err
			}
			o.Order = strings.Join(n[1:], "")
			if o.Sort == "EVENT" && slices.Contains(awake, o.Name) { // it rests only while no app uses the database
				o.SQL = strings.Replace(o.SQL, off, on, 1)
			}
			d.Schema = append(d.Schema, o.print(d.Database))
			switch o.Sort {
			case "VIEW":
				views = append(views, o)
			case "TRIGGER", "EVENT":
				rest = append(rest, o)
			default:
				d.Defined = append(d.Defined, o)
			}
		}
	}
	d.Defined = slices.Concat(d.Defined, inOrder(views), rest)
	return nil
}

// broken reports whether a view names what is not there any more. No server makes it
// again so. What only may not be read, by whom it runs as, is made again.
func (c *conn) broken(ctx context.Context, view string) (bool, error) {
	_, err := c.ExecContext(ctx, "SELECT 1 FROM "+sqltext.Quoted(view)+" LIMIT 0")
	var said *mysql.MySQLError
	if err == nil || !errors.As(err, &said) {
		return false, explain(c.server, err)
	}
	const invalid, noTable, noColumn, noRoutine, noDatabase = 1356, 1146, 1054, 1305, 1049
	if said.Number != invalid {
		return false, nil
	}
	made, err := c.one(ctx, "SELECT view_definition FROM information_schema.views WHERE table_schema = database() AND table_name = ?", view)
	if err != nil {
		return false, err
	}
	_, err = c.ExecContext(ctx, "SELECT 1 FROM ("+made[0]+") movekit LIMIT 0")
	return errors.As(err, &said) && slices.Contains([]uint16{invalid, noTable, noColumn, noRoutine, noDatabase}, said.Number), ctx.Err()
}

// object reads the definition of an object. The columns of SHOW CREATE differ
// by its sort; they are taken by name.
func (c *conn) object(ctx context.Context, sort, name string) (o Object, err error) {
	cols, rows, err := c.headed(ctx, "SHOW CREATE "+sort+" "+sqltext.Quoted(name))
	if err != nil {
		return o, err
	}
	o = Object{Sort: sort, Name: name}
	cells := make([]string, len(cols))
	if len(rows) > 0 {
		cells = rows[0]
	}
	for i, col := range cols {
		switch strings.ToLower(col) {
		case "sql_mode":
			o.Mode = cells[i]
		case "character_set_client":
			o.Charset = cells[i]
		case "collation_connection":
			o.Collation = cells[i]
		case "time_zone":
			o.Zone = cells[i]
		case "database collation":
			o.Base = cells[i]
		case "sql original statement":
			o.SQL = cells[i]
		default:
			if strings.HasPrefix(col, "Create ") {
				o.SQL = cells[i]
			}
		}
	}
	if o.SQL == "" {
		return o, fault.New(fault.ServerLogin, "the server of %s does not show the definition of the %s %s to this user", c.server.Address(), strings.ToLower(sort), name)
	}
	if m := definer.FindStringSubmatchIndex(o.SQL); m != nil {
		o.Definer = requoted(o.SQL[m[4]:m[5]])
		if m[6] >= 0 {
			o.Definer += "@" + requoted(o.SQL[m[6]:m[7]])
		}
		o.SQL = o.SQL[:m[2]] + o.SQL[m[3]:]
	}
	return o, nil
}

func requoted(name string) string {
	q := name[:1]
	return sqltext.Quoted(strings.ReplaceAll(name[1:len(name)-1], q+q, q))
}

// create is the statement that makes an object in a database, with its definer where
// one is given. from is the database that it was read from.
func (o Object) create(definer, from, to string) string {
	sql := sqltext.Requalified(o.SQL, o.Mode, from, to)
	if definer == "" {
		return sql
	}
	at := len("CREATE ")
	if i := strings.Index(sql, "SQL SECURITY "); o.Sort == "VIEW" && i > 0 {
		at = i
	}
	return sql[:at] + "DEFINER=" + definer + " " + sql[at:]
}

// session are the statements that make a session like that of the first time.
func (o Object) session() []string {
	out := []string{"SET sql_mode = " + sqltext.Literal(o.Mode)}
	if o.Charset != "" {
		out = append(out, "SET character_set_client = "+o.Charset, "SET collation_connection = "+o.Collation)
	}
	if o.Zone != "" {
		out = append(out, "SET time_zone = "+sqltext.Literal(o.Zone))
	}
	return out
}

// inOrder puts views behind those that they name.
func inOrder(views []Object) (out []Object) {
	left := slices.Clone(views)
	for len(left) > 0 {
		next := slices.IndexFunc(left, func(v Object) bool {
			return !slices.ContainsFunc(left, func(other Object) bool {
				return other.Name != v.Name && strings.Contains(v.SQL, sqltext.Quoted(other.Name))
			})
		})
		next = max(next, 0) // names that stand for each other's columns: any order
		out = append(out, left[next])
		left = slices.Delete(left, next, next+1)
	}
	return out
}

// needs reads what the new server must have, and who may use the database.
func (c *conn) needs(ctx context.Context, d *Sealed) (err error) {
	d.Needs, err = c.column(ctx, `SELECT DISTINCT concat('storage engine ', engine) FROM information_schema.tables WHERE table_schema = database() AND engine IS NOT NULL
		UNION SELECT DISTINCT concat('collation ', collation_name) FROM information_schema.columns WHERE table_schema = database() AND collation_name IS NOT NULL
		UNION SELECT DISTINCT concat('collation ', table_collation) FROM information_schema.tables WHERE table_schema = database() AND table_collation IS NOT NULL ORDER BY 1`)
	if err != nil {
		return err
	}
	return c.users(ctx, d)
}

// users reads who may use the database: also those who may through a role, and the
// roles. To a login that may not read that, the server does not show it.
func (c *conn) users(ctx context.Context, d *Sealed) error {
	const own = "SELECT user, host FROM mysql.db WHERE database() LIKE db UNION SELECT user, host FROM mysql.tables_priv WHERE db = database() UNION SELECT user, host FROM mysql.columns_priv WHERE db = database() UNION SELECT user, host FROM mysql.procs_priv WHERE db = database()"
	names, err := c.table(ctx, "WITH RECURSIVE may (user, host) AS (SELECT user, host FROM ("+own+") o UNION SELECT r.user, r.host FROM mysql.roles_mapping r JOIN may ON r.role = may.user AND may.host = '') SELECT DISTINCT user, host FROM may WHERE user <> '' AND user NOT IN ('root', 'mysql.sys', 'mariadb.sys') ORDER BY 1, 2")
	if err != nil { // before roles
		names, err = c.table(ctx, "SELECT DISTINCT user, host FROM ("+own+") u WHERE user <> '' AND user NOT IN ('root', 'mysql.sys', 'mariadb.sys') ORDER BY 1, 2")
	}
	unseen := func() error {
		d.Users, d.Unseen = nil, []string{rights}
		return nil
	}
	if err != nil {
		return unseen()
	}
	var roles []string
	for _, n := range names {
		if n[1] == "" {
			roles = append(roles, sqltext.Quoted(n[0]))
		}
	}
	for _, n := range names {
		u := User{Name: sqltext.Literal(n[0]), Role: n[1] == ""}
		if !u.Role {
			u.Name += "@" + sqltext.Literal(n[1])
		}
		grants, err := c.column(ctx, "SHOW GRANTS FOR "+u.Name)
		if err != nil {
			return unseen()
		}
		escaped := strings.NewReplacer(`\_`, "_", `\%`, "%") // a right on a pattern that is this name
		for _, g := range grants {
			what, on, found := strings.Cut(g, " ON ")
			plain := escaped.Replace(on)
			switch {
			case found && strings.Contains(plain, sqltext.Quoted(d.Database)+"."):
				on, _, _ = strings.Cut(strings.Replace(plain, sqltext.Quoted(d.Database)+".", "``.", 1), " IDENTIFIED BY ")
				u.Grants = append(u.Grants, what+" ON "+on)
			case !found && slices.ContainsFunc(roles, func(r string) bool { return strings.HasPrefix(g, "GRANT "+r+" TO ") }):
				u.Grants = append(u.Grants, g)
			}
		}
		if len(u.Grants) == 0 {
			continue
		}
		d.Users = append(d.Users, u)
		text := strings.Join(u.Grants, "; ")
		o := dbprint.NewObject(rights, u.Name, text, text)
		o.Told = true
		d.Schema = append(d.Schema, o)
	}
	return nil
}

// rights is the sort of object that says what a user or role may do.
const rights = "grant"

// transactional reports whether tables of a storage engine are seen by a
// transaction as they were when it began.
func transactional(engine string) bool {
	return slices.Contains([]string{"InnoDB", "ROCKSDB", "TokuDB"}, engine)
}

// locked returns the tables that no transaction sees as they were: they are
// locked against writing while they are read.
func (c *conn) locked(ctx context.Context) ([]string, error) {
	all, err := c.table(ctx, "SELECT table_name, engine FROM information_schema.tables WHERE table_schema = database() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') AND engine IS NOT NULL")
	var out []string
	for _, t := range all {
		if !transactional(t[1]) {
			out = append(out, sqltext.Quoted(t[0])+" READ")
		}
	}
	return out, err
}
