package jet

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
)

// jetWriter writes a Jet database in the published layout.
type jetWriter struct {
	layout
	pages [][]byte
}

func (w *jetWriter) add(page []byte) int {
	w.pages = append(w.pages, page)
	return len(w.pages) - 1
}

func (w *jetWriter) name(s string) []byte {
	if w.wide == 1 {
		return []byte(s)
	}
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

func (w *jetWriter) width(b []byte, n int) []byte {
	if w.wide == 1 {
		return append(b, byte(n))
	}
	return binary.LittleEndian.AppendUint16(b, uint16(n))
}

// data writes a data page of a table.
func (w *jetWriter) data(table int, rows ...[]byte) []byte {
	p := make([]byte, w.page)
	p[0], p[1] = 1, 1
	binary.LittleEndian.PutUint32(p[4:], uint32(table))
	binary.LittleEndian.PutUint16(p[w.rowCount:], uint16(len(rows)))
	at := len(p)
	for i, r := range rows {
		at -= len(r)
		copy(p[at:], r)
		binary.LittleEndian.PutUint16(p[w.rowCount+2+2*i:], uint16(at))
	}
	return p
}

type column struct {
	name string
	sort byte
	size int // of a fixed one; 0 for a variable one
}

// define writes a table's definition. Its page map is a row of page 3.
func (w *jetWriter) define(kind byte, rows, mapRow int, columns []column) []byte {
	p := make([]byte, w.end)
	p[0], p[1] = 2, 1
	binary.LittleEndian.PutUint32(p[w.num:], uint32(rows))
	p[w.columns-5] = kind
	variable := 0
	for _, c := range columns {
		if c.size == 0 {
			variable++
		}
	}
	binary.LittleEndian.PutUint16(p[w.columns-4:], uint16(len(columns)))
	binary.LittleEndian.PutUint16(p[w.columns-2:], uint16(variable))
	binary.LittleEndian.PutUint16(p[w.columns:], uint16(len(columns)))
	for _, at := range []int{w.layout.pages, w.layout.pages + 4} {
		binary.LittleEndian.PutUint32(p[at:], uint32(3<<8|mapRow))
	}
	offV, offF := 0, 0
	for i, c := range columns {
		b := make([]byte, w.perColumn)
		b[0] = c.sort
		binary.LittleEndian.PutUint16(b[w.col.num:], uint16(i))
		if c.size == 0 {
			binary.LittleEndian.PutUint16(b[w.col.offV:], uint16(offV))
			binary.LittleEndian.PutUint16(b[w.perColumn-2:], 255)
			offV++
		} else {
			b[w.col.flags] = 1
			binary.LittleEndian.PutUint16(b[w.col.offF:], uint16(offF))
			binary.LittleEndian.PutUint16(b[w.perColumn-2:], uint16(c.size))
			offF += c.size
		}
		p = append(p, b...)
	}
	for _, c := range columns {
		n := w.name(c.name)
		p = append(w.width(p, len(n)), n...)
	}
	binary.LittleEndian.PutUint32(p[8:], uint32(len(p)-8))
	return append(p, make([]byte, int(w.page)-len(p))...)
}

// row writes values: numbers for fixed columns, bytes for variable ones, nil for NULL.
func (w *jetWriter) row(columns []column, values ...any) []byte {
	b := w.width(nil, len(columns))
	nulls := make([]byte, (len(columns)+7)/8)
	var offsets []int
	for i, c := range columns {
		if c.size > 0 {
			v, _ := values[i].(int)
			b = append(b, binary.LittleEndian.AppendUint64(nil, uint64(v))[:c.size]...)
		}
	}
	for i, c := range columns {
		if c.size == 0 {
			offsets = append(offsets, len(b))
			v, _ := values[i].([]byte)
			b = append(b, v...)
		}
		if values[i] != nil {
			nulls[i/8] |= 1 << (i % 8)
		}
	}
	offsets = append(offsets, len(b))
	length := len(b) + len(offsets) + 1 + len(nulls)
	slices.Reverse(offsets)
	for _, o := range offsets {
		b = w.width(b, o&(1<<(8*w.wide)-1))
	}
	if w.wide == 1 {
		jumps := make([]byte, (length-1)/256) // where the offsets go past 256 bytes
		for i := range jumps {
			jumps[i] = 0xff
			for n, o := range offsets {
				if o >= 256*(len(jumps)-i) {
					jumps[i] = byte(len(offsets) - 1 - n)
				}
			}
		}
		b = append(b, jumps...)
	}
	return append(w.width(b, len(offsets)-1), nulls...)
}

var catalogColumns = []column{{"Id", 4, 4}, {"ParentId", 4, 4}, {"Name", 10, 0}, {"Type", 3, 2}, {"Connect", 10, 0}, {"Flags", 4, 4}, {"LvProp", 11, 0}, {"Database", 10, 0}}

// rowsOf returns the page of a database with the most rows.
func rowsOf(b []byte, l layout) (page []byte) {
	most := -1
	for at := 5 * int(l.page); at < len(b); at += int(l.page) {
		if n := int(binary.LittleEndian.Uint16(b[at+l.rowCount:])); b[at] == 1 && n > most {
			most, page = n, b[at:at+int(l.page)]
		}
	}
	return page
}

// jetDatabase writes a database with tables of the given numbers of rows, and with other objects.
func jetDatabase(l layout, tables map[string]int) []byte {
	w := &jetWriter{layout: l}
	first := make([]byte, l.page)
	copy(first, "\x00\x01\x00\x00Standard Jet DB\x00")
	if l.wide == 2 {
		first[0x14] = 1
	}
	binary.LittleEndian.PutUint16(first[0x3c:], 1252)
	unmask(first[0x18 : 0x18+l.masked])
	w.add(first)
	w.add(w.data(0, make([]byte, 69)))
	w.add(nil) // the catalog's definition
	w.add(nil) // maps
	catalog := w.add(nil)
	usage := func(pages ...int) []byte {
		m := make([]byte, 69)
		for _, p := range pages {
			m[5+p/8] |= 1 << (p % 8)
		}
		return m
	}
	maps := [][]byte{usage(catalog)}
	rows := [][]byte{
		w.row(catalogColumns, 0x0f000001, 0x0f000000, w.name("Tables"), 3, nil, 0x80000000, nil, nil),
		w.row(catalogColumns, 2, 0x0f000001, w.name("MSysObjects"), 1, nil, 0x80000000, nil, nil),
	}
	columns := []column{{"id", 4, 4}, {"boat", 10, 0}}
	for name, n := range tables {
		var data [][]byte
		for i := range n {
			data = append(data, w.row(columns, i, w.name(fmt.Sprint("boat ", i))))
		}
		def := w.add(w.define(0x4e, n, len(maps), columns))
		maps = append(maps, usage(w.add(w.data(def, data...))))
		long := []byte(nil)
		if l.wide == 1 { // a row past 256 bytes, with jumps
			long = w.name(strings.Repeat("x", 250))
		}
		rows = append(rows, w.row(catalogColumns, def, 0x0f000001, w.name(name), 1, long, 0, nil, nil))
	}
	gone := w.row(catalogColumns, 9999, 0x0f000001, w.name("gone"), 1, nil, 0, nil, nil)
	rows = append(rows, gone, w.row(catalogColumns, 77, 0x0f000001, w.name("a query"), 5, nil, 0, nil, nil), w.row(catalogColumns, 78, 0x0f000001, w.name("Berths"), 6, nil, 0x200000, nil, w.name(`C:\Yard\back.mdb`)))
	w.pages[2] = w.define(0x53, len(rows)-1, 0, catalogColumns)
	w.pages[3] = w.data(0, maps...)
	w.pages[4] = w.data(2, rows...)
	at := l.rowCount + 2 + 2*(len(rows)-3)
	binary.LittleEndian.PutUint16(w.pages[4][at:], binary.LittleEndian.Uint16(w.pages[4][at:])|rowDeleted|rowElsewhere)
	return bytes.Join(w.pages, nil)
}

// TestTables returns the same counts as mdbtools.
func TestTables(t *testing.T) {
	tables := map[string]int{"Moorings": 40, "Lift orders": 3, "Empty": 0}
	for name, l := range map[string]layout{"jet3": jet3, "jet4": jet4} {
		file := filepath.Join(t.TempDir(), name+".mdb")
		data := jetDatabase(l, tables)
		fatal.If(t, os.WriteFile(file, data, 0o600))
		got, err := Tables(file)
		if err != nil || len(got.Tables) != 3 || got.Tables[0].Name != "Empty" || got.Tables[1].Name != "Lift orders" || got.Tables[1].Records != 3 || got.Tables[2].Records != 40 || !slices.Equal(got.Links, []string{`Berths in C:\Yard\back.mdb`}) {
			t.Fatalf("%s: %+v %v", name, got, err)
		}
		if _, err := exec.LookPath("mdb-count"); err != nil {
			if os.Getenv("CI") == "true" {
				t.Fatal("mdbtools is not installed, and is needed with CI=true")
			}
			t.Skip("mdbtools is not installed")
		}
		listed, err := exec.Command("mdb-tables", "-1", file).Output()
		if lines := strings.Split(strings.TrimSpace(string(listed)), "\n"); err != nil || len(lines) != 3 {
			t.Errorf("%s: mdb-tables says %q %v", name, listed, err)
		}
		for _, table := range got.Tables {
			out, err := exec.Command("mdb-count", file, table.Name).Output()
			if err != nil || strings.TrimSpace(string(out)) != fmt.Sprint(table.Records) {
				t.Errorf("%s: %s has %d records, and mdb-count says %s %v", name, table.Name, table.Records, out, err)
			}
		}
		for what, change := range map[string]func([]byte) []byte{
			"cut off":                       func(b []byte) []byte { return b[:5*l.page-1] },
			"its last page is cut":          func(b []byte) []byte { return b[:len(b)-7] },
			"half of it":                    func(b []byte) []byte { return b[:len(b)/2/int(l.page)*int(l.page)] },
			"a page of rows is zeroed":      func(b []byte) []byte { clear(rowsOf(b, l)); return b },
			"a row is marked as deleted":    func(b []byte) []byte { rowsOf(b, l)[l.rowCount+3] |= 0x80; return b },
			"its catalog is none":           func(b []byte) []byte { b[2*l.page] = 1; return b },
			"its definition goes in circle": func(b []byte) []byte { b[2*l.page+4] = 2; return b },
			"too many columns":              func(b []byte) []byte { b[int(2*l.page)+l.columns+1] = 0xff; return b },
			"its map is nowhere":            func(b []byte) []byte { b[int(2*l.page)+l.pages+2] = 0xff; return b },
		} {
			fatal.If(t, os.WriteFile(file, change(slices.Clone(data)), 0o600))
			if got, err := Tables(file); fault.KindOf(err) != fault.BadDatabase {
				t.Errorf("%s, %s: %+v %v", name, what, got, err)
			}
		}
		locked := slices.Clone(data)
		locked[0x3e] ^= 1 // a key of its own
		os.WriteFile(file, locked, 0o600)
		if got, err := Tables(file); err != nil || got.Tables != nil {
			t.Errorf("%s, encrypted: %+v %v", name, got, err)
		}
	}
}

// TestValues reads rows of many lengths, some with NULL, and rows that are cut off at every byte.
func TestValues(t *testing.T) {
	columns := []column{{"n", 4, 4}, {"a", 10, 0}, {"m", 4, 8}, {"b", 10, 0}, {"c", 10, 0}, {"d", 10, 0}, {"e", 10, 0}, {"f", 10, 0}, {"g", 10, 0}}
	read := []jetColumn{{"n", 0, 0, 0, true}, {"a", 1, 0, 0, false}, {"m", 2, 0, 4, true}, {"b", 3, 1, 0, false}, {"c", 4, 2, 0, false}, {"d", 5, 3, 0, false}, {"e", 6, 4, 0, false}, {"f", 7, 5, 0, false}, {"g", 8, 6, 0, false}}
	for name, l := range map[string]layout{"jet3": jet3, "jet4": jet4} {
		w, j := &jetWriter{layout: l}, &jetFile{nil, l}
		for _, lengths := range [][]int{{0, 0, 0, 0, 0, 0, 0}, {3, -1, 1, -1, -1, 2, 0}, {200, 30, 7, 0, 1, 300, -1}, {255, 256, 257, 1, 2, 3, 4}, {1, 2, 240, 3, 4, 5, 6}, {1, 2, 227, 3, 600, 5, -1}, {-1, -1, -1, -1, -1, -1, 700}} {
			values := []any{7, nil, 1 << 40, nil, nil, nil, nil, nil, nil}
			for i, n := range lengths {
				if n >= 0 {
					values[[]int{1, 3, 4, 5, 6, 7, 8}[i]] = bytes.Repeat([]byte{byte('a' + i)}, n)
				}
			}
			row := w.row(columns, values...)
			end := len(row) - 2
			for i, c := range read {
				got, want := j.value(row, c), any([]byte(nil))
				if n, fixed := values[i].(int); fixed {
					want = append(binary.LittleEndian.AppendUint64(nil, uint64(n))[:columns[i].size], row[l.wide+c.offF+columns[i].size:end]...)
				} else if values[i] != nil {
					want = values[i]
				}
				if (got == nil) != (values[i] == nil) || !bytes.Equal(got, want.([]byte)) {
					t.Errorf("%s, lengths %v: %s is %d bytes %.20q", name, lengths, c.name, len(got), got)
				}
			}
			for n := range len(row) {
				for _, c := range read {
					if got := j.value(row[:n:n], c); len(got) > n {
						t.Errorf("%s: a row cut off at %d has %d bytes of %s", name, n, len(got), c.name)
					}
				}
			}
			if got := j.value(row, jetColumn{"added later", 9, 7, 12, true}); got != nil {
				t.Errorf("%s: a column that was added later is %q", name, got)
			}
		}
	}
}

// TestPages reads rows on other pages, a definition of two pages, and both kinds of page maps.
func TestPages(t *testing.T) {
	for name, l := range map[string]layout{"jet3": jet3, "jet4": jet4} {
		w := &jetWriter{layout: l}
		mark := func(row int, marks uint16) { w.pages[0][l.rowCount+2+2*row+1] |= byte(marks >> 8) }
		w.add(w.data(7, []byte("here"), []byte{1, 1, 0, 0}, []byte("deleted"), []byte("odd"), []byte{9, 1, 0, 0}, []byte("last")))
		mark(1, rowElsewhere)
		mark(2, rowDeleted)
		mark(3, rowElsewhere)
		mark(4, rowElsewhere)
		few := append([]byte{0}, 0x39, 0x30, 0, 0, 0b101)
		many := append([]byte{1}, 2, 0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0)
		w.add(w.data(7, []byte("not it"), []byte("there"), few, many, few[:5], few[:4]))
		first, second := make([]byte, l.page), make([]byte, l.page)
		first[0], first[4], first[8], second[0], second[len(second)-1] = 2, 3, 'a', 2, 0x80 // each is a page of a map, and of a definition
		w.add(first)
		w.add(second)
		j := &jetFile{bytes.NewReader(bytes.Join(w.pages, nil)), l}
		rows, err := j.rows(w.pages[0])
		if got := string(bytes.Join(rows, []byte(" "))); err != nil || got != "here there last" {
			t.Errorf("%s: rows %q, %v", name, got, err)
		}
		if from, to := j.span(w.pages[0], 6); from != 0 || to != 0 {
			t.Errorf("%s: a row past the last lies at %d to %d", name, from, to)
		}
		w.pages[0][l.rowCount] = 200 // more than there is room for: none of them leads out of the page
		w.pages[0][l.rowCount+1] = 0xff
		if _, err := j.rows(w.pages[0]); err != nil {
			t.Errorf("%s: too many rows: %v", name, err)
		}
		per := (l.page - 4) * 8
		for row, want := range map[int64][]int64{2: {12345, 12347}, 3: {0, 1, 32, 37, 38, 3*per - 1}, 4: nil} {
			if got, err := j.owned(1<<8 | row); err != nil || !slices.Equal(got, want) {
				t.Errorf("%s: the map %d leads to %v, %v", name, row, got, err)
			}
		}
		if got, err := j.owned(1<<8 | 5); err == nil {
			t.Errorf("%s: a map that is cut off leads to %v", name, got)
		}
		def, err := j.definition(2)
		if err != nil || len(def) != 2*int(l.page)-8 || def[8] != 'a' || def[len(def)-1] != 0x80 {
			t.Errorf("%s: a definition of two pages has %d bytes, %v", name, len(def), err)
		}
		whole := w.define(0x4e, 0, 0, []column{{"id", 4, 4}, {"boat", 10, 0}})
		whole = whole[:8+binary.LittleEndian.Uint32(whole[8:])]
		for n := l.end + 2*l.perColumn; n <= len(whole); n++ {
			got, err := j.columnsOf(whole[:n:n])
			if (err == nil) != (n == len(whole)) || err == nil && (len(got) != 2 || got[1] != jetColumn{"boat", 1, 0, 0, false} || got[0] != jetColumn{"id", 0, 0, 0, true}) {
				t.Errorf("%s: %d bytes of %d give %+v, %v", name, n, len(whole), got, err)
			}
		}
	}
}

// TestJetNames decodes names as Jet 4 stores them.
func TestJetNames(t *testing.T) {
	j := &jetFile{nil, jet4}
	for in, want := range map[string]string{
		"": "", "B\x00o\x00a\x00t\x00": "Boat", "\xff\xfeBoat": "Boat", "\xff": "", "\xff\xfeB\x00\x20\x26\x00o\x00\x21": "B\u2620o", "\xff\xfeB\xf6e\x00\x20\x26\x00": "Böe\u2620",
	} {
		if got := j.text([]byte(in)); got != want {
			t.Errorf("%q is read as %q, not %q", in, got, want)
		}
	}
}

func FuzzJet(f *testing.F) {
	for _, l := range []layout{jet3, jet4} {
		f.Add(jetDatabase(l, map[string]int{"Moorings": 2}))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		tables, err := contentOf(bytes.NewReader(data), int64(len(data)))
		if err != nil && tables != nil {
			t.Error("tables of a damaged database")
		}
	})
}

func TestLockFiles(t *testing.T) {
	dir := t.TempDir()
	entry := func(computer, user string) string {
		b := make([]byte, lockEntry)
		copy(b, computer)
		copy(b[32:], user)
		return string(b)
	}
	for name, data := range map[string][]byte{
		"m.mdb": []byte("\x00\x01\x00\x00Standard Jet DB\x00" + strings.Repeat("\x00", 100)), "m.LDB": []byte(entry("QUAY-DESK-1", "Admin") + entry("QUAY-DESK-3", "maren") + "rest"),
		"a.accdb": []byte("\x00\x01\x00\x00Standard ACE DB\x00"), "a.laccdb": {}, "free.mdb": []byte("short"), "other.mdb": []byte(strings.Repeat("x", 100)),
	} {
		fatal.If(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	for name, want := range map[string]struct {
		jet  bool
		lock string
		who  string
	}{"m.mdb": {true, "m.LDB", "QUAY-DESK-1 (Admin), QUAY-DESK-3 (maren)"}, "a.accdb": {true, "a.laccdb", ""}, "free.mdb": {}, "other.mdb": {}} {
		path := filepath.Join(dir, name)
		jet, err := IsJet(path)
		lock, who := LockedBy(path)
		if want.lock != "" {
			want.lock = filepath.Join(dir, want.lock)
		}
		if err != nil || jet != want.jet || lock != want.lock || strings.Join(who, ", ") != want.who {
			t.Errorf("%s: %v %v %q %q", name, jet, err, lock, who)
		}
	}
}
