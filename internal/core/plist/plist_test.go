package plist

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"howett.net/plist"
)

func binaryOf(t testing.TB, v any) []byte {
	t.Helper()
	data, err := plist.Marshal(v, plist.BinaryFormat)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

var settings = map[string]any{
	"RecentFiles": []any{"/Users/maren/Documents/Überfahrt.tide", "/Users/maren/Documents/a.tide"},
	"Window":      map[string]any{"Width": 800, "Ratio": 1.5, "Open": true},
	"Library":     "/Users/maren/Library/Application Support/Tidewright", "Raw": []byte{1, 2, 3}, "Long": strings.Repeat("x", 400),
}

// TestRead reads both forms, which say the same.
func TestRead(t *testing.T) {
	xml, err := plist.Marshal(settings, plist.XMLFormat)
	if err != nil {
		t.Fatal(err)
	}
	a, aerr := Read(xml)
	b, berr := Read(binaryOf(t, settings))
	if aerr != nil || berr != nil || !reflect.DeepEqual(a, b) || a.(map[string]any)["Library"] != settings["Library"] {
		t.Errorf("%v %v\n%v\n%v", aerr, berr, a, b)
	}
	if _, err := Read([]byte("<plist><dict>")); err == nil {
		t.Error("half a list is read")
	}
}

// TestChanged changes strings of a binary list, and nothing else.
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
	if _, err := plist.Unmarshal(now, &got); err != nil {
		t.Fatal(err)
	}
	plain, _ := plist.Marshal(settings, plist.XMLFormat)
	text := strings.ReplaceAll(string(plain), "/Users/maren/", "/Users/maren.holm-büro/")
	if _, err := plist.Unmarshal([]byte(text), &want); err != nil {
		t.Fatal(err)
	}
	a, _ := plist.Marshal(got, plist.XMLFormat)
	b, _ := plist.Marshal(want, plist.XMLFormat)
	if !bytes.Equal(a, b) {
		t.Errorf("%s\n%s", a, b)
	}
	if same, n, err := Changed(data, func(s string) (string, bool) { return s, false }); err != nil || n != 0 || !bytes.Equal(same, data) {
		t.Errorf("nothing to change: %v %v", n, err)
	}
}

// TestSmallAndLarge refuses a few bytes that stand for millions of values.
func TestSmallAndLarge(t *testing.T) {
	l := &list{refSize: 1}
	for i := range 60 {
		l.objects = append(l.objects, []byte{0xa2, byte(i + 1), byte(i + 1)})
	}
	l.objects = append(l.objects, []byte{0x50})
	if _, err := Read(l.bytes()); err == nil || !strings.Contains(err.Error(), "several places") {
		t.Errorf("%v", err)
	}
}

// FuzzList reads lists that somebody made.
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
