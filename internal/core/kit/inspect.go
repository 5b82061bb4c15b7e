package kit

import (
	"context"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
	"movekit/internal/core/tree"
)

// Damage is a damaged file in the kit.
type Damage struct {
	File string `json:"file"`
	What string `json:"what"`
	// Minor is true if the file contains nothing of the move: a program, or a text for people.
	Minor bool `json:"minor,omitempty"`
	// Program is true if the file is a program, which should not be started.
	Program bool `json:"program,omitempty"`
}

// minor reports whether a file contains nothing of the move: it is not the manifest, key, journal,
// a card, the checksums or sealed data.
func minor(name string) bool {
	medium, _ := onMedium(name)
	return medium == 0 && !slices.Contains([]string{ManifestFile, KeyFile, journal.File, journal.HeadFile, ChecksumsFile}, name) &&
		!strings.HasPrefix(name, CardsDir+"/") && !strings.HasPrefix(name, SealedDir+"/")
}

// isProgram reports whether a file in the kit is a build of this program.
func isProgram(name string) bool {
	return minor(name) && !strings.Contains(name, "/") && !strings.HasSuffix(name, ".txt")
}

// Whole reports whether everything that a move needs is undamaged.
func (in *Inspection) Whole() bool {
	return len(in.Away) == 0 && !slices.ContainsFunc(in.Damage, func(d Damage) bool { return !d.Minor })
}

// Away is a medium of the kit that is not connected.
type Away struct {
	Medium int `json:"medium"`
	Files  int `json:"files"` // number of sealed files on it
}

// Inspection is the result of Inspect.
type Inspection struct {
	Files   int      `json:"files"`
	Bytes   int64    `json:"bytes"`
	Lines   int      `json:"journal_lines"`
	Damage  []Damage `json:"damage"`
	Strange []string `json:"not_of_the_kit"`          // files that do not belong to the kit
	Away    []Away   `json:"not_connected,omitempty"` // media that could not be read
	Torn    bool     `json:"torn"`                    // the journal's last line is incomplete
	Closed  *Closed  `json:"closed,omitempty"`
	Left    []string `json:"not_emptied,omitempty"` // in a closed kit: files that still have to be removed
}

// Sealed is the data of a journal line about one sealed item.
type Sealed struct {
	Stream   string            `json:"stream"` // name of the data stream
	Parts    []seal.Part       `json:"parts"`
	List     []seal.Part       `json:"list"`              // the stream with the list of files
	Schema   []seal.Part       `json:"schema,omitempty"`  // of a server database: the archive of its schema
	Files    int64             `json:"files"`             // number of files
	Bytes    int64             `json:"bytes"`             // size before compression
	Mode     uint32            `json:"mode,omitempty"`    // permissions of a database file
	Metadata filemeta.Metadata `json:"metadata,omitzero"` // metadata of a database file
	Owners   []string          `json:"owners,omitempty"`  // users who own something in it
	Mount    string            `json:"mount,omitempty"`   // mount point of its disk, if that is not the system's
	Parents  []tree.Entry      `json:"parents,omitempty"` // folders above it, the nearest first
	// Stamp shows whether the item changed since: it has the newest change, the number of files and
	// their size.
	Stamp string `json:"stamp"`
	// MetaStamp also changes if only metadata does; "" if the kind has none.
	MetaStamp string `json:"meta_stamp,omitempty"`
	// Tables are the tables of a database in files, with record counts.
	Tables []Table `json:"tables,omitempty"`
	// Left lists data that could not be packed, with the reason; at most 20 lines.
	Left []string `json:"left,omitempty"`
	// LeftCount is the total number of those.
	LeftCount int `json:"left_count,omitempty"`
	// Identity is the digest that identifies a profile among others of the same name; "" if the
	// card has none or the file was missing.
	Identity string `json:"identity,omitempty"`
	// LeftOut lists data that the card leaves out, with counts and sizes; at most 20 lines.
	LeftOut []string `json:"left_out,omitempty"`
}

// Table is a table of a database in files.
type Table struct {
	Name    string `json:"name"` // slash-separated path below the item's folder
	Records int64  `json:"records"`
}

// All returns every sealed file of the item.
func (s Sealed) All() []seal.Part { return slices.Concat(s.Parts, s.List, s.Schema) }

// Inspect reads every file of the kit from its media, and compares it with the checksums and the journal. It does not need the
// passphrase. With apps, it reads only their sealed files. It asks for other media that it needs, unless media is nil. The error is
// for failures of the inspection itself.
func Inspect(ctx context.Context, dir string, media *Media, apps []string, progress func(int64)) (*Inspection, error) {
	if _, err := os.Stat(filepath.Join(dir, ManifestFile)); err != nil {
		if _, err := os.Stat(filepath.Join(dir, journal.File)); err != nil {
			return nil, fault.New(fault.NotAKit, "there is no kit in %s", dir)
		}
	}
	in := &Inspection{}
	log, err := journal.Read(dir)
	if err != nil {
		return nil, err
	}
	in.Lines, in.Torn, in.Closed = len(log.Lines), log.Torn, closed(log)
	for _, d := range log.Damage {
		in.add(journal.File, d.What)
	}
	sums, err := readSums(dir)
	if err != nil {
		in.add(ChecksumsFile, err.Error())
		sums = map[string]string{}
	}
	for name, hash := range recorded(log) {
		if got, ok := sums[name]; !ok {
			if n, _ := onMedium(name); n == 0 && err == nil {
				in.add(name, "is not listed in "+ChecksumsFile)
			}
			sums[name] = hash
		} else if got != hash {
			in.add(name, ChecksumsFile+" and the journal differ")
		}
	}
	opened, openErr := Open(dir)
	files := fileSet(chosen(sums, apps))
	if err := in.hashAll(ctx, dir, files.onlyOn(0), "", progress); err != nil {
		return nil, err
	}
	if openErr == nil && len(apps) == 0 {
		if err := in.hashAll(ctx, filepath.Dir(opened.Dir), opened.made().Shared, sharedPrefix, progress); err != nil {
			return nil, err
		}
	}
	if openErr == nil { // else nobody knows which media are its own
		if media == nil {
			media = &Media{}
		}
		if err := in.hashMedia(ctx, media, opened.Manifest.ID, files, progress); err != nil {
			return nil, err
		}
	}
	in.findStrange(dir, sums)
	if in.Closed != nil {
		for _, name := range []string{KeyFile, SealedDir} {
			if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
				in.Left = append(in.Left, name)
			}
		}
	}
	if openErr != nil && in.Whole() {
		if fault.KindOf(openErr) == fault.NewerFormat {
			return nil, openErr
		}
		in.add(ManifestFile, openErr.Error())
	}
	slices.SortFunc(in.Damage, func(a, b Damage) int { return strings.Compare(a.File+a.What, b.File+b.What) })
	return in, nil
}

func (in *Inspection) add(file, what string) {
	in.Damage = append(in.Damage, Damage{file, what, minor(file), isProgram(file)})
}

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

// fileSet maps the names of files in a kit to their hashes.
type fileSet map[string]string

// contents are the files that should be in the kit according to the journal.
type contents struct {
	files    fileSet                // other than sealed ones
	streams  map[string]fileSet     // the newest sealed files of each stream
	sections map[string][]seal.Part // the files of every section that was sealed, by app and id
	states   []state                // those that are kept
	lines    int                    // number of lines processed
	ever     map[string]bool        // every file on another medium that was ever sealed
	all      fileSet
}

// recorded returns the files that should be in the kit according to the journal.
func recorded(log *journal.Log) fileSet { return new(contents).upTo(log) }

// upTo processes the journal's new lines, and returns the files.
func (c *contents) upTo(log *journal.Log) fileSet {
	if c.files == nil {
		c.files, c.streams, c.sections = fileSet{}, map[string]fileSet{}, map[string][]seal.Part{}
		c.ever = map[string]bool{}
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
			maps.Copy(c.files, made.Files)
		}
	case journal.EventClosed:
		c.streams, c.states = map[string]fileSet{}, nil
		maps.DeleteFunc(c.files, func(name, _ string) bool {
			return name == KeyFile || name == ReadmeFile || !strings.Contains(name, "/") && name != ManifestFile
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
			files[location(l.App, p)] = p.Hash
			if p.Medium != 0 {
				c.ever[location(l.App, p)] = true
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
		if _, is := c.all[location(app, p)]; !is {
			return nil
		}
	}
	return parts
}

// chosen returns the files that a step on the given apps needs: their sealed files, and the files
// of the move itself. Without apps it returns all.
func chosen(sums map[string]string, apps []string) map[string]string {
	if len(apps) == 0 {
		return sums
	}
	out := map[string]string{}
	for name, hash := range sums {
		_, rel := onMedium(name)
		rest, sealed := strings.CutPrefix(rel, SealedDir+"/")
		app, _, _ := strings.Cut(rest, "/")
		if !sealed && !minor(name) || sealed && slices.Contains(apps, app) {
			out[name] = hash
		}
	}
	return out
}

// sharedPrefix is put before the names of files in the folder above the kit's.
const sharedPrefix = "../"

// hashMedia hashes the files on other media, one medium after the other.
func (in *Inspection) hashMedia(ctx context.Context, media *Media, id string, sums fileSet, progress func(int64)) error {
	numbers := map[int]bool{}
	for name := range sums {
		n, _ := onMedium(name)
		numbers[n] = true
	}
	for _, n := range slices.Sorted(maps.Keys(numbers)) {
		if n == 0 {
			continue
		}
		files := sums.onlyOn(n)
		dir, err := media.folder(n, id)
		switch {
		case fault.KindOf(err) == fault.NoMedium:
			in.Away = append(in.Away, Away{n, len(files)})
		case err != nil:
			return err
		default:
			if err := in.hashAll(ctx, dir, files, mediumPrefix(n), progress); err != nil {
				return err
			}
		}
	}
	return nil
}

// hashAll hashes the files of a folder. prefix is put before their names in reports.
func (in *Inspection) hashAll(ctx context.Context, dir string, sums fileSet, prefix string, progress func(int64)) error {
	names := make(chan string)
	var mu sync.Mutex
	var busy sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		busy.Go(func() {
			for name := range names {
				sum, n, err := seal.Hash(ctx, filepath.Join(dir, filepath.FromSlash(name)))
				mu.Lock()
				in.Files++
				in.Bytes += n
				switch {
				case os.IsNotExist(err):
					in.add(prefix+name, "is missing")
				case err != nil:
					in.add(prefix+name, "cannot be read: "+err.Error())
				case sum.String() != sums[name]:
					in.add(prefix+name, "was changed")
				}
				mu.Unlock()
				if progress != nil {
					progress(n)
				}
			}
		})
	}
	for name := range sums {
		if ctx.Err() != nil {
			break
		}
		names <- name
	}
	close(names)
	busy.Wait()
	if ctx.Err() != nil { // a partly read file is not damaged
		return fault.Wrap(fault.Stopped, ctx.Err(), "the inspection was stopped")
	}
	return nil
}

// findStrange lists files that do not belong to the kit. They do no harm, but are reported.
func (in *Inspection) findStrange(dir string, sums map[string]string) {
	own := []string{ChecksumsFile, journal.File, journal.HeadFile, LockFile}
	filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if path != dir && droppings(e.Name()) {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		rel, _ := filepath.Rel(dir, path)
		rel = filepath.ToSlash(rel)
		if _, known := sums[rel]; !e.IsDir() && !known && !slices.Contains(own, rel) {
			in.Strange = append(in.Strange, rel)
		}
		return nil
	})
}

// TotalBytes returns how many bytes Inspect will read.
func (k *Kit) TotalBytes(apps []string) (n int64) {
	all := maps.Clone(k.recorded.upTo(k.Log))
	maps.Copy(all, k.sums)
	for name := range chosen(all, apps) {
		medium, rel := onMedium(name)
		dir := k.Dir
		if medium != 0 {
			dir = k.Media.known[medium]
		}
		if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(rel))); err == nil {
			n += info.Size()
		}
	}
	return n
}
