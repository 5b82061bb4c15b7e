// Package dbase moves folders of dBase and FoxPro tables with their memo and index files. They are
// moved as files. This package checks that a set is complete, and counts records.
package dbase

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/files"
	"movekit/internal/core/kit"
	"movekit/internal/core/steps"
)

// Table is the header of a dBase table, and its record count.
type Table struct {
	Name    string `json:"name"`    // slash-separated path below the item's folder
	Records int64  `json:"records"` // without deleted records
	Deleted int64  `json:"deleted,omitempty"`
	Memo    string `json:"memo,omitempty"`  // suffix of the memo file that it needs
	Index   bool   `json:"index,omitempty"` // it needs its production index
	Extra   int64  `json:"extra,omitempty"` // bytes after the records that the header counts, without the end mark
}

// versions maps the first byte of a table (the published layout of dBase III and its successors) to
// the suffix of its memo file.
var versions = map[byte]string{
	0x02: "", 0x03: "", 0x04: "", 0x05: "", 0x30: "", 0x31: "", 0x32: "", 0x43: "", 0x63: "",
	0x83: ".dbt", 0x8b: ".dbt", 0xcb: ".dbt", 0xf5: ".fpt", 0xfb: ".fpt", 0x8e: ".dbt",
}

// ReadTable reads a dBase table's header and counts its records. For an incomplete or invalid table
// the error has the kind fault.BadDatabase.
func ReadTable(name string) (*Table, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the table")
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the table")
	}
	t, err := read(bufio.NewReaderSize(f, 1<<16), info.Size())
	if err != nil {
		return nil, fault.Wrap(fault.BadDatabase, err, "the table %s is damaged", name)
	}
	t.Name = filepath.Base(name)
	return t, nil
}

func read(r io.Reader, size int64) (*Table, error) {
	h := make([]byte, 32)
	if _, err := io.ReadFull(r, h); err != nil {
		return nil, errors.New("its header is incomplete")
	}
	memo, known := versions[h[0]]
	if !known {
		return nil, fmt.Errorf("it starts with %#x, so it is not a dBase table", h[0])
	}
	records := int64(binary.LittleEndian.Uint32(h[4:]))
	header := int64(binary.LittleEndian.Uint16(h[8:]))
	length := int64(binary.LittleEndian.Uint16(h[10:]))
	if header < 33 || length < 1 {
		return nil, errors.New("its header is not valid")
	}
	if want := header + records*length; size < want {
		return nil, fmt.Errorf("it has %d bytes, but needs %d for its %s", size, want, item.Plural(records, "record"))
	}
	t := &Table{Memo: memo, Extra: max(size-header-records*length-1, 0)}
	// FoxPro has flags for other files of a table.
	if h[0] >= 0x30 && h[0] <= 0x32 && h[28]&2 != 0 {
		t.Memo = ".fpt"
	}
	t.Index = h[28]&1 != 0
	if _, err := io.CopyN(io.Discard, r, header-32); err != nil {
		return nil, errors.New("its header is incomplete")
	}
	record := make([]byte, length)
	for range records {
		if _, err := io.ReadFull(r, record); err != nil {
			return nil, errors.New("its records are incomplete")
		}
		if record[0] == '*' {
			t.Deleted++
		} else {
			t.Records++
		}
	}
	return t, nil
}

// Tables reads every dBase table in a folder and its subfolders, and lists missing files that a
// table needs.
func Tables(dir string) (tables []Table, lacks []string, err error) {
	err = filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read %s", path)
		}
		if !e.Type().IsRegular() || !strings.EqualFold(filepath.Ext(path), ".dbf") {
			return nil
		}
		t, err := ReadTable(path)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		t.Name = filepath.ToSlash(rel)
		tables = append(tables, *t)
		if t.Memo != "" && !beside(path, t.Memo) {
			lacks = append(lacks, fmt.Sprintf("%s has memo fields, but its %s file is missing", t.Name, t.Memo))
		}
		if t.Index && !beside(path, ".cdx") && !beside(path, ".mdx") {
			lacks = append(lacks, fmt.Sprintf("%s needs its index (.cdx or .mdx), which is missing", t.Name))
		}
		return nil
	})
	slices.SortFunc(tables, func(a, b Table) int { return strings.Compare(a.Name, b.Name) })
	return tables, lacks, err
}

// beside reports whether a file with another suffix exists beside path, in any letter case.
func beside(path, ending string) bool {
	stem := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	entries, _ := os.ReadDir(filepath.Dir(path))
	return slices.ContainsFunc(entries, func(e os.DirEntry) bool { return strings.EqualFold(e.Name(), stem+ending) })
}

// New returns the parts for a folder of tables.
func New(o *item.Instance) item.Parts { return files.FolderOf(o, tables{}) }

type tables struct{}

// Look reads the tables, and lists missing files.
func (tables) Look(o *item.Instance, is *item.Inspection) (err error) {
	all, lacks, err := Tables(o.Path)
	if err != nil {
		return err
	}
	for _, t := range all {
		if t.Extra > 0 {
			is.Damaged = append(is.Damaged, fmt.Sprintf("%s has %s after the records that its header counts", t.Name, item.Plural(t.Extra, "byte")))
		}
	}
	is.Lacks, is.Tables = lacks, counted(all)
	is.CountTables()
	return nil
}

// Compare adds the records of each table.
func (tables) Compare(o *item.Instance, out *steps.Checked) {
	now, _, err := Tables(o.Path)
	item.AddRecords(out, o.InKit.Sealed.Tables, counted(now), err)
}

func counted(all []Table) (out []kit.Table) {
	for _, t := range all {
		out = append(out, kit.Table{Name: t.Name, Records: t.Records})
	}
	return out
}
