package firebird

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/nakagami/firebirdsql"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// New returns the parts for databases on Firebird servers.
var New = served.New[*Sealed](Engine{}, served.KindOf{Files: true})

// Engine is the Firebird engine.
type Engine struct{}

var _ served.Engine[*Sealed] = Engine{}

// Endings returns the suffix for gbak's stream, which has both schema and rows.
func (Engine) Endings() (schema, rows string) { return "", ".fbk" }

// Open prepares a session.
func (Engine) Open(s served.Server, private func() (string, error)) served.Session[*Sealed] {
	return &session{server: s, private: private, kept: served.Kept{}}
}

// Named inserts a suffix before the file's own suffix.
func (Engine) Named(database, ending string) string {
	ext := path.Ext(filepath.ToSlash(database))
	return strings.TrimSuffix(database, ext) + ending + ext
}

// SealedRows returns nil, because only a server can read a backup.
func (Engine) SealedRows(func() (io.ReadCloser, error), dbprint.Table) dbprint.Rows { return nil }

// session works on one server.
type session struct {
	server  served.Server
	private func() (string, error)
	kept    served.Kept
}

var _ served.Session[*Sealed] = (*session)(nil)

// begin begins a transaction on the kept connection to a database. A lost connection is opened
// again.
func (o *session) begin(ctx context.Context, database string) (*tx, error) {
	s := o.server.On(database)
	if db := o.kept[database]; db != nil {
		if t, err := begin(ctx, s, db); err == nil {
			return t, nil
		}
		o.kept.Leave(database)
	}
	t, db, err := openWith(ctx, s, "NONE")
	if errors.Is(err, errShut) && shutByUs(database) {
		return nil, &fault.Error{Kind: fault.Changed, What: "a rename of the database " + s.Address() + " was interrupted: run the same command again", Err: err}
	}
	if err != nil {
		return nil, err
	}
	o.kept[database] = db
	return t, nil
}

// Close closes the connections.
func (o *session) Close() { o.kept.Close() }

// Look inspects a database.
func (o *session) Look(ctx context.Context, database string) (*served.Look, error) {
	c, err := o.begin(ctx, database)
	if err != nil {
		return nil, err
	}
	defer c.close()
	return c.look(ctx)
}

// Ask returns the whole number that a query returns. It prevents the query from changing anything.
// The query's texts are in UTF-8.
func (o *session) Ask(ctx context.Context, database, query string) (int64, error) {
	c, err := connect(ctx, o.server.On(database), "UTF8")
	if err != nil {
		return 0, err
	}
	defer c.close()
	return c.number(ctx, query)
}

// Fingerprint computes the fingerprint of a snapshot of a database.
func (o *session) Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	c, err := o.begin(ctx, database)
	if err != nil {
		return nil, err
	}
	defer c.close()
	d := &Sealed{}
	if err := c.take(ctx, d, counts, progress); err != nil {
		return nil, err
	}
	return &d.Fingerprint, nil
}

// Definitions returns a fingerprint without rows and counts.
func (o *session) Definitions(ctx context.Context, database string) (*dbprint.Fingerprint, error) {
	c, err := o.begin(ctx, database)
	if err != nil {
		return nil, err
	}
	defer c.close()
	d := &Sealed{}
	if err := c.schema(ctx, d); err != nil {
		return nil, err
	}
	d.Sort()
	return &d.Fingerprint, nil
}

// Rows reads one table of a database.
func (o *session) Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		c, err := o.begin(ctx, database)
		if err != nil {
			return err
		}
		defer c.close()
		return c.readTable(ctx, t.Name, each)
	}
}

// Exists reports whether the server has a database.
func (o *session) Exists(ctx context.Context, database string) (bool, error) {
	c, err := o.begin(ctx, database)
	switch {
	case err == nil:
		c.close()
		return true, nil
	case fault.KindOf(err) == fault.Missing:
		return false, nil
	case errors.Is(err, errShut):
		return true, nil
	}
	return false, err
}

// Folder returns the folder of the database's file.
func (o *session) Folder(_ context.Context, database string) (string, error) {
	if !strings.ContainsAny(database, `/\`) {
		return "", nil // an alias
	}
	return filepath.Dir(database), nil
}

// Lacks also reports where databases cannot be put. They are renamed as files, because the server
// cannot rename a database.
func (o *session) Lacks(_ context.Context, database string, d *Sealed) ([]string, error) {
	s := o.server.On(database)
	switch folder := filepath.Dir(s.Database); {
	case !served.Local(s.Host):
		return []string{fmt.Sprintf("the server %s is another computer: run Move Kit there, where it can rename the database's file", s.Host)}, nil
	case !strings.ContainsAny(s.Database, `/\`):
		return []string{fmt.Sprintf("%s is an alias: enter the database's file in the app's settings or in the card", s.Database)}, nil
	default:
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return []string{fmt.Sprintf("the folder %s for the database's file does not exist here: create it, and give the server write permission", folder)}, nil
		}
	}
	mm, err := services(s)
	if err != nil {
		return nil, err
	}
	defer mm.Close()
	v, err := mm.GetServerVersion()
	if err != nil {
		return nil, explain(s, err)
	}
	if here := fmt.Sprintf("%d.%d", v.Major, v.Minor); !takes(here, d.Version) {
		return []string{fmt.Sprintf("the server here is Firebird %s, but the old one was %s: a database cannot move to an older server", here, d.Version)}, nil
	}
	return nil, nil
}

func services(s served.Server) (*firebirdsql.ServiceManager, error) {
	s = login(s)
	sm, err := firebirdsql.NewServiceManager(net.JoinHostPort(s.Host, s.Port), s.User, s.Password, firebirdsql.GetDefaultServiceManagerOptions())
	return sm, explain(s, err)
}

// Stage creates the sealed database under another name. Its definitions come first, without rows: if
// the server would run a function of the database for an index or a check, the user is asked.
func (o *session) Stage(ctx context.Context, d *Sealed, p served.Loading) (notes []string, err error) {
	if err := o.restore(ctx, p, nil, "-m"); err != nil {
		return nil, err
	}
	var called string
	if err := o.in(ctx, p.Stage, func(c *tx) (err error) {
		called, err = c.called(ctx, func(kind, _ string) bool { return kind == indexExpression || kind == validation })
		return err
	}); err != nil {
		return nil, err
	}
	question := fmt.Sprintf("The indexes or checks of the database %s use %s, which the server runs as an administrator for every row. Allow it?", p.Stage, called)
	if called != "" && (p.Allow == nil || p.Allow(question) != nil) {
		if ctx.Err() == nil {
			err = fault.New(fault.ManualStep, "indexes or checks of the database use %s, which the server would run as an administrator for every row, and nobody has allowed it", called)
		}
		return nil, errors.Join(ctx.Err(), err, o.Drop(ctx, p.Stage))
	}
	if err := o.restore(ctx, p, p.Progress); err != nil {
		return nil, err
	}
	return notes, o.in(ctx, p.Stage, func(c *tx) (err error) {
		if notes, err = c.usersLacking(ctx, d); err != nil {
			return err
		}
		for _, m := range d.Modules {
			notes = append(notes, "functions of the database are in the library "+m+": make sure that the new server has it")
		}
		events, err := c.column(ctx, "SELECT RDB$TRIGGER_NAME FROM RDB$TRIGGERS WHERE RDB$TRIGGER_TYPE BETWEEN 8192 AND 8196 AND RDB$TRIGGER_INACTIVE = 0 AND RDB$SYSTEM_FLAG = 0")
		for _, e := range events {
			notes = append(notes, "the trigger "+e+" runs with the rights of everybody who connects to the database, also of an administrator")
		}
		return err
	})
}

// The kinds of RDB$DEPENDENCIES.RDB$DEPENDENT_TYPE that the server runs while it loads rows.
const (
	validation      = "4"
	indexExpression = "6"
)

// in calls do with a transaction in a database, and closes the connection.
func (o *session) in(ctx context.Context, database string, do func(*tx) error) error {
	c, err := o.begin(ctx, database)
	if err != nil {
		return err
	}
	defer o.kept.Leave(database)
	defer c.close()
	return do(c)
}

// restore creates the staged database from the sealed backup, after removing an earlier one.
func (o *session) restore(ctx context.Context, p served.Loading, progress func(int64), options ...string) error {
	o.kept.Leave(p.Stage)
	if err := os.Remove(p.Stage); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove %s, which an earlier run left", p.Stage)
	}
	data, err := p.Rows()
	if err != nil {
		return err
	}
	defer data.Close()
	return o.backup(ctx, served.Counting{Reader: data, Progress: progress}, nil, func(service string) []string {
		return append([]string{"-c", "-se", service, "stdin", p.Stage}, options...)
	})
}

// Unfinished reports whether an interrupted rename left one of two databases shut down.
func (o *session) Unfinished(_ context.Context, from, to string) (bool, error) {
	return shutByUs(from) || shutByUs(to), nil
}

// Resume brings databases online again that an interrupted rename left shut down.
func (o *session) Resume(ctx context.Context, from, to string) error {
	for _, name := range []string{from, to} {
		if !shutByUs(name) {
			continue
		}
		if _, err := os.Lstat(name); errors.Is(err, os.ErrNotExist) {
			if err := os.Remove(name + shutEnding); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot remove a file beside the database")
			}
			continue
		}
		if err := o.online(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// badShutdownMode is the error code for a shutdown to the current mode (isc_bad_shutdown_mode).
const badShutdownMode = 335544835

// shutEnding is the suffix of a file that marks a database that Move Kit shut down. Only such a
// database is brought online again after an interruption, never one that somebody else shut down.
const shutEnding = ".movekit-shut"

func shutByUs(database string) bool {
	_, err := os.Lstat(database + shutEnding)
	return err == nil
}

// shut closes all connections to an unused database, and keeps others from connecting, also under
// its future name.
func (o *session) shut(ctx context.Context, database, to string) error {
	o.kept.Leave(database)
	s := o.server.On(database)
	c, err := connect(ctx, s, "NONE")
	before := errors.Is(err, errShut) // by an interrupted run
	switch {
	case before:
	case err != nil:
		return err
	default:
		others, err := c.others(ctx)
		c.close()
		if err != nil {
			return err
		}
		if len(others) > 0 {
			return fault.New(fault.Changed, "other users are connected to %s: %s", s.Address(), strings.Join(others, ", "))
		}
	}
	mm, err := maintenance(s)
	if err != nil {
		return err
	}
	for _, name := range []string{database, to} {
		if err := os.WriteFile(name+shutEnding, nil, 0o600); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot write beside the database")
		}
	}
	err = refused("shut down " + database)
	if err == nil && !before {
		// The server may keep a database open for a while after the last connection closed, and
		// would continue with the file under its new name.
		err = mm.NoLinger(s.Database)
	}
	if err == nil {
		err = mm.ShutdownEx(s.Database, firebirdsql.OperationModeFull, firebirdsql.ShutdownModeExDenyNewAttachments, 5)
	}
	var said *firebirdsql.FbError
	if before && errors.As(err, &said) && slices.Contains(said.GDSCodes, badShutdownMode) {
		return nil // it is shut down as far as possible
	}
	if err != nil {
		os.Remove(to + shutEnding)
		os.Remove(database + shutEnding)
	}
	return explain(s, err)
}

// online brings a database online again.
func (o *session) online(ctx context.Context, database string) error {
	mm, err := maintenance(o.server.On(database))
	if err != nil {
		return err
	}
	if err := refused("let in to " + database); err != nil {
		return err
	}
	err = mm.OnlineEx(database, firebirdsql.OperationModeNormal)
	var said *firebirdsql.FbError
	if errors.As(err, &said) && slices.Contains(said.GDSCodes, badShutdownMode) {
		err = nil // it was not shut down
	}
	if err != nil {
		return explain(o.server.On(database), err)
	}
	if err := os.Remove(database + shutEnding); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove a file beside the database")
	}
	return nil
}

// refused lets tests reject a step of a rename.
var refused = func(step string) error { return nil }

func maintenance(s served.Server) (*firebirdsql.MaintenanceManager, error) {
	l := login(s)
	mm, err := firebirdsql.NewMaintenanceManager(net.JoinHostPort(l.Host, l.Port), l.User, l.Password, firebirdsql.GetDefaultServiceManagerOptions())
	return mm, explain(s, err)
}

// Rename renames the database's file while the database is shut down.
func (o *session) Rename(ctx context.Context, from, to string, _ served.Service) error {
	if _, err := os.Lstat(to); err == nil {
		return fault.New(fault.Changed, "the file %s already exists", to)
	}
	if err := o.shut(ctx, from, to); err != nil {
		return err
	}
	err := refused("rename " + from)
	if err == nil {
		err = os.Rename(from, to)
	}
	if err != nil {
		os.Remove(to + shutEnding)
		return errors.Join(fault.Wrap(fault.CannotPlace, err, "cannot rename the database's file"), o.online(ctx, from))
	}
	if err := o.online(ctx, to); err != nil {
		return err
	}
	return os.Remove(from + shutEnding)
}

// Drop removes a database's file.
func (o *session) Drop(ctx context.Context, database string) error {
	if err := o.shut(ctx, database, database); err != nil {
		return err
	}
	err := refused("remove " + database)
	if err == nil {
		err = errors.Join(os.Remove(database), os.Remove(database+shutEnding))
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove the database's file")
	}
	return nil
}
