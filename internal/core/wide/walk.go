package wide

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/machine"
)

// Limits for memory.
const (
	maxFindings = 20000
	maxUnread   = 20
	batch       = 512 // names that are read at once
)

// walker searches folders in parallel. It keeps one group for every application folder, and one
// finding for every kind of file in such a folder or, outside of them, in any folder. It does not
// keep the files.
type walker struct {
	*Search
	ctx     context.Context
	covered *covered
	plan    *plan
	slots   chan struct{}
	wait    sync.WaitGroup
	heads   sync.Pool
	files   atomic.Int64
	opened  atomic.Int64

	mu     sync.Mutex
	groups []*group
	found  map[foundKey]*Finding
	more   int64
	unread []string
	lost   int64
	passed map[string]int
}

// foundKey identifies a finding.
type foundKey struct {
	where string
	kind  kind
}

// group is the folder of an application.
type group struct {
	path, user string
	mu         sync.Mutex
	files      int64
	bytes      int64
	newest     time.Time
}

func (g *group) add(info fs.FileInfo) {
	g.mu.Lock()
	g.files++
	g.bytes += info.Size()
	if t := info.ModTime(); t.After(g.newest) {
		g.newest = t
	}
	g.mu.Unlock()
}

func newWalker(ctx context.Context, s *Search, c *covered) *walker {
	w := &walker{Search: s, ctx: ctx, covered: c, plan: s.plan(), slots: make(chan struct{}, 2*runtime.GOMAXPROCS(0)), found: map[foundKey]*Finding{}, passed: map[string]int{}}
	w.heads.New = func() any { return new([headSize]byte) }
	return w
}

// run searches the whole computer.
func (w *walker) run() error {
	for _, root := range w.plan.roots {
		w.dir(root, nil, false)
	}
	w.wait.Wait()
	if err := w.ctx.Err(); err != nil {
		return fault.Wrap(fault.Stopped, err, "the search was stopped")
	}
	return nil
}

// dir searches a folder that belongs to g, or to no application if g is nil. first means that it is
// g's own folder: if it contains only folders, it is a vendor's, and each of them is an
// application's.
func (w *walker) dir(path string, g *group, first bool) {
	f, err := os.Open(filemeta.Long(path))
	if err != nil {
		w.unreadable(path, err)
		return
	}
	defer f.Close()
	for n := 0; w.ctx.Err() == nil; n++ {
		entries, err := f.ReadDir(batch)
		if n == 0 && w.serverFolder(path, entries) {
			return
		}
		vendor := first && n == 0 && onlyFolders(entries)
		for _, e := range entries {
			w.entry(f, path, e, g, vendor)
		}
		if err != nil {
			if !errors.Is(err, io.EOF) {
				w.unreadable(path, err)
			}
			return
		}
	}
}

// onlyFolders reports whether a folder contains a few folders and no file.
func onlyFolders(entries []fs.DirEntry) bool {
	return len(entries) > 0 && len(entries) < batch && !slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return !e.IsDir() })
}

// entry processes one name in a folder. Links are not followed.
func (w *walker) entry(in *os.File, dir string, e fs.DirEntry, g *group, vendor bool) {
	path := dir + string(filepath.Separator) + e.Name()
	if strings.HasSuffix(dir, string(filepath.Separator)) {
		path = dir + e.Name()
	}
	if e.Type().IsRegular() {
		w.file(in, path, e, g)
		return
	}
	if !e.IsDir() || w.covered.whole[path] {
		return
	}
	if why := w.plan.passes(path, e.Name()); why != "" {
		w.mu.Lock()
		w.passed[why]++
		w.mu.Unlock()
		return
	}
	if g == nil || vendor {
		if own := w.plan.application(dir, e.Name()); own || vendor {
			g = w.newGroup(path)
			w.spawn(func() { w.dir(path, g, own && !vendor) })
			return
		}
	}
	w.spawn(func() { w.dir(path, g, false) })
}

func (w *walker) newGroup(path string) *group {
	g := &group{path: path, user: w.plan.userOf(path)}
	w.mu.Lock()
	w.groups = append(w.groups, g)
	w.mu.Unlock()
	return g
}

// spawn runs work in parallel if there is capacity, else directly.
func (w *walker) spawn(work func()) {
	select {
	case w.slots <- struct{}{}:
		w.wait.Add(1)
		go func() {
			defer w.wait.Done()
			defer func() { <-w.slots }()
			work()
		}()
	default:
		work()
	}
}

// file processes one file.
func (w *walker) file(in *os.File, path string, e fs.DirEntry, g *group) {
	info, err := filemeta.InfoIn(in, e)
	if err != nil {
		if !os.IsNotExist(err) {
			w.unreadable(path, err)
		}
		return
	}
	if n := w.files.Add(1); n%65536 == 0 && w.Seen != nil {
		w.Seen(n)
	}
	if w.covered.file(path) {
		return
	}
	if g != nil {
		g.add(info)
	}
	if licenceName(e.Name(), info.Size()) && !w.plan.program(path) {
		w.keep(path, kind{Licence, "licence file, by its name"}, info, g, "")
		return
	}
	if !candidate(e.Name(), info.Size()) {
		return
	}
	head := w.heads.Get().(*[headSize]byte)
	defer w.heads.Put(head)
	n, err := readHead(path, head[:])
	if err != nil {
		w.unreadable(path, err)
		return
	}
	w.opened.Add(1)
	k, ok := classify(head[:n], info.Size(), e.Name())
	if !ok || (k.class == Key || k.class == Certificate) && w.plan.program(path) {
		return
	}
	w.keep(path, k, info, g, lockOf(path, k.what))
}

func readHead(path string, head []byte) (int, error) {
	f, err := filemeta.Open(filemeta.Long(path))
	if err != nil {
		return 0, err
	}
	defer f.Close()
	n, err := f.ReadAt(head, 0)
	if err == io.EOF {
		err = nil
	}
	return n, err
}

// keep adds a file to the findings of its application's folder, or of its own folder.
func (w *walker) keep(path string, k kind, info fs.FileInfo, g *group, note string) {
	where := filepath.Dir(path)
	if g != nil {
		where = g.path
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	key := foundKey{where, k}
	f := w.found[key]
	if f == nil {
		if len(w.found) >= maxFindings {
			w.more++
			return
		}
		f = &Finding{Class: k.class, What: k.what, Where: path, User: w.plan.userOf(path)}
		w.found[key] = f
	}
	f.Count++
	f.Bytes += info.Size()
	if t := info.ModTime(); t.After(f.Newest) {
		f.Newest = t
	}
	if f.Count > 1 {
		f.Where = where
	}
	if len(f.Details) < maxDetails {
		detail := fmt.Sprintf("%s, %s, %s", filepath.Base(path), humanize.Bytes(uint64(info.Size())), info.ModTime().Format("2006-01-02"))
		if note != "" {
			detail += "; " + note
		}
		f.Details = append(f.Details, detail)
	}
}

func (w *walker) unreadable(path string, err error) {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lost++
	if len(w.unread) < maxUnread {
		w.unread = append(w.unread, fmt.Sprintf("%s: %v", path, err))
	}
}

// serverFolder recognises the data folder of a database server by its content, and reports it as a
// whole.
func (w *walker) serverFolder(path string, entries []fs.DirEntry) bool {
	names := map[string]bool{}
	for _, e := range entries {
		names[e.Name()] = true
	}
	f := &Finding{Class: Server, Where: path}
	switch {
	case names["PG_VERSION"] && names["base"] && names["global"]:
		version, _ := os.ReadFile(filepath.Join(path, "PG_VERSION"))
		f.What = "data folder of a PostgreSQL server, version " + strings.TrimSpace(string(version[:min(len(version), 20)]))
		f.Details = []string{fmt.Sprintf("%d databases, among them the server's own", countFolders(filepath.Join(path, "base")))}
	case names["ibdata1"] && names["mysql"]:
		f.What = "data folder of a MariaDB or MySQL server"
		for _, e := range entries {
			if n := e.Name(); e.IsDir() && !serversOwn[n] && !strings.HasPrefix(n, "#") {
				sum := measure(w.ctx, filepath.Join(path, n))
				f.Details = append(f.Details, fmt.Sprintf("database %s, %s", n, humanize.Bytes(uint64(sum.Bytes))))
			}
		}
	default:
		return false
	}
	sum := measure(w.ctx, path)
	f.Files, f.Bytes, f.Newest = sum.Files, sum.Bytes, sum.Newest
	w.mu.Lock()
	w.found[foundKey{path, kind{Server, f.What}}] = f
	w.mu.Unlock()
	return true
}

// serversOwn lists the internal databases of a MariaDB or MySQL server.
var serversOwn = set("mysql performance_schema sys information_schema")

func countFolders(dir string) (n int) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if e.IsDir() {
			n++
		}
	}
	return n
}

// measure adds up a folder. Unreadable files are not counted.
func measure(ctx context.Context, dir string) (sum Finding) {
	filepath.WalkDir(filemeta.Long(dir), func(_ string, e fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return ctx.Err()
		}
		if info, err := e.Info(); err == nil && e.Type().IsRegular() {
			sum.Files++
			sum.Bytes += info.Size()
			if info.ModTime().After(sum.Newest) {
				sum.Newest = info.ModTime()
			}
		}
		return nil
	})
	return sum
}

// report moves the findings to the result.
func (w *walker) report(r *Result) {
	since := w.Now.AddDate(0, 0, -w.Days)
	for _, f := range w.found {
		slices.Sort(f.Details)
		r.Findings = append(r.Findings, *f)
	}
	for _, g := range w.groups {
		if g.files > 0 && g.newest.After(since) {
			r.Findings = append(r.Findings, Finding{Class: Folder, What: "folder with recent changes", Where: g.path, User: g.user, Files: g.files, Bytes: g.bytes, Newest: g.newest})
		}
	}
	r.Files, r.Opened, r.More = w.files.Load(), w.opened.Load(), w.more
	slices.Sort(w.unread)
	r.Unreadable, r.Unread = w.unread, w.lost
	for i, u := range r.Unreadable {
		if path, why, ok := strings.Cut(u, ": "); ok {
			r.Unreadable[i] = machine.DisplayPath(w.Computer, path) + ": " + why
		}
	}
	for why, n := range w.passed {
		r.Passed = append(r.Passed, fmt.Sprintf("%s (%d)", why, n))
	}
	for _, drive := range w.plan.left {
		r.Passed = append(r.Passed, "drive "+drive+": not one of this computer's own disks")
	}
	slices.Sort(r.Passed)
}
