package table

import (
	"errors"
	"strings"
	"testing"
)

type word string

func TestVisible(t *testing.T) {
	for in, want := range map[string]string{
		"Hafenbüro 😀": "Hafenbüro 😀", "a\nnext: rm": `a\nnext: rm`, "\x1b[2J\x1b[H": `\x1b[2J\x1b[H`, "a\r\tb\x00\x7f": `a\r\tb\x00\x7f`, "\u202egpj.exe": `\u202egpj.exe`, "a\u2028b\u0085": `a\u2028b\u0085`, "\xff\xfe": `\xff\xfe`, "\ufeffx": `\ufeffx`,
		Paint("ok", Good, true): Paint("ok", Good, true), "\x1b[8mhidden": `\x1b[8mhidden`, "": "",
	} {
		if got := Visible(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	got := Sprintf("%s %v %s %v %d %s|%s", "a\nb", errors.New("c\x1b"), word("d\n"), []string{"e\n"}, 7, Block("f\n\x1bg"), &Table{Head: []string{"h"}})
	if !strings.HasPrefix(got, "a\\nb c\\x1b d\\n [e\\n] 7 f\n\\x1bg|h\n") {
		t.Errorf("%q", got)
	}
	tab := &Table{Head: []string{"name"}}
	tab.Add("x\nerror: no\x1b[2J")
	if s := tab.String(); strings.Count(s, "\n") != 3 || strings.Contains(s, "\x1b") || !strings.Contains(s, `x\nerror: no\x1b[2J`) {
		t.Errorf("%q", s)
	}
}
