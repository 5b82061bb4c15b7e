package plist

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"howett.net/plist"

	"movekit/test/fatal"
)

func binaryOf(t testing.TB, v any) []byte {
	t.Helper()
	data, err := plist.Marshal(v, plist.BinaryFormat)
	fatal.If(t, err)
	return data
}

var settings = map[string]any{
	"RecentFiles": []any{"/Users/maren/Documents/Überfahrt.tide", "/Users/maren/Documents/a.tide"},
	"Window":      map[string]any{"Width": 800, "Ratio": 1.5, "Open": true},
	"Library":     "/Users/maren/Library/Application Support/Tidewright", "Raw": []byte{1, 2, 3}, "Long": strings.Repeat("x", 400),
}

// TestRead reads both formats of the same list.
func TestRead(t *testing.T) {
	xml, err := plist.Marshal(settings, plist.XMLFormat)
	fatal.If(t, err)
	a, aerr := Read(xml)
	b, berr := Read(binaryOf(t, settings))
	if aerr != nil || berr != nil || !reflect.DeepEqual(a, b) || a.(map[string]any)["Library"] != settings["Library"] {
		t.Errorf("%v %v\n%v\n%v", aerr, berr, a, b)
	}
	if _, err := Read([]byte("<plist><dict>")); err == nil {
		t.Error("half a list is read")
	}
}

// TestChanged changes only the strings of a binary list.
func TestChanged(t *testing.T) {
	data := binaryOf(t, settings)
	move := func(s string) (string, bool) {
		to := strings.Replace(s, "/Users/maren/", "/Users/maren.holm-büro/", 1)
		return to, to != s
	}
	now, n, err := Changed(data, move)
	if err != nil || n != 3 {
		t.Fatal(n, err)
	}
	var got, want map[string]any
	_, err = plist.Unmarshal(now, &got)
	fatal.If(t, err)
	plain, _ := plist.Marshal(settings, plist.XMLFormat)
	text := strings.ReplaceAll(string(plain), "/Users/maren/", "/Users/maren.holm-büro/")
	_, err = plist.Unmarshal([]byte(text), &want)
	fatal.If(t, err)
	a, _ := plist.Marshal(got, plist.XMLFormat)
	b, _ := plist.Marshal(want, plist.XMLFormat)
	if !bytes.Equal(a, b) {
		t.Errorf("%s\n%s", a, b)
	}
	if same, n, err := Changed(data, func(s string) (string, bool) { return s, false }); err != nil || n != 0 || !bytes.Equal(same, data) {
		t.Errorf("nothing to change: %v %v", n, err)
	}
}

// TestSmallAndLarge rejects a few bytes that represent millions of values.
func TestSmallAndLarge(t *testing.T) {
	l := &list{refSize: 1}
	for i := range 60 {
		l.objects = append(l.objects, []byte{0xa2, byte(i + 1), byte(i + 1)})
	}
	l.objects = append(l.objects, []byte{0x50})
	if _, err := Read(l.bytes()); err == nil || !strings.Contains(err.Error(), "more than once") {
		t.Errorf("%v", err)
	}
}

// TestObjects parses each type of object in the encoding of CFBinaryPList.c, and rejects an
// incomplete one.
func TestObjects(t *testing.T) {
	leaf := []byte{0x08} // false
	for name, o := range map[string][]byte{
		"null": {0x00}, "true": {0x09}, "fill": {0x0f},
		"one byte": {0x10, 7}, "eight bytes": {0x13, 1, 2, 3, 4, 5, 6, 7, 8}, "sixteen bytes": append([]byte{0x14}, make([]byte, 16)...),
		"float": {0x22, 1, 2, 3, 4}, "double": {0x23, 1, 2, 3, 4, 5, 6, 7, 8}, "date": {0x33, 1, 2, 3, 4, 5, 6, 7, 8},
		"data": {0x42, 1, 2}, "no data": {0x40}, "ASCII": []byte("\x53abc"), "UTF-8": []byte("\x73abc"), "UTF-16": {0x62, 0, 'a', 0, 'b'},
		"an id": {0x80, 1}, "a long id": {0x82, 1, 2, 3}, "array": {0xa2, 1, 2}, "set": {0xc1, 1}, "dictionary": {0xd1, 1, 2}, "none in it": {0xd0},
		"counted, and none": {0x5f, 0x10, 0}, "counted in one byte": append([]byte{0x5f, 0x10, 15}, "123456789012345"...), "counted in two": append([]byte{0x6f, 0x11, 0, 16}, make([]byte, 32)...),
		"counted in four": append([]byte{0x4f, 0x12, 0, 0, 0, 17}, make([]byte, 17)...), "counted in eight": append([]byte{0xaf, 0x13, 0, 0, 0, 0, 0, 0, 0, 16}, bytes.Repeat([]byte{1}, 16)...),
	} {
		l := &list{refSize: 1, objects: [][]byte{o, leaf, leaf}}
		got, err := parse(l.bytes())
		if err != nil || !reflect.DeepEqual(got.objects, l.objects) || got.refSize != 1 || got.top != 0 {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
		short := &list{refSize: 1, objects: [][]byte{o[:len(o)-1]}}
		if got, err := parse(short.bytes()); err == nil {
			t.Errorf("%s, cut short: %+v", name, got)
		}
		wide := &list{refSize: 2, objects: [][]byte{o, leaf, leaf}}
		if _, err := parse(wide.bytes()); (err == nil) == (o[0] >= 0xa0 && o[0] != 0xd0) {
			t.Errorf("%s, with numbers of two bytes: %v", name, err)
		}
	}
	for name, o := range map[string][]byte{
		"an unknown sort": {0x91, 1}, "another": {0xb1, 1}, "a last": {0xe1, 1}, "a count of no number": {0x5f, 0x20, 1, 'a'}, "a count too long": append([]byte{0x5f, 0x14}, make([]byte, 16)...),
		"a count beyond all": append([]byte{0x5f, 0x13}, bytes.Repeat([]byte{0xff}, 8)...), "halves beyond all": append([]byte{0x6f, 0x13, 0x80}, make([]byte, 7)...),
		"one that is not there": {0xa1, 3}, "itself": {0xa1, 0}, "a count cut short": {0x5f, 0x12, 0},
	} {
		if got, err := parse((&list{refSize: 1, objects: [][]byte{o, leaf, leaf}}).bytes()); err == nil {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

// TestNumbers reads numbers of every size: values and offsets.
func TestNumbers(t *testing.T) {
	wide := (&list{refSize: 2, objects: [][]byte{{0xd1, 0, 1, 0, 2}, {0x51, 'a'}, {0x51, 'b'}}}).bytes()
	if got, err := Read(wide); err != nil || !reflect.DeepEqual(got, map[string]any{"a": "b"}) {
		t.Errorf("of two bytes: %v %v", got, err)
	}
	const object = "\xa1\x00\x00\x00\x00\x00\x00\x00\x01" + "\x51a"
	widest := magic + object + "\x00\x00\x00\x00\x00\x00\x00\x08" + "\x00\x00\x00\x00\x00\x00\x00\x11" + "\x00\x00\x00\x00\x00\x00\x08\x08" + "\x00\x00\x00\x00\x00\x00\x00\x02" + "\x00\x00\x00\x00\x00\x00\x00\x00" + "\x00\x00\x00\x00\x00\x00\x00\x13"
	if got := Strings([]byte(widest)); !reflect.DeepEqual(got, []string{"a"}) {
		t.Errorf("of eight bytes: %q", got)
	}
	long := (&list{refSize: 1, objects: [][]byte{append([]byte{0x4f, 0x11, 1, 44}, make([]byte, 300)...)}}).bytes()
	if long[len(long)-1]++; Strings(long) != nil {
		t.Error("a table of two bytes each, a byte too late")
	}
	if _, err := parse(long); err == nil {
		t.Error("a table of two bytes each, a byte too late, is read")
	}
	if _, err := parse((&list{refSize: 1, objects: [][]byte{{0xa3, 1, 2, 2}, {0x08}, {0xa0}}}).bytes()); err == nil || !strings.Contains(err.Error(), "more than once") {
		t.Errorf("an array at two places, behind a leaf: %v", err)
	}
	if a, u := encode("abc"), encode("aü"); string(a) != "\x53abc" || string(u) != "\x62\x00a\x00\xfc" {
		t.Errorf("written as %q and %q", a, u)
	}
	for size, read := range map[int]bool{MaxFile: true, MaxFile + 1: false} {
		now, _, err := Changed((&list{refSize: 1, objects: [][]byte{{0x51, 'x'}}}).bytes(), func(string) (string, bool) {
			return strings.Repeat("a", size-len(magic)-6-3-trailerLen), true
		})
		if err != nil || len(now) != size {
			t.Fatal(len(now), err)
		}
		if _, err := Read(now); (err == nil) != read {
			t.Errorf("%d bytes: %v", size, err)
		}
		if _, err := parse(now); (err == nil) != read {
			t.Errorf("%d bytes are taken apart: %v", size, err)
		}
	}
	if _, err := parse([]byte(magic)); err == nil {
		t.Error("a beginning alone is read")
	}
}

// TestTrailer rejects a list with a trailer that does not fit.
func TestTrailer(t *testing.T) {
	whole := (&list{refSize: 1, objects: [][]byte{{0xa1, 1}, {0x51, 'a'}}}).bytes()
	if got := Strings(whole); len(got) != 1 || got[0] != "a" {
		t.Fatalf("%q", got)
	}
	end := len(whole) - trailerLen
	for name, change := range map[string]func(b []byte) []byte{
		"cut short":               func(b []byte) []byte { return append([]byte(magic), b[end+1:]...) },
		"no size of offsets":      func(b []byte) []byte { b[end+6] = 0; return b },
		"offsets too long":        func(b []byte) []byte { b[end+6] = 9; return b },
		"no size of numbers":      func(b []byte) []byte { b[end+7] = 0; return b },
		"numbers too long":        func(b []byte) []byte { b[end+7] = 9; return b },
		"one object more":         func(b []byte) []byte { b[end+15]++; return b },
		"countless objects":       func(b []byte) []byte { b[end+8] = 0xff; return b },
		"none on top":             func(b []byte) []byte { b[end+23] = 2; return b },
		"a table beyond the end":  func(b []byte) []byte { b[end+31] = byte(end + 1); return b },
		"a table a byte later":    func(b []byte) []byte { b[end+31]++; return b },
		"an object in the table":  func(b []byte) []byte { b[end-1] = b[end+31]; return b },
		"a reference outside all": func(b []byte) []byte { b[end-1] = 0xff; return b },
	} {
		bad := change(bytes.Clone(whole))
		if got, err := parse(bad); err == nil {
			t.Errorf("%s: %+v", name, got)
		}
		if now, n, err := Changed(bad, nil); now != nil || n != 0 || err == nil || Strings(bad) != nil {
			t.Errorf("%s is changed: %v", name, err)
		}
	}
	if _, err := Read(append([]byte(magic), make([]byte, MaxFile)...)); err == nil || !strings.Contains(err.Error(), "too large") {
		t.Errorf("too large: %v", err)
	}
}

// TestWritten writes strings of every length and alphabet, in lists with every size of offsets.
func TestWritten(t *testing.T) {
	for _, n := range []int{0, 1, 14, 15, 235, 236, 237, 300, 65515, 65516, 65517, 70000} {
		for _, letter := range []string{"a", "\x7f", "\u0080", "ü", "🚢"} {
			if n > 70000/len(letter)/2 && letter != "a" {
				continue
			}
			want := strings.Repeat(letter, n)
			now, changed, err := Changed((&list{refSize: 1, objects: [][]byte{{0xa2, 1, 2}, {0x51, 'x'}, {0x61, 0, 'y'}}}).bytes(), func(s string) (string, bool) { return want, s == "x" })
			if err != nil || changed != 1 {
				t.Fatal(changed, err)
			}
			if got, err := Read(now); err != nil || !reflect.DeepEqual(got, []any{want, "y"}) {
				t.Errorf("%d of %q: %v", n, letter, err)
			}
			if got := Strings(now); len(got) != 2 || got[0] != want || got[1] != "y" {
				t.Errorf("%d of %q: other strings", n, letter)
			}
		}
	}
}

// FuzzList reads forged lists.
func FuzzList(f *testing.F) {
	f.Add(binaryOf(f, settings))
	f.Add([]byte("<plist><dict><key>a</key><string>/b</string></dict></plist>"))
	f.Fuzz(func(t *testing.T, data []byte) {
		Read(data) //nolint:errcheck // only that it comes back
		now, n, err := Changed(data, func(s string) (string, bool) { return s + "!", true })
		if err != nil || n == 0 {
			return
		}
		if _, err := parse(now); err != nil {
			t.Errorf("what was changed cannot be read: %v", err)
		}
	})
}
