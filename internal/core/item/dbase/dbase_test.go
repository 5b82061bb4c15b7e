package dbase

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
)

// dbf creates a table in the published layout. A record of "*" is deleted.
func dbf(version, flags byte, records ...string) []byte {
	const header, length = 65, 11
	b := make([]byte, header)
	b[0], b[1], b[2], b[3], b[28], b[64] = version, 126, 11, 20, flags, 0x0d
	binary.LittleEndian.PutUint32(b[4:], uint32(len(records)))
	binary.LittleEndian.PutUint16(b[8:], header)
	binary.LittleEndian.PutUint16(b[10:], length)
	copy(b[32:], "NAME")
	b[43], b[48] = 'C', 10
	for _, r := range records {
		mark := " "
		if r == "*" {
			mark = "*"
		}
		b = append(b, (mark + r + strings.Repeat(" ", 10))[:length]...)
	}
	return append(b, 0x1a)
}

func write(t *testing.T, dir string, files map[string][]byte) {
	t.Helper()
	for name, data := range files {
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		fatal.If(t, os.WriteFile(path, data, 0o600))
	}
}

func TestTables(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string][]byte{
		"BOATS.DBF": append(dbf(3, 0, "Plover", "*", "Thrift"), "later"...), "notes.dbf": dbf(0x83, 0, "x"), "Notes.DBT": {0}, "sub/fox.dbf": dbf(0x30, 3, "a", "b"), "sub/fox.fpt": {0}, "sub/fox.CDX": {0},
		"lone.dbf": dbf(0xf5, 0), "plain.txt": []byte("x"), "sub/indexed.dbf": dbf(3, 1),
		"v05.dbf": dbf(5, 2), "v30.dbf": dbf(0x30, 0), "v32.dbf": dbf(0x32, 2), "v32.fpt": {0}, "v43.dbf": dbf(0x43, 2), // the flag of a memo is FoxPro's alone
	})
	tables, lacks, err := Tables(dir)
	fatal.If(t, err)
	want := []Table{{"BOATS.DBF", 2, 1, "", false, 5}, {"lone.dbf", 0, 0, ".fpt", false, 0}, {"notes.dbf", 1, 0, ".dbt", false, 0}, {"sub/fox.dbf", 2, 0, ".fpt", true, 0}, {"sub/indexed.dbf", 0, 0, "", true, 0},
		{"v05.dbf", 0, 0, "", false, 0}, {"v30.dbf", 0, 0, "", false, 0}, {"v32.dbf", 0, 0, ".fpt", false, 0}, {"v43.dbf", 0, 0, "", false, 0}}
	if !slices.Equal(tables, want) {
		t.Errorf("tables %+v", tables)
	}
	if len(lacks) != 2 || !strings.Contains(lacks[0]+lacks[1], "lone.dbf has memo fields") || !strings.Contains(lacks[0]+lacks[1], "sub/indexed.dbf needs its index") {
		t.Errorf("lacks %q", lacks)
	}
}

func TestDamagedTables(t *testing.T) {
	good := dbf(3, 0, "a", "b", "c")
	change := func(at int, b byte) []byte {
		out := slices.Clone(good)
		out[at] = b
		return out
	}
	dir := t.TempDir()
	for name, data := range map[string][]byte{
		"empty": {}, "cut header": good[:20], "cut records": good[:len(good)-15], "no table": []byte(strings.Repeat("text ", 40)), "too many": change(7, 0xff), "no length": change(10, 0), "short header": change(8, 1), "long header": change(9, 0xff),
	} {
		write(t, dir, map[string][]byte{"t.dbf": data})
		if tb, err := ReadTable(filepath.Join(dir, "t.dbf")); fault.KindOf(err) != fault.BadDatabase {
			t.Errorf("%s: %+v %v", name, tb, err)
		}
		if _, _, err := Tables(dir); err == nil {
			t.Errorf("%s: the folder passes", name)
		}
	}
	least := append(good[:32:32], 0x0d, ' ')
	least[4], least[8], least[9], least[10] = 1, 33, 0, 1
	write(t, dir, map[string][]byte{"least.dbf": least, "cut.dbf": good[:len(good)-15]})
	if tb, err := ReadTable(filepath.Join(dir, "least.dbf")); err != nil || tb.Records != 1 {
		t.Errorf("the least table: %+v %v", tb, err)
	}
	if _, err := ReadTable(filepath.Join(dir, "cut.dbf")); err == nil || !strings.Contains(err.Error(), "it has 84 bytes, but needs 98 for its 3 records") {
		t.Errorf("cut off: %v", err)
	}
	// The end mark may be missing, and more bytes may follow it.
	for _, data := range [][]byte{good[:len(good)-1], append(slices.Clone(good), 0, 0)} {
		write(t, dir, map[string][]byte{"t.dbf": data})
		if tb, err := ReadTable(filepath.Join(dir, "t.dbf")); err != nil || tb.Records != 3 {
			t.Errorf("%+v %v", tb, err)
		}
	}
	if _, err := ReadTable(filepath.Join(dir, "none.dbf")); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("not there: %v", err)
	}
}

func FuzzTable(f *testing.F) {
	f.Add(dbf(3, 0, "a", "*"))
	f.Add(dbf(0x30, 3))
	f.Fuzz(func(t *testing.T, data []byte) {
		tb, err := read(strings.NewReader(string(data)), int64(len(data)))
		if err == nil && tb.Records+tb.Deleted > int64(len(data)) {
			t.Errorf("%d bytes hold %+v", len(data), tb)
		}
	})
}
