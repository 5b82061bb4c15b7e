package mariadb

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// These servers cannot rename a database. rename moves the tables, creates all other objects
// again under the new name, and then drops the old database. Triggers are dropped first, because
// a table with triggers cannot be moved. An interruption or error never loses anything:
//
//   - everything is first created on trial in another database with empty tables;
//   - a marker table in the new database records the old name and the triggers;
//   - after an error the rename is undone at once, and after an interruption by the next run
//     (recover): the tables move back, and the triggers are created again.
//
// A database that no app uses is at rest: its events are disabled, and a table in it lists those
// that were enabled. They count as enabled when the database is compared, and are enabled again
// when an app uses it.
const (
	mark   = "movekit_unfinished"
	atRest = "movekit_events"
)

// exists reports whether the server has a database, even an empty one. A database whose rename was
// interrupted still has its old name.
func (c *conn) exists(ctx context.Context, database string) (bool, error) {
	moves, err := c.moves(ctx)
	if err != nil {
		return false, err
	}
	for _, m := range moves {
		switch {
		case m.done:
		case database == m.from:
			return true, nil
		case database == m.to:
			return false, nil
		}
	}
	return c.has(ctx, database)
}

func (c *conn) unmark(ctx context.Context, m move) error {
	return c.Run(ctx, "DROP TABLE "+sqltext.Quoted(m.to)+"."+mark)
}

func (c *conn) has(ctx context.Context, database string) (bool, error) {
	n, err := c.Column(ctx, "SELECT 1 FROM information_schema.schemata WHERE schema_name = ?", database)
	return len(n) > 0, err
}

// hasObjects reports whether a database exists and is not empty.
func (c *conn) hasObjects(ctx context.Context, database string) (bool, error) {
	n, err := c.Column(ctx, "SELECT 1 FROM information_schema.tables WHERE table_schema = ? UNION SELECT 1 FROM information_schema.routines WHERE routine_schema = ? UNION SELECT 1 FROM information_schema.events WHERE event_schema = ? LIMIT 1", database, database, database)
	return len(n) > 0, err
}

// move is a rename in progress.
type move struct {
	from, to string
	triggers []schema.Object
	done     bool // only the marker still has to be removed
}

// moves returns the renames that interrupted runs left behind.
func (c *conn) moves(ctx context.Context) (out []move, err error) {
	all, err := c.Column(ctx, "SELECT table_schema FROM information_schema.tables WHERE table_name = ?", mark)
	if err != nil {
		return nil, err
	}
	for _, to := range all {
		row, err := c.One(ctx, "SELECT origin, triggers FROM "+sqltext.Quoted(to)+"."+mark)
		if err != nil {
			return nil, err
		}
		m := move{from: row[0], to: to}
		waits, err := c.has(ctx, m.from)
		if err != nil {
			return nil, err
		}
		m.done = !waits
		if err := json.Unmarshal([]byte(row[1]), &m.triggers); err != nil {
			return nil, fault.Wrap(fault.BadDatabase, err, "the table %s.%s cannot be read", to, mark)
		}
		out = append(out, m)
	}
	return out, nil
}

// whole returns an error if the session's database is in an interrupted rename.
func (c *conn) whole(ctx context.Context) error {
	moves, err := c.moves(ctx)
	for _, m := range moves {
		if !m.done && (m.from == c.Server.Database || m.to == c.Server.Database) {
			return fault.New(fault.Changed, "a rename of the database %s to %s was interrupted, so that neither is complete: run the interrupted command again, which undoes the rename", m.from, m.to)
		}
	}
	return err
}

// recover undoes interrupted renames, and removes the marker of a complete one.
func (c *conn) recover(ctx context.Context) error {
	moves, err := c.moves(ctx)
	if err != nil {
		return err
	}
	for _, m := range moves {
		if m.done {
			err = c.unmark(ctx, m)
		} else {
			err = c.moveBack(ctx, m)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// rename renames a database. At the end the database is complete under one of the two names, or
// recover can complete it. proven means that its definitions were just created from the same text.
func (c *conn) rename(ctx context.Context, from, to string, proven bool, as served.Service) error {
	if err := c.recover(ctx); err != nil {
		return err
	}
	there, err := c.hasObjects(ctx, to)
	if err != nil {
		return err
	}
	if there {
		return fault.New(fault.Changed, "the database %s already exists on the server of %s", to, c.Server.Address())
	}
	d := &schema.Sealed{}
	if err := c.Run(ctx, "USE "+sqltext.Quoted(from)); err != nil {
		return err
	}
	if err := c.charset(ctx, d); err != nil {
		return err
	}
	if err := c.objects(ctx, d); err != nil {
		return err
	}
	if len(d.Broken) > 0 {
		return fault.New(fault.CannotPlace, "the database %s cannot be renamed: its view %s uses an object that no longer exists, and could not be created again. Drop or fix that view", from, strings.Join(d.Broken, ", "))
	}
	if !proven {
		if err := c.tryDefinitions(ctx, d, from); err != nil {
			return fault.Wrap(fault.KindOf(err), err, "the database %s cannot be renamed", from)
		}
	}
	m := move{from: from, to: to}
	for _, o := range d.Defined {
		if o.Sort == "TRIGGER" {
			m.triggers = append(m.triggers, o)
		}
	}
	if err := c.moveAll(ctx, m, d, as == served.AtRest); err != nil {
		if back := c.moveBack(context.WithoutCancel(ctx), m); back != nil {
			return fault.Wrap(fault.KindOf(err), err, "the rename of the database %s was not completed and could not be undone; running the same command again undoes it", from)
		}
		return fault.Wrap(fault.KindOf(err), err, "the database %s cannot be renamed", from)
	}
	if err := c.Run(ctx, "DROP DATABASE IF EXISTS "+sqltext.Quoted(from)); err != nil {
		return err
	}
	return c.unmark(ctx, m)
}

// moveAll creates the new database, and moves everything into it except objects that are dropped with
// the old one.
func (c *conn) moveAll(ctx context.Context, m move, d *schema.Sealed, rest bool) error {
	triggers, err := json.Marshal(m.triggers)
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot write the triggers")
	}
	// The marker is created in one statement, so that it always has its row.
	if err := c.Run(ctx, "DROP DATABASE IF EXISTS "+sqltext.Quoted(m.to), d.Create(m.to),
		fmt.Sprintf("CREATE TABLE %s.%s (origin text, triggers longtext) CHARACTER SET utf8mb4 SELECT %s AS origin, %s AS triggers", sqltext.Quoted(m.to), mark, sqltext.Literal(m.from), sqltext.Literal(string(triggers)))); err != nil {
		return err
	}
	if err := c.dropTriggers(ctx, m.from); err != nil {
		return err
	}
	if err := c.moveTables(ctx, m.from, m.to); err != nil {
		return err
	}
	return c.define(ctx, d.Defined, m.from, m.to, rest)
}

// moveBack undoes a rename.
func (c *conn) moveBack(ctx context.Context, m move) error {
	there, err := c.has(ctx, m.to)
	if err != nil || !there {
		return err
	}
	if err := c.dropTriggers(ctx, m.to); err != nil {
		return err
	}
	if err := c.moveTables(ctx, m.to, m.from); err != nil {
		return err
	}
	left, err := c.triggers(ctx, m.from)
	if err != nil {
		return err
	}
	if len(left) < len(m.triggers) { // create all of them again, to keep their order
		if err := c.dropTriggers(ctx, m.from); err != nil {
			return err
		}
		if err := c.define(ctx, m.triggers, m.from, m.from, false); err != nil {
			return err
		}
	}
	return c.Run(ctx, "DROP DATABASE "+sqltext.Quoted(m.to))
}

// triggers returns the names of a database's triggers.
func (c *conn) triggers(ctx context.Context, database string) ([]string, error) {
	return c.Column(ctx, "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = ?", database)
}

func (c *conn) dropTriggers(ctx context.Context, database string) error {
	names, err := c.triggers(ctx, database)
	if err != nil {
		return err
	}
	for _, name := range names {
		if err := c.Run(ctx, "DROP TRIGGER IF EXISTS "+sqltext.Quoted(database)+"."+sqltext.Quoted(name)); err != nil {
			return err
		}
	}
	return nil
}

// tablesAtOnce limits the tables that one statement renames, because the time grows with their
// square.
const tablesAtOnce = 100

// moveTables renames the tables and sequences of a database into another, except for Move Kit's
// own. Sequences that are default values are created again instead, because a default has the name of its
// database, and a table cannot be used without its sequences.
func (c *conn) moveTables(ctx context.Context, from, to string) error {
	all, err := c.Table(ctx, "SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = ? AND table_type <> 'VIEW'", from)
	if err != nil {
		return err
	}
	defaults, err := c.Table(ctx, "SELECT table_name, column_name, column_default FROM information_schema.columns WHERE table_schema = ? AND instr(column_default, ?) > 0", from, sqltext.Quoted(from)+".")
	if err != nil {
		return err
	}
	defaults = slices.DeleteFunc(defaults, func(d []string) bool { // views show them too
		return sqltext.Requalified(d[2], "", from, to) == d[2] || !slices.ContainsFunc(all, func(t []string) bool { return t[0] == d[0] })
	})
	var pairs, drop []string
	for _, t := range all {
		switch n := t[0]; {
		case n == mark || n == atRest:
		case t[1] == "SEQUENCE" && len(defaults) > 0:
			if err := c.copySequence(ctx, n, from, to); err != nil {
				return err
			}
			drop = append(drop, "DROP SEQUENCE "+sqltext.Quoted(from)+"."+sqltext.Quoted(n))
		default:
			pairs = append(pairs, fmt.Sprintf("%s.%s TO %s.%s", sqltext.Quoted(from), sqltext.Quoted(n), sqltext.Quoted(to), sqltext.Quoted(n)))
		}
	}
	for _, d := range defaults {
		if err := c.Run(ctx, fmt.Sprintf("ALTER TABLE %s.%s ALTER COLUMN %s SET DEFAULT (%s)", sqltext.Quoted(from), sqltext.Quoted(d[0]), sqltext.Quoted(d[1]), sqltext.Requalified(d[2], "", from, to))); err != nil {
			return err
		}
	}
	for some := range slices.Chunk(pairs, tablesAtOnce) {
		if err := c.Run(ctx, "RENAME TABLE "+strings.Join(some, ", ")); err != nil {
			return err
		}
	}
	return c.Run(ctx, drop...)
}

// copySequence creates a sequence of one database in another, with its value.
func (c *conn) copySequence(ctx context.Context, name, from, to string) error {
	old, now := sqltext.Quoted(from)+"."+sqltext.Quoted(name), sqltext.Quoted(to)+"."+sqltext.Quoted(name)
	made, err := c.One(ctx, "SHOW CREATE SEQUENCE "+old)
	if err != nil {
		return err
	}
	value, err := c.One(ctx, "SELECT next_not_cached_value, cycle_count FROM "+old)
	if err != nil {
		return err
	}
	options := strings.TrimPrefix(made[1], "CREATE SEQUENCE "+sqltext.Quoted(name))
	return c.Run(ctx, "CREATE SEQUENCE IF NOT EXISTS "+now+options, fmt.Sprintf("SELECT SETVAL(%s, %s, 0, %s)", now, value[0], value[1]))
}

// tryDefinitions creates all definitions of a database in another database with empty tables, and then drops
// it.
func (c *conn) tryDefinitions(ctx context.Context, d *schema.Sealed, from string) (err error) {
	if len(d.Defined) == 0 {
		return nil
	}
	try := Engine{}.Named(from, "_movekit_try")
	defer func() {
		if gone := c.Run(context.WithoutCancel(ctx), "DROP DATABASE IF EXISTS "+sqltext.Quoted(try)); err == nil {
			err = gone
		}
	}()
	if err := c.Run(ctx, "DROP DATABASE IF EXISTS "+sqltext.Quoted(try), d.Create(try)); err != nil {
		return err
	}
	if err := c.emptyTables(ctx, d, from, try); err != nil {
		return err
	}
	return c.define(ctx, d.Defined, from, try, true)
}

// emptyTables creates the tables and sequences that definitions may use in a database, empty and like those of another.
func (c *conn) emptyTables(ctx context.Context, d *schema.Sealed, from, try string) error {
	named := map[string]bool{}
	for _, o := range d.Defined {
		sqltext.Words(o.SQL, named)
	}
	tables, err := c.Table(ctx, "SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = ? AND table_type <> 'VIEW'", from)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if !named[strings.ToLower(t[0])] && !strings.ContainsAny(t[0], "`\"") {
			continue
		}
		name := sqltext.Quoted(t[0])
		sql := fmt.Sprintf("CREATE TABLE %s.%s LIKE %s.%s", sqltext.Quoted(try), name, sqltext.Quoted(from), name)
		if t[1] == "SEQUENCE" {
			sql = fmt.Sprintf("CREATE SEQUENCE %s.%s", sqltext.Quoted(try), name)
		}
		if err := c.Run(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// define creates objects of one database in another, each in a session like its original one. With
// rest, events are created disabled.
func (c *conn) define(ctx context.Context, all []schema.Object, from, to string, rest bool) (err error) {
	if err := c.Run(ctx, "USE "+sqltext.Quoted(to)); err != nil {
		return err
	}
	if i := slices.IndexFunc(all, func(o schema.Object) bool { return o.Sort == "EVENT" && o.Enabled() }); rest && i >= 0 {
		if err := c.Run(ctx, "CREATE TABLE IF NOT EXISTS "+atRest+" (name varchar(64)) CHARACTER SET utf8mb4"); err != nil {
			return err
		}
	}
	defer func() {
		if back := c.Run(context.WithoutCancel(ctx), client.Settings...); err == nil {
			err = back
		}
	}()
	for _, o := range all {
		what := strings.ToLower(o.Sort) + " " + o.Name
		create := o.Create(o.Definer, from, to)
		if o.Sort == "EVENT" {
			if rest && o.Enabled() {
				if err := c.Run(ctx, "INSERT INTO "+atRest+" VALUES ("+sqltext.Literal(o.Name)+")"); err != nil {
					return err
				}
				create = sqltext.Swapped(create, o.Mode, schema.On, schema.Off)
			}
		}
		if o.Sort == "EVENT" {
			c.inPast(ctx)
		}
		if err := c.Run(ctx, o.Session()...); err != nil {
			return fault.Wrap(fault.KindOf(err), err, "the %s was created with session settings that this server does not support", what)
		}
		if err := c.Run(ctx, create); err != nil {
			return fault.Wrap(fault.KindOf(err), err, "the %s cannot be created", what)
		}
	}
	return nil
}

// inPast sets the clock of the session back: otherwise the server drops an event at once whose time has passed. It is one
// that the event scheduler has never run, because it is off. A server that does not allow this has no such event left.
func (c *conn) inPast(ctx context.Context) {
	c.ExecContext(ctx, "SET timestamp = 1") //nolint:errcheck // as above
}

// enabledEvents returns the events of a database at rest that were enabled before.
func (c *conn) enabledEvents(ctx context.Context, database string) ([]string, error) {
	there, err := c.Column(ctx, "SELECT 1 FROM information_schema.tables WHERE table_schema = ? AND table_name = ?", database, atRest)
	if err != nil || len(there) == 0 {
		return nil, err
	}
	return c.Column(ctx, "SELECT name FROM "+sqltext.Quoted(database)+"."+atRest)
}
