package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
)

// guest is a session of a temporary role that owns the staged database and nothing else. The
// definitions and rows of a kit, which somebody with its passphrase can forge, are loaded by a guest:
// functions that are called meanwhile, by indexes, constraints or views, have no other rights either.
type guest struct {
	*session
	admin *session
	role  string // "" if the login is no superuser, and loads everything itself
}

// newGuest creates the role. The caller closes the guest.
func (s *session) newGuest(ctx context.Context) (*guest, error) {
	admin, err := s.maintenance(ctx)
	if err != nil {
		return nil, err
	}
	var super bool
	if err := admin.QueryRow(ctx, "SELECT rolsuper FROM pg_catalog.pg_roles WHERE rolname = current_user").Scan(&super); err != nil {
		return nil, s.explain(err)
	}
	g := &guest{session: s, admin: s}
	if !super {
		return g, nil
	}
	role, password := "movekit_"+strings.ToLower(rand.Text()[:12]), rand.Text()
	if err := execOne(ctx, admin, fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD %s NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS", sqltext.Quoted(role), sqltext.Literal(password))); err != nil {
		return nil, s.explain(err)
	}
	g.role = role
	own := *s
	own.conns, own.User, own.Password = map[string]*pgx.Conn{}, role, password
	g.session = &own
	_, err = g.maintenance(ctx)
	if fault.KindOf(err) == fault.ServerLogin && !strings.Contains(own.Host, ".") { // a socket can insist on users of the system
		own.Host = "127.0.0.1"
		_, err = g.maintenance(ctx)
	}
	if err != nil {
		return nil, errors.Join(fault.Wrap(fault.ServerLogin, err, "the server does not let a temporary role log in: allow password logins from this computer (pg_hba.conf)"), g.close(ctx, ""))
	}
	return g, nil
}

// close drops the role. Objects of a database that it still owns go to the administrator.
func (g *guest) close(ctx context.Context, database string) error {
	if g.role == "" {
		return nil
	}
	g.session.Close()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	if database != "" {
		c, err := g.admin.on(ctx, database)
		if err == nil {
			err = execOne(ctx, c, "REASSIGN OWNED BY "+sqltext.Quoted(g.role)+" TO CURRENT_USER")
		}
		if err == nil {
			err = execOne(ctx, c, "DROP OWNED BY "+sqltext.Quoted(g.role))
		}
		if g.admin.leave(database); err != nil {
			return g.admin.explain(err)
		}
	}
	c, err := g.admin.maintenance(ctx)
	if err != nil {
		return err
	}
	return g.admin.explain(execOne(ctx, c, "DROP ROLE IF EXISTS "+sqltext.Quoted(g.role)))
}

// give gives the database's objects their owners and rights. With partial, some objects were not
// created, and their statements are left out. Event triggers do not run meanwhile.
func (g *guest) give(ctx context.Context, database string, statements []string, partial bool) error {
	conn, err := g.admin.connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if g.role != "" {
		if err := execOne(ctx, conn, "SET session_replication_role = replica"); err != nil {
			return g.admin.explain(err)
		}
	}
	const atOnce = 200
	for some := range slices.Chunk(statements, atOnce) {
		batch := &pgconn.Batch{}
		for _, sql := range some {
			batch.ExecParams(sql, nil, nil, nil, nil)
		}
		if _, err := conn.PgConn().ExecBatch(ctx, batch).ReadAll(); err == nil {
			continue
		}
		if err := g.giveEach(ctx, conn, database, some, partial); err != nil { // nothing of them was done
			return err
		}
	}
	return nil
}

func (g *guest) giveEach(ctx context.Context, conn *pgx.Conn, database string, statements []string, partial bool) error {
	for _, sql := range statements {
		if err := execOne(ctx, conn, sql); err != nil {
			if partial && isMissing(err) {
				continue
			}
			err = g.admin.explain(err)
			return fault.Wrap(fault.KindOf(err), err, "the owners and rights of %s cannot be restored (%s)", database, strings.TrimSuffix(sql, ";"))
		}
	}
	return nil
}

// asAdmin runs the statements of an entry that a guest may not run, if the user allows it. done is
// false if the user does not.
func (g *guest) asAdmin(ctx context.Context, database string, e sqltext.Entry, allow func(string) error) (done bool, err error) {
	if allow == nil || allow(fmt.Sprintf("The %s %s of the database %s needs an administrator of the server, who runs:\n%s", e.Object().Sort, e.Name, database, e.SQL)) != nil {
		return false, ctx.Err()
	}
	conn, err := g.admin.connect(ctx, database)
	if err != nil {
		return false, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	_, err = conn.Exec(ctx, e.SQL, pgx.QueryExecModeSimpleProtocol)
	return err == nil, g.admin.explain(err)
}

// isMissing reports whether a statement failed because its object does not exist.
func isMissing(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && slices.Contains([]string{"42704", "42P01", "42883", "3F000"}, pg.Code)
}

// isForbidden reports whether the server rejected a statement for lack of rights.
func isForbidden(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "42501"
}
