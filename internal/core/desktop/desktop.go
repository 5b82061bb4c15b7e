// Package desktop knows the databases that desktop programs keep in files of
// their own: dBase and FoxPro tables with their memo and index files, and Jet
// and ACE databases. They are moved as files; this package sees that a set of
// files is whole and closed, and counts records where the format's layout is
// published.
package desktop

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/fault"
)

// Table is what the header of a dBase table says, and what was counted.
type Table struct {
	Name    string `json:"name"`    // slash-separated, below the folder that was looked in
	Records int64  `json:"records"` // that are not marked as deleted
	Deleted int64  `json:"deleted,omitempty"`
	Memo    string `json:"memo,omitempty"`  // ending of the memo file that it needs
	Index   bool   `json:"index,omitempty"` // whether it needs its production index
}

// versions are the first byte of a table (the published layout of dBase III and
// its successors), and the ending of the memo file that goes with it.
var versions = map[byte]string{
	0x02: "", 0x03: "", 0x04: "", 0x05: "", 0x30: "", 0x31: "", 0x32: "", 0x43: "", 0x63: "",
	0x83: ".dbt", 0x8b: ".dbt", 0xcb: ".dbt", 0xf5: ".fpt", 0xfb: ".fpt", 0x8e: ".dbt",
}

// ReadTable reads a dBase table's header and counts its records. One that is
// cut off, or no table, gives an error of the kind fault.BadDatabase.
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
		return nil, errors.New("its header is cut off")
	}
	memo, known := versions[h[0]]
	if !known {
		return nil, fmt.Errorf("it starts with %#x, which no dBase table does", h[0])
	}
	records := int64(binary.LittleEndian.Uint32(h[4:]))
	header := int64(binary.LittleEndian.Uint16(h[8:]))
	length := int64(binary.LittleEndian.Uint16(h[10:]))
	if header < 33 || length < 1 {
		return nil, errors.New("its header makes no sense")
	}
	if want := header + records*length; size < want {
		return nil, fmt.Errorf("it has %d bytes, and its %d records need %d", size, records, want)
	}
	t := &Table{Memo: memo}
	// FoxPro marks by flags what else belongs to a table.
	if h[0] >= 0x30 && h[0] <= 0x32 && h[28]&2 != 0 {
		t.Memo = ".fpt"
	}
	t.Index = h[28]&1 != 0
	if _, err := io.CopyN(io.Discard, r, header-32); err != nil {
		return nil, errors.New("its header is cut off")
	}
	record := make([]byte, length)
	for range records {
		if _, err := io.ReadFull(r, record); err != nil {
			return nil, errors.New("its records are cut off")
		}
		if record[0] == '*' {
			t.Deleted++
		} else {
			t.Records++
		}
	}
	return t, nil
}

// Tables reads every dBase table of a folder and its folders, and names what a
// table needs and is not there.
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
			lacks = append(lacks, fmt.Sprintf("%s has memo fields, and its %s file is not there", t.Name, t.Memo))
		}
		if t.Index && !beside(path, ".cdx") && !beside(path, ".mdx") {
			lacks = append(lacks, fmt.Sprintf("%s wants its index (.cdx or .mdx), which is not there", t.Name))
		}
		return nil
	})
	slices.SortFunc(tables, func(a, b Table) int { return strings.Compare(a.Name, b.Name) })
	return tables, lacks, err
}

// beside reports whether a file with another ending lies beside one, in any
// letter case.
func beside(path, ending string) bool {
	stem := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	entries, _ := os.ReadDir(filepath.Dir(path))
	return slices.ContainsFunc(entries, func(e os.DirEntry) bool { return strings.EqualFold(e.Name(), stem+ending) })
}

// Jet and ACE databases start with these texts at their fifth byte.
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

// lockEntry is the size of one entry of a lock file: the name of a computer and
// of a user, 32 bytes each.
const lockEntry = 64

// LockedBy returns who has a Jet or ACE database open, or had when it was not
// closed: what its lock file says, as COMPUTER (user). Without a lock file it
// returns nothing.
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
			computer, user := text(data[:32]), text(data[32:lockEntry])
			if computer != "" {
				who = append(who, fmt.Sprintf("%s (%s)", computer, user))
			}
		}
	}
	return lock, who
}

// text is a name that is filled up with zeros or blanks.
func text(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return strings.ToValidUTF8(strings.TrimSpace(string(b)), "?")
}
