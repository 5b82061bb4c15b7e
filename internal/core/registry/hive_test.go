package registry

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/fatal"
	"movekit/test/hivetest"
)

// filled makes a hive file with the keys of a .reg text.
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
	many.WriteString("[\\Maker\\Many]\n\n")
	for i := range 1500 { // more than fit into one list
		many.WriteString("[\\Maker\\Many\\Key" + strings.Repeat("x", i%7) + string(rune('a'+i%26)) + strings.Repeat("9", i/26%9+1) + "-" + string(rune('0'+i/250)) + "]\n\"N\"=dword:0000000" + string(rune('0'+i%10)) + "\n\n")
	}
	big := strings.Repeat("ab,", 40000) + "cd"
	k := root(t, filled(t, `[\Maker]

[\Maker\Tidewright]
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

[\Maker\Tidewright\Größe]
"x"="y"

`+many.String()))
	tide, err := Find(k, `maker\TIDEWRIGHT`)
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
	if _, err := Find(k, `Maker\Nobody`); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a key that is not there: %v", err)
	}
	if Text(k, `Maker\Tidewright\grösse`, "x") != "" || Text(k, `Maker\Tidewright\GRÖßE`, "X") != "y" {
		t.Error("letter case beyond ASCII")
	}
	if names, err := tide.Keys(); err != nil || len(names) != 1 || names[0] != "Größe" {
		t.Errorf("below: %v %v", names, err)
	}
	lots, err := Find(k, `Maker\Many`)
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

func TestWhatIsNoHive(t *testing.T) {
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

// walk reads all of a hive, as deep as any reader goes.
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
			// The list of keys below leads back to the root.
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
