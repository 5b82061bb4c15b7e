package served_test

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/repoint"
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
    repoint: [Berth.place, port.berth.note]
    counts: [{name: berths, query: SELECT count(*) FROM berth}]
`

// port is an office whose two computers have a server each.
type port struct {
	*office.Office
	*quay
	kind   served.KindOf
	person person
	way    tree.Policy
}

// person agrees, or not, and keeps what was shown.
type person struct {
	office.Person
	no    bool
	lines []repoint.Line
	typed string
	asked []string
}

func (p *person) Change(_ string, _ steps.Key, lines []repoint.Line) (bool, error) {
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
	j.Person, j.Ways = &p.person, map[string]tree.Policy{"": p.way}
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

// whoever ends the step though the server is gone at each of its calls, one after the
// other, and sees what is there after each.
func (p *port) whoever(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error), each func(n int)) {
	p.T.Helper()
	for p.gone = 1; ; p.gone++ {
		out := p.do(c, step)
		if out.Err == nil && len(p.calls) < p.gone {
			break
		}
		if out.Err != nil && fault.KindOf(out.Err) != fault.ServerDown || len(out.Blocks) > 0 || p.gone > 200 {
			p.T.Fatal(p.gone, out.Err, out.Blocks)
		}
		at := p.gone
		p.gone = 0
		each(at)
		p.gone = at
	}
	p.gone = 0
}

// names are the databases of the new computer's server; moments are left out.
func (p *port) names() string {
	var out []string
	for name := range p.hosts["new-srv"] {
		if head, _, aside := strings.Cut(name, "_set_aside_"); aside {
			name = head + "(aside)"
		}
		out = append(out, name)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// TestServerGone unpacks, and takes back, while the server is gone at every call in
// turn, before it does what it is asked and after. What was there is never lost, and
// at the end all is as it is without that.
func TestServerGone(t *testing.T) {
	t.Parallel()
	theirs := base{map[string][2]string{"7": {"theirs", ""}}, "theirs"}
	moved := base{map[string][2]string{"1": {"/people/maren/a", "red"}, "2": {"elsewhere", "/people/maren"}, "3": {"/people/maren/a", "/people/maren"}}, "SELECT"}
	for policy, want := range map[tree.Policy]string{
		"": "books other", tree.SetAside: "books books(aside) other", tree.Replace: "books other", tree.KeepBoth: "books books_from_OLD other", tree.Skip: "books other",
	} {
		t.Run(string(policy), func(t *testing.T) {
			t.Parallel()
			p := newPort(t)
			p.way = policy
			p.must(p.Old, (*move.Move).Pack)
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
			p.hosts["new-srv"] = maps.Clone(before)
			p.whoever(p.New, (*move.Move).Unpack, theirsIsThere)
			if got := p.names(); got != want {
				t.Errorf("the server has %s, want %s", got, want)
			}
			at := map[bool]string{true: "books_from_OLD", false: "books"}[policy == tree.KeepBoth]
			if got := p.hosts["new-srv"][at]; policy != tree.Skip && !reflect.DeepEqual(got, moved) {
				t.Errorf("in place: %v", got)
			}
			p.whoever(p.New, (*move.Move).Verify, theirsIsThere)
			if out := p.must(p.New, (*move.Move).Verify); out.Items[0].Equal != (policy != tree.Skip) || out.Items[0].Skipped != (policy == tree.Skip) {
				t.Errorf("verify: %+v", out.Items[0])
			}
			if policy == tree.Replace {
				return // what was there is gone
			}
			p.whoever(p.New, (*move.Move).Undo, theirsIsThere)
			if got := p.hosts["new-srv"]; !reflect.DeepEqual(got, before) {
				t.Errorf("after undo: %v, was %v", got, before)
			}
		})
	}
}

// TestWorkedInOnAServer changes what is in place: verify names it, undo keeps it, and
// so does another unpack.
func TestWorkedInOnAServer(t *testing.T) {
	t.Parallel()
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
		var diffs []string
		for _, d := range i.Diffs {
			diffs = append(diffs, strings.TrimSpace(d))
		}
		slices.Sort(diffs)
		want := []string{`n 1: the row is missing`, `n 2: place "elsewhere" is now "quay"`, `n 4: the row was not there`, "table port.berth: has other content"}
		if i.Equal || len(diffs) != len(want) || p.names() != "books other" {
			t.Errorf("opaque %v: %q; the server has %s", opaque, diffs, p.names())
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

// TestPathsOnAServer leaves paths as they were where a server does not take them.
func TestPathsOnAServer(t *testing.T) {
	t.Parallel()
	for why, change := range map[string]func(*port){
		"":                         func(p *port) { p.person.no = true },
		"cut a text|does not keep": func(p *port) { p.keeps = func(text string) string { return text[:4] } },
		"change more|changes more": func(p *port) { p.wrong = "9" },
		"two alike|cannot be told": func(p *port) { all := p.hosts["old-srv"]["ledger"].Berths; all["3'"] = all["3"] },
	} {
		p := newPort(t)
		change(p)
		sealed := p.hosts["old-srv"]["ledger"].clone()
		sealed.View = "SELECT"
		p.must(p.Old, (*move.Move).Pack)
		notes := strings.Join(p.must(p.New, (*move.Move).Unpack).Items[0].Notes, "\n")
		if _, says, _ := strings.Cut(why, "|"); !strings.Contains(notes, says) || (says == "") != !strings.Contains(notes, "left as they were") {
			t.Errorf("%s: notes %q", why, notes)
		}
		if got := p.hosts["new-srv"]["books"]; !reflect.DeepEqual(got, sealed) || p.names() != "books other" {
			t.Errorf("%s: %v of %s", why, got, p.names())
		}
	}
}

// TestReachingAServer looks at servers that are there, and that are not.
func TestReachingAServer(t *testing.T) {
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
