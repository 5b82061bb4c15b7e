package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sync/errgroup"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
	"movekit/internal/core/item/served"
	"movekit/internal/core/version"
)

// available returns the extensions that a server can create, with their versions.
func available(ctx context.Context, conn *pgx.Conn) (map[string]string, error) {
	rows, err := conn.Query(ctx, "SELECT name, default_version FROM pg_catalog.pg_available_extensions")
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var name, version string
	_, err = pgx.ForEachRow(rows, []any{&name, &version}, func() error {
		out[name] = version
		return nil
	})
	return out, err
}

// versions returns notes on extensions with another version.
func (m *builder) versions(ctx context.Context, conn *pgx.Conn, d *Sealed) (notes []string) {
	have, err := available(ctx, conn)
	if err != nil {
		return nil
	}
	for _, e := range d.Extensions {
		if name, was, _ := strings.Cut(e, " "); have[name] != was {
			notes = append(notes, fmt.Sprintf("the extension %s is %s here, and was %s", name, have[name], was))
		}
	}
	return notes
}

// Exists reports whether the server has the database.
func (s *session) Exists(ctx context.Context, database string) (bool, error) {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return false, err
	}
	there, err := exists(ctx, conn, database)
	return there, s.explain(err)
}

func exists(ctx context.Context, conn *pgx.Conn, database string) (there bool, err error) {
	err = conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_catalog.pg_database WHERE datname = $1)", database).Scan(&there)
	return there, err
}

// Folder returns the server's data folder, if the login may read it.
func (s *session) Folder(ctx context.Context, _ string) (string, error) {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return "", err
	}
	all, err := texts(ctx, conn, "SELECT setting FROM pg_catalog.pg_settings WHERE name = 'data_directory'")
	return strings.Join(all, ""), s.explain(err)
}

// Lacks returns the requirements of a sealed database that the new server does not meet: a newer
// version, extensions, locales. It creates nothing.
func (s *session) Lacks(ctx context.Context, _ string, d *Sealed) ([]string, error) {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	if s.number/10000 < d.Number/10000 {
		out = append(out, fmt.Sprintf("the server here is PostgreSQL %s, but the old one was %s: a database cannot move to an older server", s.version, strings.TrimPrefix(d.Engine, "PostgreSQL ")))
	}
	have, err := available(ctx, conn)
	if err != nil {
		return nil, s.explain(err)
	}
	for _, e := range d.Extensions {
		name, was, _ := strings.Cut(e, " ")
		switch is, there := have[name]; {
		case !there:
			out = append(out, "the extension "+name+" is not installed for the server here")
		case version.Compare(is, was) < 0:
			out = append(out, fmt.Sprintf("the extension %s has version %s on the server here, but had %s: its data cannot move to an older version", name, is, was))
		}
	}
	var may, icu, more bool
	if err := conn.QueryRow(ctx, `SELECT rolsuper OR rolcreatedb, EXISTS (SELECT FROM pg_catalog.pg_collation WHERE collprovider = 'i'),
		NOT rolsuper AND (rolcreaterole OR rolreplication OR rolbypassrls OR EXISTS (SELECT FROM pg_catalog.pg_roles g WHERE (g.rolsuper OR g.rolname LIKE 'pg\_%') AND pg_has_role(g.oid, 'MEMBER')))
		FROM pg_catalog.pg_roles WHERE rolname = current_user`).Scan(&may, &icu, &more); err != nil {
		return nil, s.explain(err)
	}
	if !may {
		out = append(out, "the login on the server here cannot create databases: allow it with ALTER ROLE ... CREATEDB")
	}
	if more {
		out = append(out, "the login on the server here has rights beyond its own databases, and cannot load this one with fewer: log in as a superuser, or as a role that has CREATEDB only")
	}
	if d.ICU && !icu {
		out = append(out, "the server here does not have the ICU library, which the old one uses for sorting")
	}
	// The spelling of locales varies: de_DE.UTF-8 and de_DE.utf8.
	locales, err := texts(ctx, conn, "SELECT DISTINCT lower(replace(collcollate, '-', '')) FROM pg_catalog.pg_collation WHERE collcollate IS NOT NULL UNION SELECT lower(replace(datcollate, '-', '')) FROM pg_catalog.pg_database")
	if err != nil {
		return nil, s.explain(err)
	}
	for _, l := range slices.Compact([]string{d.Collate, d.Ctype}) {
		if !slices.Contains(append(locales, "c", "posix", "c.utf8"), strings.ToLower(strings.ReplaceAll(l, "-", ""))) {
			out = append(out, "the server here does not have the locale "+l+", so texts would be sorted differently")
		}
	}
	return out, nil
}

// stage creates the database under another name and loads it, after dropping leftovers of an
// earlier run. archive is the file with the schema.
func (s *session) stage(ctx context.Context, d *Sealed, p served.Loading, archive string, data io.Reader) (notes []string, err error) {
	name := p.Stage
	conn, err := s.maintenance(ctx)
	if err != nil {
		return nil, err
	}
	pre, post, err := s.definitions(ctx, archive)
	if err != nil {
		return nil, err
	}
	notes, made, err := makeRoles(ctx, conn, d.Roles)
	defer func() {
		if err != nil {
			err = s.withdraw(context.WithoutCancel(ctx), name, made, err)
		}
	}()
	if err != nil {
		return notes, s.explain(err)
	}
	s.leave(name)
	if err := dropDatabase(ctx, conn, name); err != nil {
		return notes, s.explain(err)
	}
	whole := slices.IndexFunc(pre, func(e sqltext.Entry) bool { return e.Sort == "database" })
	if whole < 0 {
		return notes, fault.New(fault.Damaged, "the sealed schema has no statement that creates the database")
	}
	create, owner, _ := strings.Cut(strings.TrimRight(pre[whole].For(sqltext.Quoted(name)), "\n"), ";\n")
	owner = strings.TrimSpace(owner)
	if !strings.HasPrefix(create, "CREATE DATABASE "+sqltext.Quoted(name)+" WITH TEMPLATE = template0 ") || owner != "" && !ownerDatabase.MatchString(owner) {
		return notes, fault.New(fault.Hostile, "the sealed schema creates the database in a way that Move Kit does not write")
	}
	g, err := s.newGuest(ctx)
	if err != nil {
		return notes, err
	}
	given := ""
	defer func() { err = errors.Join(err, g.close(ctx, given)) }()
	if err := execOne(ctx, conn, create); err != nil {
		return notes, s.explain(err)
	}
	if g.role != "" {
		if err := execOne(ctx, conn, "ALTER DATABASE "+sqltext.Quoted(name)+" OWNER TO "+sqltext.Quoted(g.role)); err != nil {
			return notes, s.explain(err)
		}
	}
	defer func() { // the guest's objects are dropped with the database
		if err != nil {
			err = s.withdraw(ctx, name, nil, err)
		}
	}()
	preNow, owners := sqltext.Later(pre)
	postNow, more := sqltext.Later(post)
	m := builder{guest: g, database: name, path: d.Path, notes: &notes, allow: p.Allow}
	if err := m.all(ctx, preNow); err != nil {
		return notes, err
	}
	if err := s.load(ctx, g, name, d.Path, data, p.Progress); err != nil {
		return notes, err
	}
	if err := m.all(ctx, postNow); err != nil {
		return notes, err
	}
	if err := m.fill(ctx, d.Views); err != nil {
		return notes, err
	}
	g.session.leave(name)
	if err := g.give(ctx, name, append(owners, more...), len(m.skipped) > 0); err != nil {
		return notes, err
	}
	if owner != "" {
		if err := execOne(ctx, conn, owner); err != nil {
			return notes, s.explain(err)
		}
	}
	given = name
	for _, e := range pre {
		if !e.OfDatabase() || e.Sort == "database" {
			continue
		}
		for sql := range strings.SplitSeq(strings.TrimSpace(e.For(sqltext.Quoted(name))), ";\n") {
			_, err := conn.Exec(ctx, sql)
			var pg *pgconn.PgError
			if errors.As(err, &pg) && pg.Code == "42704" {
				notes = append(notes, fmt.Sprintf("the server here does not support a setting of the database: %s (%s)", e.Setting(sql), pg.Message))
			} else if err != nil {
				err = s.explain(err)
				return notes, fault.Wrap(fault.KindOf(err), err, "cannot apply the settings of the database")
			}
		}
	}
	return append(notes, m.versions(ctx, conn, d)...), nil
}

// ownerDatabase matches the statement that gives the database its owner.
var ownerDatabase = regexp.MustCompile(`^ALTER DATABASE ` + sqltext.Identifier + ` OWNER TO ` + sqltext.Identifier + `;?$`)

// withdraw removes the staged database and the roles that this run created, after an error. If that
// fails too, the error names them.
func (s *session) withdraw(ctx context.Context, name string, roles []string, cause error) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	s.leave(name)
	conn, err := s.maintenance(ctx)
	left := append([]string{"the database " + name}, roles...)
	if err == nil {
		if err = dropDatabase(ctx, conn, name); err == nil {
			left = left[1:]
		}
		for _, role := range slices.Backward(roles) {
			if err == nil && execOne(ctx, conn, "DROP ROLE IF EXISTS "+sqltext.Quoted(role)) == nil {
				left = slices.DeleteFunc(left, func(l string) bool { return l == role })
			}
		}
	}
	if len(left) == 0 {
		return cause
	}
	return fault.Wrap(fault.KindOf(cause), cause, "the server still has %s of the interrupted unpack (the next unpack removes the database, and uses the roles)", strings.Join(left, ", "))
}

// builder creates the objects of a database.
type builder struct {
	*guest
	allow    func(string) error // asks whether an administrator may create an object
	skipped  []string           // objects that were not created
	database string
	path     string // search path of the old database
	mu       sync.Mutex
	notes    *[]string
}

// Entries are created in batches: most of them in order, and indexes and constraints on two
// connections.
const (
	atOnce  = 50
	workers = 2
)

func (m *builder) all(ctx context.Context, entries []sqltext.Entry) error {
	entries = slices.DeleteFunc(slices.Clone(entries), sqltext.Entry.OfDatabase)
	apart := func(e sqltext.Entry) bool { return e.Sort == "index" || e.Sort == "constraint" }
	for len(entries) > 0 {
		n := slices.IndexFunc(entries, func(e sqltext.Entry) bool { return apart(e) != apart(entries[0]) })
		if n < 0 {
			n = len(entries)
		}
		queue := make(chan []sqltext.Entry, 1+n/atOnce)
		for some := range slices.Chunk(entries[:n], atOnce) {
			queue <- some
		}
		close(queue)
		g, within := errgroup.WithContext(ctx)
		for range min(len(queue), map[bool]int{true: workers, false: 1}[apart(entries[0])]) {
			g.Go(func() error { return m.createQueued(within, queue) })
		}
		if err := g.Wait(); err != nil {
			return err
		}
		entries = entries[n:]
	}
	return nil
}

// createQueued creates the queued entries on its own connection.
func (m *builder) createQueued(ctx context.Context, queue <-chan []sqltext.Entry) error {
	conn, err := m.connect(ctx, m.database)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "SET check_function_bodies = false; SET client_min_messages = warning; SET synchronous_commit = off; SET lock_timeout = 0", pgx.QueryExecModeSimpleProtocol); err != nil {
		return m.explain(err)
	}
	for entries := range queue {
		sql := ""
		for _, e := range entries {
			sql += e.SQL
		}
		if _, err := conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol); err == nil {
			continue
		} else if ctx.Err() != nil || conn.IsClosed() {
			return m.explain(err)
		}
		for _, e := range entries { // nothing of them exists yet
			if err := m.createOne(ctx, conn, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// createOne creates one object. Objects that call functions without their schema, such as some indexes,
// fail with an empty search path. They are tried again with the old database's search path.
func (m *builder) createOne(ctx context.Context, conn *pgx.Conn, e sqltext.Entry) error {
	_, err := conn.Exec(ctx, e.SQL, pgx.QueryExecModeSimpleProtocol)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "42") || pg.Code == "3F000") {
		again := setPath(ctx, conn, m.path)
		if again == nil {
			_, again = conn.Exec(ctx, e.SQL, pgx.QueryExecModeSimpleProtocol)
		}
		if err := execOne(ctx, conn, "SET search_path TO ''"); err != nil {
			return m.explain(err)
		}
		if again == nil {
			m.mu.Lock()
			defer m.mu.Unlock()
			*m.notes = append(*m.notes, fmt.Sprintf("the %s %s uses functions or types without their schema; it was created with the database's search path %s", e.Object().Sort, e.Name, m.path))
			return nil
		}
	}
	if err == nil {
		return nil
	}
	if isForbidden(err) && m.role != "" {
		if err = m.byAdmin(ctx, e); err == nil {
			return nil
		}
	}
	err = m.explain(err)
	why := ""
	m.mu.Lock()
	if len(m.skipped) > 0 {
		why = "; it may need the " + strings.Join(m.skipped, ", the ") + ", which an administrator must create and nobody agreed to"
	}
	m.mu.Unlock()
	return fault.Wrap(fault.KindOf(err), err, "the %s %s cannot be created on the new server%s", e.Object().Sort, e.Name, why)
}

// byAdmin creates an object that a guest may not create, if the user allows it. Otherwise it notes that
// the object is missing.
func (m *builder) byAdmin(ctx context.Context, e sqltext.Entry) error {
	m.mu.Lock() // one question at a time
	defer m.mu.Unlock()
	done, err := m.asAdmin(ctx, m.database, e, m.allow)
	if err == nil && !done {
		m.skipped = append(m.skipped, e.Object().Sort+" "+e.Name)
		*m.notes = append(*m.notes, fmt.Sprintf("the %s %s was not created, because it needs an administrator of the server: create it yourself if you trust it", e.Object().Sort, e.Name))
	}
	return err
}

// fill fills the materialized views. Views that read other views through functions, a dependency
// that the server does not record, are tried again after the others.
func (m *builder) fill(ctx context.Context, views []string) error {
	conn, err := m.on(ctx, m.database)
	if err != nil {
		return err
	}
	if err := setPath(ctx, conn, m.path); err != nil {
		return m.explain(err)
	}
	defer m.leave(m.database)
	for _, v := range views {
		if !sqltext.View.MatchString(v) {
			return fault.New(fault.Hostile, "the sealed list has the materialized view %q", v)
		}
	}
	for len(views) > 0 {
		var left []string
		var failed error
		for _, v := range views {
			if err := execOne(ctx, conn, "REFRESH MATERIALIZED VIEW "+v); err != nil {
				left = append(left, v)
				err = m.explain(err)
				failed = cmp.Or[error](failed, fault.Wrap(fault.KindOf(err), err, "the materialized view %s cannot be filled", v))
			}
		}
		if len(left) == len(views) {
			return failed
		}
		views = left
	}
	return nil
}

// Rename renames a database. A database in use cannot be renamed.
func (s *session) Rename(ctx context.Context, from, to string, _ served.Service) error {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return err
	}
	s.leave(from)
	return s.explain(execOne(ctx, conn, renaming(from, to)))
}

// Drop removes a database.
func (s *session) Drop(ctx context.Context, database string) error {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return err
	}
	s.leave(database)
	return s.explain(dropDatabase(ctx, conn, database))
}

// dropDatabase drops a database if it is there, also one that is protected as a template.
func dropDatabase(ctx context.Context, conn *pgx.Conn, database string) error {
	var template bool
	err := conn.QueryRow(ctx, "SELECT coalesce((SELECT datistemplate FROM pg_catalog.pg_database WHERE datname = $1), FALSE)", database).Scan(&template)
	if err == nil && template {
		err = execOne(ctx, conn, "ALTER DATABASE "+sqltext.Quoted(database)+" IS_TEMPLATE FALSE")
	}
	if err != nil {
		return err
	}
	return execOne(ctx, conn, "DROP DATABASE IF EXISTS "+sqltext.Quoted(database))
}

func renaming(from, to string) string {
	return fmt.Sprintf("ALTER DATABASE %s RENAME TO %s", sqltext.Quoted(from), sqltext.Quoted(to))
}

// load loads the data that Seal wrote. Functions that are called while rows are checked are found
// on the old database's search path.
func (s *session) load(ctx context.Context, g *guest, database, searchPath string, data io.Reader, progress func(int64)) error {
	conn, err := g.on(ctx, database)
	if err != nil {
		return err
	}
	defer g.leave(database)
	admin, err := s.on(ctx, database) // for large objects and extensions
	if err != nil {
		return err
	}
	defer s.leave(database)
	if err = execOne(ctx, conn, "SET synchronous_commit TO off"); err == nil {
		err = setPath(ctx, conn, searchPath)
	}
	if err != nil {
		return s.explain(err)
	}
	var given []string
	err = sqltext.Scan(data, func(string) error { return nil }, func(sql string) error {
		if sqltext.OwnLob.MatchString(sql) || sqltext.GrantLob.MatchString(sql) || sqltext.RevokeLob.MatchString(sql) {
			given = append(given, sql)
			return nil
		}
		err := replay(ctx, conn, sql)
		if isForbidden(err) && sqltext.SetValue.MatchString(sql) {
			err = replay(ctx, admin, sql) // a sequence of an extension
		}
		return s.explain(err)
	}, func(sql string, rows io.Reader) error {
		to := conn
		var mine bool
		if err := conn.QueryRow(ctx, "SELECT pg_catalog.has_table_privilege($1::text, 'INSERT')", sqltext.CopyTo.FindString(sql)[len("COPY "):]).Scan(&mine); err != nil {
			return s.explain(err)
		}
		if !mine {
			to = admin // a table of an extension, which an administrator created
		}
		_, err := to.PgConn().CopyFrom(ctx, served.Counting{Reader: rows, Progress: progress}, sql)
		return s.explain(err)
	})
	for _, sql := range given {
		if err == nil {
			err = s.explain(execOne(ctx, admin, sql))
		}
	}
	return err
}

// sealedRows reads one table of a sealed database, for dbprint.DiffRows. open starts the data from
// its beginning.
func sealedRows(open func() (io.ReadCloser, error), table string) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		data, err := open()
		if err != nil {
			return err
		}
		defer data.Close()
		want := "COPY " + table + " " // followed by columns or FROM
		said := func(line string) error {
			oid, sum, found := strings.Cut(strings.TrimPrefix(line, largeLine), " ")
			if table != largeTable || !strings.HasPrefix(line, largeLine) || !found {
				return nil
			}
			of, ok := digest.Parse(sum)
			if !ok {
				return fault.New(fault.Damaged, "the sealed rows are damaged")
			}
			return each(largeRow(oid, of))
		}
		return sqltext.Scan(data, said, func(string) error { return nil }, func(sql string, rows io.Reader) error {
			if !strings.HasPrefix(sql, want) {
				return nil
			}
			_, err := io.Copy(&sqltext.Lines{Each: func(line []byte) error { return each(sqltext.RowOf(line)) }}, rows)
			return err
		})
	}
}
