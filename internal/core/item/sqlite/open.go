// Package sqlite moves SQLite databases (sqlite.org/fileformat2.html). It makes consistent
// snapshots while the app keeps writing, and fingerprints them.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	engine "modernc.org/sqlite"

	"movekit/internal/core/fault"
)

// sideEndings are the suffixes of the side files of a database. An old side file beside a new
// database would corrupt it.
var sideEndings = []string{"-wal", "-shm", "-journal"}

// SideFiles returns the side files of a database.
func SideFiles(name string) []string {
	var out []string
	for _, e := range sideEndings {
		if _, err := os.Lstat(name + e); err == nil {
			out = append(out, name+e)
		}
	}
	return out
}

// magic is the start of every SQLite database.
const magic = "SQLite format 3\x00"

// header reads the first 100 bytes. An empty database has none.
func header(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		kind := fault.Unreadable
		if os.IsNotExist(err) {
			kind = fault.Missing
		}
		return nil, fault.Wrap(kind, err, "cannot read the database")
	}
	defer f.Close()
	h := make([]byte, 100)
	n, err := io.ReadFull(f, h)
	if err == io.EOF {
		return nil, nil
	}
	if err != nil || string(h[:16]) != magic {
		return nil, fault.New(fault.BadDatabase, "%s is not a SQLite database, or it is encrypted (%d bytes read)", name, n)
	}
	return h, nil
}

// uri returns the URI of a database file (sqlite.org/uri.html).
func uri(name, query string) string {
	abs, err := filepath.Abs(name)
	if err != nil {
		abs = name
	}
	p := filepath.ToSlash(abs)
	if !strings.HasPrefix(p, "/") {
		p = "/" + p
	}
	return "file://" + (&url.URL{Path: p}).EscapedPath() + "?" + query
}

// still is the part of a database file's state that changes with every write.
type still struct {
	size, mtime int64
	sides       string
}

func stillOf(name string) (s still) {
	if info, err := os.Stat(name); err == nil {
		s.size, s.mtime = info.Size(), info.ModTime().UnixNano()
	}
	s.sides = strings.Join(SideFiles(name), "|")
	return s
}

// reading calls use with a connection that reads the database and leaves no trace.
//
// Normally the engine takes its usual locks (mode=ro). Only for a database in WAL mode that nobody
// has open would that create side files. Without a -wal file it is read as immutable. With a -wal
// but no -shm file, as after a power failure, the database is first copied with its log to temp. If
// it changed meanwhile, it is read again with locks. A database that cannot be read in place (a hot
// journal, a read-only disk) is copied too.
func reading(ctx context.Context, name, temp string, use func(*sql.Conn) error) error {
	h, err := header(name)
	if err != nil {
		return err
	}
	const locked = "mode=ro&_pragma=query_only(1)&_pragma=busy_timeout(5000)"
	sides := strings.Join(SideFiles(name), "|")
	if wal := len(h) > 0 && h[18] == 2; wal && !strings.Contains(sides, "-shm") {
		was := stillOf(name)
		if sides == "" {
			err = with(ctx, name, "mode=ro&immutable=1&_pragma=query_only(1)", use)
		} else {
			err = withCopy(ctx, name, temp, use)
		}
		if stillOf(name) == was {
			return err
		}
	}
	err = with(ctx, name, locked, use)
	if !cannotInPlace(err) {
		return err
	}
	return withCopy(ctx, name, temp, use)
}

// withCopy reads a copy of the database and its journal files.
func withCopy(ctx context.Context, name, temp string, use func(*sql.Conn) error) error {
	copied, err := copySet(name, temp)
	if err != nil {
		return err
	}
	defer removeSet(copied)
	return with(ctx, copied, "mode=rw&_pragma=busy_timeout(5000)", use)
}

func with(ctx context.Context, name, query string, use func(*sql.Conn) error) error {
	db, err := sql.Open("sqlite", uri(name, query))
	if err != nil {
		return explain(name, err)
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return explain(name, err)
	}
	defer conn.Close()
	return explain(name, use(conn))
}

// Result codes (sqlite.org/rescode.html).
const (
	codeBusy     = 5
	codeReadOnly = 8
	codeCorrupt  = 11
	codeFull     = 13
	codeCantOpen = 14
	codeNotADB   = 26
)

func codeOf(err error) int {
	var e *engine.Error
	if errors.As(err, &e) {
		return e.Code() & 0xff
	}
	return 0
}

func cannotInPlace(err error) bool {
	return codeOf(err) == codeReadOnly || codeOf(err) == codeCantOpen
}

// explain classifies an error of the engine.
func explain(name string, err error) error {
	var known *fault.Error
	if err == nil || errors.As(err, &known) {
		return err
	}
	kind := fault.Unreadable
	switch codeOf(err) {
	case codeCorrupt, codeNotADB:
		kind = fault.BadDatabase
	case codeFull:
		kind = fault.NoSpace
	case codeBusy:
		kind = fault.Changed
	}
	return fault.Wrap(kind, err, "cannot read the database %s", name)
}

// copySet copies a database with its journal files.
func copySet(name, temp string) (string, error) {
	to := filepath.Join(temp, "set-"+filepath.Base(name))
	removeSet(to)
	for _, e := range []string{"", "-wal", "-journal"} {
		if err := copyFile(name+e, to+e); err != nil && !(e != "" && os.IsNotExist(err)) {
			return "", fault.Wrap(fault.Unreadable, err, "cannot copy the database %s", name)
		}
	}
	return to, nil
}

func copyFile(from, to string) error {
	r, err := os.Open(from)
	if err != nil {
		return err
	}
	defer r.Close()
	w, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := io.Copy(w, r); err != nil {
		w.Close()
		return err
	}
	return w.Close()
}

// removeSet removes a database with all its side files.
func removeSet(name string) {
	for _, e := range append([]string{""}, sideEndings...) {
		os.Remove(name + e)
	}
}

// Snapshot copies the current state of the database to a private file in the folder temp, with the
// engine's online backup. In WAL mode it does not block writers. An encrypted database is copied as
// a file. The caller checks the copy with Whole, and removes it with Discard.
func Snapshot(ctx context.Context, name, temp string, progress func(int64)) (string, error) {
	all, err := Snapshots(ctx, []string{name}, temp, progress)
	if err != nil {
		return "", err
	}
	return all[0], nil
}

// settled is how long databases that are copied together must not have been written to before,
// because a commit to several files is not atomic (sqlite.org/lang_attach.html).
const settled = 50 * time.Millisecond

// settleTries limits how often Snapshots waits for that.
const settleTries = 100

var errWritten = errors.New("the database was written to meanwhile")

// Snapshots copies databases that an app uses together, all at the same moment. See Snapshot.
func Snapshots(ctx context.Context, names []string, temp string, progress func(int64)) ([]string, error) {
	out := make([]string, len(names))
	for i := range names {
		dir := filepath.Join(temp, fmt.Sprint("snapshot-", i))
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", dir)
		}
		out[i] = filepath.Join(dir, "snapshot.sqlite")
	}
	for try := 1; ; try++ {
		err := snapshots(ctx, names, out, progress)
		if err == nil {
			return out, nil
		}
		for _, to := range out {
			removeSet(to)
		}
		switch {
		case !errors.Is(err, errWritten):
			return nil, err
		case try == settleTries:
			return nil, fault.New(fault.Changed, "%s are constantly written to, so that they cannot be copied at one moment", strings.Join(names, " and "))
		}
		select {
		case <-time.After(settled):
		case <-ctx.Done():
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "copying %s was stopped", strings.Join(names, " and "))
		}
	}
}

func snapshots(ctx context.Context, names, to []string, progress func(int64)) error {
	var open []int
	for i, name := range names {
		if encrypted, err := Encrypted(name); err != nil || !encrypted {
			open = append(open, i)
			continue
		}
		if err := copyEncrypted(ctx, name, to[i]); err != nil {
			return err
		}
	}
	began, was := time.Now(), marksOf(names)
	return pinned(ctx, names, to, open, nil, func(conns []*sql.Conn) error {
		if len(names) > 1 && (marksOf(names) != was || began.Sub(was.newest).Abs() < settled) {
			return errWritten
		}
		for n, conn := range conns {
			var pageSize int64
			if err := conn.QueryRowContext(ctx, "PRAGMA page_size").Scan(&pageSize); err != nil {
				return Damaged(names[open[n]], explain(names[open[n]], err))
			}
			if err := conn.Raw(func(dc any) error { return backup(ctx, dc, to[open[n]], pageSize, progress) }); err != nil {
				return Damaged(names[open[n]], explain(names[open[n]], err))
			}
		}
		return nil
	})
}

// pinned calls use with a connection to each of the open databases. Their transactions keep the
// snapshots stable, so that the backup does not start again whenever the app writes.
func pinned(ctx context.Context, names, to []string, open []int, conns []*sql.Conn, use func([]*sql.Conn) error) error {
	if len(conns) == len(open) {
		return use(conns)
	}
	i := open[len(conns)]
	var inner error // an error of another database, or of use; already reported
	err := reading(ctx, names[i], filepath.Dir(to[i]), func(conn *sql.Conn) error {
		if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		if err := conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(new(int64)); err != nil {
			return err
		}
		inner = pinned(ctx, names, to, open, append(conns, conn), use)
		return inner
	})
	if inner != nil {
		return inner
	}
	return Damaged(names[i], err)
}

// marks is the state that changes when databases are written to.
type marks struct {
	all    string
	newest time.Time
}

func marksOf(names []string) (m marks) {
	for _, name := range names {
		for _, ending := range []string{"", "-wal", "-journal"} {
			info, err := os.Stat(name + ending)
			if err != nil {
				continue
			}
			m.all += fmt.Sprintf("%s %d %d\n", name+ending, info.Size(), info.ModTime().UnixNano())
			if info.ModTime().After(m.newest) {
				m.newest = info.ModTime()
			}
		}
	}
	return m
}

// Damaged adds the name of the database to an error that shows damage, in it or in its snapshot.
func Damaged(name string, err error) error {
	if fault.KindOf(err) != fault.BadDatabase {
		return err
	}
	return fault.Wrap(fault.BadDatabase, err, "the database %s is damaged, or encrypted", name)
}

// Discard removes a snapshot.
func Discard(snapshot string) { removeSet(snapshot) }

func backup(ctx context.Context, dc any, to string, pageSize int64, progress func(int64)) error {
	src, ok := dc.(interface {
		NewBackup(string) (*engine.Backup, error)
	})
	if !ok {
		return errors.New("the database engine has no online backup")
	}
	removeSet(to) // from an earlier try
	if err := touch(to); err != nil {
		return err
	}
	b, err := src.NewBackup(uri(to, "_pragma=journal_mode(off)&_pragma=synchronous(0)"))
	if err != nil {
		return err
	}
	const step = 2048 // pages
	for more := true; more; {
		if err := ctx.Err(); err != nil {
			b.Finish()
			return err
		}
		left := b.Remaining()
		if more, err = b.Step(step); err != nil {
			b.Finish()
			return err
		}
		if progress != nil {
			done := int64(left - b.Remaining())
			if left == 0 {
				done = int64(b.PageCount() - b.Remaining())
			}
			progress(done * pageSize)
		}
	}
	return b.Finish()
}

// touch creates an empty file that only its owner can read.
func touch(name string) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return f.Close()
}
