package board

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"movekit/internal/core/fault"
)

// schema lists the statements that upgrade a database from one version to the next.
var schema = []string{
	`CREATE TABLE move (
		kit text PRIMARY KEY,
		office text NOT NULL,
		old_computer text NOT NULL,
		new_computer text NOT NULL,
		made timestamptz NOT NULL,
		last timestamptz NOT NULL,
		due text NOT NULL,
		closed boolean NOT NULL,
		told jsonb NOT NULL
	)`,
	`CREATE TABLE step (
		kit text NOT NULL REFERENCES move ON DELETE CASCADE,
		app text NOT NULL,
		title text NOT NULL,
		step text NOT NULL,
		done text NOT NULL,
		PRIMARY KEY (kit, app, step)
	);
	CREATE TABLE history (
		kit text NOT NULL REFERENCES move ON DELETE CASCADE,
		at timestamptz NOT NULL,
		due text NOT NULL,
		due_on text NOT NULL,
		PRIMARY KEY (kit, at)
	)`,
}

// Database stores moves in the schema movekit of a PostgreSQL database, for several technicians.
type Database struct{ conn *pgx.Conn }

// OpenDatabase connects to a database by its URL (postgres://...), and creates or upgrades the
// tables. The URL must not contain a password: use the password file or the environment, as for
// every PostgreSQL client.
func OpenDatabase(ctx context.Context, address string) (*Database, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return nil, fault.New(fault.Usage, "the address of a database is postgres://USER@HOST/NAME, not %q", address)
	}
	if _, given := u.User.Password(); given {
		return nil, fault.New(fault.Usage, "the address of the database contains a password, which others could see: put it into ~/.pgpass or PGPASSWORD")
	}
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return nil, kindOf(err, u.Redacted())
	}
	d := &Database{conn}
	if err := d.upgrade(ctx); err != nil {
		d.Close()
		return nil, kindOf(err, u.Redacted())
	}
	return d, nil
}

// kindOf classifies errors by SQLSTATE: class 28 is a failed login.
func kindOf(err error, at string) error {
	var pg *pgconn.PgError
	var known *fault.Error
	switch {
	case errors.As(err, &known):
		return err
	case !errors.As(err, &pg):
		return fault.Wrap(fault.ServerDown, err, "the database %s does not answer", at)
	case pg.Code[:2] == "28" || pg.Code == "42501":
		return fault.Wrap(fault.ServerLogin, err, "the database %s rejected the login", at)
	}
	return fault.Wrap(fault.ServerRefused, err, "the database %s refused", at)
}

// upgrade creates or upgrades the tables. Only one client does it at a time.
func (d *Database) upgrade(ctx context.Context) error {
	return pgx.BeginFunc(ctx, d.conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(7306086967)"); err != nil {
			return err
		}
		var there bool
		err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_tables WHERE schemaname = 'movekit' AND tablename = 'version')").Scan(&there)
		if err == nil && !there {
			_, err = tx.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS movekit; CREATE TABLE movekit.version (version int NOT NULL); INSERT INTO movekit.version VALUES (0)")
		}
		var version int
		if err == nil {
			err = tx.QueryRow(ctx, "SELECT version FROM movekit.version").Scan(&version)
		}
		if err == nil && version > len(schema) {
			return fault.New(fault.NewerFormat, "the database has tables of version %d; this program supports version %d", version, len(schema))
		}
		if err != nil || version == len(schema) {
			return err
		}
		if _, err := tx.Exec(ctx, "SET LOCAL search_path TO movekit"); err != nil {
			return err
		}
		for _, sql := range schema[version:] {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, "UPDATE version SET version = $1", len(schema))
		return err
	})
}

// Close closes the connection.
func (d *Database) Close() { d.conn.Close(context.Background()) }

// Store stores moves. It does not replace newer information.
func (d *Database) Store(ctx context.Context, all []Move) error {
	err := pgx.BeginFunc(ctx, d.conn, func(tx pgx.Tx) error {
		for _, m := range all {
			told, err := json.Marshal(m)
			if err != nil {
				return err
			}
			stored, err := tx.Exec(ctx, `INSERT INTO movekit.move (kit, office, old_computer, new_computer, made, last, due, closed, told)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
				ON CONFLICT (kit) DO UPDATE SET (office, old_computer, new_computer, made, last, due, closed, told) =
					(excluded.office, excluded.old_computer, excluded.new_computer, excluded.made, excluded.last, excluded.due, excluded.closed, excluded.told)
				WHERE move.last <= excluded.last`,
				m.Kit, m.Office, m.Old.Name, m.New.Name, m.Made, m.Last, string(m.Due), m.Closed, told)
			if err == nil && stored.RowsAffected() > 0 {
				err = storeSteps(ctx, tx, m)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return kindOf(err, "of the board")
	}
	return nil
}

// storeSteps stores the progress of a move, and what is due since its last change.
func storeSteps(ctx context.Context, tx pgx.Tx, m Move) error {
	if _, err := tx.Exec(ctx, "DELETE FROM movekit.step WHERE kit = $1", m.Kit); err != nil {
		return err
	}
	for _, a := range m.Apps {
		for step, done := range a.Steps {
			if _, err := tx.Exec(ctx, "INSERT INTO movekit.step (kit, app, title, step, done) VALUES ($1, $2, $3, $4, $5)", m.Kit, a.App, a.Title, string(step), string(done)); err != nil {
				return err
			}
		}
	}
	_, err := tx.Exec(ctx, "INSERT INTO movekit.history (kit, at, due, due_on) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", m.Kit, m.Last, string(m.Due), m.On)
	return err
}

// Load returns the stored moves.
func (d *Database) Load(ctx context.Context) ([]Move, error) {
	rows, err := d.conn.Query(ctx, "SELECT told FROM movekit.move")
	if err != nil {
		return nil, kindOf(err, "of the board")
	}
	all, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (m Move, err error) {
		var told []byte
		if err = r.Scan(&told); err == nil {
			err = json.Unmarshal(told, &m)
		}
		return m, err
	})
	if err != nil {
		return nil, kindOf(err, "of the board")
	}
	Sort(all)
	return all, nil
}
