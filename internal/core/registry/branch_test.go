package registry

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
)

// held is a key that is held in memory.
type held struct {
	values []Value
	names  []string
	below  map[string]held
	err    error // that opening it gives
	inside error // that reading its values gives
	listed error // that reading its names gives
}

func (k held) Modified() time.Time      { return time.Time{} }
func (k held) Keys() ([]string, error)  { return k.names, k.listed }
func (k held) Values() ([]Value, error) { return k.values, k.inside }
func (k held) Close() error             { return nil }
func (k held) Open(name string) (Key, error) {
	b, there := k.below[name]
	if !there {
		return nil, fs.ErrNotExist
	}
	return b, b.err
}

func text(name, s string) Value { return Value{name, String, ToUTF16(s + "\x00")} }

// all takes everything.
var all = Choice{Enter: func(string) bool { return true }, Take: func(string) bool { return true }, Bare: true}

// TestRead reads what is chosen of a branch, and names what does not move.
func TestRead(t *testing.T) {
	k := held{
		values: []Value{text("", "own"), text("Version", "8"), {"Link", Link, []byte("x")}, {"Long", Binary, make([]byte, maxValue)}, {"Longer", Binary, make([]byte, maxValue+1)}},
		names:  []string{"Maker", "Secret", "Gone", "Bare"},
		below: map[string]held{
			"Maker":  {values: []Value{text("", "of Maker")}, names: []string{"App"}, below: map[string]held{"App": {values: []Value{text("Seat", "7")}}}},
			"Secret": {err: fs.ErrPermission}, "Bare": {},
		},
	}
	told := func(c Choice) string {
		t.Helper()
		branches, left, err := Read(k, c)
		fatal.If(t, err)
		out := ""
		for _, b := range branches {
			out += "[" + b.Path + "]"
			for _, v := range b.Values {
				out += " " + v.Label()
			}
			out += "\n"
		}
		return out + strings.Join(left, "\n")
	}
	left := fmt.Sprintf("Link (it stands for another key)\nLonger (%d bytes; at most %d move)\n", maxValue+1, maxValue)
	if got, want := told(all), "[] @ Version Long\n[Maker] @\n[Maker\\App] Seat\n[Bare]\n"+left+"Secret (it may not be read)"; got != want {
		t.Errorf("all:\n%s\nand not\n%s", got, want)
	}
	var asked []string
	some := Choice{Enter: func(path string) bool { return path != "Secret" }, Take: func(value string) bool {
		asked = append(asked, value)
		return value == `Maker\@` || value == `Maker\App\Seat`
	}}
	if got, want := told(some), "[Maker] @\n[Maker\\App] Seat\n"; got != want {
		t.Errorf("some:\n%s\nand not\n%s", got, want)
	}
	if want := []string{"@", "Version", "Link", "Long", "Longer", `Maker\@`, `Maker\App\Seat`}; !slices.Equal(asked, want) {
		t.Errorf("asked for %q", asked)
	}
	odd := errors.New("odd")
	deep, deepest := held{}, held{}
	for range maxDepth {
		deep = held{names: []string{"a"}, below: map[string]held{"a": deep}}
	}
	deepest = held{names: []string{"a"}, below: map[string]held{"a": deep}}
	many, more := held{}, held{}
	for i := range maxAll / maxValue {
		many.values = append(many.values, Value{"", Binary, k.values[3].Data})
		more.values = append(many.values, Value{fmt.Sprint(i), Binary, nil})
	}
	for name, c := range map[string]struct {
		k    held
		read bool
	}{
		"its values": {held{inside: odd}, false}, "its keys": {held{listed: odd}, false}, "a key below": {held{names: []string{"a"}, below: map[string]held{"a": {err: odd}}}, false}, "what is in it": {held{names: []string{"a"}, below: map[string]held{"a": {inside: odd}}}, false},
		"as deep as may be": {deep, true}, "a key deeper": {deepest, false}, "as much as may be": {many, true}, "a byte more": {more, false},
	} {
		if _, _, err := Read(c.k, all); (err == nil) != c.read {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestReg writes a branch as Windows' own tools read it.
func TestReg(t *testing.T) {
	long := strings.Repeat("x", maxQuoted/2-1)
	for path, want := range map[string]string{`HKLM\SOFTWARE\Tide`: `HKEY_LOCAL_MACHINE\SOFTWARE\Tide`, `hkcu\Software`: `HKEY_CURRENT_USER\Software`, `HKEY_USERS\S-1`: `HKEY_USERS\S-1`} {
		var out bytes.Buffer
		err := WriteReg(&out, path, []Branch{{Values: []Value{
			text("", "own"), text(`a "b" \c`, `"x"\`), {"zero", String, nil}, text("lines", "a\r\nb"), {"unended", String, ToUTF16("ab")}, {"odd", String, []byte{65, 0, 66}},
			{"n", DWord, []byte{0xef, 0xbe, 0xad, 0xde}}, {"short", DWord, []byte{1}}, {"bin", Binary, []byte{0, 0x1f, 0xff}}, {"none", Binary, nil}, {"env", Expand, []byte{0x25, 0}}, {"odd type", 0xfffe, []byte{9}},
		}}, {Path: `Größe\7`, Values: []Value{text("long", long), text("longer", long+"y")}}, {Path: "Bare"}})
		fatal.If(t, err)
		expected := "\ufeffWindows Registry Editor Version 5.00\n\n[" + want + "]\n" + `@="own"
"a \"b\" \\c"="\"x\"\\"
"zero"=hex(1):
"lines"=hex(1):61,00,0d,00,0a,00,62,00,00,00
"unended"=hex(1):61,00,62,00
"odd"=hex(1):41,00,42
"n"=dword:deadbeef
"short"=hex(4):01
"bin"=hex:00,1f,ff
"none"=hex:
"env"=hex(2):25,00
"odd type"=hex(fffe):09
`
		expected += "\n[" + want + "\\Größe\\7]\n\"long\"=\"" + long + "\"\n\"longer\"=hex(1):" + strings.Repeat("78,00,", len(long)) + "79,00,00,00\n\n[" + want + "\\Bare]\n"
		if got := FromUTF16(out.Bytes()); got != strings.ReplaceAll(expected, "\n", "\r\n") {
			t.Errorf("%s is written as\n%.900s", path, got)
		}
	}
	if err := WriteReg(full{}, "HKLM", nil); err == nil {
		t.Error("nothing could be written, and nobody says so")
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("full") }
