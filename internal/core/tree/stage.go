package tree

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
)

// Placing says how to put a tar stream in place.
type Placing struct {
	Belongs  *Belonging  // the owners; nil leaves entries with the user who runs the program
	Progress func(int64) // gets the number of bytes written; called from several goroutines
	Lenient  string      // system whose forbidden names are left out; "" to leave out none
}

// Stage creates the folder dir anew and fills it from a tar stream. The stream must have the
// entries of the list, in the same order, with the same hashes. The list must have passed
// CheckList. Nothing is written outside dir, whatever the stream contains. relist returns the list
// once more, for the folders' times.
func (p Placing) Stage(ctx context.Context, dir string, in io.Reader, list *ListReader, relist func() (*ListReader, error)) (*Stats, error) {
	if err := RemoveTree(dir); err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot remove leftovers of an earlier run at %s", dir)
	}
	err := os.MkdirAll(filepath.Dir(dir), 0o755)
	if err == nil {
		err = os.Mkdir(dir, 0o700) // nobody else may read it before the permissions are set
	}
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", dir)
	}
	root, err := filemeta.OpenRoot(dir)
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot open the folder %s", dir)
	}
	defer root.Close()
	s := &stager{Placing: p, root: root, files: make(chan *unit, 64), stats: &Stats{}, names: filename.On(p.Lenient), unfit: map[string]bool{}}
	var writers sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		writers.Go(func() {
			for u := range s.files {
				s.fail(s.write(u))
				for b := range u.blocks { // those after an error
					give(b)
				}
			}
		})
	}
	err = s.readTar(ctx, in, list)
	close(s.files)
	writers.Wait()
	if err == nil {
		err = s.err
	}
	if err != nil {
		return nil, err
	}
	again, err := relist()
	if err != nil {
		return nil, err
	}
	err = s.finish(again)
	s.stats.Unkept, s.stats.UnkeptCount = s.unkept, s.unkeptCount
	return s.stats, err
}

type stager struct {
	Placing
	root  *filemeta.Root
	files chan *unit
	stats *Stats
	names *filename.Names
	unfit map[string]bool // entries that were left out because of their names
	mu    sync.Mutex
	err   error

	unkept      []string
	unkeptCount int
}

// addNotRestored records owners and file metadata that could not be restored.
func (s *stager) addNotRestored(unkept []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unkeptCount += len(unkept)
	s.unkept = append(s.unkept, unkept[:min(len(unkept), maxDiffs-len(s.unkept))]...)
}

func (s *stager) fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
}

func (s *stager) failed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

func (s *stager) readTar(ctx context.Context, in io.Reader, list *ListReader) error {
	tr := tar.NewReader(in)
	for {
		if err := ctx.Err(); err != nil {
			return fault.Wrap(fault.Stopped, err, "the unpack was stopped")
		}
		if err := s.failed(); err != nil {
			return err
		}
		want, err := nextTravelling(list)
		h, terr := tr.Next()
		if err == io.EOF && terr == io.EOF {
			return nil
		}
		if err != nil && err != io.EOF {
			return err
		}
		if terr != nil && terr != io.EOF {
			return fault.Wrap(fault.Damaged, terr, "cannot read the sealed files")
		}
		if err != nil || terr != nil || !agrees(h, want) {
			return fault.New(fault.Hostile, "the sealed files do not match their list at %q", want.Path)
		}
		why := s.names.Refuses(want.Path)
		if why == "" && want.Type == Hard && s.unfit[want.Target] {
			why = "it is a hard link to " + want.Target + ", which is left out"
		}
		if why != "" {
			s.unfit[want.Path] = true
			s.addNotRestored([]string{want.Path + ": " + why})
			continue
		}
		if err := s.place(want, tr); err != nil {
			return err
		}
		s.stats.add(want)
	}
}

func nextTravelling(list *ListReader) (Entry, error) {
	for {
		e, err := list.Next()
		if err != nil || e.Archived() {
			return e, err
		}
	}
}

// agrees compares a tar header with the list's entry.
func agrees(h *tar.Header, e Entry) bool {
	name := path.Clean(h.Name)
	switch e.Type {
	case Dir:
		return h.Typeflag == tar.TypeDir && name == e.Path
	case Hard:
		return h.Typeflag == tar.TypeLink && h.Name == e.Path && h.Linkname == e.Target
	case Link:
		return h.Typeflag == tar.TypeSymlink && h.Name == e.Path && h.Linkname == e.Target
	}
	return h.Typeflag == tar.TypeReg && h.Name == e.Path && h.Size == e.Size
}

func (s *stager) place(e Entry, tr *tar.Reader) error {
	switch {
	case e.Type == Dir && e.Path == ".":
		return nil
	case e.Type == Dir:
		return s.wrap(e, s.root.Mkdir(e.Path, 0o755))
	case e.Type == Link:
		err := s.root.Symlink(filepath.FromSlash(e.Target), e.Path)
		if err == nil {
			err = filemeta.ApplyLink(s.root, s.Belongs.wanted(e))
		}
		return s.wrap(e, err)
	case e.Type == Hard:
		return nil // once every file exists
	}
	u := &unit{entry: e, blocks: make(chan []byte, 2)}
	defer close(u.blocks)
	s.files <- u
	for left, more := e.Size, true; more; more = left > 0 { // an empty file has one block
		b := take()
		b = b[:min(int64(len(b)), left)]
		if _, err := io.ReadFull(tr, b); err != nil {
			return fault.Wrap(fault.Damaged, err, "cannot read the sealed file %q", e.Path)
		}
		left -= int64(len(b))
		u.blocks <- b
	}
	return nil
}

var zeros [filemeta.Hole]byte

// write writes to a file, and leaves holes if sparse is true.
func write(f *os.File, data []byte, sparse bool) error {
	for len(data) > 0 {
		n := len(data)
		if sparse {
			n = min(n, filemeta.Hole)
		}
		var err error
		if sparse && bytes.Equal(data[:n], zeros[:n]) {
			_, err = f.Seek(int64(n), io.SeekCurrent)
		} else {
			_, err = f.Write(data[:n])
		}
		if err != nil {
			return err
		}
		data = data[n:]
	}
	return nil
}

func (s *stager) wrap(e Entry, err error) error {
	if err == nil {
		return nil
	}
	return fault.Wrap(fault.CannotPlace, err, "cannot put %q in place", e.Path)
}

func (s *stager) create(e Entry) (*os.File, error) {
	return s.root.OpenFile(e.Path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
}

// write writes and hashes a file.
func (s *stager) write(u *unit) error {
	f, err := s.create(u.entry)
	if err != nil {
		return s.wrap(u.entry, err)
	}
	defer f.Close()
	var sum digest.Blocks
	left := u.entry.Size
	for b := range u.blocks {
		left -= int64(len(b))
		sum.Add(b, left == 0)
		err := write(f, b, u.entry.Sparse)
		report(s.Progress, int64(len(b)))
		give(b)
		if err != nil {
			return s.wrap(u.entry, err)
		}
	}
	if u.entry.Sparse {
		if err := f.Truncate(u.entry.Size); err != nil { // it may end with a hole
			return s.wrap(u.entry, err)
		}
	}
	return s.finishFile(f, u.entry, sum.Sum())
}

func (s *stager) finishFile(f *os.File, e Entry, got digest.Sum) error {
	if got != e.Hash {
		return fault.New(fault.Damaged, "the sealed file %q does not match its list", e.Path)
	}
	unkept, err := filemeta.Apply(f, s.Belongs.wanted(e))
	if err != nil {
		return s.wrap(e, err)
	}
	s.addNotRestored(unkept)
	return s.wrap(e, f.Close())
}

// finish creates hard links, and then sets the owners, permissions and times of folders, once
// nothing more is written into them.
func (s *stager) finish(list *ListReader) error {
	var dirs []Entry // folders that may still get content
	for {
		e, err := nextTravelling(list)
		if err != nil && err != io.EOF {
			return err
		}
		for len(dirs) > 0 && (err == io.EOF || !Inside(e.Path, dirs[len(dirs)-1].Path)) {
			last := dirs[len(dirs)-1]
			unkept, err := filemeta.ApplyDir(s.root, s.Belongs.wanted(last))
			if err != nil {
				return s.wrap(last, err)
			}
			s.addNotRestored(unkept)
			dirs = dirs[:len(dirs)-1]
		}
		switch {
		case err == io.EOF:
			return nil
		case s.unfit[e.Path]:
		case e.Type == Dir:
			dirs = append(dirs, e)
		case e.Type == Hard:
			if err := s.root.Link(e.Target, e.Path); err != nil {
				return s.wrap(e, err)
			}
		}
	}
}

// Inside reports whether the entry path p is below the folder dir; "." is the root.
func Inside(p, dir string) bool { return dir == "." || strings.HasPrefix(p, dir+"/") }

// RemoveTree removes a folder with its content, or a file. Links are removed, not followed. A
// missing path is not an error.
func RemoveTree(dir string) error {
	dir = filemeta.Long(dir)
	info, err := os.Lstat(dir)
	if os.IsNotExist(err) || errors.Is(err, syscall.ENOTDIR) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() && info.Mode()&fs.ModeSymlink == 0 {
		os.Chmod(dir, info.Mode().Perm()|0o700)
		names, err := readNames(dir)
		if err != nil {
			return err
		}
		for _, n := range names {
			if err := RemoveTree(filepath.Join(dir, n)); err != nil {
				return err
			}
		}
	}
	return os.Remove(dir)
}

// SyncTree flushes every file below dir, on systems where flushing a volume needs an administrator.
func SyncTree(dir string) error {
	if !filemeta.SyncEach {
		return nil
	}
	return filepath.WalkDir(filemeta.Long(dir), func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		f, err := os.OpenFile(p, os.O_RDWR, 0)
		if os.IsPermission(err) {
			return nil // read-only by its own attribute; the system flushes it
		}
		if err != nil {
			return err
		}
		defer f.Close()
		return f.Sync()
	})
}
