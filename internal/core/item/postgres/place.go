package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

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

// Lacks returns what the new server lacks for a sealed database: an older
// version, extensions, its encoding's locale. Nothing is made.
func (s *session) Lacks(ctx context.Context, _ string, d *Sealed) ([]string, error) {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	if s.number/10000 < d.Number/10000 {
		out = append(out, fmt.Sprintf("the server here is PostgreSQL %s, and the old one was %s: an older server cannot take its database", s.version, strings.TrimPrefix(d.Engine, "PostgreSQL ")))
	}
	have, err := texts(ctx, conn, "SELECT name FROM pg_catalog.pg_available_extensions")
	if err != nil {
		return nil, s.explain(err)
	}
	for _, e := range d.Extensions {
		if !slices.Contains(have, e) {
			out = append(out, "the extension "+e+" is not installed for the server here")
		}
	}
	// A locale's name differs in writing only: de_DE.UTF-8 and de_DE.utf8.
	locales, err := texts(ctx, conn, "SELECT DISTINCT lower(replace(collcollate, '-', '')) FROM pg_catalog.pg_collation WHERE collcollate IS NOT NULL UNION SELECT lower(replace(datcollate, '-', '')) FROM pg_catalog.pg_database")
	if err != nil {
		return nil, s.explain(err)
	}
	for _, l := range slices.Compact([]string{d.Collate, d.Ctype}) {
		if !slices.Contains(append(locales, "c", "posix", "c.utf8"), strings.ToLower(strings.ReplaceAll(l, "-", ""))) {
			out = append(out, "the locale "+l+" is not on the computer of the server here: texts would be sorted otherwise")
		}
	}
	return out, nil
}

// stage makes the database under another name and loads it. What an earlier
// run has left under that name is dropped first. archive is the file of the
// schema. It returns the roles that were made, without passwords.
func (s *session) stage(ctx context.Context, d *Sealed, name, archive string, data io.Reader, progress func(int64)) (made []Role, err error) {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return nil, err
	}
	restore, err := program(ctx, "pg_restore", s.number/10000)
	if err != nil {
		return nil, err
	}
	if made, err = makeRoles(ctx, conn, d.Roles); err != nil {
		return made, s.explain(err)
	}
	s.leave(name)
	for _, sql := range []string{
		"DROP DATABASE IF EXISTS " + quoted(name),
		fmt.Sprintf("CREATE DATABASE %s TEMPLATE template0 ENCODING %s LC_COLLATE %s LC_CTYPE %s", quoted(name), literal(d.Encoding), literal(d.Collate), literal(d.Ctype)),
	} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return made, s.explain(err)
		}
	}
	if err := s.restore(ctx, name, restore, archive, "--section=pre-data"); err != nil {
		return made, err
	}
	if err := s.load(ctx, name, data, progress); err != nil {
		return made, err
	}
	if err := s.restore(ctx, name, restore, archive, "--section=post-data", "--jobs=2"); err != nil {
		return made, err
	}
	return made, s.finish(ctx, conn, d, name)
}

// makeRoles makes the roles that the server does not have, as members of what
// they were members of. Those that it has are left as they are.
func makeRoles(ctx context.Context, conn *pgx.Conn, roles []Role) (made []Role, err error) {
	for _, r := range roles {
		var there bool
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = $1)", r.Name).Scan(&there); err != nil {
			return made, err
		}
		if there {
			continue
		}
		sql := "CREATE ROLE " + quoted(r.Name)
		if r.Login {
			sql += " LOGIN"
		}
		if _, err := conn.Exec(ctx, sql); err != nil {
			return made, err
		}
		made = append(made, r)
	}
	for _, r := range made {
		for _, in := range r.In {
			if _, err := conn.Exec(ctx, "GRANT "+quoted(in)+" TO "+quoted(r.Name)); err != nil {
				return made, err
			}
		}
	}
	return made, nil
}

// restore runs pg_restore on the archive of the schema.
func (s *session) restore(ctx context.Context, database, program, archive string, args ...string) error {
	text, err := s.run(ctx, database, nil, nil, program, append(args, "--exit-on-error", "--no-tablespaces", "--dbname", database, archive)...)
	if err != nil {
		if ctx.Err() != nil {
			return fault.Wrap(fault.Stopped, ctx.Err(), "making the database %s was stopped", s.On(database).Address())
		}
		return fault.Wrap(kindOfText(text), said(err, text), "the schema of %s cannot be made", s.On(database).Address())
	}
	return nil
}

// finish does what comes after the rows: views, settings, owner and rights.
func (s *session) finish(ctx context.Context, conn *pgx.Conn, d *Sealed, name string) error {
	stage, err := s.on(ctx, name)
	if err != nil {
		return err
	}
	for _, v := range d.Views {
		if _, err := stage.Exec(ctx, "REFRESH MATERIALIZED VIEW "+v); err != nil {
			return s.explain(err)
		}
	}
	statements := []string{fmt.Sprintf("ALTER DATABASE %s OWNER TO %s", quoted(name), quoted(d.Owner))}
	for _, c := range d.Configs {
		setting, value, _ := strings.Cut(c, "=")
		if strings.Contains(value, ",") || strings.HasPrefix(value, `"`) {
			statements = append(statements, fmt.Sprintf("ALTER DATABASE %s SET %s TO %s", quoted(name), quoted(setting), value)) // a list of names, as the server writes it
		} else {
			statements = append(statements, fmt.Sprintf("ALTER DATABASE %s SET %s TO %s", quoted(name), quoted(setting), literal(value)))
		}
	}
	if len(d.Grants) > 0 {
		statements = append(statements, fmt.Sprintf("REVOKE ALL ON DATABASE %s FROM PUBLIC", quoted(name)))
	}
	for _, g := range d.Grants {
		privilege, role, _ := strings.Cut(g, " TO ")
		statements = append(statements, fmt.Sprintf("GRANT %s ON DATABASE %s TO %s", privilege, quoted(name), role))
	}
	for _, sql := range statements {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return s.explain(err)
		}
	}
	return nil
}

// Rename gives a database another name. One that somebody is connected to
// cannot be renamed.
func (s *session) Rename(ctx context.Context, from, to string) error {
	return s.alter(ctx, from, renaming(from, to))
}

// Drop removes a database.
func (s *session) Drop(ctx context.Context, database string) error {
	return s.alter(ctx, database, "DROP DATABASE "+quoted(database))
}

// alter runs a statement on a database as a whole, which nobody may be connected
// to.
func (s *session) alter(ctx context.Context, database, sql string) error {
	conn, err := s.maintenance(ctx)
	if err != nil {
		return err
	}
	s.leave(database)
	_, err = conn.Exec(ctx, sql)
	return s.explain(err)
}

func renaming(from, to string) string {
	return fmt.Sprintf("ALTER DATABASE %s RENAME TO %s", quoted(from), quoted(to))
}

// Settle gives the staged database its name, after what has that name was
// renamed to aside, or dropped where aside is empty.
func (s *session) Settle(ctx context.Context, database string, _ *Sealed, p served.Putting, aside string) error {
	there, err := s.Exists(ctx, database)
	switch {
	case err != nil:
	case there && aside != "":
		err = s.Rename(ctx, database, aside)
	case there:
		err = s.Drop(ctx, database)
	}
	if err != nil {
		return err
	}
	return s.Rename(ctx, p.Stage, database)
}

// load runs what Seal wrote as data.
func (s *session) load(ctx context.Context, database string, data io.Reader, progress func(int64)) error {
	conn, err := s.on(ctx, database)
	if err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "SET synchronous_commit TO off"); err != nil {
		return s.explain(err)
	}
	return scan(data, func(sql string) error {
		_, err := conn.Exec(ctx, sql)
		return s.explain(err)
	}, func(sql string, rows io.Reader) error {
		_, err := conn.PgConn().CopyFrom(ctx, served.Counting{Reader: rows, Progress: progress}, sql)
		return s.explain(err)
	})
}

// statements are what the data of a sealed database may say besides COPY.
var statements = []string{"SET ", "SELECT pg_catalog.setval(", "SELECT pg_catalog.lo_create(", "SELECT pg_catalog.lo_put(", "ALTER LARGE OBJECT ", "GRANT "}

// scan reads what Seal wrote as data: statements of one line each, and COPY
// with the rows behind it.
func scan(data io.Reader, run func(sql string) error, rows func(sql string, rows io.Reader) error) error {
	r := bufio.NewReaderSize(data, 1<<20)
	for {
		line, err := r.ReadString('\n')
		if errors.Is(err, io.EOF) && line == "" {
			return nil
		}
		if err != nil {
			return fault.Wrap(fault.Damaged, err, "the rows of the sealed database end early")
		}
		sql := strings.TrimSuffix(strings.TrimSuffix(line, "\n"), ";")
		switch {
		case sql == "" || strings.HasPrefix(sql, "-- "):
		case strings.HasPrefix(sql, "COPY ") && strings.HasSuffix(sql, " FROM stdin"):
			c := &copied{r: r, start: true}
			if err := rows(sql, c); err != nil {
				return err
			}
			if _, err := io.Copy(io.Discard, c); err != nil {
				return err
			}
		case slices.ContainsFunc(statements, func(s string) bool { return strings.HasPrefix(sql, s) }):
			if err := run(sql); err != nil {
				return err
			}
		default:
			return fault.New(fault.Hostile, "the rows of the sealed database hold a statement that Move Kit does not write")
		}
	}
}

// copied reads the rows behind a COPY, to the line that ends them.
type copied struct {
	r     *bufio.Reader
	start bool   // whether a line starts here
	rest  []byte // of a line, not given yet
	done  bool
}

func (c *copied) Read(p []byte) (n int, err error) {
	for n < len(p) {
		if len(c.rest) == 0 {
			if c.done {
				break
			}
			line, err := c.r.ReadSlice('\n')
			if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
				return n, fault.Wrap(fault.Damaged, err, "the rows of the sealed database end early")
			}
			if c.start && string(line) == "\\.\n" {
				c.done = true
				break
			}
			c.start = err == nil
			c.rest = line
		}
		m := copy(p[n:], c.rest)
		c.rest = c.rest[m:]
		n += m
	}
	if n == 0 && c.done {
		return 0, io.EOF
	}
	return n, nil
}

// sealedRows reads one table of a sealed database, for dbprint.DiffRows. open
// starts the data from its beginning.
func sealedRows(open func() (io.ReadCloser, error), table string) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		data, err := open()
		if err != nil {
			return err
		}
		defer data.Close()
		want := "COPY " + table + " " // columns or FROM
		return scan(data, func(string) error { return nil }, func(sql string, rows io.Reader) error {
			if !strings.HasPrefix(sql, want) {
				return nil
			}
			_, err := io.Copy(&lines{each: func(line []byte) error { return each(rowOf(line)) }}, rows)
			return err
		})
	}
}
