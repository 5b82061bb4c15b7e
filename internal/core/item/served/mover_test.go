package served_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/test/fatal"
	"movekit/test/office"
)

const cardText = `items:
  - name: ledger
    kind: postgresql
    server: {host: {file: /etc/app.ini, key: db/host}, database: {file: /etc/app.ini, key: db/name}, user: clerk}
    mask: [berth.note]
    update-paths: [Berth.place, port.berth.note]
    counts: [{name: berths, query: SELECT count(*) FROM berth}]
`

// port is an office whose computers have a server each.
type port struct {
	*office.Office
	*quay
	kind   served.KindOf
	person person
	way    tree.Policy
}

// person agrees or refuses, and keeps the text that was shown.
type person struct {
	office.Person
	no    bool
	lines []pathmap.Line
	typed string
	asked []string
}

func (p *person) Change(_ string, _ steps.Key, lines []pathmap.Line) (bool, error) {
	p.lines = lines
	return !p.no, nil
}

func (p *person) Password(question string) (string, error) {
	p.asked = append(p.asked, question)
	return p.typed, nil
}

func newPort(t *testing.T) *port {
	p := &port{kind: served.KindOf{InUse: true}, way: tree.SetAside}
	p.Office = office.New(t, cardText, "linux", map[string]string{
		"old/etc/app.ini": "[db]\nhost = old-srv\nname = ledger\n", "new/etc/app.ini": "[db]\nhost = new-srv\nname = books\n",
		"old/etc/passwd": "maren:x:1000:1000::/home/maren:/bin/sh\n", "new/etc/passwd": "maren:x:1000:1000::/people/maren:/bin/sh\n", "old/home/maren/x": "", "new/people/maren/x": "",
	})
	p.quay = &quay{hosts: map[string]map[string]base{
		"old-srv": {"ledger": {map[string][2]string{"1": {"/home/maren/a", "red"}, "2": {"elsewhere", "/home/maren"}, "3": {"/home/maren/a", "/home/maren"}}, "Select"}},
		"new-srv": {"other": {View: "x"}},
	}}
	return p
}

// do runs a step on a computer.
func (p *port) do(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error)) *run.Outcome {
	p.T.Helper()
	j := p.Job(c)
	j.Kinds = maps.Clone(j.Kinds)
	j.Kinds[card.PostgreSQL] = served.New(p.quay, p.kind)
	j.Now = func() time.Time { return time.Date(2026, 11, 27, 10, 0, 0, 0, time.Local) }
	j.Technician, j.Policies = &p.person, map[string]tree.Policy{"": p.way}
	p.calls = nil
	out, err := step(j, p.T.Context())
	fatal.If(p.T, err)
	return out[0]
}

func (p *port) must(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error)) *run.Outcome {
	p.T.Helper()
	out := p.do(c, step)
	if out.Err != nil || len(out.Blocks) > 0 {
		p.T.Fatal(out.Err, out.Blocks)
	}
	return out
}

// cutOff runs the step while the server fails at each call in turn, and checks the databases after
// each run.
func (p *port) cutOff(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error), each func(n int)) {
	p.T.Helper()
	for p.gone = 1; ; p.gone++ {
		out := p.do(c, step)
		if whole := len(p.calls) < p.gone; whole && out.Err == nil && len(out.Blocks) == 0 {
			break
		} else if whole || out.Err != nil && fault.KindOf(out.Err) != fault.ServerDown || p.gone > 200 {
			p.T.Fatal(p.gone, out.Err, out.Blocks)
		}
		at := p.gone
		p.gone = 0
		each(at)
		p.gone = at
	}
	p.gone = 0
}

// names are the databases of the new computer's server, except for empty placeholders.
func (p *port) names() string {
	var out []string
	for name, b := range p.hosts["new-srv"] {
		if head, tail, aside := strings.Cut(name, "_set_aside_20261127_100000"); aside {
			name = head + "(aside" + tail + ")"
		}
		if b.View != "taken" {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// TestServerGone packs, unpacks and undoes while the server fails at every call in turn, before and
// after it did the work. The existing data is never lost, and the final result is the same as
// without failures.
func TestServerGone(t *testing.T) {
	t.Parallel()
	theirs := base{map[string][2]string{"7": {"theirs", ""}}, "theirs"}
	moved := base{map[string][2]string{"1": {"/people/maren/a", "red"}, "2": {"elsewhere", "/people/maren"}, "3": {"/people/maren/a", "/people/maren"}}, "SELECT"}
	for policy, want := range map[tree.Policy]string{
		"": "books other", tree.SetAside: "books books(aside_3) other", tree.Replace: "books other", tree.KeepBoth: "books books_from_OLD other", tree.Skip: "books other",
	} {
		t.Run(string(policy), func(t *testing.T) {
			t.Parallel()
			p := newPort(t)
			p.way = policy
			p.cutOff(p.Old, (*move.Move).Pack, func(int) {})
			before := maps.Clone(p.hosts["new-srv"])
			if policy != "" {
				before["books"] = theirs
			}
			theirsIsThere := func(n int) {
				if policy == "" || policy == tree.Replace {
					return
				}
				for name, b := range p.hosts["new-srv"] {
					if reflect.DeepEqual(b, theirs) && (name == "books" || strings.HasPrefix(name, "books_set_aside_") && policy == tree.SetAside) {
						return
					}
				}
				t.Fatalf("gone at call %d (%s): %v", n, p.calls[n-1], p.hosts["new-srv"])
			}
			for _, ending := range []string{"", "_2"} { // what the database in the way could be called
				before["books_set_aside_20261127_100000"+ending] = base{View: "taken"}
			}
			p.hosts["new-srv"] = maps.Clone(before)
			p.cutOff(p.New, (*move.Move).Unpack, theirsIsThere)
			if got := p.names(); got != want {
				t.Errorf("the server has %s, want %s", got, want)
			}
			at := map[bool]string{true: "books_from_OLD", false: "books"}[policy == tree.KeepBoth]
			if got := p.hosts["new-srv"][at]; policy != tree.Skip && !reflect.DeepEqual(got, moved) {
				t.Errorf("in place: %v", got)
			}
			p.cutOff(p.New, (*move.Move).Verify, theirsIsThere)
			if out := p.must(p.New, (*move.Move).Verify); out.Items[0].Equal != (policy != tree.Skip) || out.Items[0].Skipped != (policy == tree.Skip) {
				t.Errorf("verify: %+v", out.Items[0])
			}
			if policy == tree.Replace {
				return // what was there is gone
			}
			if policy != tree.Skip && policy != tree.KeepBoth { // what nobody worked in is renewed, and nothing more is set aside
				p.hosts["old-srv"]["ledger"].Berths["4"] = [2]string{"late", ""}
				p.must(p.Old, (*move.Move).Pack)
				p.cutOff(p.New, (*move.Move).Unpack, theirsIsThere)
				if got := p.names(); got != want || p.hosts["new-srv"][at].Berths["4"][0] != "late" {
					t.Errorf("renewed: the server has %s, want %s", got, want)
				}
			}
			p.hosts["old-srv"]["ledger"].Berths["5"] = [2]string{"later", ""} // what is sealed since is not what is in place
			p.must(p.Old, (*move.Move).Pack)
			p.cutOff(p.New, (*move.Move).Undo, theirsIsThere)
			if got := p.hosts["new-srv"]; !reflect.DeepEqual(got, before) {
				t.Errorf("after undo: %v, was %v", got, before)
			}
		})
	}
}

// TestRetiredServerGone sets the old database aside, moves it back and removes it while its server
// fails at every call in turn. The database exists until it is to be removed.
func TestRetiredServerGone(t *testing.T) {
	t.Parallel()
	p := newPort(t)
	p.must(p.Old, (*move.Move).Pack)
	p.must(p.New, (*move.Move).Unpack)
	p.must(p.New, (*move.Move).Verify)
	old := p.hosts["old-srv"]["ledger"].clone()
	isThere := func(n int) {
		for _, b := range p.hosts["old-srv"] {
			if reflect.DeepEqual(b, old) && len(p.hosts["old-srv"]) == 1 {
				return
			}
		}
		t.Fatalf("gone at call %d (%s): %v", n, p.calls[n-1], p.hosts["old-srv"])
	}
	p.cutOff(p.Old, (*move.Move).Retire, isThere)
	if _, there := p.hosts["old-srv"]["ledger"]; there {
		t.Error("it still has its name")
	}
	p.cutOff(p.Old, (*move.Move).Return, isThere)
	if _, there := p.hosts["old-srv"]["ledger"]; !there {
		t.Error("it has not its name back")
	}
	p.must(p.Old, (*move.Move).Retire)
	_, err := p.Kit.Record(journal.Line{Event: journal.EventReported}, steps.Reported{To: "/srv/papers"})
	fatal.If(t, err)
	p.cutOff(p.Old, func(m *move.Move, ctx context.Context) ([]*run.Outcome, error) { return m.RemoveRetired(ctx, "sold") }, func(int) {})
	if len(p.hosts["old-srv"]) > 0 {
		t.Errorf("left: %v", p.hosts["old-srv"])
	}
}

// TestModifiedOnServer modifies placed data: verify names it, and undo and another unpack keep it.
func TestModifiedOnServer(t *testing.T) {
	t.Parallel()
	const told = "  n 1: the row is missing\n  n 2: place was elsewhere, is quay; note was •••, is •••\n  n 4: the row is new\ntable port.berth: has the same number of rows, but different ones"
	for _, opaque := range []bool{false, true} {
		p := newPort(t)
		p.opaque = opaque
		p.must(p.Old, (*move.Move).Pack)
		out := p.must(p.New, (*move.Move).Unpack)
		if len(p.person.lines) != 4 || p.person.lines[0].New != "/people/maren/a" || p.person.lines[2].Old != "•••" || p.person.lines[3].New != "•••" || p.person.lines[3].Where != "3, note" {
			t.Errorf("asked about %+v", p.person.lines)
		}
		if i := out.Items[0]; i.To != "postgresql:clerk@new-srv/books" || !slices.Equal(i.Notes, []string{"staged"}) {
			t.Errorf("%+v", i)
		}
		p.must(p.Old, (*move.Move).Pack) // nothing changed: it is the same
		if i := p.must(p.New, (*move.Move).Unpack).Items[0]; p.names() != "books other" {
			t.Errorf("once more: %s, %+v", p.names(), i)
		}
		p.hosts["new-srv"]["books"].Berths["2"] = [2]string{"quay", "/people/maren"}
		delete(p.hosts["new-srv"]["books"].Berths, "1")
		p.hosts["new-srv"]["books"].Berths["4"] = [2]string{"new", "x"}
		i := p.must(p.New, (*move.Move).Verify).Items[0]
		slices.Sort(i.Diffs)
		if got := strings.Join(i.Diffs, "\n"); i.Equal || got != told || p.names() != "books other" {
			t.Errorf("opaque %v: %s; the server has %s", opaque, got, p.names())
		}
		worked := p.hosts["new-srv"]["books"].clone()
		if i := p.must(p.New, (*move.Move).Undo).Items[0]; i.Did == "" {
			t.Errorf("undo: %+v", i)
		}
		kept := ""
		for name, b := range p.hosts["new-srv"] {
			if reflect.DeepEqual(b, worked) {
				kept = name
			}
		}
		if kept == "" || kept == "books" {
			t.Errorf("what was worked in is %q", kept)
		}
		delete(p.hosts["new-srv"], kept)
		if i := p.must(p.New, (*move.Move).Verify).Items[0]; i.Equal || !strings.Contains(strings.Join(i.Diffs, "\n"), "missing") {
			t.Errorf("nothing is there: %+v", i)
		}
	}
}

// TestPathsOnAServer keeps the old paths if a server does not accept the update.
func TestPathsOnAServer(t *testing.T) {
	t.Parallel()
	for why, change := range map[string]func(*port){
		"":                                   func(p *port) { p.person.no = true },
		"cut a text|does not keep a text in": func(p *port) { p.keeps = func(text string) string { return text[:4] } },
		"change more|change other values":    func(p *port) { p.wrong = "9" },
		"two alike|are identical":            func(p *port) { all := p.hosts["old-srv"]["ledger"].Berths; all["3'"] = all["3"] },
	} {
		p := newPort(t)
		change(p)
		sealed := p.hosts["old-srv"]["ledger"].clone()
		sealed.View = "SELECT"
		p.must(p.Old, (*move.Move).Pack)
		notes := strings.Join(p.must(p.New, (*move.Move).Unpack).Items[0].Notes, "\n")
		if _, says, _ := strings.Cut(why, "|"); !strings.Contains(notes, says) || (says == "") != !strings.Contains(notes, "were not updated") {
			t.Errorf("%s: notes %q", why, notes)
		}
		if got := p.hosts["new-srv"]["books"]; !reflect.DeepEqual(got, sealed) || p.names() != "books other" {
			t.Errorf("%s: %v of %s", why, got, p.names())
		}
	}
}

// TestUnreachableServer inspects servers that answer and servers that do not.
func TestUnreachableServer(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct {
		change func(*port)
		says   string // of why nothing was packed
		calls  int    // how often it was asked for a password
	}{
		"in use, which may be": {func(p *port) { p.sessions = []string{"app of clerk"} }, "", 0},
		"in use":               {func(p *port) { p.kind.InUse, p.sessions = false, []string{"app of clerk"} }, "app of clerk is connected to postgresql:clerk@old-srv/ledger", 0},
		"down":                 {func(p *port) { p.gone = 1 }, "the server is gone", 0},
		"missing":              {func(p *port) { p.hosts["old-srv"] = nil }, "there is no database ledger", 0},
		"let in":               {func(p *port) { p.password, p.person.typed = "tide", "tide" }, "", 1},
		"not let in":           {func(p *port) { p.password, p.person.typed = "tide", "ebb" }, "no", 1},
	} {
		p := newPort(t)
		c.change(p)
		out := p.do(p.Old, (*move.Move).Pack)
		said := fmt.Sprint(out.Err, out.Blocks)
		if done := out.Err == nil && len(out.Blocks) == 0; done != (c.says == "") || !strings.Contains(said, c.says) || len(p.person.asked) != c.calls {
			t.Errorf("%s: %s, asked %q", what, said, p.person.asked)
		}
		if last := p.calls[len(p.calls)-1]; last != "old-srv: close" {
			t.Errorf("%s: at the end %s", what, last)
		}
	}
}

// quay is an engine whose servers are in memory and can fail at any call.
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

// base is a database: a table of berths, by number, and the definition of a view.
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

// session is a session with a server in memory.
type session struct {
	*quay
	s served.Server
}

// called records a call, and fails if the server is to fail here.
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

// get returns a database.
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

// change applies a change. The server may fail before it, or right after it.
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
	if err := f.RunCounts(counts, func(query string) (int64, error) { return s.Ask(ctx, database, query) }); err != nil {
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

func (s *session) Stage(_ context.Context, f *facts, p served.Loading) ([]string, error) {
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

func (s *session) Rename(_ context.Context, from, to string, _ served.Service) (err error) {
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
	return f, f.RunCounts(counts, func(query string) (int64, error) { return s.Ask(ctx, database, query) })
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

// columns are the columns of a row that hold texts.
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
