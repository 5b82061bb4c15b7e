package card

import (
	"errors"
	"os"
	"strings"
	"testing"

	"movekit/examples"
	"movekit/internal/core/fault"
)

const good = `card: 1
name: tidewright
title: Tidewright
items:
  - name: data
    kind: sqlite
    path: '%PROGRAMDATA%\Tidewright\b.db'
    counts:
      - {name: boats, query: SELECT count(*) FROM boat}
  - name: settings
    kind: folder
    path: {windows: '%APPDATA%\Tidewright', linux: ~/.config/tidewright}
    skip: [cache/**]
    needs: [data]
licences:
  - name: seat
    method: desk
    product: tw
    serial: {file: '%PROGRAMDATA%\l.ini', pattern: 'S=(\S+)'}
    code: {file: '%PROGRAMDATA%\l.ini', pattern: 'C=(\S+)'}
    desk: {url: 'http://127.0.0.1:1', key: ozSfO2Sa_kxMIBWYMRr5LNe1V6adT6O9NzGuLV1yuGQ}
`

func TestGoodCard(t *testing.T) {
	c, err := Parse("x.yaml", []byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if got := c.Item("settings").Path.On("linux"); got != "~/.config/tidewright" {
		t.Errorf("the Linux path is %q", got)
	}
	if got := c.Item("data").Path.On("windows"); got != `%PROGRAMDATA%\Tidewright\b.db` {
		t.Errorf("the Windows path is %q", got)
	}
	files, _ := examples.Cards.ReadDir("cards")
	for _, f := range files {
		text, _ := examples.Cards.ReadFile("cards/" + f.Name())
		if _, err := Parse(f.Name(), text); err != nil {
			t.Errorf("%s: %v", f.Name(), err)
		}
	}
	if len(files) == 0 {
		t.Error("there are no example cards")
	}
}

// TestMistakesAreShownWhereTheyAre changes one place of a good card.
func TestMistakesAreShownWhereTheyAre(t *testing.T) {
	for name, c := range map[string]struct {
		old, new  string
		line, col int
		what      string
	}{
		"unknown field":    {"title: Tidewright", "titel: Tidewright", 3, 1, "unknown field"},
		"wrong type":       {"items:", "version: 8\nitems:", 4, 10, "mapping is expected"},
		"missing title":    {"title: Tidewright\n", "", 1, 1, `"title" is missing`},
		"other format":     {"card: 1", "card: 2", 1, 7, "format 2"},
		"bad name":         {"name: tidewright", "name: Tide Wright", 2, 7, "cannot be used"},
		"unknown kind":     {"kind: sqlite", "kind: oracle", 6, 11, `"oracle" is not a kind`},
		"relative path":    {`'%PROGRAMDATA%\Tidewright\b.db'`, `Tidewright\b.db`, 7, 11, "where it starts"},
		"upward path":      {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%PROGRAMDATA%\..\b.db'`, 7, 11, "leads upwards"},
		"two statements":   {"SELECT count(*) FROM boat", "SELECT 1; DROP TABLE boat", 9, 30, "cannot be used"},
		"no select":        {"SELECT count(*) FROM boat", "ATTACH 'x' AS y", 9, 30, "cannot be used"},
		"same name twice":  {"name: settings", "name: data", 10, 11, "used twice"},
		"bad pattern":      {"cache/**", `'c[ache/**'`, 13, 12, "cannot be used"},
		"needs nothing":    {"needs: [data]", "needs: [date]", 14, 13, `named "date"`},
		"no group":         {`S=(\S+)`, `S=\S+`, 19, 52, "cannot be used"},
		"plain http":       {"http://127.0.0.1:1", "http://desk.example", 21, 17, "address"},
		"key":              {"ozSfO2Sa", "ozSf", 21, 44, "key"},
		"not yaml":         {"items:", "items: [", 0, 0, ""},
		"card is a list":   {"card: 1\n", "- card: 1\n", 0, 0, ""},
		"empty":            {good, "", 1, 1, "empty"},
		"skip on database": {"    counts:", "    skip: [x]\n    counts:", 0, 0, "is a sqlite"},
	} {
		text := strings.Replace(good, c.old, c.new, 1)
		if text == good {
			t.Fatalf("%s: nothing was changed", name)
		}
		_, err := Parse("cards/x.yaml", []byte(text))
		var ps Problems
		if fault.KindOf(err) != fault.BadCard || !errors.As(err, &ps) || len(ps) == 0 {
			t.Errorf("%s: %v", name, err)
			continue
		}
		p := ps[0]
		if c.line > 0 && (p.Line != c.line || p.Column != c.col) || !strings.Contains(p.What, c.what) {
			t.Errorf("%s: got %v", name, p)
		}
		if lines := strings.Split(text, "\n"); p.Source != lines[p.Line-1] {
			t.Errorf("%s: the line shown is %q", name, p.Source)
		}
	}
}

func TestSchemaIsCurrent(t *testing.T) {
	want, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	have, err := os.ReadFile("../../../docs/card.schema.json")
	if err != nil || string(have) != string(want) {
		t.Errorf("docs/card.schema.json is not what the types say (%v); run make docs", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("card: 1\nitems: {a: [b"))
	f.Add([]byte("&a [*a]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if c, err := Parse("x.yaml", data); err == nil && c.Name == "" {
			t.Error("a card without a name was taken")
		}
	})
}
