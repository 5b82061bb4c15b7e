package served_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// quay is an engine whose servers are in memory, to see what is asked of a server,
// and what comes of it when one is gone at any moment.
type quay struct {
	hosts    map[string]map[string]base // databases by name, by server
	calls    []string                   // what was asked
	gone     int                        // the call at which the server is gone; 0 stands for none
	password string                     // what lets in
	opaque   bool                       // only a server reads what is sealed, which is one stream
	sessions []string                   // who else is connected
	keeps    func(text string) string   // what becomes of a text that is changed; nil stands for the text
	wrong    string                     // what is changed besides, in a text's row
}

// base is one database: a table of berths, by number, and the definition of a view.
type base struct {
	Berths map[string][2]string // place and note
	View   string
}

type facts struct{ dbprint.Fingerprint }

func (q *quay) Endings() (schema, rows string) {
	if q.opaque {
		return "", ".all"
	}
	return ".schema", ".rows"
}

func (q *quay) Open(s served.Server, _ func() (string, error)) served.Session[*facts] {
	return &session{q, s}
}

func (q *quay) Named(database, ending string) string { return served.Shortened(database, ending, 60) }

func (q *quay) SealedRows(open func() (io.ReadCloser, error), _ dbprint.Table) dbprint.Rows {
	if q.opaque {
		return nil
	}
	return func(each func(dbprint.Row) error) error {
		r, err := open()
		if err != nil {
			return err
		}
		defer r.Close()
		var b base
		if err := json.NewDecoder(r).Decode(&b); err != nil {
			return err
		}
		return b.rows(each)
	}
}

func (b base) rows(each func(dbprint.Row) error) error {
	for n, berth := range b.Berths {
		cells := []string{strings.Trim(n, "'"), berth[0], berth[1]} // 3' is another row that is as 3 is
		if err := each(dbprint.Row{Hash: digest.Of([]byte(strings.Join(cells, "\x00"))), Cells: func() []string { return cells }}); err != nil {
			return err
		}
	}
	return nil
}

func (b base) facts() *facts {
	var sum dbprint.Multiset
	b.rows(func(r dbprint.Row) error { sum.Add(r.Hash); return nil })
	return &facts{dbprint.Fingerprint{Engine: "Quay 1",
		Tables: []dbprint.Table{{Name: "port.berth", Rows: int64(len(b.Berths)), Digest: sum.Digest(), Columns: []string{"n", "place", "note"}, Key: []string{"n"}}},
		Schema: []dbprint.Object{dbprint.NewObject("view", "free", b.View, strings.ToLower(b.View))}}}
}

func (b base) clone() base { return base{maps.Clone(b.Berths), b.View} }

// session is what is asked of one server.
type session struct {
	*quay
	s served.Server
}

// called notes what is asked, or is done, and fails where the server is gone.
func (s *session) called(what string) error {
	s.calls = append(s.calls, s.s.Host+": "+what)
	if len(s.calls) == s.gone {
		return fault.New(fault.ServerDown, "the server is gone")
	}
	if s.s.Password != s.password {
		return fault.New(fault.ServerLogin, "no")
	}
	return nil
}

// get is a database.
func (s *session) get(what, database string) (base, error) {
	if err := s.called(what + " " + database); err != nil {
		return base{}, err
	}
	b, there := s.hosts[s.s.Host][database]
	if !there {
		return b, fault.New(fault.Missing, "there is no database %s", database)
	}
	return b, nil
}

// change does what changes a server: it may be gone before, or right after.
func (s *session) change(what string, do func(all map[string]base)) error {
	if err := s.called("before " + what); err != nil {
		return err
	}
	do(s.hosts[s.s.Host])
	return s.called(what)
}

func (s *session) Look(_ context.Context, database string) (*served.Look, error) {
	b, err := s.get("look", database)
	if err != nil {
		return nil, err
	}
	return &served.Look{Engine: "Quay 1", Bytes: 100 * int64(len(b.Berths)), Tables: 1, Sessions: s.sessions, Stamp: fmt.Sprint(b), Left: []string{"users"}}, nil
}

func (s *session) Ask(_ context.Context, database, query string) (int64, error) {
	b, err := s.get(query, database)
	return int64(len(b.Berths)), err
}

func (s *session) Seal(ctx context.Context, database string, counts []card.Count, schema, rows io.Writer, progress func(int64)) (*facts, error) {
	b, err := s.get("seal", database)
	if err != nil {
		return nil, err
	}
	f := b.facts()
	if err := f.TakeCounts(counts, func(query string) (int64, error) { return s.Ask(ctx, database, query) }); err != nil {
		return nil, err
	}
	if schema != nil {
		io.WriteString(schema, b.View)
	}
	data, _ := json.Marshal(b)
	progress(int64(len(data)))
	_, err = rows.Write(data)
	return f, err
}

func (s *session) Exists(_ context.Context, database string) (bool, error) {
	_, err := s.get("exists", database)
	if fault.KindOf(err) == fault.Missing {
		return false, nil
	}
	return err == nil, err
}

func (s *session) Folder(context.Context, string) (string, error) { return "/", nil }

func (s *session) Lacks(_ context.Context, database string, f *facts) ([]string, error) {
	if f.Engine != "Quay 1" {
		return []string{"Quay 1"}, nil
	}
	return nil, s.called("lacks " + database)
}

func (s *session) Stage(_ context.Context, f *facts, p served.Putting) ([]string, error) {
	var b base
	for _, part := range []struct {
		open func() (io.ReadCloser, error)
		take func(io.Reader) error
	}{{p.Rows, func(r io.Reader) error { return json.NewDecoder(r).Decode(&b) }}, {p.Schema, func(r io.Reader) error {
		text, err := io.ReadAll(r)
		if string(text) != b.View {
			return fault.New(fault.Damaged, "the schema is %q", text)
		}
		return err
	}}} {
		if s.opaque && b.Berths != nil {
			break // all is in one stream
		}
		r, err := part.open()
		if err != nil {
			return nil, err
		}
		err = part.take(r)
		r.Close()
		if err != nil {
			return nil, err
		}
	}
	if b.View = strings.ToUpper(b.View); p.Progress != nil {
		p.Progress(1)
	}
	return []string{"staged"}, s.change("stage "+p.Stage, func(all map[string]base) { all[p.Stage] = b })
}

func (s *session) Settle(ctx context.Context, database string, _ *facts, p served.Putting, aside string) error {
	if _, there := s.hosts[s.s.Host][database]; there && aside != "" {
		if err := s.Rename(ctx, database, aside); err != nil {
			return err
		}
	} else if err := s.Drop(ctx, database); err != nil {
		return err
	}
	return s.Rename(ctx, p.Stage, database)
}

func (s *session) Rename(_ context.Context, from, to string) (err error) {
	lost := s.change("rename "+from+" to "+to, func(all map[string]base) {
		b, there := all[from]
		if _, taken := all[to]; taken || !there {
			err = fault.New(fault.Internal, "%s cannot become %s", from, to)
			return
		}
		delete(all, from)
		all[to] = b
	})
	if err == nil {
		err = lost
	}
	return err
}

func (s *session) Drop(_ context.Context, database string) error {
	return s.change("drop "+database, func(all map[string]base) { delete(all, database) })
}

func (s *session) Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	b, err := s.get("fingerprint", database)
	if err != nil {
		return nil, err
	}
	progress(1)
	f := b.facts().Print()
	return f, f.TakeCounts(counts, func(query string) (int64, error) { return s.Ask(ctx, database, query) })
}

func (s *session) Definitions(_ context.Context, database string) (*dbprint.Fingerprint, error) {
	b, err := s.get("definitions", database)
	f := b.facts().Print()
	f.Tables = nil
	return f, err
}

func (s *session) Rows(_ context.Context, database string, _ dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		b, err := s.get("rows", database)
		if err != nil {
			return err
		}
		return b.rows(each)
	}
}

// columns are those of a row that hold texts.
var columns = map[string]int{"place": 0, "note": 1}

func (s *session) Texts(_ context.Context, database string, _ dbprint.Table, column string, each func(key, text string) error) error {
	b, err := s.get("texts", database)
	for _, n := range slices.Sorted(maps.Keys(b.Berths)) {
		if err == nil {
			err = each(n, b.Berths[n][columns[column]])
		}
	}
	return err
}

func (s *session) Rewrite(_ context.Context, database string, _ dbprint.Table, column string, now map[string]string) error {
	return s.change("rewrite "+database, func(all map[string]base) {
		b := all[database].clone()
		for n, berth := range b.Berths {
			text, changed := now[berth[columns[column]]]
			if !changed {
				continue
			}
			if s.keeps != nil {
				text = s.keeps(text)
			}
			berth[columns[column]] = text
			if s.wrong != "" {
				n = s.wrong
			}
			b.Berths[n] = berth
		}
		all[database] = b
	})
}

func (s *session) Close() { s.calls = append(s.calls, s.s.Host+": close") }
