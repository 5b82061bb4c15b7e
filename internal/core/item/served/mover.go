package served

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
)

// mover moves one database on a server. Movers from at share its open connections.
type mover[F Facts] struct {
	*item.Instance
	*shared[F]
}

// shared has the resources that movers of one database open once: the app's settings, the server
// session and the sealed facts.
type shared[F Facts] struct {
	engine  Engine[F]
	kind    KindOf
	server  *Server
	session Session[F]
	facts   F
	read    bool // facts were read
}

// KindOf describes how an engine's databases behave.
type KindOf struct {
	InUse bool // the server provides a consistent snapshot while the app runs
	Files bool // databases are named by their files
}

// New returns a function that moves databases of an engine.
func New[F Facts](e Engine[F], k KindOf) func(*item.Instance) item.Parts {
	return func(o *item.Instance) item.Parts {
		m := mover[F]{o, &shared[F]{engine: e, kind: k}}
		return item.Parts{Inspector: m, Mover: m, Names: m, Querier: m}
	}
}

// Close closes the connections.
func (m mover[F]) Close() {
	if m.session != nil {
		m.session.Close()
		m.session = nil
	}
}

// Locate reads the address from the app's settings.
func (m mover[F]) Locate(ctx context.Context) error {
	if m.ChosenPath != "" {
		return fault.New(fault.Usage, "%s is a server database: its address comes from the app's settings, and it cannot be put elsewhere", m.Label())
	}
	s, err := m.settings(ctx)
	m.Instance.Path = s.Address()
	return err
}

// at returns the mover of the database at another address.
func (m mover[F]) at(address string) mover[F] { return mover[F]{m.At(address), m.shared} }

// settings reads the server, database and login from the app's settings, once.
func (m mover[F]) settings(ctx context.Context) (Server, error) {
	if m.server != nil {
		return *m.server, nil
	}
	s := Server{Kind: m.Item.Kind, Files: m.kind.Files}
	c := m.Item.Server
	for _, f := range []struct {
		from card.Setting
		to   *string
	}{{c.Host, &s.Host}, {c.Port, &s.Port}, {c.Database, &s.Database}, {c.User, &s.User}, {card.Setting{From: c.Password}, &s.Password}} {
		*f.to = f.from.Text
		if f.from.From == nil {
			continue
		}
		found, err := m.Prober().Read(ctx, f.from.From, nil)
		if err != nil {
			return s, err
		}
		*f.to = found.Value
	}
	if s.Database == "" {
		return s, fault.New(fault.Missing, "the app's settings here do not have the database name of %s", m.Item.Name)
	}
	if Local(s.Host) && pulled(m.Computer) {
		return s, fault.New(fault.ServerDown, "the database server of %s ran on this disk's computer: its data can only be read by a running server", m.Item.Name)
	}
	m.server = &s
	return s, nil
}

// Local reports whether a server is on this computer.
func Local(host string) bool {
	host, _, _ = strings.Cut(strings.TrimPrefix(strings.ToLower(host), "tcp:"), ",") // HOST,PORT and HOST\INSTANCE of SQL Server
	host, _, _ = strings.Cut(host, `\`)
	ip := net.ParseIP(host)
	return host == "" || host == "." || host == "(local)" || host == "localhost" || strings.HasPrefix(host, "/") || ip != nil && ip.IsLoopback()
}

// pulled reports whether a computer is a pulled disk, and not simulated.
func pulled(c machine.Computer) bool {
	if c.Root() == "" {
		return false
	}
	_, err := os.Stat(filepath.Join(c.Root(), machine.IdentityFile))
	return err != nil
}

// on calls use with a session and the name of the database. If the server needs a password, the
// user is asked once.
func (m mover[F]) on(ctx context.Context, use func(s Session[F], database string) error) error {
	s, err := m.settings(ctx)
	if err != nil {
		return err
	}
	database := s.Database
	if m.Path != "" {
		database = s.At(m.Path).Database
	}
	return m.WithPassword(s.Address(), s.Password, func(password string) error {
		if m.session != nil && password != s.Password {
			m.Close()
		}
		if m.session == nil {
			s.Password = password
			m.server = &s
			m.session = m.engine.Open(s, m.Private.Dir)
		}
		m.Detail(m.Key, "connecting to "+s.Address())
		err := use(m.session, database)
		if err != nil {
			m.Detail(m.Key, "server error: "+err.Error())
		}
		return err
	})
}

// Inspect inspects the database. If it cannot be read, the inspection says why, and a survey
// continues.
func (m mover[F]) Inspect(ctx context.Context, _ item.Options) (*item.Inspection, error) {
	is := m.Blank()
	is.InUse = m.kind.InUse
	err := m.on(ctx, func(s Session[F], database string) error {
		is.Path = m.server.On(database).Address()
		look, err := s.Look(ctx, database)
		if err != nil {
			return err
		}
		is.State, is.Files = item.IsHere, 1
		is.Bytes, is.Stamp, is.OpenBy, is.Left = look.Bytes, look.Stamp, look.Sessions, look.Left
		is.Sealed = look.Bytes // the compression ratio is unknown
		is.Details = []string{look.Engine + ", " + item.Plural(look.Tables, "table")}
		return nil
	})
	is.Where = is.Path
	switch fault.KindOf(err) {
	case fault.Stopped:
		return nil, err
	case fault.Missing:
		is.State = item.Missing
	default:
		if err != nil {
			is.State, is.Unreadable = item.NotReached, []string{err.Error()}
		}
	}
	if err != nil {
		is.Why = err.Error()
	}
	if is.State == item.Missing && err != nil {
		is.Details = []string{err.Error()}
	}
	if !m.kind.InUse {
		for _, who := range is.OpenBy {
			is.Held = append(is.Held, fmt.Sprintf("%s is connected to %s", who, is.Path))
		}
	}
	return is, nil
}

// Ask returns the whole number that a query returns.
func (m mover[F]) Ask(ctx context.Context, query string) (n int64, err error) {
	err = m.on(ctx, func(s Session[F], database string) (err error) {
		n, err = s.Ask(ctx, database, query)
		return err
	})
	return n, err
}

// Seal seals the schema and the rows, with the facts of the same snapshot.
func (m mover[F]) Seal(ctx context.Context, is *item.Inspection) (out *kit.Sealed, err error) {
	out = &kit.Sealed{Stream: m.Stream(), Stamp: is.Stamp}
	schemaEnding, rowsEnding := m.engine.Endings()
	var schema kit.Stream
	if schemaEnding != "" {
		if schema, err = m.Run.Seal(m.Key.App, out.Stream+schemaEnding+seal.Ending, 1); err != nil {
			return nil, err
		}
	}
	rows, err := m.Run.Seal(m.Key.App, out.Stream+rowsEnding+seal.Ending, 0)
	progress := m.Progress("sealing", is.Bytes)
	var facts F
	if err == nil {
		err = m.on(ctx, func(s Session[F], database string) (err error) {
			facts, err = s.Seal(ctx, database, m.Item.Counts, schema, rows, func(n int64) {
				out.Bytes += n
				progress(n)
			})
			return err
		})
	}
	if err != nil {
		for _, w := range []kit.Stream{schema, rows} {
			if w != nil {
				w.Abort()
			}
		}
		return nil, err
	}
	out.Files, out.Left, out.LeftCount = 1, is.Left, len(is.Left)
	if schema != nil {
		if out.Schema, err = schema.Close(); err != nil {
			rows.Abort()
			return nil, err
		}
	}
	if out.Parts, err = rows.Close(); err != nil {
		return nil, err
	}
	out.List, err = m.Run.SealJSON(m.Key.App, out.Stream+item.ListEnding, facts)
	return out, err
}

// sealedFacts reads the sealed facts, once.
func (m mover[F]) sealedFacts() (F, error) {
	if m.read {
		return m.facts, nil
	}
	if err := m.Run.OpenJSON(m.Key.App, m.InKit.Sealed.List, &m.facts); err != nil {
		return m.facts, err
	}
	m.read = true
	return m.facts, nil
}

// Where returns the address. The server has its own disks.
func (m mover[F]) Where() (spoken, disk string) { return m.Path, "" }

// Volume returns the folder of the server's databases if it is on this computer and the server
// reports it.
func (m mover[F]) Volume(ctx context.Context) (folder string) {
	if m.server == nil || !Local(m.server.Host) {
		return ""
	}
	err := m.on(ctx, func(s Session[F], database string) (err error) {
		folder, err = s.Folder(ctx, database)
		return err
	})
	if there, ferr := machine.Exists(folder); err != nil || ferr != nil || !there {
		return "" // otherwise the server itself reports a full disk
	}
	return folder
}

// Check does nothing, because the server checks the data.
func (mover[F]) Check() error { return nil }

// Lacks returns the database's requirements that the server here does not meet.
func (m mover[F]) Lacks(ctx context.Context) (out item.Lacks, err error) {
	facts, err := m.sealedFacts()
	if err != nil {
		return out, err
	}
	err = m.on(ctx, func(s Session[F], database string) (err error) {
		out.Reasons, err = s.Lacks(ctx, database, facts)
		return err
	})
	return out, err
}

// Same compares the database with the sealed fingerprint.
func (m mover[F]) Same(ctx context.Context, at string) (bool, error) {
	facts, err := m.sealedFacts()
	if err != nil {
		return false, nil
	}
	return m.SamePrint(ctx, m.at(at), facts.Print())
}

// State returns which of two addresses have a database.
func (m mover[F]) State(ctx context.Context, home, spare string, _ bool) (is item.Presence, err error) {
	err = m.at(home).on(ctx, func(s Session[F], database string) error {
		to := m.name(spare)
		if r, renames := s.(Resumer); renames && to != "" {
			if unfinished, err := r.Unfinished(ctx, database, to); err != nil || unfinished {
				is = item.Between
				return err
			}
		}
		h, err := s.Exists(ctx, database)
		there := false
		if err == nil && to != "" {
			there, err = s.Exists(ctx, to)
		}
		is = item.PresenceOf(h, there)
		return err
	})
	return is, err
}

// name returns the database name in an address; "" for "".
func (m mover[F]) name(address string) string {
	if address == "" || m.server == nil {
		return ""
	}
	return m.server.At(address).Database
}

// derived matches the suffixes of spare databases.
var derived = regexp.MustCompile(`_(stage_[0-9a-f]+|from_.+|set_aside_\d{8}_\d{6}(_\d+)?)`)

// Ours reports whether the database in an address is the one in home or derived from it.
func (m mover[F]) Ours(home, address string) bool {
	h, n := m.name(home), m.name(address)
	if h == n && h != "" {
		return true
	}
	for _, at := range derived.FindAllStringIndex(n, -1) {
		for end := at[1]; end > at[0]; end-- { // a suffix of the engine, such as .fdb, can follow
			if derived.FindString(n[at[0]:end]) == n[at[0]:end] && m.engine.Named(h, n[at[0]:end]) == n {
				return true
			}
		}
	}
	return false
}

// Free returns an address whose database name is unused.
func (m mover[F]) Free(ctx context.Context, home string, use item.Use) (to string, err error) {
	err = m.at(home).on(ctx, func(s Session[F], database string) error {
		switch use {
		case item.ForStage:
			to = m.server.On(m.engine.Named(database, "_stage_"+m.Run.Manifest.ID)).Address()
		case item.ForBeside:
			to = m.server.On(m.engine.Named(database, "_from_"+Shortened(m.Run.Manifest.Old.Name, "", maxFrom))).Address()
		default:
			to, err = m.freeName(ctx, s, database)
		}
		return err
	})
	return to, err
}

// maxFrom limits the old computer's name in the name of a database, in bytes.
const maxFrom = 24

// freeName returns an unused name as an address.
func (m mover[F]) freeName(ctx context.Context, s Session[F], database string) (string, error) {
	ending := "_set_aside_" + m.Run.Now().Format("20060102_150405")
	for n, try := 2, ending; ; n++ {
		name := m.engine.Named(database, try)
		there, err := s.Exists(ctx, name)
		if err != nil || !there {
			return m.server.On(name).Address(), err
		}
		try = fmt.Sprintf("%s_%d", ending, n)
	}
}

// Stage creates the database under a spare name, and loads it.
func (m mover[F]) Stage(ctx context.Context, stage string) (out item.Staged, err error) {
	facts, err := m.sealedFacts()
	if err != nil {
		return out, err
	}
	err = m.at(stage).on(ctx, func(s Session[F], database string) error {
		p := m.loading(database)
		p.Progress = m.Progress("putting in place", m.InKit.Sealed.Bytes)
		notes, err := s.Stage(ctx, facts, p)
		out.Notes = append(out.Notes, notes...)
		if err == nil {
			notes, err = m.updatePaths(ctx, s, p, facts)
			out.Notes = append(out.Notes, notes...)
		}
		if err != nil {
			return withdraw(context.WithoutCancel(ctx), s, p.Stage, err)
		}
		return nil
	})
	return out, err
}

// withdraw removes the staged database after an error. If that fails too, the error names it.
func withdraw[F Facts](ctx context.Context, s Session[F], stage string, cause error) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	there, err := s.Exists(ctx, stage)
	if err == nil && there {
		err = s.Drop(ctx, stage)
	}
	if err == nil || strings.Contains(cause.Error(), stage) {
		return cause
	}
	return fault.Wrap(fault.KindOf(cause), cause, "the server may still have the database %s of this unpack, which the next unpack removes", stage)
}

// RecordPlaced stores a digest of the database's fingerprint. That is the sealed one, except for
// definitions that the engine writes differently and texts that were changed. A server's own
// counters cannot be used, because they change even if somebody only reads.
func (m mover[F]) RecordPlaced(ctx context.Context, at string, done *steps.Placed) error {
	facts, err := m.sealedFacts()
	if err != nil {
		return err
	}
	return m.at(at).on(ctx, func(s Session[F], database string) error {
		turned, err := m.originalHashes()
		if err != nil {
			return err
		}
		made, err := s.Definitions(ctx, database)
		if err != nil {
			return err
		}
		done.Rewritten = facts.Print().Rewritten(made)
		made.Tables = facts.Print().Tables
		if len(turned) > 0 { // some of its rows differ from the sealed ones
			if made, err = s.Fingerprint(ctx, database, nil, m.AddBytes); err != nil {
				return err
			}
		}
		done.Stamp, err = stamp(made)
		return err
	})
}

// stamp returns a digest of a fingerprint, whichever server has the database.
func stamp(f *dbprint.Fingerprint) (string, error) {
	f.Sort()
	data, err := json.Marshal([]any{f.Tables, f.Schema, f.Settings})
	return digest.Of(data).String(), err
}

// Unedited compares the database with the stamp that RecordPlaced stored.
func (m mover[F]) Unedited(ctx context.Context, at, was string) (bool, error) {
	var f *dbprint.Fingerprint
	err := m.at(at).on(ctx, func(s Session[F], database string) (err error) {
		f, err = s.Fingerprint(ctx, database, nil, m.AddBytes)
		return err
	})
	if err != nil {
		return false, item.Unreached(ctx, err) // an unreadable database must not be removed
	}
	now, err := stamp(f)
	return err == nil && now == was, err
}

// MoveOut renames the database to a spare name, where its events do not run.
func (m mover[F]) MoveOut(ctx context.Context, home, spare string, _ bool) error {
	return m.rename(ctx, home, spare, AtRest)
}

// MoveIn renames a spare database to the name that the app uses.
func (m mover[F]) MoveIn(ctx context.Context, spare, home string, _ bool) error {
	return m.rename(ctx, spare, home, InService)
}

func (m mover[F]) rename(ctx context.Context, from, to string, as Service) error {
	return m.at(from).on(ctx, func(s Session[F], database string) error {
		name := m.name(to)
		if r, renames := s.(Resumer); renames {
			if err := r.Resume(ctx, database, name); err != nil {
				return err
			}
		}
		there, err := s.Exists(ctx, database)
		if err != nil || !there {
			return err
		}
		return s.Rename(ctx, database, name, as)
	})
}

// Delete drops a spare database.
func (m mover[F]) Delete(ctx context.Context, spare string, op steps.Op) (left bool, err error) {
	there, err := item.Parts{Names: m}.Exists(ctx, spare)
	if err != nil || !there {
		return false, err
	}
	if ours, err := item.MayDelete(ctx, m, spare, op); err != nil || !ours {
		return true, err
	}
	return false, m.at(spare).on(ctx, func(s Session[F], database string) error { return s.Drop(ctx, database) })
}

// loading returns how to load the sealed database.
func (m mover[F]) loading(stage string) Loading {
	open := func(parts []seal.Part) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) { return m.Run.Kit.Open(m.Key.App, parts) }
	}
	return Loading{
		Stage: stage, Mine: m.RunAsMe, Allow: m.Host.Technician.AgreeToRun,
		Schema: open(m.InKit.Sealed.Schema), Rows: open(m.InKit.Sealed.Parts),
	}
}

// Fingerprint computes the database's fingerprint.
func (m mover[F]) Fingerprint(ctx context.Context) (f *dbprint.Fingerprint, err error) {
	err = m.on(ctx, func(s Session[F], database string) (err error) {
		if f, err = s.Fingerprint(ctx, database, m.Item.Counts, m.AddBytes); err != nil {
			return err
		}
		return m.restoreDigests(ctx, s, database, f)
	})
	return f, err
}

// OldRows reads the sealed rows. If only a server can read them, it creates the database
// temporarily under another name.
func (m mover[F]) OldRows(ctx context.Context) (func(dbprint.Table) dbprint.Rows, func(), error) {
	p := m.loading(m.engine.Named(m.name(m.Path), "_stage_"+m.Run.Manifest.ID))
	rows := func(t dbprint.Table) dbprint.Rows { return m.engine.SealedRows(p.Rows, t) }
	if rows(dbprint.Table{}) != nil {
		return rows, func() {}, nil
	}
	facts, err := m.sealedFacts()
	if err == nil {
		err = m.on(ctx, func(s Session[F], _ string) error {
			if _, err := s.Stage(ctx, facts, p); err != nil {
				return withdraw(context.WithoutCancel(ctx), s, p.Stage, err)
			}
			return nil
		})
	}
	if err != nil {
		return nil, nil, err
	}
	return func(t dbprint.Table) dbprint.Rows { return m.session.Rows(ctx, p.Stage, t) },
		func() { m.session.Drop(context.WithoutCancel(ctx), p.Stage) }, nil
}

// NewRows reads the rows of a table.
func (m mover[F]) NewRows(ctx context.Context, t dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		turned, err := m.originalHashes()
		if err != nil {
			return err
		}
		return m.on(ctx, func(s Session[F], database string) error {
			return originalRows(s.Rows(ctx, database, t), turned[t.Name])(each)
		})
	}
}

// Compare compares the database with the sealed one.
func (m mover[F]) Compare(ctx context.Context) (*steps.Checked, error) {
	there, err := item.Parts{Names: m}.Exists(ctx, m.Path)
	if err != nil {
		return nil, err
	}
	facts, err := m.sealedFacts()
	if err != nil {
		return nil, err
	}
	out, err := m.CompareDatabase(ctx, m, there, facts.Print())
	if err == nil && there {
		m.NotePathUpdates(out)
	}
	return out, err
}
