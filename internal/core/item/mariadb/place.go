package mariadb

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/item/mariadb/sqltext"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// unfinished is a table that a database holds while what belongs in it is
// renamed into it. It keeps the definitions that are dropped meanwhile.
const unfinished = "movekit_unfinished"

// exists reports whether the server has a database, all of it. One without
// anything in it is in nobody's way.
func (c *conn) exists(ctx context.Context, database string) (bool, error) {
	there, err := c.holds(ctx, database)
	if err != nil || !there {
		return false, err
	}
	from, err := c.unfinishedFrom(ctx, database)
	return from == nil, err
}

func (c *conn) has(ctx context.Context, database string) (bool, error) {
	n, err := c.column(ctx, "SELECT 1 FROM information_schema.schemata WHERE schema_name = ?", database)
	return len(n) > 0, err
}

// holds reports whether there is a database with something in it.
func (c *conn) holds(ctx context.Context, database string) (bool, error) {
	n, err := c.column(ctx, "SELECT 1 FROM information_schema.tables WHERE table_schema = ? UNION SELECT 1 FROM information_schema.routines WHERE routine_schema = ? UNION SELECT 1 FROM information_schema.events WHERE event_schema = ? LIMIT 1", database, database, database)
	return len(n) > 0, err
}

// unfinishedFrom is the database from which another is being renamed, or nil.
func (c *conn) unfinishedFrom(ctx context.Context, database string) (*string, error) {
	there, err := c.column(ctx, "SELECT 1 FROM information_schema.tables WHERE table_schema = ? AND table_name = ?", database, unfinished)
	if err != nil || len(there) == 0 {
		return nil, err
	}
	row, err := c.one(ctx, "SELECT origin FROM "+sqltext.Quoted(database)+"."+unfinished+" WHERE id = 0")
	if err != nil {
		return nil, err
	}
	return &row[0], nil
}

// lacks returns what the new server lacks for a sealed database.
func (c *conn) lacks(ctx context.Context, d *Sealed) ([]string, error) {
	v, err := c.version(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	if !v.takes(parseVersion(d.Engine)) {
		out = append(out, fmt.Sprintf("the server here is %s, and the old one was %s: its databases go to a server of the same maker and of the same version or a newer one", v, d.Engine))
	}
	have, err := c.column(ctx, "SELECT concat('storage engine ', engine) FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT') UNION SELECT concat('collation ', collation_name) FROM information_schema.collations")
	if err != nil {
		return nil, err
	}
	for _, n := range d.Needs {
		if !slices.Contains(have, n) && !slices.Contains(have, "collation "+long(strings.TrimPrefix(n, "collation "))) {
			out = append(out, "the "+n+" is not on the server here")
		}
	}
	most, err := c.number(ctx, "SELECT @@max_allowed_packet")
	if err != nil {
		return nil, err
	}
	if d.Longest > most {
		out = append(out, fmt.Sprintf("the server here takes at most %d bytes at once, and the longest row has %d: set max_allowed_packet=%dM in its settings and start it again", most, d.Longest, d.Longest>>20+2))
	}
	return out, nil
}

// stage makes the tables of a sealed database under another name, and loads
// them.
func (c *conn) stage(ctx context.Context, d *Sealed, p served.Putting) error {
	for _, sql := range []string{
		"DROP DATABASE IF EXISTS " + sqltext.Quoted(p.Stage),
		fmt.Sprintf("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", sqltext.Quoted(p.Stage), d.Charset, d.Collation),
		"USE " + sqltext.Quoted(p.Stage),
	} {
		if err := c.run(ctx, sql); err != nil {
			return err
		}
	}
	for _, m := range d.Make {
		if err := c.run(ctx, m.SQL); err != nil {
			return err
		}
		if m.After != "" {
			if _, err := c.table(ctx, m.After); err != nil {
				return err
			}
		}
	}
	if err := load(ctx, c.server.On(p.Stage), d, p); err != nil {
		return err
	}
	return c.run(ctx, linksOf(d)...)
}

// moved are the objects of a database that renaming tables does not take
// along, by how they are dropped.
var dropped = []string{"TRIGGER", "EVENT", "VIEW", "FUNCTION", "PROCEDURE", "PACKAGE"}

// rename moves all of a database to another name, and adds objects to it: a
// server cannot rename one. A run that was interrupted is ended by the same
// call. Events of what is set aside are switched off.
func (c *conn) rename(ctx context.Context, from, to string, add []Object, aside bool) error {
	origin, err := c.unfinishedFrom(ctx, to)
	if err != nil {
		return err
	}
	there, err := c.holds(ctx, to)
	if err != nil {
		return err
	}
	if there && (origin == nil || *origin != from) {
		return fault.New(fault.Changed, "there is a database %s already on the server of %s", to, c.server.Address())
	}
	rest := &Sealed{} // what is still under the old name
	inOld, err := c.has(ctx, from)
	if err != nil {
		return err
	}
	if inOld {
		if rest, err = c.definitions(ctx, from); err != nil {
			return err
		}
	}
	if !there {
		if err := c.run(ctx, "DROP DATABASE IF EXISTS "+sqltext.Quoted(to), fmt.Sprintf("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", sqltext.Quoted(to), rest.Charset, rest.Collation)); err != nil {
			return err
		}
	}
	keep := sqltext.Quoted(to) + "." + unfinished
	if origin == nil {
		// One statement, so that it is never there without its first row.
		if err := c.run(ctx, "CREATE TABLE "+keep+" (id int PRIMARY KEY, origin text, definition longtext) CHARACTER SET utf8mb4 SELECT 0 AS id, "+sqltext.Literal(from)+" AS origin, '' AS definition"); err != nil {
			return err
		}
	}
	if err := c.keep(ctx, keep, slices.Concat(rest.Defined, add)); err != nil {
		return err
	}
	if inOld {
		if err := c.moveTables(ctx, from, to, rest); err != nil {
			return err
		}
	}
	if err := c.define(ctx, keep, to, aside); err != nil {
		return err
	}
	return c.run(ctx, "DROP DATABASE IF EXISTS "+sqltext.Quoted(from), "DROP TABLE "+keep)
}

// definitions reads the objects of a database.
func (c *conn) definitions(ctx context.Context, database string) (*Sealed, error) {
	d := &Sealed{}
	if err := c.run(ctx, "USE "+sqltext.Quoted(database)); err != nil {
		return nil, err
	}
	if err := c.charset(ctx, d); err != nil {
		return nil, err
	}
	return d, c.objects(ctx, d)
}

// keep writes definitions where they outlive being dropped. Those of an
// interrupted run stay.
func (c *conn) keep(ctx context.Context, table string, all []Object) error {
	had, err := c.kept(ctx, table)
	if err != nil {
		return err
	}
	for i, o := range all {
		if slices.ContainsFunc(had, func(h Object) bool { return h.Sort == o.Sort && h.Name == o.Name }) {
			continue
		}
		text, err := json.Marshal(o)
		if err != nil {
			return fault.Wrap(fault.Internal, err, "cannot write a definition")
		}
		if err := c.run(ctx, fmt.Sprintf("INSERT INTO %s VALUES (%d, '', %s)", table, 1+len(had)+i, sqltext.Literal(string(text)))); err != nil {
			return err
		}
	}
	return nil
}

func (c *conn) kept(ctx context.Context, table string) (out []Object, err error) {
	texts, err := c.column(ctx, "SELECT definition FROM "+table+" WHERE id > 0 ORDER BY id")
	for _, t := range texts {
		var o Object
		if err := json.Unmarshal([]byte(t), &o); err != nil {
			return nil, fault.Wrap(fault.BadDatabase, err, "the table %s cannot be read", table)
		}
		out = append(out, o)
	}
	return out, err
}

// moveTables moves the tables, after the objects that are in the way of that
// are dropped; their definitions are kept.
func (c *conn) moveTables(ctx context.Context, from, to string, rest *Sealed) error {
	for _, sort := range dropped {
		for _, o := range rest.Defined {
			if o.Sort == sort {
				if err := c.run(ctx, "DROP "+sort+" IF EXISTS "+sqltext.Quoted(from)+"."+sqltext.Quoted(o.Name)); err != nil {
					return err
				}
			}
		}
	}
	names, err := c.column(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND table_name <> ? AND table_type <> 'VIEW'", from, unfinished)
	if err != nil || len(names) == 0 {
		return err
	}
	var pairs []string
	for _, n := range names {
		pairs = append(pairs, fmt.Sprintf("%s.%s TO %s.%s", sqltext.Quoted(from), sqltext.Quoted(n), sqltext.Quoted(to), sqltext.Quoted(n)))
	}
	return c.run(ctx, "RENAME TABLE "+strings.Join(pairs, ", "))
}

// define makes the kept objects in a database.
func (c *conn) define(ctx context.Context, table, database string, aside bool) error {
	all, err := c.kept(ctx, table)
	if err != nil {
		return err
	}
	if err := c.run(ctx, "USE "+sqltext.Quoted(database)); err != nil {
		return err
	}
	for _, o := range all {
		sql := append(o.session(), "DROP "+o.Sort+" IF EXISTS "+sqltext.Quoted(o.Name), o.create(o.Definer))
		if o.Sort == "EVENT" && aside {
			sql = append(sql, "ALTER EVENT "+sqltext.Quoted(o.Name)+" DISABLE")
		}
		if err := c.run(ctx, sql...); err != nil {
			return err
		}
	}
	return c.run(ctx, settings...)
}

// settle gives the staged database its name.
func (c *conn) settle(ctx context.Context, database string, d *Sealed, p served.Putting, aside string) error {
	if err := c.endLeaving(ctx, database); err != nil {
		return err
	}
	there, err := c.holds(ctx, database)
	if err != nil {
		return err
	}
	if there {
		if there, err = c.endOther(ctx, database, p.Stage); err != nil {
			return err
		}
	}
	switch {
	case there && aside != "":
		err = c.rename(ctx, database, aside, nil, true)
	case there:
		err = c.run(ctx, "DROP DATABASE "+sqltext.Quoted(database))
	}
	if err != nil {
		return err
	}
	missing, err := c.missing(ctx, d)
	if err != nil {
		return err
	}
	defined := slices.Clone(d.Defined)
	for i, o := range defined {
		if p.Mine && slices.Contains(missing, o.Definer) {
			defined[i].Definer = ""
		}
	}
	return c.rename(ctx, p.Stage, database, defined, false)
}

// endLeaving ends what an interrupted run began: to move a database to another
// name.
func (c *conn) endLeaving(ctx context.Context, database string) error {
	all, err := c.column(ctx, "SELECT table_schema FROM information_schema.tables WHERE table_name = ?", unfinished)
	if err != nil {
		return err
	}
	for _, to := range all {
		origin, err := c.unfinishedFrom(ctx, to)
		if err != nil {
			return err
		}
		if origin != nil && *origin == database {
			if err := c.rename(ctx, database, to, nil, true); err != nil {
				return err
			}
		}
	}
	return nil
}

// endOther sees to a database that an interrupted run left unfinished, and
// reports whether it is still there. What came of the stage is made again;
// what came of elsewhere is somebody's.
func (c *conn) endOther(ctx context.Context, database, stage string) (there bool, err error) {
	origin, err := c.unfinishedFrom(ctx, database)
	switch {
	case err != nil || origin == nil:
		return true, err
	case *origin == stage:
		return false, c.run(ctx, "DROP DATABASE "+sqltext.Quoted(database))
	}
	return true, c.rename(ctx, *origin, database, nil, false)
}

// missing returns those who objects belong to, and who are not on the server.
func (c *conn) missing(ctx context.Context, d *Sealed) (out []string, err error) {
	for _, o := range d.Defined {
		if o.Definer == "" || slices.Contains(out, o.Definer) {
			continue
		}
		user, host, _ := strings.Cut(o.Definer, "@")
		there, err := c.column(ctx, "SELECT 1 FROM mysql.user WHERE user = ? AND (host = ? OR ? = '')", sqltext.Unquoted(user), sqltext.Unquoted(host), host)
		if err != nil {
			return nil, err
		}
		if len(there) == 0 {
			out = append(out, o.Definer)
		}
	}
	return out, nil
}

// notes tells who is not on the new server: those the database was used by, and
// those its objects belong to.
func (c *conn) notes(ctx context.Context, d *Sealed, mine bool) (out []string, err error) {
	missing, err := c.missing(ctx, d)
	if err != nil {
		return nil, err
	}
	for _, m := range missing {
		var named []string
		for _, o := range d.Defined {
			if o.Definer == m {
				named = append(named, strings.ToLower(o.Sort)+" "+o.Name)
			}
		}
		if mine {
			out = append(out, fmt.Sprintf("%s ran as %s, who is not on the new server: now as who unpacked", strings.Join(named, ", "), m))
		} else {
			out = append(out, fmt.Sprintf("%s run as %s, who is not on the new server: make that user, or let them run as who unpacks", strings.Join(named, ", "), m))
		}
	}
	for _, u := range d.Users {
		have, err := c.column(ctx, "SELECT 1 FROM mysql.user WHERE concat(quote(user), '@', quote(host)) = ?", u.Name)
		if err != nil {
			return nil, err
		}
		if len(have) == 0 {
			out = append(out, fmt.Sprintf("the user %s is not on the new server: make it with the password that the app uses, then: %s", u.Name, strings.Join(u.Grants, "; ")))
		}
	}
	if d.Unread {
		out = append(out, "who may use the database was not shown to the user that packed it: see that the app's user is on the new server")
	}
	return out, nil
}
