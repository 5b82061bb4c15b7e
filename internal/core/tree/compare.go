package tree

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"movekit/internal/core/block"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
	"movekit/internal/core/pathmap"
)

// Diff is one difference between a folder and a list.
type Diff struct {
	Path string `json:"path"`
	What string `json:"what"`
}

// Comparison is the result of Compare.
type Comparison struct {
	Old, New Stats  // of the list, and of the folder
	Same     int64  // entries that are equal
	Diffs    []Diff // at most maxDiffs
	Count    int64  // number of differences
	Late     int64  // number of those that are only in the time
}

// maxDiffs limits the listed differences.
const maxDiffs = 20

// Equal reports whether there is no difference.
func (c *Comparison) Equal() bool { return c.Count == 0 }

// EditsByFile has the edits of files, by path. They are reversed before a file is compared with a
// list.
type EditsByFile map[string][]pathmap.Edit

// size returns the size before the edits of a file that has n bytes now.
func (t EditsByFile) size(path string, n int64) int64 { return n - pathmap.Grown(t[path]) }

// largeFile is the size of files that are hashed on all processors, in bytes.
const largeFile = 8 << 20

// sum hashes a file of an entry's size as it was before the edits, and returns the number of bytes read. If an edit is
// missing in the file, the hash matches nothing.
func (t EditsByFile) sum(e Entry, f *os.File) (digest.Sum, int64, error) {
	edits := t[e.Path]
	switch {
	case len(edits) == 0 && e.Size >= largeFile:
		sum, err := digest.File(f, e.Size)
		return sum, e.Size, err
	case len(edits) == 0 && e.Size < block.Size:
		return sumSmall(f, e.Size)
	case len(edits) == 0:
		return digest.Reader(f)
	}
	data, err := io.ReadAll(f)
	was, _ := pathmap.Back(data, edits)
	return digest.Of(was), int64(len(data)), err
}

// sumSmall hashes a file of size bytes, less than a block. A read that fills the buffer only in part shows the end of the file.
func sumSmall(f *os.File, size int64) (digest.Sum, int64, error) {
	buf := block.Take()
	defer block.Give(buf)
	n, err := f.Read(buf)
	if err == io.EOF || err == nil && int64(n) == size {
		return digest.Of(buf[:n]), int64(n), nil
	}
	if err != nil {
		return digest.Sum{}, int64(n), err
	}
	sum, _, err := digest.Reader(io.MultiReader(bytes.NewReader(buf[:n]), f))
	return sum, size, err
}

// Comparing has the options of a comparison with a list.
type Comparing struct {
	Modes   bool // permissions and extended attributes, if both systems have them
	Attr    bool // Windows attributes
	Times   bool // modification times of files and links, as precisely as both file systems have them
	Belongs *Belonging
	Turned  EditsByFile
	Lenient string // system whose forbidden names are not expected; "" if all names are
	Others  bool   // ignore entries that are not in the list
	// EachDiffering, if not nil, is called with the path of every difference, one at a time.
	EachDiffering func(path string)
	Progress      func(int64)
	// EachOld and EachNew, if not nil, are called for every entry of the list and of the folder.
	EachOld, EachNew func(Entry)
}

// Compare compares the source with a list: every file by its content. Both are walked in parallel,
// so that memory does not grow with their size.
func (c Comparing) Compare(ctx context.Context, s Source, list *ListReader) (*Comparison, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r := &comparer{Comparing: c, out: &Comparison{}, work: make(chan toHash, 256), names: filename.On(c.Lenient)}
	var busy sync.WaitGroup
	for range readAhead {
		busy.Go(func() {
			for u := range r.work {
				r.hash(ctx, u)
			}
		})
	}
	err := s.Walk(ctx, func(e Entry, real string) error { return r.visit(ctx, e, real, list) }, func(p Problem) {
		r.differ(p.Path, "cannot be read: %v", p.Err)
	})
	if fault.KindOf(err) == fault.Missing {
		err = nil // everything is missing; the list has the details
	}
	if err == nil {
		err = r.rest(list)
	}
	close(r.work)
	busy.Wait()
	if err == nil && ctx.Err() != nil {
		err = fault.Wrap(fault.Stopped, ctx.Err(), "the comparison was stopped")
	}
	return r.out, err
}

type comparer struct {
	Comparing
	work  chan toHash
	mu    sync.Mutex
	out   *Comparison
	names *filename.Names
	unfit string // the last entry of the list that was not expected because of its name
}

func (r *comparer) differ(path, format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.out.Count++
	if r.EachDiffering != nil {
		r.EachDiffering(path)
	}
	if len(r.out.Diffs) < maxDiffs {
		r.out.Diffs = append(r.out.Diffs, Diff{path, fmt.Sprintf(format, args...)})
	}
}

func (r *comparer) old(e Entry) {
	r.out.Old.add(e)
	if e.Archived() && r.names.Refuses(e.Path) != "" {
		r.unfit = e.Path
	}
	if r.EachOld != nil {
		r.EachOld(e)
	}
}

func (r *comparer) new(e Entry) {
	r.out.New.add(e)
	if r.EachNew != nil {
		r.EachNew(e)
	}
}

// visit processes an entry of the folder, after the entries of the list that come before it.
func (r *comparer) visit(ctx context.Context, e Entry, real string, list *ListReader) error {
	e.Size = r.Turned.size(e.Path, e.Size)
	if !r.Others {
		r.new(e)
	}
	for {
		want, err := list.Peek()
		if err != nil && err != io.EOF {
			return err
		}
		if err == io.EOF || before(want.Path, e.Path) > 0 {
			if e.Type != Dir && !r.Others {
				r.differ(e.Path, "was not in the sealed data")
			}
			return nil
		}
		list.Next()
		r.old(want)
		if want.Path != e.Path {
			r.missing(want)
			continue
		}
		if r.Others {
			r.new(e)
		}
		if !want.Archived() {
			return nil
		}
		return r.match(ctx, want, e, real)
	}
}

func (r *comparer) missing(want Entry) {
	if want.Archived() && want.Path != r.unfit {
		r.differ(want.Path, "is missing")
	}
}

func (r *comparer) match(ctx context.Context, want, have Entry, real string) error {
	switch {
	case want.Type != have.Type:
		r.differ(want.Path, "was a %s, is a %s", want.Type, have.Type)
	case want.Type == Hard && want.Target != have.Target:
		r.differ(want.Path, "was a hard link to %s, is a hard link to %s", want.Target, have.Target)
	case want.Type == Link && want.Target != have.Target:
		r.differ(want.Path, "was a link to %s, is a link to %s", want.Target, have.Target)
	case want.Type == File && want.Size != have.Size:
		r.differ(want.Path, "had %d bytes, has %d", want.Size, have.Size)
	case r.Modes && want.Type != Link && want.Mode != have.Mode:
		r.differ(want.Path, "had the permissions %04o, has %04o", filemeta.ModeOf(want.Mode), filemeta.ModeOf(have.Mode))
	case r.Differs(want, have) != "":
		r.differ(want.Path, "%s", r.Differs(want, have))
	case want.Type == File:
		select {
		case r.work <- toHash{want, real, have.ModTime}:
		case <-ctx.Done():
			return ctx.Err()
		}
	default:
		r.agreeOn(want, have.ModTime)
	}
	return nil
}

// agreeOn counts an entry whose content is equal. Its time may differ, unless its paths were updated.
func (r *comparer) agreeOn(want Entry, at time.Time) {
	if r.Times && (want.Type == File || want.Type == Link) && len(r.Turned[want.Path]) == 0 && !sameTime(want.ModTime, at) {
		r.differ(want.Path, "has the same content and another time: was from %s, is from %s", want.ModTime.UTC().Format(time.DateTime), at.UTC().Format(time.DateTime))
		r.mu.Lock()
		r.out.Late++
		r.mu.Unlock()
		return
	}
	r.agree()
}

// precisions are the units in which file systems store times: APFS and ext4 1 ns, NTFS 100 ns, HFS+ and
// older ones 1 s, FAT 2 s. Some copies have microseconds or milliseconds.
var precisions = []time.Duration{1, 100, time.Microsecond, time.Millisecond, time.Second, 2 * time.Second}

// sameTime reports whether two times are equal in a unit in which one of them is stored.
func sameTime(a, b time.Time) bool {
	for _, p := range precisions {
		x, y := a.Truncate(p), b.Truncate(p)
		if x.Equal(y) && (x.Equal(a) || y.Equal(b)) {
			return true
		}
	}
	return false
}

func (r *comparer) agree() {
	r.mu.Lock()
	r.out.Same++
	r.mu.Unlock()
}

func (r *comparer) rest(list *ListReader) error {
	for {
		want, err := list.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		r.old(want)
		r.missing(want)
	}
}

// toHash is a file whose content is still to be compared.
type toHash struct {
	entry Entry
	real  string
	time  time.Time // when it was modified
}

func (r *comparer) hash(ctx context.Context, u toHash) {
	if ctx.Err() != nil {
		return
	}
	f, err := filemeta.Open(u.real)
	if err != nil {
		r.differ(u.entry.Path, "cannot be read: %v", err)
		return
	}
	defer f.Close()
	sum, n, err := r.Turned.sum(u.entry, f)
	report(r.Progress, n)
	switch {
	case err != nil:
		r.differ(u.entry.Path, "cannot be read: %v", err)
	case sum != u.entry.Hash:
		r.differ(u.entry.Path, "has other content")
	default:
		r.agreeOn(u.entry, u.time)
	}
}

// Counter counts the files that match a pattern.
type Counter struct {
	Pattern string
	N       int64
}

// Add counts the entry if it is a file whose path matches.
func (c *Counter) Add(e Entry) {
	if e.Type != File && e.Type != Hard {
		return
	}
	if ok, _ := doublestar.Match(c.Pattern, e.Path); ok {
		c.N++
	}
}
