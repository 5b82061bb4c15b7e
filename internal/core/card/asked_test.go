package card

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
)

// TestReadCards reads cards from files and folders, and parses each text once.
func TestReadCards(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		os.WriteFile(path, []byte(text), 0o600)
		return path
	}
	one := write("b.yaml", good)
	write("a.YML", strings.Replace(good, "name: tidewright", "name: other", 1))
	write(".hidden.yaml", "no card")
	write("notes.txt", "no card")
	write("sub.yaml/x.yaml", "no card")
	all, err := ReadDir(dir)
	if err != nil || len(all) != 2 || all[0].Name != "other" || all[1].Name != "tidewright" || all[1].Source != one {
		t.Fatalf("%+v %v", all, err)
	}
	var cache Cache
	first, err := cache.Read(one)
	again, _ := cache.Read(write("c.yaml", good))
	if err != nil || first.Name != "tidewright" || again != first {
		t.Errorf("%p and %p, %v", first, again, err)
	}
	if other, err := cache.Read(filepath.Join(dir, "a.YML")); err != nil || other.Name != "other" {
		t.Errorf("another card: %+v %v", other, err)
	}
	if _, err := ReadDir(dir); fault.KindOf(err) != fault.BadCard || !strings.HasSuffix(err.Error(), `two cards have the name "tidewright": b.yaml and c.yaml`) {
		t.Errorf("two of one name: %v", err)
	}
	comment := good + "#"
	for name, text := range map[string]string{"broken.yaml": "card: 2\n", "large.yaml": comment + strings.Repeat(".", MaxSize+1-len(comment))} {
		path := write(name, text)
		for _, read := range []func(string) (*Card, error){Read, cache.Read, cache.Read} {
			if c, err := read(path); c != nil || fault.KindOf(err) != fault.BadCard {
				t.Errorf("%s: %v", name, err)
			}
		}
		os.Remove(path)
	}
	if c, err := Read(write("just.yaml", comment+strings.Repeat(".", MaxSize-len(comment)))); err != nil || c.Name != "tidewright" {
		t.Errorf("just not too large: %v", err)
	}
	for _, read := range []func() error{func() error { _, err := Read(filepath.Join(dir, "none.yaml")); return err }, func() error { _, err := cache.Read(filepath.Join(dir, "none.yaml")); return err }, func() error { _, err := ReadDir(filepath.Join(dir, "none")); return err }} {
		if err := read(); fault.KindOf(err) != fault.BadCard {
			t.Errorf("nothing there: %v", err)
		}
	}
	os.Remove(filepath.Join(dir, "just.yaml"))
	write("d.yaml", "name: x\n")
	if _, err := ReadDir(dir); fault.KindOf(err) != fault.BadCard {
		t.Errorf("a folder with one that is broken: %v", err)
	}
}

// TestAsked tests the methods of a card that steps use.
func TestAsked(t *testing.T) {
	c, err := Parse("x.yaml", []byte(licensedCard))
	fatal.If(t, err)
	shown := ""
	for _, l := range append(c.Licences, Licence{Name: "dongle", Method: MethodToken, USB: "1:2"}, Licence{Name: "account", Method: MethodAccount}) {
		shown += fmt.Sprint(l.Name, " ", l.Shown(), " ", l.Whole("s", ""), " ", l.Whole("s", "c"), " ", l.Whole("", "c"), "\n")
	}
	if want := "signing true false true false\nregistration true false true false\nseat false false true false\nmodule false false true false\ndongle true false true false\naccount false false true false\n"; shown != want {
		t.Errorf("shown\n%s", shown)
	}
	if l := (&Licence{Method: MethodKey}); !l.Whole("s", "") {
		t.Error("a key without a name is not whole")
	}
	if c.Licence("seat") != &c.Licences[2] || c.Licence("none") != nil || c.Item("diary@2025") != &c.Items[1] || c.Item("none") != nil {
		t.Error("what is named")
	}
	own := c.ForUsers([]string{"seat@maren", "seat", "none@maren", "seat@maren", "module@zoe"})
	if len(own.Licences) != 6 || len(c.Licences) != 4 || own.Licence("seat@maren").Transfers == nil || own.Licences[5].Name != "module@zoe" {
		t.Errorf("for users: %+v", own.Licences)
	}
	if c.Sole() {
		t.Error("the app may be signed in twice")
	}
	for _, sole := range []*Card{{Licences: []Licence{{Method: MethodAccount}}}, {Licences: []Licence{{Method: MethodKey}, {Method: MethodKey, OneSyncs: true}}}, {Items: []Item{{}, {OneSyncs: true}}}} {
		if !sole.Sole() {
			t.Errorf("%+v may be signed in twice", sole)
		}
	}
	served, err := Parse("x.yaml", []byte(strings.Replace(servedCard, "make: [", "count: \"SELECT count(*) FROM box WHERE n = {name}\", make: [", 1)+"sync: [{about: mail, item: data, query: SELECT 2}]\nopens: {look: 'how many', count: n}\n"))
	fatal.If(t, err)
	if got := fmt.Sprintf("%q", served.Queries()); got != `["SELECT 2" "SELECT 1" "SELECT 1" "SELECT count(*) FROM box WHERE n = {name}"]` {
		t.Errorf("queries: %s", got)
	}
	if out := served.Item("out"); out.Exports.Of("it's") != "SELECT count(*) FROM box WHERE n = 'it''s'" || !out.Counted("data") || out.Counted("yard") || served.Item("yard").Counted("data") || (&Item{Exports: &Export{Item: "data"}}).Counted("data") {
		t.Errorf("%+v", out.Exports)
	}
	if all := c.Commands(); len(all) != 3 || len((&Card{Opens: &Opens{Run: []string{"/x"}}, Sync: []Sync{{Command: []string{"/y"}}}, Items: []Item{{Exports: &Export{Make: []string{"/z"}}}}}).Commands()) != 3 {
		t.Errorf("commands: %q", all)
	}
	mistakes(t, servedCard, map[string]mistake{
		"counted nowhere":      {"item: data, query: SELECT 1, make", `number: 3, count: "SELECT {name}", make`, "count query of the exports is not valid"},
		"counted of a file":    {"item: data, query: SELECT 1, make", `number: 3, item: yard, count: "SELECT {name}", make`, "count query of the exports is not valid"},
		"counted without name": {"make: [", "count: SELECT 1, make: [", "count query of the exports is not valid"},
		"counted by a change":  {"make: [", `count: "DELETE {name}", make: [`, "is not valid"},
		"made by a word":       {"/opt/x, out", "x, out", "has no full path"},
		"looked at nothing":    {"kind: jet, path: /y.mdb}", "kind: jet, path: /y.mdb}\nopens: {count: n}", "exactly one way to check that the app"},
		"shown by both":        {"kind: jet, path: /y.mdb}", "kind: jet, path: /y.mdb}\nopens: {look: x, run: [/x], pattern: '(x)'}", "exactly one way to check that the app"},
		"shown by a word":      {"kind: jet, path: /y.mdb}", "kind: jet, path: /y.mdb}\nopens: {run: [x], pattern: '(x)'}", "has no full path"},
		"shown by nothing":     {"kind: jet, path: /y.mdb}", "kind: jet, path: /y.mdb}\nopens: {run: [/x]}", "the command has no pattern"},
		"no such figure":       {"kind: jet, path: /y.mdb}", "kind: jet, path: /y.mdb}\nopens: {look: x, count: boats}", `no count "boats"`},
		"a figure of no name":  {"{name: n, query: SELECT 1}", "{query: SELECT 1}", `"name" is missing`},
		"newest of one":        {"kind: jet,", "kind: jet, newest: 3,", "does not have"},
		"an odd item name":     {"name: yard", "name: Yard", "is not valid"},
		"no item name":         {"{name: yard, ", "{", `"name" is missing`},
		"files in a database":  {"query: SELECT 1}]}\n  - {name: out", "query: SELECT 1, files: x}]}\n  - {name: out", "does not suit"},
		"a query in files":     {"files: '*.dbf'", "files: '*.dbf', query: SELECT 1", "does not suit"},
		"no files":             {"files: '*.dbf'", "files: ''", "has no valid pattern"},
		"identity elsewhere":   {"kind: dbase,", "kind: dbase, identity: {file: ../x},", "is not in the folder"},
		"repointed column":     {"kind: postgresql,", "kind: postgresql, update-paths: [path],", `the column "path" is not valid`},
	})
}

// TestUnseen rejects invisible characters, and accepts visible ones.
func TestUnseen(t *testing.T) {
	for r, taken := range map[string]bool{"é": true, "\\t": true, "\\n": true, "\\u200b": false, "\\x07": false, "\\u202e": false, "\\u0085": false} {
		_, err := Parse("x.yaml", []byte(strings.Replace(good, "title: Tidewright", `title: "Tide`+r+`wright"`, 1)))
		if (err == nil) != taken || err != nil && !strings.Contains(err.Error(), "x.yaml:3:8: the text contains an invisible character") {
			t.Errorf("%q: %v", r, err)
		}
	}
}

// TestSafeAddresses sends secrets only with https, or to this computer.
func TestSafeAddresses(t *testing.T) {
	for address, safe := range map[string]bool{"https://desk.example/a": true, "http://localhost:1": true, "http://127.0.0.1:1": true, "http://[::1]:1": true, "http://192.0.2.7": false, "http://desk.example": false, "https://": false, "https://u@desk.example": false, "https://desk.example?x=1": false, "ftp://localhost": false, "://": false} {
		if SafeURL(address) != safe {
			t.Errorf("%s is safe: %v", address, !safe)
		}
	}
}
