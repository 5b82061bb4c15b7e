package card

import (
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

// TestYAML writes every card of the collection and of the example, and reads it back.
func TestYAML(t *testing.T) {
	var files []string
	for _, pattern := range []string{"../../../cards/*.yaml", "../../../examples/cards/*.yaml"} {
		some, _ := filepath.Glob(pattern)
		files = append(files, some...)
	}
	if len(files) < 30 {
		t.Fatalf("%d cards", len(files))
	}
	for _, f := range files {
		c, err := Read(f)
		if err != nil {
			t.Fatal(err)
		}
		text, err := c.YAML(Comments{Above: map[string][]string{"name": {"the short\nname"}, "items[0]": {"the first item"}}, Beside: map[string]string{"title": "its # title"}, Below: []string{"the end"}})
		if err != nil {
			t.Fatal(f, err)
		}
		for _, part := range []string{"\n# the short?name\nname: ", "' # its # title\n", "\n  # the first item\n  - name: ", "\n# the end\n", "\n\nitems:\n"} {
			if !strings.Contains(string(text), part) {
				t.Errorf("%s: no %q in\n%s", f, part, text)
			}
		}
		again, err := Parse(f, text)
		if err != nil {
			t.Errorf("%s: %v\n%s", f, err, text)
			continue
		}
		again.Source, again.Text = c.Source, c.Text
		if !reflect.DeepEqual(again, c) {
			t.Errorf("%s is another card:\n%s", f, text)
		}
	}
}

// TestField writes texts that YAML could misread.
func TestField(t *testing.T) {
	for name, want := range map[string]string{"wait": "calendar-day UTC", "trial": "336h", "expires": "2027-03-31", "reactivate-by": "720h", "form": "[A-Z]{4}", "typed": "the label"} {
		l, err := LicenceWith("l", MethodKey, map[string]any{name: want})
		if text, _ := Field("licence", l); err != nil || !strings.Contains(string(text), name+": '"+want+"'\n") || strings.Count(string(text), "\n") != 4 {
			t.Errorf("%s: %s %v", name, text, err)
		}
	}
	for value, want := range map[string]string{"a": "'a'", "it's": "'it''s'", "1e3": "'1e3'", "null": "'null'", "a\tb'": `"a\tb'"`, "x: y # z": "'x: y # z'"} {
		if got, err := Field("about", value); err != nil || string(got) != "about: "+want+"\n" {
			t.Errorf("%s %v", got, err)
		}
	}
}

// TestYAMLOfLess places comments on fields that a card lacks where the fields would be.
func TestYAMLOfLess(t *testing.T) {
	c := &Card{Format: Format, Name: "tide", Title: "Tide", Items: []Item{{Name: "data", Kind: Folder, Path: Path{Any: "/srv/tide"}, Skip: []string{}}}}
	text, err := c.YAML(Comments{Above: map[string][]string{"vendor": {"vendor"}, "version": {"version", "rule"}, "programs": {"programs"}, "licences": {"licences"}, "by-hand": {"by hand"}}, Below: []string{"end"}})
	want := "card: 1\nname: 'tide'\ntitle: 'Tide'\n\n# vendor\n\n# version\n# rule\n\n# programs\nitems:\n  - name: 'data'\n    kind: folder\n    path: '/srv/tide'\n\n# licences\n\n# by hand\n# end\n"
	if err != nil || string(text) != want {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestLicenceWith builds licences from the answers to the questions of card make.
func TestLicenceWith(t *testing.T) {
	l, err := LicenceWith("licence", MethodCommand, map[string]any{"show.run": []string{"/opt/x", "1e3"}, "show.active": "yes: it's", "deactivate.run": []string{"a"}, "activate.run": []string{"b c"}})
	if err != nil || l.Show.Run[1] != "1e3" || l.Show.Active.String() != "yes: it's" || l.Activate.Run[0] != "b c" || l.Deactivate.Run[0] != "a" || l.Method != MethodCommand || l.Name != "licence" {
		t.Errorf("%+v %v", l, err)
	}
	if _, err := LicenceWith("licence", MethodDesk, map[string]any{"no-field": "x"}); err == nil {
		t.Error("a field that no licence has")
	}
}
