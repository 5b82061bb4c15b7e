// Package jet moves Jet and ACE database files. They are moved as files. This package checks
// whether a database is closed, and counts its records if its layout is published.
package jet

import (
	"bytes"
	"cmp"
	"crypto/rc4" //nolint:gosec // the format's own mask, not for secrecy
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/files"
	"movekit/internal/core/kit"
	"movekit/internal/core/steps"
)

// layout is the layout of a Jet 3 or Jet 4 (ACE) database, as published in HACKING.md of mdbtools.
// Offsets are in bytes.
type layout struct {
	page      int64
	masked    int // masked bytes of the first page, from 0x18
	rowCount  int // in a data page: number of rows, followed by their offsets
	num       int // in a table definition: number of rows
	columns   int // number of columns
	indexes   int // number of indexes
	pages     int // location of the table's page map
	end       int // end of the fixed part
	perIndex  int // size of an index entry after it
	perColumn int // size of a column entry
	col       struct{ num, offV, flags, offF int }
	wide      int // size of a length or offset in a row
}

var (
	jet3 = layout{page: 2048, masked: 126, rowCount: 8, num: 12, columns: 25, indexes: 31, pages: 35, end: 43, perIndex: 8, perColumn: 18, wide: 1,
		col: struct{ num, offV, flags, offF int }{1, 3, 13, 14}}
	jet4 = layout{page: 4096, masked: 128, rowCount: 12, num: 16, columns: 45, indexes: 51, pages: 55, end: 63, perIndex: 12, perColumn: 25, wide: 2,
		col: struct{ num, offV, flags, offF int }{5, 7, 15, 21}}
)

// catalogPage is the page that defines the table of all objects.
const catalogPage = 2

type jetFile struct {
	r io.ReaderAt
	layout
}

type jetColumn struct {
	name            string
	num, offV, offF int
	fixed           bool
}

// Content is what a Jet or ACE database has.
type Content struct {
	Tables []kit.Table // with the record counts that the database stores; nil if it is encrypted
	Links  []string    // tables whose data is in another database, with its location
}

// Tables reads a Jet or ACE database. Every data page is read, and the rows in it are counted. For an incomplete or
// invalid database the error has the kind fault.BadDatabase.
func Tables(name string) (*Content, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the database")
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the database")
	}
	content, err := contentOf(f, info.Size())
	if err != nil {
		return nil, fault.Wrap(fault.BadDatabase, err, "the database %s is damaged", name)
	}
	return content, nil
}

// contentOf returns the content. size is the size of the file.
func contentOf(r io.ReaderAt, size int64) (*Content, error) {
	j, encrypted, err := openJet(r)
	if err != nil || encrypted {
		return &Content{}, err
	}
	if rest := size % j.page; rest != 0 {
		return nil, fmt.Errorf("its last page has %d of %d bytes", rest, j.page)
	}
	catalog, err := j.definition(catalogPage)
	if err != nil {
		return nil, err
	}
	columns, err := j.columnsOf(catalog)
	if err != nil {
		return nil, err
	}
	pages, err := j.owned(int64(binary.LittleEndian.Uint32(catalog[j.pages:])))
	if err != nil {
		return nil, err
	}
	out := &Content{Tables: []kit.Table{}}
	for _, p := range pages {
		page, err := j.read(p)
		if err != nil {
			return nil, err
		}
		if page[0] != 1 || binary.LittleEndian.Uint32(page[4:]) != catalogPage {
			continue
		}
		rows, err := j.rows(page)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			if err := j.object(row, columns, out); err != nil {
				return nil, err
			}
		}
	}
	slices.SortFunc(out.Tables, func(a, b kit.Table) int { return strings.Compare(a.Name, b.Name) })
	slices.Sort(out.Links)
	return out, nil
}

// openJet reads the first page.
func openJet(r io.ReaderAt) (j *jetFile, encrypted bool, err error) {
	head := make([]byte, 0x18+128)
	if _, err := r.ReadAt(head, 0); err != nil {
		return nil, false, errors.New("its first page is incomplete")
	}
	if !slices.Contains(jetMarks, string(head[4:20])) {
		return nil, false, errors.New("it is not a Jet or ACE database")
	}
	j = &jetFile{r, jet4}
	if head[0x14] == 0 {
		j.layout = jet3
	}
	unmask(head[0x18 : 0x18+j.masked])
	return j, binary.LittleEndian.Uint32(head[0x3e:]) != 0, nil
}

// unmask removes the mask of the first page, or applies it.
func unmask(b []byte) {
	c, err := rc4.NewCipher([]byte{0xc7, 0xda, 0x39, 0x6b})
	if err == nil {
		c.XORKeyStream(b, b)
	}
}

func (j *jetFile) read(page int64) ([]byte, error) {
	b := make([]byte, j.page)
	if _, err := j.r.ReadAt(b, page*j.page); err != nil {
		return nil, fmt.Errorf("its page %d is incomplete", page)
	}
	return b, nil
}

// definition reads a table definition, which can span several pages.
func (j *jetFile) definition(page int64) ([]byte, error) {
	var out []byte
	seen := map[int64]bool{}
	for {
		b, err := j.read(page)
		if err != nil {
			return nil, err
		}
		if b[0] != 2 || seen[page] {
			return nil, fmt.Errorf("its page %d does not define a table", page)
		}
		next := int64(binary.LittleEndian.Uint32(b[4:]))
		if seen[page] = true; len(out) > 0 {
			b = b[8:]
		}
		out = append(out, b...)
		if page = next; page == 0 {
			return out, nil
		}
	}
}

// columnsOf parses the columns of a definition.
func (j *jetFile) columnsOf(def []byte) ([]jetColumn, error) {
	n := int(binary.LittleEndian.Uint16(def[j.columns:]))
	at := j.end + j.perIndex*int(binary.LittleEndian.Uint32(def[j.indexes:])&0xffff)
	names := at + n*j.perColumn
	out := make([]jetColumn, 0, n)
	u16 := func(at int) int { return int(binary.LittleEndian.Uint16(def[at:])) }
	for i := range n {
		c := at + i*j.perColumn
		if names+j.wide > len(def) {
			return nil, errors.New("a table definition is incomplete")
		}
		length := int(def[names])
		if j.wide == 2 {
			length = u16(names)
		}
		names += j.wide
		if names+length > len(def) {
			return nil, errors.New("a table definition is incomplete")
		}
		out = append(out, jetColumn{j.text(def[names : names+length]), u16(c + j.col.num), u16(c + j.col.offV), u16(c + j.col.offF), def[c+j.col.flags]&1 != 0})
		names += length
	}
	return out, nil
}

// owned returns the pages of a table, from the page map at a pointer (page and row).
func (j *jetFile) owned(pointer int64) ([]int64, error) {
	page, err := j.read(pointer >> 8)
	if err != nil {
		return nil, err
	}
	from, to := j.span(page, int(pointer&0xff))
	if to-from < 5 {
		return nil, errors.New("a table's page map is not valid")
	}
	m := page[from:to]
	var out []int64
	bits := func(first int64, b []byte) {
		for i := range len(b) * 8 {
			if b[i/8]>>(i%8)&1 != 0 {
				out = append(out, first+int64(i))
			}
		}
	}
	if m[0] == 0 {
		bits(int64(binary.LittleEndian.Uint32(m[1:])), m[5:])
		return out, nil
	}
	per := (j.page - 4) * 8
	for i := 0; 1+4*i+4 <= len(m); i++ {
		at := int64(binary.LittleEndian.Uint32(m[1+4*i:]))
		if at == 0 {
			continue
		}
		b, err := j.read(at)
		if err != nil {
			return nil, err
		}
		bits(int64(i)*per, b[4:])
	}
	return out, nil
}

// Flags of a row's offset.
const (
	rowElsewhere = 0x4000 // the row is a pointer to another page
	rowDeleted   = 0x8000
	rowOffset    = 0x1fff
)

// span returns the range of a row in a page: it ends where the previous row begins. An invalid row
// is empty.
func (j *jetFile) span(page []byte, row int) (from, to int) {
	at := func(n int) int {
		o := j.rowCount + 2 + 2*n
		if n < 0 || o+2 > len(page) {
			return len(page)
		}
		return int(binary.LittleEndian.Uint16(page[o:])) & rowOffset
	}
	if row >= int(binary.LittleEndian.Uint16(page[j.rowCount:])) {
		return 0, 0
	}
	if from, to = at(row), at(row-1); from > to || to > len(page) {
		return 0, 0
	}
	return from, to
}

// rows returns the existing rows of a data page. A row that has grown is on another page, and four
// bytes point to it.
func (j *jetFile) rows(page []byte) (out [][]byte, err error) {
	for n := range int(binary.LittleEndian.Uint16(page[j.rowCount:])) {
		o := j.rowCount + 2 + 2*n
		if o+2 > len(page) {
			break
		}
		from, to := j.span(page, n)
		switch mark := binary.LittleEndian.Uint16(page[o:]); {
		case mark&rowDeleted != 0, from == to:
		case mark&rowElsewhere == 0:
			out = append(out, page[from:to])
		case to-from == 4:
			pointer := int64(binary.LittleEndian.Uint32(page[from:]))
			there, err := j.read(pointer >> 8)
			if err != nil {
				return nil, err
			}
			if from, to := j.span(there, int(pointer&0xff)); to > from {
				out = append(out, there[from:to])
			}
		}
	}
	return out, nil
}

// Types of objects in the catalog.
const (
	typeTable      = 1
	typeServerLink = 4 // a table of a server
	typeLink       = 6 // a table of another database file
)

// object adds the object in a row of the catalog, if it is a table and not the engine's own.
func (j *jetFile) object(row []byte, columns []jetColumn, out *Content) error {
	var id, sort, flags uint32
	var name, database, connect string
	for _, c := range columns {
		v := j.value(row, c)
		number := uint32(0)
		switch {
		case c.fixed && len(v) >= 4 && c.name != "Type":
			number = binary.LittleEndian.Uint32(v)
		case c.fixed && len(v) >= 2:
			number = uint32(binary.LittleEndian.Uint16(v))
		}
		switch c.name {
		case "Id":
			id = number
		case "Type":
			sort = number
		case "Flags":
			flags = number
		case "Name":
			name = j.text(v)
		case "Database":
			database = j.text(v)
		case "Connect":
			connect = j.text(v)
		}
	}
	const system = 0x80000002
	switch sort &= 0x7f; {
	case name == "":
		return nil
	case sort == typeLink || sort == typeServerLink:
		if sort == typeServerLink {
			database = "a server"
		}
		out.Links = append(out.Links, name+" in "+cmp.Or(database, connect, "another database"))
		return nil
	case sort != typeTable || flags&system != 0:
		return nil
	}
	at := int64(id & 0xffffff)
	def, err := j.definition(at)
	var rows int64
	if err == nil {
		rows, err = j.count(at, def)
	}
	if err != nil {
		return fmt.Errorf("the table %s: %w", name, err)
	}
	t := kit.Table{Name: name, Records: int64(binary.LittleEndian.Uint32(def[j.num:]))}
	if rows < t.Records {
		return fmt.Errorf("the table %s has %s in its pages, and %d according to its own count", name, item.Plural(rows, "record"), t.Records)
	}
	out.Tables = append(out.Tables, t)
	return nil
}

// count reads the data pages of a table, and returns the number of their rows. A row that has grown counts where it was
// first, and perhaps where it is now.
func (j *jetFile) count(table int64, def []byte) (n int64, err error) {
	pages, err := j.owned(int64(binary.LittleEndian.Uint32(def[j.layout.pages:])))
	if err != nil {
		return 0, err
	}
	for _, p := range pages {
		page, err := j.read(p)
		if err != nil {
			return 0, err
		}
		if page[0] != 1 || int64(binary.LittleEndian.Uint32(page[4:])) != table {
			continue // of long values, or not used any more
		}
		for row := range int(binary.LittleEndian.Uint16(page[j.rowCount:])) {
			o := j.rowCount + 2 + 2*row
			if o+2 > len(page) {
				return 0, fmt.Errorf("its page %d is not valid", p)
			}
			if binary.LittleEndian.Uint16(page[o:])&rowDeleted == 0 {
				n++
			}
		}
	}
	return n, nil
}

// value returns a row's value of a column; for a fixed-length column, everything from its start;
// nil for NULL.
func (j *jetFile) value(row []byte, c jetColumn) []byte {
	number := func(at int) int {
		switch {
		case at < 0 || at+j.wide > len(row):
			return -1
		case j.wide == 1:
			return int(row[at])
		}
		return int(binary.LittleEndian.Uint16(row[at:]))
	}
	columns := number(0)
	nulls := (columns + 7) / 8
	end := len(row) - nulls
	if columns <= c.num || end < j.wide || row[end+c.num/8]>>(c.num%8)&1 == 0 {
		return nil
	}
	if c.fixed {
		if at := j.wide + c.offF; at <= end {
			return row[at:end]
		}
		return nil
	}
	variable := number(end - j.wide)
	if c.offV >= variable {
		return nil
	}
	from, to := j.offset(row, end, variable, c.offV, number), j.offset(row, end, variable, c.offV+1, number)
	if from < 0 || to < from || to > end {
		return nil
	}
	return row[from:to]
}

// offset returns where the n-th variable-length column of a row begins. In Jet 3, where an offset
// is one byte, a jump table lists the columns after each 256 bytes.
func (j *jetFile) offset(row []byte, end, variable, n int, number func(int) int) int {
	if j.wide == 2 {
		return number(end - 4 - 2*n)
	}
	jumps := (len(row) - 1) / 256
	table := end - 2 - jumps
	if (table-variable)/256 < jumps {
		jumps--
	}
	used := 0
	for used < jumps && number(end-2-used) <= n {
		used++
	}
	at := number(table - n)
	if at < 0 {
		return -1
	}
	return at + used*256
}

// text decodes a name. In Jet 4 it is UTF-16, or after a mark one byte per character, where a zero
// byte switches to UTF-16 and back. In Jet 3 it has one byte per character.
func (j *jetFile) text(b []byte) string {
	if j.wide == 1 {
		s, _ := charmap.Windows1252.NewDecoder().Bytes(b)
		return string(s)
	}
	if len(b) < 2 || b[0] != 0xff || b[1] != 0xfe {
		return fromUTF16(b)
	}
	var out strings.Builder
	packed := true
	for b = b[2:]; len(b) > 0; {
		switch {
		case b[0] == 0:
			packed, b = !packed, b[1:]
		case packed:
			out.WriteRune(rune(b[0]))
			b = b[1:]
		default:
			n := min(2, len(b))
			out.WriteString(fromUTF16(b[:n]))
			b = b[n:]
		}
	}
	return out.String()
}

func fromUTF16(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}

// jetMarks are the texts at the fifth byte of Jet and ACE databases.
var jetMarks = []string{"Standard Jet DB\x00", "Standard ACE DB\x00"}

// IsJet reports whether a file is a Jet or ACE database, by its content.
func IsJet(name string) (bool, error) {
	f, err := os.Open(name)
	if err != nil {
		return false, fault.Wrap(fault.Unreadable, err, "cannot read the database")
	}
	defer f.Close()
	h := make([]byte, 20)
	if _, err := io.ReadFull(f, h); err != nil {
		return false, nil
	}
	return slices.Contains(jetMarks, string(h[4:])), nil
}

// lockEntry is the size of an entry in a lock file: a computer name and a user name, 32 bytes each.
const lockEntry = 64

// LockedBy returns who has a Jet or ACE database open, or had it open when it was not closed
// properly, from its lock file: COMPUTER (user). Without a lock file it returns nothing.
func LockedBy(name string) (lock string, who []string) {
	stem := strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	entries, _ := os.ReadDir(filepath.Dir(name))
	for _, e := range entries {
		if !strings.EqualFold(e.Name(), stem+".ldb") && !strings.EqualFold(e.Name(), stem+".laccdb") {
			continue
		}
		lock = filepath.Join(filepath.Dir(name), e.Name())
		data, err := os.ReadFile(lock)
		for ; err == nil && len(data) >= lockEntry && len(who) < 255; data = data[lockEntry:] {
			computer, user := nameIn(data[:32]), nameIn(data[32:lockEntry])
			if computer != "" {
				who = append(who, fmt.Sprintf("%s (%s)", computer, user))
			}
		}
	}
	return lock, who
}

// nameIn returns a name without padding.
func nameIn(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return strings.ToValidUTF8(strings.TrimSpace(string(b)), "?")
}

// New returns the parts for one database file.
func New(o *item.Instance) item.Parts { return files.FileOf(o, database{}) }

type database struct{}

// Look checks that the file is a database, and whether it is closed. It is moved as a file even if
// its records cannot be counted.
func (database) Look(o *item.Instance, is *item.Inspection) error {
	jet, err := IsJet(o.Path)
	if err != nil {
		return err
	}
	if !jet {
		return fault.New(fault.BadDatabase, "%s is not a Jet or ACE database, or it is encrypted", o.Path)
	}
	switch content, err := Tables(o.Path); {
	case err != nil:
		is.Damaged = append(is.Damaged, err.Error())
	case content.Tables == nil:
		is.Details = append(is.Details, "encrypted: its records are not counted")
	default:
		is.Tables = content.Tables
		is.CountTables()
		for _, l := range content.Links {
			is.Warnings = append(is.Warnings, "linked table "+l+": make sure that this moves too, and that the link has its path on the new computer")
		}
	}
	if lock, who := LockedBy(o.Path); lock != "" {
		if len(who) == 0 {
			who = []string{"nobody"}
		}
		is.Locked = fmt.Sprintf("%s is open, or was not closed properly: its lock file %s lists %s", o.Label(), filepath.Base(lock), strings.Join(who, ", "))
	}
	return nil
}

// Compare adds the records of each table.
func (database) Compare(o *item.Instance, out *steps.Checked) {
	now, err := Tables(o.Path)
	if now == nil {
		now = &Content{}
	}
	item.AddRecords(out, o.InKit.Sealed.Tables, now.Tables, err)
}
