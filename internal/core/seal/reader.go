package seal

import (
	"cmp"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"movekit/internal/core/block"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// segment is the unit of decryption, in bytes: whole age chunks of 64 KiB.
const segment = 1 << 20

// Reader returns the plain data of a sealed stream.
type Reader struct {
	name   string
	files  *joined
	ahead  *readAhead
	zr     *zstd.Decoder
	closed bool
}

// Open opens the sealed stream whose files are parts, in the folder dir or in their own.
func Open(dir string, parts []Part, id age.Identity) (io.ReadCloser, error) {
	if len(parts) == 0 {
		return nil, fault.New(fault.Damaged, "a sealed stream in %s has no files", dir)
	}
	if sections := sectionsOf(parts); len(sections) > 1 {
		return &chain{dir: dir, rest: sections, id: id}, nil
	}
	r, err := open(dir, parts, id)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// open opens one section, or a stream without sections.
func open(dir string, parts []Part, id age.Identity) (*Reader, error) {
	r := &Reader{name: parts[0].Name}
	var err error
	if r.files, err = join(dir, parts); err != nil {
		return nil, err
	}
	plain, size, err := age.DecryptReaderAt(r.files, r.files.size, id)
	if err != nil {
		r.files.Close()
		return nil, fault.Wrap(fault.Damaged, err, "cannot open the sealed file %s", filepath.Join(dir, r.name))
	}
	r.ahead = newReadAhead(plain, size)
	r.zr, err = zstd.NewReader(r.ahead, zstd.WithDecoderConcurrency(0), zstd.WithDecoderLowmem(true), zstd.IgnoreChecksum(true), // age authenticates every byte
		zstd.WithDecoderMaxWindow(8<<20), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		r.ahead.stop()
		r.files.Close()
		return nil, fault.Wrap(fault.Internal, err, "cannot read compressed data")
	}
	return r, nil
}

// Read returns plain data. Every byte was authenticated.
func (r *Reader) Read(p []byte) (int, error) {
	n, err := r.zr.Read(p)
	if err != nil && err != io.EOF {
		err = fault.Wrap(fault.Damaged, err, "cannot read the sealed file %s", r.name)
	}
	return n, err
}

// Close closes the stream's files.
func (r *Reader) Close() error {
	if r.closed {
		return nil
	}
	r.closed = true
	r.ahead.stop()
	r.zr.Close()
	return r.files.Close()
}

// joined reads several files as one.
type joined struct {
	files []*os.File
	ends  []int64 // where each file ends in the joined file
	size  int64
}

func join(dir string, parts []Part) (*joined, error) {
	j := &joined{}
	for _, p := range parts {
		if !filepath.IsLocal(p.Name) {
			j.Close()
			return nil, fault.New(fault.Hostile, "a sealed file is named %q", p.Name)
		}
		f, err := os.Open(filepath.Join(cmp.Or(p.Dir, dir), p.Name))
		if err != nil {
			j.Close()
			return nil, fault.Wrap(fault.Damaged, err, "cannot open a sealed file")
		}
		j.files = append(j.files, f)
		info, err := f.Stat()
		if err != nil || info.Size() != p.Size {
			j.Close()
			return nil, fault.New(fault.Damaged, "the sealed file %s does not have the %d bytes that were written", f.Name(), p.Size)
		}
		j.size += p.Size
		j.ends = append(j.ends, j.size)
	}
	return j, nil
}

// ReadAt reads from the joined file. It is safe for concurrent use.
func (j *joined) ReadAt(p []byte, off int64) (int, error) {
	n := 0
	start := int64(0)
	for i, end := range j.ends {
		for off < end && len(p) > 0 {
			k, err := j.files[i].ReadAt(p[:min(int64(len(p)), end-off)], off-start)
			n, off, p = n+k, off+int64(k), p[k:]
			if err != nil && !(err == io.EOF && off == end) {
				return n, err
			}
		}
		start = end
	}
	if len(p) > 0 {
		return n, io.EOF
	}
	return n, nil
}

func (j *joined) Close() error {
	var errs []error
	for _, f := range j.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// readAhead decrypts segments in parallel and returns them in order.
type readAhead struct {
	src   io.ReaderAt
	size  int64
	queue chan *piece
	quit  chan struct{}
	once  sync.Once
	ended chan struct{}
	cur   *piece
}

// piece is one segment. ready is filled when it was read.
type piece struct {
	off   int64
	buf   []byte // one whole segment
	rest  []byte // the rest that was not returned yet
	err   error
	ready chan struct{}
}

var pieces = sync.Pool{New: func() any {
	return &piece{buf: make([]byte, segment), ready: make(chan struct{}, 1)}
}}

func newReadAhead(src io.ReaderAt, size int64) *readAhead {
	workers := runtime.GOMAXPROCS(0)
	r := &readAhead{src: src, size: size, queue: make(chan *piece, workers+2), quit: make(chan struct{}), ended: make(chan struct{})}
	work := make(chan *piece)
	var busy sync.WaitGroup
	for range workers {
		busy.Go(func() {
			for p := range work {
				n, err := src.ReadAt(p.rest, p.off)
				if err == io.EOF && n == len(p.rest) {
					err = nil
				}
				p.err = err
				p.ready <- struct{}{}
			}
		})
	}
	go func() {
		defer func() { close(work); busy.Wait(); close(r.queue); close(r.ended) }()
		for off := int64(0); off < size; off += segment {
			p := pieces.Get().(*piece)
			p.off, p.rest, p.err = off, p.buf[:min(segment, size-off)], nil
			for _, to := range []chan *piece{r.queue, work} {
				select {
				case to <- p:
				case <-r.quit:
					return
				}
			}
		}
	}()
	return r
}

func (r *readAhead) Read(b []byte) (int, error) {
	if r.cur == nil {
		p, err := r.next()
		if err != nil {
			return 0, err
		}
		r.cur = p
	}
	n := copy(b, r.cur.rest)
	if r.cur.rest = r.cur.rest[n:]; len(r.cur.rest) == 0 {
		pieces.Put(r.cur)
		r.cur = nil
	}
	return n, nil
}

// next waits for the next piece. It ends when reading ahead has ended, because a queued piece may
// then never be filled.
func (r *readAhead) next() (*piece, error) {
	select {
	case p, ok := <-r.queue:
		if !ok {
			return nil, io.EOF
		}
		select {
		case <-p.ready:
			return p, p.err
		case <-r.quit:
		}
	case <-r.quit:
	}
	return nil, os.ErrClosed
}

func (r *readAhead) stop() {
	r.once.Do(func() { close(r.quit) })
	<-r.ended
}

// Hash returns the hash and size of a file, read from its medium and not from the system's cache.
func Hash(ctx context.Context, name string) (digest.Sum, int64, error) {
	f, err := openUncached(name)
	if err != nil {
		return digest.Sum{}, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return digest.Sum{}, 0, err
	}
	dropCache(f, 0, 0)
	h, buf := digest.New(), block.Take()
	defer block.Give(buf)
	var total int64
	for total < info.Size() {
		if err := ctx.Err(); err != nil {
			return digest.Sum{}, total, err
		}
		// Uncached reads need whole blocks at block offsets, except for the last.
		n, err := io.ReadFull(f, buf)
		h.Write(buf[:n])
		total += int64(n)
		if err != nil && err != io.ErrUnexpectedEOF || n == 0 {
			return digest.Sum{}, total, err
		}
	}
	return h.Sum(), total, nil
}
