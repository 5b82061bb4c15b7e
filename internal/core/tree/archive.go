package tree

import (
	"archive/tar"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
)

// blockSize is the size of the blocks in which files are read and written, in bytes.
const blockSize = 256 << 10

// readAhead is the number of files that are read at once. A disk needs many requests at a time for small files.
const readAhead = 16

// Stats counts the content of an item.
type Stats struct {
	Files, Dirs, Links int64
	Bytes              int64
	Holes              int64        // bytes of holes in files, which take no space
	Newest             time.Time    // latest modification time of a file
	single             bool         // the source is one file, whose name is not part of the stamp
	all                *digest.Hash // hash of the entries' identifying data; nil before the first entry
	meta               *digest.Hash // hash of the entries' metadata
	line               []byte       // buffer for one entry
	Left               []string     // what cannot be moved, with the reason; at most 20
	LeftCount          int
	Unkept             []string // file metadata that the destination does not support; at most 20
	UnkeptCount        int
	LeftOut            LeftOut
	Owners             map[string]bool // owners of files, by name
}

// add counts an entry.
func (s *Stats) add(e Entry) {
	if len(e.lost) > 0 && e.Archived() {
		s.leave(e.Path, "it is moved without "+strings.Join(e.lost, " and "))
	}
	switch e.Type {
	case File:
		s.Files++
		s.Bytes += e.Size
		s.Holes += e.holes
	case Hard:
		s.Files++
	case Dir:
		s.Dirs++
	case Link:
		s.Links++
	default:
		why := "it is a device, pipe or socket"
		switch e.Type {
		case Outside:
			why = "it is a link to a place outside the item, " + e.Target
		case Unfit:
			why = e.Target
		}
		s.leave(e.Path, why)
	}
	if e.Owner != "" && e.Archived() && !s.Owners[e.Owner] {
		if s.Owners == nil {
			s.Owners = map[string]bool{}
		}
		s.Owners[e.Owner] = true
	}
	if s.all == nil {
		s.all, s.meta = digest.New(), digest.New()
	}
	path := e.Path
	if s.single {
		path = ""
	}
	s.line = append(append(append(s.line[:0], path...), 0), e.Type...)
	s.line = append(append(append(s.line, 0), e.Target...), 0)
	if e.Type != Dir { // a folder's time also changes with what the card leaves out
		s.line = binary.LittleEndian.AppendUint64(s.line, uint64(e.Size))
		s.line = binary.LittleEndian.AppendUint64(s.line, uint64(e.ModTime.Unix()))
		s.line = binary.LittleEndian.AppendUint32(s.line, uint32(e.ModTime.Nanosecond()))
		if e.ModTime.After(s.Newest) {
			s.Newest = e.ModTime
		}
	}
	s.all.Write(s.line)
	// A folder's identity and change time also change with what the card leaves out.
	s.line = binary.LittleEndian.AppendUint32(s.line[:0], filemeta.ModeOf(e.Mode))
	s.line = binary.LittleEndian.AppendUint32(s.line, uint32(e.owner.UID))
	s.line = binary.LittleEndian.AppendUint32(s.line, uint32(e.owner.GID))
	s.line = binary.LittleEndian.AppendUint32(s.line, e.Attr)
	if e.Type != Dir {
		s.line = binary.LittleEndian.AppendUint64(s.line, e.id)
		s.line = binary.LittleEndian.AppendUint64(s.line, uint64(e.changed))
	}
	s.meta.Write(s.line)
}

// MetaStamp returns a short text that also changes if only metadata does, or if a file is replaced by one
// of the same size and time.
func (s *Stats) MetaStamp() string {
	if s.meta == nil {
		return ""
	}
	return fmt.Sprintf("%.32s", s.meta.Sum())
}

// leave records what cannot be moved.
func (s *Stats) leave(path, why string) {
	s.LeftCount++
	if len(s.Left) < 20 {
		s.Left = append(s.Left, path+": "+why)
	}
}

// elsewhere records a file with a name outside the item.
func (s *Stats) elsewhere(path string) {
	s.leave(path, "it has another name outside the item (hard link), and arrives as a file of its own")
}

// Stamp returns a short text that changes when something in the item changes. It has the number of
// files, their size, and a hash of every name with its size and time. The name of a single file is
// not included, because it changes while the file is staged or set aside.
func (s *Stats) Stamp() string {
	if s.all == nil {
		return ""
	}
	return fmt.Sprintf("%d %d %.32s", s.Files, s.Bytes, s.all.Sum())
}

// Measure walks the source and counts its content, without reading files. each, if not nil, gets
// every entry and its real path.
func (s Source) Measure(ctx context.Context, each func(Entry, string), problem func(Problem)) (*Stats, error) {
	st := &Stats{single: s.Single}
	s.leftOut, s.elsewhere = &st.LeftOut, st.elsewhere
	err := s.Walk(ctx, func(e Entry, real string) error {
		st.add(e)
		if each != nil {
			each(e, real)
		}
		return nil
	}, problem)
	return st, err
}

// unit is an entry on its way into the archive. Files are read and hashed in advance.
type unit struct {
	entry  Entry
	real   string
	blocks chan []byte // the content of a file; nil for others
	hash   digest.Sum  // of the content; valid when blocks is closed, as err
	err    error
}

// Archive reads the source once. It writes the tar stream to out, and one line per entry with its
// hash to list. progress gets the number of bytes read.
//
// If a file changes while it is read or cannot be read, Archive returns an error: an archive is
// complete or there is none.
func (s Source) Archive(ctx context.Context, out, list io.Writer, progress func(int64)) (*Stats, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	queue, files := make(chan *unit, 64), make(chan *unit, 64)
	var walkErr error
	var elsewhere []string
	s.elsewhere = func(path string) { elsewhere = append(elsewhere, path) }
	go func() {
		defer close(queue)
		defer close(files)
		walkErr = s.Walk(ctx, func(e Entry, real string) error {
			u := &unit{entry: e, real: real}
			if e.Type == File {
				u.blocks = make(chan []byte, 2)
				select {
				case files <- u:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			select {
			case queue <- u:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}, nil)
	}()
	var readers sync.WaitGroup
	for range readAhead {
		readers.Go(func() {
			for u := range files {
				u.err = s.read(ctx, u)
				close(u.blocks)
			}
		})
	}
	st := &Stats{single: s.Single}
	err := s.assemble(ctx, queue, out, list, st, progress)
	cancel()
	for range queue { // let the walk finish
	}
	readers.Wait()
	if err == nil {
		err = walkErr
	}
	if err != nil {
		return nil, err
	}
	for _, path := range elsewhere {
		st.elsewhere(path)
	}
	return st, nil
}

func (s Source) assemble(ctx context.Context, queue <-chan *unit, out, list io.Writer, st *Stats, progress func(int64)) error {
	tw := tar.NewWriter(out)
	for u := range queue {
		if err := ctx.Err(); err != nil {
			return fault.Wrap(fault.Stopped, err, "reading %s was stopped", s.Root)
		}
		if u.entry.Archived() {
			if err := tw.WriteHeader(header(u.entry)); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot seal %s", u.real)
			}
		}
		if u.blocks != nil {
			for b := range u.blocks {
				if _, err := tw.Write(b); err != nil {
					return err
				}
				report(progress, int64(len(b)))
				give(b)
			}
			if u.err != nil {
				return u.err
			}
			u.entry.Hash = u.hash
		}
		st.add(u.entry)
		line, err := u.entry.MarshalJSON()
		if err != nil {
			return fault.Wrap(fault.Internal, err, "cannot list %s", u.real)
		}
		if _, err := list.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return tw.Close()
}

func (s Source) open(name string) (*os.File, error) {
	if s.Open != nil {
		return s.Open(name)
	}
	return filemeta.Open(name)
}

func report(progress func(int64), n int64) {
	if progress != nil {
		progress(n)
	}
}

var blocks = sync.Pool{New: func() any { b := make([]byte, blockSize); return &b }}

// take returns an unused block.
func take() []byte { return *blocks.Get().(*[]byte) }

// give puts a block back.
func give(b []byte) { b = b[:blockSize]; blocks.Put(&b) }

// read reads and hashes a file.
func (s Source) read(ctx context.Context, u *unit) error {
	f, err := s.open(u.real)
	if err != nil {
		return unreadable(u.real, err)
	}
	defer f.Close()
	var sum digest.Blocks
	total := int64(0)
	for err == nil && (total < u.entry.Size || u.entry.Size == 0) { // sameAs notices if there is more
		b := take()
		var n int
		n, err = io.ReadFull(f, b[:max(min(int64(len(b)), u.entry.Size-total), 1)])
		if total += int64(n); total > u.entry.Size {
			return changed(u.real)
		}
		sum.Add(b[:n], total == u.entry.Size)
		select {
		case u.blocks <- b[:n]:
		case <-ctx.Done():
			return fault.Wrap(fault.Stopped, ctx.Err(), "reading %s was stopped", u.real)
		}
	}
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return unreadable(u.real, err)
	}
	u.hash = sum.Sum()
	return sameAs(f, u.entry, total)
}

// sameAs returns an error if a file changed since the walk.
func sameAs(f *os.File, e Entry, read int64) error {
	info, err := f.Stat()
	if err != nil {
		return unreadable(f.Name(), err)
	}
	if read != e.Size || info.Size() != e.Size || !info.ModTime().Equal(e.ModTime) || !info.Mode().IsRegular() {
		return changed(f.Name())
	}
	return nil
}

func changed(name string) error {
	return fault.New(fault.Changed, "%s changed while it was being read", filemeta.Short(name))
}

func unreadable(name string, err error) error {
	if os.IsNotExist(err) {
		return changed(name)
	}
	return fault.Wrap(fault.Unreadable, err, "cannot read %s", filemeta.Short(name))
}

// header returns the tar header of an entry: pax with times in nanoseconds, and the GNU format for
// names that are not valid UTF-8, which pax cannot hold.
func header(e Entry) *tar.Header {
	h := &tar.Header{Name: e.Path, Mode: int64(filemeta.ModeOf(e.Mode)), ModTime: e.ModTime, Format: tar.FormatPAX}
	if !strings.HasPrefix(e.Owner, "#") && !strings.HasPrefix(e.Group, "#") {
		h.Uname, h.Gname = e.Owner, e.Group
	}
	if !utf8.ValidString(e.Path) || !utf8.ValidString(e.Target) {
		h.Format, h.ModTime = tar.FormatGNU, e.ModTime.Truncate(time.Second)
	}
	switch e.Type {
	case Dir:
		h.Typeflag, h.Name = tar.TypeDir, e.Path+"/"
	case Hard:
		h.Typeflag, h.Linkname = tar.TypeLink, e.Target
	case Link:
		h.Typeflag, h.Linkname, h.Mode = tar.TypeSymlink, e.Target, int64(fs.ModePerm)
	default:
		h.Typeflag, h.Size = tar.TypeReg, e.Size
	}
	return h
}
