package registry

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/hivetest"
)

// filled creates a hive file with the keys of a .reg text.
func filled(t *testing.T, reg string) string {
	t.Helper()
	dir := t.TempDir()
	hivetest.Lay(t, dir, map[string]string{"HIVE": reg})
	return filepath.Join(dir, "HIVE")
}

func root(t *testing.T, name string) Key {
	t.Helper()
	h, err := OpenHive(name)
	fatal.If(t, err)
	t.Cleanup(func() { h.Close() })
	k, err := h.Root()
	fatal.If(t, err)
	return k
}

func TestHive(t *testing.T) {
	var many strings.Builder
	many.WriteString("[\\Vendor\\Many]\n\n")
	for i := range 1500 { // more than fit into one list
		many.WriteString("[\\Vendor\\Many\\Key" + strings.Repeat("x", i%7) + string(rune('a'+i%26)) + strings.Repeat("9", i/26%9+1) + "-" + string(rune('0'+i/250)) + "]\n\"N\"=dword:0000000" + string(rune('0'+i%10)) + "\n\n")
	}
	big := strings.Repeat("ab,", 40000) + "cd"
	k := root(t, filled(t, `[\Vendor]

[\Vendor\Tidewright]
"Version"="8.2.1"
@="the key's own"
"Seats"=dword:00000003
"Blob"=hex:01,02,ff
"Empty"=""
"Übersicht"=hex(1):c4,00,72,00,67,00,65,00,72,00,00,00
"Path"=hex(2):25,00,41,00,25,00,00,00
"List"=hex(7):61,00,00,00,62,00,63,00,00,00,00,00
"Long"=hex(b):08,07,06,05,04,03,02,01
"Big"=hex:`+big+`

[\Vendor\Tidewright\Größe]
"x"="y"

`+many.String()))
	tide, err := Find(k, `vendor\TIDEWRIGHT`)
	fatal.If(t, err)
	defer tide.Close()
	for name, want := range map[string]string{
		"version": "8.2.1", "": "the key's own", "Seats": "3", "Blob": "0102ff", "Empty": "", "Übersicht": "Ärger", "PATH": "%A%", "List": "a\nbc", "Long": "72623859790382856",
	} {
		v, err := Get(tide, name)
		if err != nil || v.Text() != want {
			t.Errorf("%q is %q (%v), want %q", name, v.Text(), err, want)
		}
	}
	if v, err := Get(tide, "Big"); err != nil || len(v.Data) != 40001 || v.Data[0] != 0xab || v.Data[40000] != 0xcd {
		t.Errorf("the big value has %d bytes (%v)", len(v.Data), err)
	}
	if _, err := Get(tide, "nothing"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a value that is not there: %v", err)
	}
	if _, err := Find(k, `Vendor\Nobody`); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a key that is not there: %v", err)
	}
	if Text(k, `Vendor\Tidewright\grösse`, "x") != "" || Text(k, `Vendor\Tidewright\GRÖßE`, "X") != "y" {
		t.Error("letter case beyond ASCII")
	}
	if names, err := tide.Keys(); err != nil || len(names) != 1 || names[0] != "Größe" {
		t.Errorf("below: %v %v", names, err)
	}
	lots, err := Find(k, `Vendor\Many`)
	fatal.If(t, err)
	names, err := lots.Keys()
	if err != nil || len(names) < 1000 {
		t.Fatalf("%d keys: %v", len(names), err)
	}
	for _, n := range names {
		if sub, err := lots.Open(n); err != nil {
			t.Fatal(err)
		} else if _, err := Get(sub, "n"); err != nil {
			t.Fatalf("%s: %v", n, err)
		}
	}
	if same, err := Find(k, ""); err != nil || same.Close() != nil {
		t.Errorf("the root itself: %v", err)
	}
}

func TestUnfinishedHive(t *testing.T) {
	name := filled(t, "[\\A]\n\"x\"=\"1\"\n")
	for _, c := range []struct {
		at   int
		want bool
	}{{-1, false}, {4, true}, {508, true}} {
		data, _ := os.ReadFile(name)
		if c.at >= 0 {
			data[c.at]++
		}
		h, err := newHive(bytes.NewReader(data), int64(len(data)), name)
		if err != nil || h.Unfinished != c.want {
			t.Errorf("byte %d changed: unfinished %v, %v", c.at, h.Unfinished, err)
		}
		if k, err := h.Root(); err != nil || Text(k, "A", "x") != "1" {
			t.Errorf("byte %d changed: %v", c.at, err)
		}
	}
}

func TestNotAHive(t *testing.T) {
	dir := t.TempDir()
	for name, data := range map[string]string{"empty": "", "short": "regf", "text": strings.Repeat("text ", 2000), "head": "regf" + strings.Repeat("\xff", 600)} {
		file := filepath.Join(dir, name)
		os.WriteFile(file, []byte(data), 0o600)
		h, err := OpenHive(file)
		if err == nil {
			_, err = h.Root()
			h.Close()
		}
		if err == nil || !errors.Is(err, errDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := OpenHive(filepath.Join(dir, "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("nothing there: %v", err)
	}
}

// walk reads a complete hive to the maximum depth.
func walk(k Key, depth int, left *int) {
	if *left--; depth > 32 || *left < 0 {
		return
	}
	k.Values()
	names, _ := k.Keys()
	for _, n := range names {
		if sub, err := k.Open(n); err == nil {
			walk(sub, depth+1, left)
		}
	}
}

func FuzzHive(f *testing.F) {
	f.Add(hivetest.Empty())
	f.Add([]byte("regf"))
	if _, err := exec.LookPath("hivexregedit"); err == nil {
		dir := f.TempDir()
		hivetest.Lay(f, dir, map[string]string{"HIVE": "[\\A]\n\"x\"=\"1\"\n[\\A\\B]\n\"y\"=hex:01,02\n[\\A\\C]\n[\\D]\n"})
		if data, err := os.ReadFile(filepath.Join(dir, "HIVE")); err == nil {
			f.Add(data)
			f.Add(data[:5000])
			loop := bytes.Clone(data)
			// The list of subkeys leads back to the root.
			if at := bytes.Index(loop, []byte("lh")); at > 0 {
				binary.LittleEndian.PutUint32(loop[at+4:], binary.LittleEndian.Uint32(loop[36:]))
			}
			f.Add(loop)
		}
	}
	f.Fuzz(func(_ *testing.T, data []byte) {
		h, err := newHive(bytes.NewReader(data), int64(len(data)), "x")
		if err != nil {
			return
		}
		if k, err := h.Root(); err == nil {
			left := 100
			walk(k, 0, &left)
		}
	})
}

// held is a key in memory.
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

// all selects everything.
var all = Choice{Enter: func(string) bool { return true }, Take: func(string) bool { return true }, Bare: true}

// TestRead reads the selected part of a branch, and lists the parts that cannot be moved.
func TestRead(t *testing.T) {
	k := held{
		values: []Value{text("", "own"), text("Version", "8"), {"Link", Link, []byte("x")}, {"Long", Binary, make([]byte, maxValue)}, {"Longer", Binary, make([]byte, maxValue+1)}},
		names:  []string{"Vendor", "Secret", "Gone", "Bare"},
		below: map[string]held{
			"Vendor": {values: []Value{text("", "of Vendor")}, names: []string{"App"}, below: map[string]held{"App": {values: []Value{text("Seat", "7")}}}},
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
	left := fmt.Sprintf("Link (it is a link to another key)\nLonger (%d bytes; the limit is %d)\n", maxValue+1, maxValue)
	if got, want := told(all), "[] @ Version Long\n[Vendor] @\n[Vendor\\App] Seat\n[Bare]\n"+left+"Secret (no permission to read it)"; got != want {
		t.Errorf("all:\n%s\nand not\n%s", got, want)
	}
	var asked []string
	some := Choice{Enter: func(path string) bool { return path != "Secret" }, Take: func(value string) bool {
		asked = append(asked, value)
		return value == `Vendor\@` || value == `Vendor\App\Seat`
	}}
	if got, want := told(some), "[Vendor] @\n[Vendor\\App] Seat\n"; got != want {
		t.Errorf("some:\n%s\nand not\n%s", got, want)
	}
	if want := []string{"@", "Version", "Link", "Long", "Longer", `Vendor\@`, `Vendor\App\Seat`}; !slices.Equal(asked, want) {
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

// TestReg writes a branch in a form that Windows' own tools can import.
func TestReg(t *testing.T) {
	long := strings.Repeat("x", maxQuoted/2-1)
	for path, want := range map[string]string{`HKLM\SOFTWARE\Tide`: `HKEY_LOCAL_MACHINE\SOFTWARE\Tide`, `hkcu\Software`: `HKEY_CURRENT_USER\Software`, `HKEY_USERS\S-1`: `HKEY_USERS\S-1`} {
		var out bytes.Buffer
		_, err := WriteReg(&out, path, []Branch{{Values: []Value{
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
	if _, err := WriteReg(full{}, "HKLM", nil); err == nil {
		t.Error("nothing could be written, and nobody says so")
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("full") }

// TestRegLineBreaks writes names with line breaks, which would start another key in a .reg file.
func TestRegLineBreaks(t *testing.T) {
	const evil = "x]\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run]\r\n\"evil\"=\"cmd\"\r\n;"
	var out bytes.Buffer
	leftOut, err := WriteReg(&out, `HKLM\Software\App`, []Branch{
		{Values: []Value{{Name: evil, Type: String}, {Name: "fine", Type: String, Data: ToUTF16("a\r\nb\x00")}}},
		{Path: `Sub\` + evil, Values: []Value{{Name: "v", Type: String}}},
	})
	text := FromUTF16(out.Bytes())
	if err != nil || len(leftOut) != 2 || strings.Contains(text, "CurrentVersion") || strings.Contains(text, "evil") || !strings.Contains(text, `"fine"=hex(1):`) {
		t.Errorf("%v %q\n%s", err, leftOut, text)
	}
	if _, err := WriteReg(&out, `HKLM\`+evil, nil); err == nil {
		t.Error("a key with a line break was written")
	}
}
