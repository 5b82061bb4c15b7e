package kit

import (
	"cmp"
	"context"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
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

	App string `json:"-"` // the app whose sealed data is in it; "" for another file
}

// String describes the damage.
func (d Damage) String() string { return d.File + ": " + d.What }

// minor reports whether a file contains nothing of the move: it is not the manifest, key, journal,
// a card, the checksums or sealed data.
func (f file) minor() bool {
	return f.medium == 0 && !slices.Contains([]string{ManifestFile, KeyFile, journal.File, journal.HeadFile, ChecksumsFile}, f.name) &&
		!strings.HasPrefix(f.name, CardsDir+"/") && f.app() == ""
}

// isProgram reports whether a file is a build of this program.
func (f file) isProgram() bool {
	return f.minor() && !strings.Contains(f.name, "/") && !strings.HasSuffix(f.name, ".txt")
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
	Holes    int64             `json:"holes,omitempty"`   // bytes of holes in files, which take no space where holes are kept
	Mode     uint32            `json:"mode,omitempty"`    // permissions of a database file
	Metadata filemeta.Metadata `json:"metadata,omitzero"` // metadata of a database file
	Owners   []string          `json:"owners,omitempty"`  // users who own something in it
	Mount    string            `json:"mount,omitempty"`   // mount point of its disk, if that is not the system's
	Parents  []tree.Entry      `json:"parents,omitempty"` // folders above it, the nearest first
	// Stamp shows whether the item changed since: it has the newest change, the number of files and
	// their size.
	Stamp string `json:"stamp"`
	// MetaStamp also changes if only metadata does; "" if the kind has none.
	MetaStamp string  `json:"meta_stamp,omitempty"`
	Tables    []Table `json:"tables,omitempty"` // of a database in files, with record counts
	// Left lists data that could not be packed, with the reason; at most 20 lines.
	Left      []string `json:"left,omitempty"`
	LeftCount int      `json:"left_count,omitempty"` // the total number of those
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
// passphrase. With apps, it reads only their sealed files. It asks for other media that it needs, unless media is nil. Of the files
// in later it checks only the size, which is given by name. The error is for failures of the inspection itself.
func Inspect(ctx context.Context, dir string, media *Media, apps []string, later map[string]int64, progress func(int64)) (*Inspection, error) {
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
		in.add(file{name: journal.File}, d.What)
	}
	listed, err := readSums(dir)
	if err != nil {
		in.add(file{name: ChecksumsFile}, err.Error())
	}
	sums := fileSet{}
	for name, hash := range listed {
		sums[file{name: name}] = hash
	}
	for f, hash := range recorded(log) {
		if got, ok := sums[f]; !ok {
			if f.medium == 0 && err == nil {
				in.add(f, "is not listed in "+ChecksumsFile)
			}
			sums[f] = hash
		} else if got != hash {
			in.add(f, ChecksumsFile+" and the journal differ")
		}
	}
	files := sums.of(apps)
	for name, size := range later {
		if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(name))); err == nil && info.Size() == size {
			delete(files, file{name: name})
		}
	}
	own := func(name string) file { return file{name: name} }
	if err := in.hashAll(ctx, dir, files.on(0), own, progress); err != nil {
		return nil, err
	}
	opened, openErr := Open(dir)
	if openErr == nil && len(apps) == 0 {
		shared := func(name string) file { return file{name: "../" + name} }
		if err := in.hashAll(ctx, filepath.Dir(opened.Dir), opened.made().Shared, shared, progress); err != nil {
			return nil, err
		}
	}
	if openErr == nil { // else nobody knows which media are its own
		if err := in.hashMedia(ctx, cmp.Or(media, &Media{}), opened.Manifest.ID, files, progress); err != nil {
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
		in.add(file{name: ManifestFile}, openErr.Error())
	}
	slices.SortFunc(in.Damage, func(a, b Damage) int { return strings.Compare(a.File+a.What, b.File+b.What) })
	return in, nil
}

func (in *Inspection) add(f file, what string) {
	in.Damage = append(in.Damage, Damage{f.String(), what, f.minor(), f.isProgram(), f.app()})
}

// of returns the files that a step on the given apps needs: their sealed files, and the files
// of the move itself. Without apps it returns all.
func (s fileSet) of(apps []string) fileSet {
	if len(apps) == 0 {
		return s
	}
	out := fileSet{}
	for f, hash := range s {
		if app := f.app(); app == "" && !f.minor() || app != "" && slices.Contains(apps, app) {
			out[f] = hash
		}
	}
	return out
}

// hashMedia hashes the files on other media, one medium after the other.
func (in *Inspection) hashMedia(ctx context.Context, media *Media, id string, sums fileSet, progress func(int64)) error {
	numbers := map[int]bool{}
	for f := range sums {
		numbers[f.medium] = true
	}
	for _, n := range slices.Sorted(maps.Keys(numbers)) {
		if n == 0 {
			continue
		}
		files := sums.on(n)
		dir, err := media.folder(n, id)
		switch {
		case fault.KindOf(err) == fault.NoMedium:
			in.Away = append(in.Away, Away{n, len(files)})
		case err != nil:
			return err
		default:
			if err := in.hashAll(ctx, dir, files, func(name string) file { return file{n, name} }, progress); err != nil {
				return err
			}
		}
	}
	return nil
}

// hashAll hashes the files of a folder. of returns a file by its name there.
func (in *Inspection) hashAll(ctx context.Context, dir string, sums map[string]string, of func(name string) file, progress func(int64)) error {
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
					in.add(of(name), "is missing")
				case err != nil:
					in.add(of(name), "cannot be read: "+err.Error())
				case sum.String() != sums[name]:
					in.add(of(name), "was changed")
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
func (in *Inspection) findStrange(dir string, sums fileSet) {
	own := []string{ChecksumsFile, journal.File, journal.HeadFile, LockFile}
	filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if path != dir && filename.OfSystem(e.Name()) {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		rel, _ := filepath.Rel(dir, path)
		rel = filepath.ToSlash(rel)
		if _, known := sums[file{name: rel}]; !e.IsDir() && !known && !slices.Contains(own, rel) {
			in.Strange = append(in.Strange, rel)
		}
		return nil
	})
}

// TotalBytes returns how many bytes Inspect will read.
func (k *Kit) TotalBytes(apps []string, later map[string]int64) (n int64) {
	all := maps.Clone(k.recorded.upTo(k.Log))
	for name, hash := range k.sums {
		all[file{name: name}] = hash
	}
	for f := range all.of(apps) {
		dir := k.Dir
		if f.medium != 0 {
			dir = k.Media.known[f.medium]
		}
		if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(f.name))); err == nil {
			n += info.Size() - later[f.name]
		}
	}
	return n
}
