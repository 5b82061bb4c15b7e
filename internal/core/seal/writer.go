// Package seal writes and reads sealed files.
//
// Create returns a Writer. Its Close returns the parts that were written. Open reads them.
//
// A sealed stream is compressed (zstd, RFC 8878) and encrypted (age-encryption.org/v1). If it
// exceeds the maximum file size, it continues in numbered parts. A file gets its final name only
// after it was flushed to the medium and read back from there, not from the system's cache.
package seal

import (
	"io"
	"path/filepath"
	"runtime"
	"sync"

	"filippo.io/age"

	"movekit/internal/core/fault"
)

// MaxPart is the size limit of a sealed file, in bytes. It fits on FAT32.
const MaxPart = 4_000_000_000

// Unfinished is the suffix of files that are still being written.
const Unfinished = ".unfinished"

// Part is one file of a sealed stream.
type Part struct {
	Name string `json:"name"` // within its folder
	Size int64  `json:"size"` // bytes
	Hash string `json:"b3"`   // BLAKE3 of the file, hex
	// Medium is the number of the medium that has the file, from 2; 0 means that of the kit.
	Medium int `json:"medium,omitempty"`
	// Section is the id of a section that begins with this file; "" if the stream has none.
	Section string `json:"section,omitempty"`
	Dir     string `json:"-"` // its folder, if that is not the stream's
}

// Place is where a part of a stream is written.
type Place struct {
	Dir    string
	Medium int
	Limit  int64 // most bytes of the part
}

// Options says how to seal a stream.
type Options struct {
	To       age.Recipient
	PartSize int64 // size limit of a file, in bytes; 0 means MaxPart
	Workers  int   // number of chunks to compress at a time; 0 means one per processor
	// Roomy is true if the medium has so much room that time counts more than bytes.
	Roomy bool
	// Next returns the place of the next part; nil means that all are in the stream's folder.
	Next func() (Place, error)
	// Used reports whether the name of a stream is in use elsewhere; nil means that it is not.
	Used func(name string) bool
}

// Writer seals its input. It must be ended with Close or Abort.
type Writer struct {
	dir, name string
	cur       *job          // the chunk being filled
	sent      bool          // a chunk was sent
	order     chan *job     // chunks in the order they were written
	work      chan *job     // the same chunks, for the compressors
	done      chan struct{} // closed when the last byte was read back
	parts     *parts
	mu        sync.Mutex
	err       error
}

// job is one chunk.
type job struct {
	plain, sealed []byte
	ready         chan struct{}
}

var jobs = sync.Pool{New: func() any {
	return &job{plain: make([]byte, 0, chunkSize), ready: make(chan struct{}, 1)}
}}

// Create starts a sealed stream called name in the folder dir.
func Create(dir, name string, opt Options) (*Writer, error) {
	if opt.PartSize <= 0 || opt.PartSize > MaxPart {
		opt.PartSize = MaxPart
	}
	if opt.Workers <= 0 {
		opt.Workers = runtime.GOMAXPROCS(0)
	}
	p := newParts(dir, name, opt)
	enc, err := age.Encrypt(p, opt.To)
	if err != nil {
		p.abort()
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot start the sealed file %s", name)
	}
	w := &Writer{
		dir: dir, name: name, parts: p,
		order: make(chan *job, opt.Workers+1),
		work:  make(chan *job, opt.Workers+1),
		done:  make(chan struct{}),
	}
	for range opt.Workers {
		go func() {
			c := &compressor{}
			for j := range w.work {
				want := balanced
				switch {
				case p.slow():
					want = smallest
				case opt.Roomy:
					want = quickest
				}
				j.sealed = c.frame(j.sealed[:0], j.plain, want)
				j.ready <- struct{}{}
			}
		}()
	}
	go w.emit(enc)
	return w, nil
}

// emit encrypts the compressed chunks in order.
func (w *Writer) emit(enc io.WriteCloser) {
	defer close(w.done)
	for j := range w.order {
		<-j.ready
		if w.failed() == nil {
			_, err := enc.Write(j.sealed)
			w.fail(err)
		}
		j.plain = j.plain[:0]
		jobs.Put(j)
	}
	if w.failed() == nil {
		w.fail(enc.Close())
	}
	if w.failed() == nil {
		w.fail(w.parts.finish())
	}
}

func (w *Writer) fail(err error) {
	if err == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = fault.Wrap(fault.CannotPlace, err, "cannot write the sealed file %s", filepath.Join(w.dir, w.name))
	}
}

func (w *Writer) failed() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// Write seals plain data. An error may come from an earlier Write.
func (w *Writer) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		if w.cur == nil {
			w.cur = jobs.Get().(*job)
		}
		k := min(len(p), chunkSize-len(w.cur.plain))
		w.cur.plain = append(w.cur.plain, p[:k]...)
		p = p[k:]
		if len(w.cur.plain) == chunkSize {
			w.send()
			if err := w.failed(); err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}

func (w *Writer) send() {
	w.order <- w.cur
	w.work <- w.cur
	w.cur, w.sent = nil, true
}

// drain sends the rest, at least one frame, and waits for the end.
func (w *Writer) drain() {
	if w.cur == nil && !w.sent {
		w.cur = jobs.Get().(*job)
	}
	if w.cur != nil {
		w.send()
	}
	close(w.work)
	close(w.order)
	<-w.done
}

// Close ends the stream, waits until it was flushed and read back completely, and gives its files
// their final names. It returns them in order.
func (w *Writer) Close() ([]Part, error) {
	w.drain()
	if err := w.failed(); err != nil {
		w.parts.abort()
		return nil, err
	}
	done, err := w.parts.commit()
	w.fail(err)
	return done, w.failed()
}

// Abort ends the stream and removes its files.
func (w *Writer) Abort() {
	w.fail(fault.New(fault.Stopped, "writing was stopped"))
	w.drain()
	w.parts.abort()
}
