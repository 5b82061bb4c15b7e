package kit

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
)

// Copied is the data of journal.EventCopied: the safety copy is complete, and its content at this line is a state that can be
// unpacked later.
type Copied struct {
	Keep int   `json:"keep"`           // number of states to keep, as the user chose
	Kept []int `json:"kept,omitempty"` // lines of the earlier states that stay
}

// state has the sealed files of a state of a safety copy.
type state struct {
	line  int // of the journal
	files fileSet
}

// DefaultStates is the number of states of a safety copy that are kept, unless the user chooses another.
const DefaultStates = 3

// file is a file of a kit.
type file struct {
	medium int    // the number of its medium; 0 for the kit's own
	name   string // its path there, with /
}

// String returns the name for reports.
func (f file) String() string {
	if f.medium != 0 {
		return fmt.Sprintf("medium %d: %s", f.medium, f.name)
	}
	return f.name
}

// app returns the app whose sealed data is in the file, or "".
func (f file) app() string {
	below, sealed := strings.CutPrefix(f.name, SealedDir+"/")
	if !sealed {
		return ""
	}
	app, _, _ := strings.Cut(below, "/")
	return app
}

// sealedFile returns the file of a part of an app's stream.
func sealedFile(app string, p seal.Part) file {
	return file{p.Medium, SealedDir + "/" + app + "/" + p.Name}
}

// fileSet has the hashes of files.
type fileSet map[file]string

// on returns the files that are on one medium, by name.
func (s fileSet) on(medium int) map[string]string {
	out := map[string]string{}
	for f, hash := range s {
		if f.medium == medium {
			out[f.name] = hash
		}
	}
	return out
}

// contents are the files that should be in the kit according to the journal.
type contents struct {
	files    fileSet                // other than sealed ones
	streams  map[string]fileSet     // the newest sealed files of each stream
	sections map[string][]seal.Part // the files of every section that was sealed, by app and id
	states   []state                // those that are kept
	lines    int                    // number of lines processed
	ever     map[file]bool          // every file on another medium that was ever sealed
	all      fileSet
}

// recorded returns the files that should be in the kit according to the journal.
func recorded(log *journal.Log) fileSet { return new(contents).upTo(log) }

// upTo processes the journal's new lines, and returns the files.
func (c *contents) upTo(log *journal.Log) fileSet {
	if c.files == nil {
		c.files, c.streams, c.sections = fileSet{}, map[string]fileSet{}, map[string][]seal.Part{}
		c.ever = map[file]bool{}
	} else if c.lines == len(log.Lines) {
		return c.all
	}
	for _, l := range log.Lines[c.lines:] {
		c.add(l)
	}
	c.lines, c.all = len(log.Lines), maps.Clone(c.files)
	for _, kept := range c.states {
		maps.Copy(c.all, kept.files)
	}
	for _, files := range c.streams {
		maps.Copy(c.all, files)
	}
	return c.all
}

func (c *contents) add(l journal.Line) {
	switch l.Event {
	case journal.EventMade:
		var made Made
		if bytejson.Unmarshal(l.Data, &made) == nil {
			for name, hash := range made.Files {
				c.files[file{name: name}] = hash
			}
		}
	case journal.EventClosed:
		c.streams, c.states = map[string]fileSet{}, nil
		maps.DeleteFunc(c.files, func(f file, _ string) bool {
			return f.name == KeyFile || f.name == ReadmeFile || !strings.Contains(f.name, "/") && f.name != ManifestFile
		})
	case journal.EventCopied:
		var copied Copied
		if bytejson.Unmarshal(l.Data, &copied) != nil {
			return
		}
		now := fileSet{}
		for _, files := range c.streams {
			maps.Copy(now, files)
		}
		c.states = slices.DeleteFunc(c.states, func(s state) bool { return !slices.Contains(copied.Kept, s.line) })
		c.states = append(c.states, state{l.N, now})
		c.all = fileSet{}
		for _, kept := range c.states {
			maps.Copy(c.all, kept.files)
		}
		for key := range c.sections { // those of dropped states are removed
			if app, id, _ := strings.Cut(key, "/"); c.section(app, id) == nil {
				delete(c.sections, key)
			}
		}
	case journal.EventSealed, journal.EventPathsPlanned:
		var s Sealed
		if bytejson.Unmarshal(l.Data, &s) != nil {
			return
		}
		files, section := fileSet{}, ""
		for _, p := range s.All() {
			files[sealedFile(l.App, p)] = p.Hash
			if p.Medium != 0 {
				c.ever[sealedFile(l.App, p)] = true
			}
			if p.Section != "" {
				section = l.App + "/" + p.Section
				delete(c.sections, section)
			}
			if section != "" {
				c.sections[section] = append(c.sections[section], p)
			}
		}
		c.streams[l.App+"/"+l.Licence+"/"+s.Stream] = files
	}
}

// section returns the files of a section of an app's streams, if all of them should be in the kit.
func (c *contents) section(app, id string) []seal.Part {
	parts := c.sections[app+"/"+id]
	for _, p := range parts {
		if _, is := c.all[sealedFile(app, p)]; !is {
			return nil
		}
	}
	return parts
}
