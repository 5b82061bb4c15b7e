package kit

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/digest"
	"movekit/internal/core/erase"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
)

// Closed is the data of journal.EventClosed: the kit is being emptied.
type Closed struct {
	Because  string `json:"because,omitempty"`  // why the move was given up; "" if it was verified
	HandOver string `json:"handover,omitempty"` // folder with the handover
	Record   string `json:"record,omitempty"`   // folder with the journal, the cards and the report; "" if they stay in the kit
}

// ClosedIn returns how the kit in a folder was closed, or nil if it is open.
func ClosedIn(dir string) (*Closed, error) {
	log, err := journal.Read(dir)
	if err != nil {
		return nil, err
	}
	return closed(log), nil
}

func closed(log *journal.Log) *Closed {
	for _, l := range log.Lines {
		if l.Event == journal.EventClosed {
			c := &Closed{}
			bytejson.Unmarshal(l.Data, c) //nolint:errcheck // the line alone means that it is closed
			return c
		}
	}
	return nil
}

// record returns the files that make up the record of a move, the manifest last.
func record(dir string) (names []string, err error) {
	for _, sub := range []string{CardsDir, ReportDir} {
		if info, err := os.Lstat(filepath.Join(dir, sub)); err == nil && !info.IsDir() {
			return nil, fault.New(fault.Hostile, "%s in %s is not a folder", sub, dir)
		}
		entries, err := os.ReadDir(filepath.Join(dir, sub))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, e := range entries {
			if e.Type().IsRegular() {
				names = append(names, sub+"/"+e.Name())
			}
		}
	}
	return append(names, ReadmeFile, journal.HeadFile, journal.File, ManifestFile), nil
}

// KeepRecord copies the journal, the cards and the report of a kit to another folder, and flushes
// them. The result is a kit without data.
func KeepRecord(dir, to string) error {
	k, err := Open(dir)
	if err != nil {
		return err
	}
	names, err := record(k.Dir)
	if err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot read the kit in %s", k.Dir)
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot store the record in %s", to)
	}
	sums := map[string]string{}
	for _, name := range names {
		data, err := os.ReadFile(filepath.Join(k.Dir, filepath.FromSlash(name)))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if name == ReadmeFile {
			data = []byte(closedReadme(k.Manifest))
		}
		if err == nil {
			err = journal.WriteBelow(to, name, data)
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot store the record in %s", to)
		}
		if name != journal.File && name != journal.HeadFile {
			sums[name] = digest.Of(data).String()
		}
	}
	out := &Kit{Dir: to, sums: sums}
	if err := out.saveSums(); err != nil {
		return err
	}
	return seal.SyncVolume(to)
}

// Empty empties a kit whose journal says that it is closed. It destroys the key first, which makes
// the sealed data unreadable, and then removes that data. If the record was copied elsewhere, it is
// removed too. Calling Empty again resumes an interrupted run.
func Empty(ctx context.Context, dir string) error {
	log, err := journal.Read(dir)
	if err != nil {
		return err
	}
	c := closed(log)
	if c == nil {
		return fault.New(fault.Usage, "the kit in %s is not closed", dir)
	}
	if _, err := os.Lstat(filepath.Join(dir, KeyFile)); err == nil && c.Record != "" {
		if err := KeepRecord(dir, c.Record); err != nil {
			return err
		}
	}
	e := erase.In(ctx, dir)
	if err := e.Destroy(KeyFile); err != nil {
		return err
	}
	if err := e.Remove(SealedDir); err != nil {
		return err
	}
	if c.Record == "" {
		return finish(dir, log)
	}
	// The journal is removed last, because it says that the rest must be removed.
	for _, name := range []string{CardsDir, ReportDir, ChecksumsFile, ManifestFile, journal.HeadFile} {
		if err := e.Remove(name); err != nil {
			return err
		}
	}
	text := fmt.Sprintf("This was a kit of Move Kit. It is closed and empty; its record is in\n%s\n", c.Record)
	if err := journal.WriteFile(filepath.Join(dir, ReadmeFile), []byte(text), 0o644); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", ReadmeFile)
	}
	return e.Remove(journal.File)
}

// finish rewrites the remaining files so that they describe themselves.
func finish(dir string, log *journal.Log) error {
	k := &Kit{Dir: dir, Log: log}
	var err error
	if k.sums, err = readSums(dir); err != nil {
		k.sums = map[string]string{}
	}
	maps.DeleteFunc(k.sums, func(name, _ string) bool { return name == KeyFile || strings.HasPrefix(name, SealedDir+"/") })
	if opened, err := Open(dir); err == nil {
		k.Manifest = opened.Manifest
	}
	if err := k.write(ReadmeFile, []byte(closedReadme(k.Manifest))); err != nil {
		return err
	}
	return k.saveSums()
}

// closedReadme returns the README of a kit without data.
func closedReadme(m Manifest) string {
	return fmt.Sprintf(`This is the record of a move from %s to %s (kit %s), made with Move Kit.
The kit is closed: its key is destroyed and the sealed data is removed. What is
left contains no office data and no licence: kit.yaml names the computers,
journal.jsonl records what was done and when, cards has the descriptions of the
applications, and report the handover.
`, m.Old.Name, m.New.Name, m.ID)
}
