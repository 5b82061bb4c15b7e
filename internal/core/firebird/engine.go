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
	"movekit/internal/core/served"
)

// Engine moves databases of Firebird servers.
type Engine struct{}

var _ served.Engine = Engine{}

func (Engine) Endings() (schema, rows string) { return "", ".fbk" }

func (Engine) LookAt(ctx context.Context, s served.Server) (*served.Look, error) {
	return lookAt(ctx, s)
}

func (Engine) Ask(ctx context.Context, s served.Server, query string) (int64, error) {
	return ask(ctx, s, query)
}

func (Engine) Seal(ctx context.Context, s served.Server, counts []card.Count, _, rows io.Writer, progress func(int64)) (any, error) {
	return seal(ctx, s, counts, rows, progress)
}

func (Engine) Exists(ctx context.Context, s served.Server) (bool, error) {
	c, err := connect(ctx, s, "NONE")
	if err == nil {
		c.close()
		return true, nil
	}
	if fault.KindOf(err) == fault.Missing {
		return false, nil
	}
	if errors.Is(err, errShut) {
		return true, nil
	}
	return false, err
}

// Lacks also says where databases cannot be put: they are renamed as files,
// because no server renames one.
func (Engine) Lacks(ctx context.Context, s served.Server, facts []byte) ([]string, error) {
	d, err := served.FactsOf[Sealed](facts)
	if err != nil {
		return nil, err
	}
	switch folder := filepath.Dir(s.Database); {
	case !local(s.Host):
		return []string{fmt.Sprintf("the server %s is another computer: run Move Kit there, where it can rename the database's file", s.Host)}, nil
	case !strings.ContainsAny(s.Database, `/\`):
		return []string{fmt.Sprintf("%s is an alias: name the database's file in the app's settings, or in the card", s.Database)}, nil
	default:
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return []string{fmt.Sprintf("there is no folder %s here, in which the database's file belongs: make it, and let the server write in it", folder)}, nil
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
		return []string{fmt.Sprintf("the server here is Firebird %s, and the old one was %s: an older server cannot take its database", here, d.Version)}, nil
	}
	return nil, nil
}

func services(s served.Server) (*firebirdsql.ServiceManager, error) {
	s = login(s)
	sm, err := firebirdsql.NewServiceManager(net.JoinHostPort(s.Host, s.Port), s.User, s.Password, firebirdsql.GetDefaultServiceManagerOptions())
	return sm, explain(s, err)
}

func (Engine) Stage(ctx context.Context, s served.Server, p served.Putting) ([]string, error) {
	d, err := served.FactsOf[Sealed](p.Facts)
	if err != nil {
		return nil, err
	}
	if err := os.Remove(p.Stage); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot remove %s, which an earlier run left", p.Stage)
	}
	data, err := p.Rows()
	if err != nil {
		return nil, err
	}
	defer data.Close()
	err = backup(ctx, s, reading{data, p.Progress}, nil, func(service string) []string {
		return []string{"-c", "-se", service, "stdin", p.Stage}
	})
	if err != nil {
		return nil, err
	}
	c, err := connect(ctx, s.On(p.Stage), "NONE")
	if err != nil {
		return nil, err
	}
	defer c.close()
	notes, err := c.usersLacking(ctx, d)
	for _, m := range d.Modules {
		notes = append(notes, "functions of the database are in the library "+m+": see that the new server has it")
	}
	return notes, err
}

type reading struct {
	io.Reader
	progress func(int64)
}

func (r reading) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if r.progress != nil {
		r.progress(int64(n))
	}
	return n, err
}

func (e Engine) Settle(ctx context.Context, s served.Server, p served.Putting, aside string) error {
	there, err := e.Exists(ctx, s)
	if err != nil {
		return err
	}
	switch {
	case there && aside != "":
		err = e.Rename(ctx, s, aside)
	case there:
		err = e.Drop(ctx, s)
	case aside != "":
		err = online(ctx, s.On(aside))
	}
	if err != nil {
		return err
	}
	return e.Rename(ctx, s.On(p.Stage), s.Database)
}

// badShutdownMode is the code of a shutdown to the mode that a database is in
// (isc_bad_shutdown_mode).
const badShutdownMode = 335544835

// shut ends every connection to a database that nobody uses, and keeps others
// away from it.
func shut(ctx context.Context, s served.Server) (*firebirdsql.MaintenanceManager, error) {
	c, err := connect(ctx, s, "NONE")
	before := errors.Is(err, errShut) // by a run that was interrupted
	switch {
	case before:
	case err != nil:
		return nil, err
	default:
		others, err := c.others(ctx)
		c.close()
		if err != nil {
			return nil, err
		}
		if len(others) > 0 {
			return nil, fault.New(fault.Changed, "somebody is connected to %s: %s", s.Address(), strings.Join(others, ", "))
		}
	}
	mm, err := maintenance(s)
	if err != nil {
		return nil, err
	}
	err = mm.ShutdownEx(s.Database, firebirdsql.OperationModeFull, firebirdsql.ShutdownModeExDenyNewAttachments, 5)
	var said *firebirdsql.FbError
	if before && errors.As(err, &said) && slices.Contains(said.GDSCodes, badShutdownMode) {
		return mm, nil // it is as far as it can be
	}
	return mm, explain(s, err)
}

// online lets everybody in again to a database that an interrupted run has
// renamed.
func online(ctx context.Context, s served.Server) error {
	c, err := connect(ctx, s, "NONE")
	if err == nil {
		c.close()
		return nil
	}
	if fault.KindOf(err) == fault.Missing {
		return nil
	}
	if !errors.Is(err, errShut) {
		return err
	}
	mm, err := maintenance(s)
	if err != nil {
		return err
	}
	return explain(s, mm.OnlineEx(s.Database, firebirdsql.OperationModeNormal))
}

func maintenance(s served.Server) (*firebirdsql.MaintenanceManager, error) {
	l := login(s)
	mm, err := firebirdsql.NewMaintenanceManager(net.JoinHostPort(l.Host, l.Port), l.User, l.Password, firebirdsql.GetDefaultServiceManagerOptions())
	return mm, explain(s, err)
}

// Rename renames the database's file, while the server keeps everybody away
// from it.
func (Engine) Rename(ctx context.Context, s served.Server, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return fault.New(fault.Changed, "there is a file %s already", to)
	}
	mm, err := shut(ctx, s)
	if err != nil {
		return err
	}
	if err := os.Rename(s.Database, to); err != nil {
		return errors.Join(fault.Wrap(fault.CannotPlace, err, "cannot rename the database's file"), explain(s, mm.OnlineEx(s.Database, firebirdsql.OperationModeNormal)))
	}
	return explain(s, mm.OnlineEx(to, firebirdsql.OperationModeNormal))
}

func (Engine) Drop(ctx context.Context, s served.Server) error {
	if _, err := shut(ctx, s); err != nil {
		return err
	}
	if err := os.Remove(s.Database); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove the database's file")
	}
	return nil
}

// Named puts the ending before that of the file.
func (Engine) Named(database, ending string) string {
	ext := path.Ext(filepath.ToSlash(database))
	return strings.TrimSuffix(database, ext) + ending + ext
}

func (Engine) Fingerprint(ctx context.Context, s served.Server, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	return fingerprint(ctx, s, counts, progress)
}

func (Engine) Rows(ctx context.Context, s served.Server, t dbprint.Table) dbprint.Rows {
	return rowsOf(ctx, s, t.Name)
}

// SealedRows gives nil: a backup is read by a server only.
func (Engine) SealedRows(func() (io.ReadCloser, error), dbprint.Table) dbprint.Rows { return nil }
