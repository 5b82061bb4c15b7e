package mariadb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
)

// schema reads the schema into the facts and the fingerprint.
func (c *conn) schema(ctx context.Context, d *schema.Sealed) error {
	v, err := c.Version(ctx)
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
	d.Settings["character set"], d.Settings["collation"], d.Settings["comment"] = schema.Long(d.Charset), schema.Long(d.Collation), d.Comment
	if err := c.tables(ctx, d); err != nil {
		return err
	}
	if err := c.objects(ctx, d); err != nil {
		return err
	}
	return c.needs(ctx, d)
}

// charset reads the database's default character set.
func (c *conn) charset(ctx context.Context, d *schema.Sealed) error {
	base, err := c.One(ctx, "SELECT default_character_set_name, default_collation_name, schema_name FROM information_schema.schemata WHERE schema_name = database()")
	if err != nil {
		return err
	}
	d.Charset, d.Collation, d.Database = base[0], base[1], base[2]
	if comment, err := c.One(ctx, "SELECT schema_comment FROM information_schema.schemata WHERE schema_name = database()"); err == nil { // older versions than 10.5 have none
		d.Comment = comment[0]
	}
	return ctx.Err()
}

// tables reads tables and sequences.
func (c *conn) tables(ctx context.Context, d *schema.Sealed) error {
	all, err := c.Table(ctx, "SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = database() AND table_type <> 'VIEW' AND table_type NOT LIKE '%TEMPORARY%' ORDER BY 1")
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
			return fault.New(fault.ServerRefused, "the name of the table %q has a line break, which is not supported: rename the table", name)
		}
		if t[1] == "SEQUENCE" {
			if err := c.sequence(ctx, d, name); err != nil {
				return err
			}
			continue
		}
		made, err := c.One(ctx, "SHOW CREATE TABLE "+sqltext.Quoted(name))
		if err != nil {
			return err
		}
		if err := c.release(ctx); err != nil {
			return err
		}
		// A default value that is the next of a sequence has the name of the database.
		text, own := sqltext.Requalified(made[1], "", d.Database, ""), columns[name]
		m := schema.Make{Name: name, Table: &schema.Table{Table: dbprint.Table{Name: name}, Cols: own.moved}}
		for _, col := range own.moved {
			m.Table.Columns = append(m.Table.Columns, col.Name)
		}
		m.Table.Key = own.key
		objects, next := m.Read(text, own.counter)
		if d.Schema = append(d.Schema, objects...); next != "" {
			d.Settings["next number of "+name] = next
		}
		d.Make = append(d.Make, m)
	}
	slices.SortStableFunc(d.Make, func(a, b schema.Make) int { // defaults of tables use sequences
		return cmp.Compare(min(len(b.After), 1), min(len(a.After), 1))
	})
	return nil
}

// owned has the columns of a table.
type owned struct {
	moved   []sqltext.Column
	key     []string
	counter string // the AUTO_INCREMENT column
}

func (c *conn) columns(ctx context.Context) (map[string]*owned, error) {
	all, err := c.Table(ctx, `SELECT table_name, column_name, data_type, extra, coalesce(generation_expression, ''), coalesce(character_set_name, '') FROM information_schema.columns WHERE table_schema = database() ORDER BY table_name, ordinal_position`)
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
			o.moved = append(o.moved, sqltext.ColumnOf(col[1], col[2], col[5]))
		}
		if strings.Contains(extra, "auto_increment") {
			o.counter = col[1]
		}
	}
	keys, err := c.Table(ctx, "SELECT table_name, column_name FROM information_schema.statistics WHERE table_schema = database() AND index_name = 'PRIMARY' ORDER BY table_name, seq_in_index")
	for _, k := range keys {
		if o := out[k[0]]; o != nil {
			o.key = append(o.key, k[1])
		}
	}
	return out, err
}

// sequence reads a sequence and its value. Numbers that the server has cached are skipped, as after
// a restart.
func (c *conn) sequence(ctx context.Context, d *schema.Sealed, name string) error {
	made, err := c.One(ctx, "SHOW CREATE SEQUENCE "+sqltext.Quoted(name))
	if err != nil {
		return err
	}
	value, err := c.One(ctx, "SELECT next_not_cached_value, cycle_count FROM "+sqltext.Quoted(name))
	if err != nil {
		return err
	}
	d.Settings["sequence "+name] = value[0]
	d.Schema = append(d.Schema, dbprint.NewObject("sequence", name, made[1], made[1]))
	d.Make = append(d.Make, schema.Make{Name: name, SQL: made[1], After: fmt.Sprintf("SELECT SETVAL(%s, %s, 0, %s)", sqltext.Quoted(name), value[0], value[1])})
	return nil
}

// objects reads views, routines, triggers and events.
func (c *conn) objects(ctx context.Context, d *schema.Sealed) error {
	var views, rest []schema.Object
	awake, err := c.enabledEvents(ctx, d.Database)
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
		names, err := c.Table(ctx, kind.names)
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
			if o.Sort == "EVENT" && slices.Contains(awake, o.Name) { // it is disabled only while no app uses the database
				o.SQL = sqltext.Swapped(o.SQL, o.Mode, schema.Off, schema.On)
			}
			d.Schema = append(d.Schema, o.Print(d.Database))
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
	d.Defined = slices.Concat(d.Defined, schema.InOrder(views), rest)
	return nil
}

// broken reports whether a view uses an object that no longer exists, so that no server can create
// it again. A view that is only unreadable for its definer can be created again.
func (c *conn) broken(ctx context.Context, view string) (bool, error) {
	_, err := c.ExecContext(ctx, "SELECT 1 FROM "+sqltext.Quoted(view)+" LIMIT 0")
	var said *mysql.MySQLError
	if err == nil || !errors.As(err, &said) {
		return false, client.Explain(c.Server, err)
	}
	const invalid, noTable, noColumn, noRoutine, noDatabase = 1356, 1146, 1054, 1305, 1049
	if said.Number != invalid {
		return false, nil
	}
	made, err := c.One(ctx, "SELECT view_definition FROM information_schema.views WHERE table_schema = database() AND table_name = ?", view)
	if err != nil {
		return false, err
	}
	_, err = c.ExecContext(ctx, "SELECT 1 FROM ("+made[0]+") movekit LIMIT 0")
	return errors.As(err, &said) && slices.Contains([]uint16{invalid, noTable, noColumn, noRoutine, noDatabase}, said.Number), ctx.Err()
}

// object reads the definition of an object. The columns of SHOW CREATE depend on its kind, so they
// are read by name.
func (c *conn) object(ctx context.Context, sort, name string) (o schema.Object, err error) {
	cols, rows, err := c.Headed(ctx, "SHOW CREATE "+sort+" "+sqltext.Quoted(name))
	if err != nil {
		return o, err
	}
	o = schema.Object{Sort: sort, Name: name}
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
		return o, fault.New(fault.ServerLogin, "the server of %s does not show the definition of the %s %s to this user", c.Server.Address(), strings.ToLower(sort), name)
	}
	o.SQL, o.Definer = schema.SplitDefiner(o.SQL)
	return o, nil
}

// needs reads the requirements for the new server, and the users of the database.
func (c *conn) needs(ctx context.Context, d *schema.Sealed) (err error) {
	d.Needs, err = c.Column(ctx, `SELECT DISTINCT concat('storage engine ', engine) FROM information_schema.tables WHERE table_schema = database() AND engine IS NOT NULL
		UNION SELECT DISTINCT concat('collation ', collation_name) FROM information_schema.columns WHERE table_schema = database() AND collation_name IS NOT NULL
		UNION SELECT DISTINCT concat('collation ', table_collation) FROM information_schema.tables WHERE table_schema = database() AND table_collation IS NOT NULL ORDER BY 1`)
	if err != nil {
		return err
	}
	return c.users(ctx, d)
}

// users reads the users of the database, including those with rights through a role, and the roles.
// The server shows them only to some logins.
func (c *conn) users(ctx context.Context, d *schema.Sealed) error {
	const own = "SELECT user, host FROM mysql.db WHERE database() LIKE db UNION SELECT user, host FROM mysql.tables_priv WHERE db = database() UNION SELECT user, host FROM mysql.columns_priv WHERE db = database() UNION SELECT user, host FROM mysql.procs_priv WHERE db = database()"
	names, err := c.Table(ctx, "WITH RECURSIVE may (user, host) AS (SELECT user, host FROM ("+own+") o UNION SELECT r.user, r.host FROM mysql.roles_mapping r JOIN may ON r.role = may.user AND may.host = '') SELECT DISTINCT user, host FROM may WHERE user <> '' AND user NOT IN ('root', 'mysql.sys', 'mariadb.sys') ORDER BY 1, 2")
	if err != nil { // before roles existed
		names, err = c.Table(ctx, "SELECT DISTINCT user, host FROM ("+own+") u WHERE user <> '' AND user NOT IN ('root', 'mysql.sys', 'mariadb.sys') ORDER BY 1, 2")
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
		u := schema.User{Name: sqltext.Literal(n[0]), Role: n[1] == ""}
		if !u.Role {
			u.Name += "@" + sqltext.Literal(n[1])
		}
		grants, err := c.Column(ctx, "SHOW GRANTS FOR "+u.Name)
		if err != nil {
			return unseen()
		}
		escaped := strings.NewReplacer(`\_`, "_", `\%`, "%") // a right on a pattern that matches only this name
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
		o.Reported = true
		d.Schema = append(d.Schema, o)
	}
	return nil
}

// rights is the kind of object for the rights of a user or role.
const rights = "grant"

// transactional reports whether a transaction has a snapshot of the tables of a storage engine.
func transactional(engine string) bool {
	return slices.Contains([]string{"InnoDB", "ROCKSDB", "TokuDB"}, engine)
}

// locked returns the tables without snapshots. They are locked against writing while they are read.
func (c *conn) locked(ctx context.Context) ([]string, error) {
	all, err := c.Table(ctx, "SELECT table_name, engine FROM information_schema.tables WHERE table_schema = database() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') AND engine IS NOT NULL")
	var out []string
	for _, t := range all {
		if !transactional(t[1]) {
			out = append(out, sqltext.Quoted(t[0])+" READ")
		}
	}
	return out, err
}
