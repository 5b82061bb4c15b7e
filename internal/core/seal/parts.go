package seal

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"movekit/internal/core/block"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
)

// window is the number of blocks that are written before they are flushed and read back. While that
// happens, up to runAhead more blocks wait in memory, so that work continues while the medium is
// busy.
const (
	window   = 16
	runAhead = 40
)

// parts splits a stream into files. A follower reads each file back from the
// medium, compares it with what was written, and hashes it.
type parts struct {
	dir, name string
	next      func() (Place, error)
	at        Place // of the current part
	block     []byte
	file      *os.File // the current part
	size      int64    // bytes written to it
	follow    *follower
	waiting   atomic.Int32 // blocks that were written and not yet flushed, when the last one was written
	done      []Part
}

// Ending is the suffix of sealed streams: zstd in age.
const Ending = ".zst.age"

// newParts starts a stream under an unused name, so that an earlier stream stays complete.
func newParts(dir, name string, o Options) *parts {
	p := &parts{dir: dir, name: name, next: o.Next}
	if p.next == nil {
		p.next = func() (Place, error) { return Place{Dir: dir, Limit: o.PartSize}, nil }
	}
	for n := 2; p.taken() || o.Used != nil && o.Used(p.name); n++ {
		p.name = fmt.Sprintf("%s.%d%s", strings.TrimSuffix(name, Ending), n, Ending)
	}
	return p
}

func (p *parts) taken() bool {
	_, one := os.Lstat(filepath.Join(p.dir, p.name))
	_, many := os.Lstat(filepath.Join(p.dir, p.partName(1)))
	return one == nil || many == nil
}

func (p *parts) partName(n int) string { return fmt.Sprintf("%s.%03d", p.name, n) }

// temp returns the path of a part that is not finished, in its folder.
func (p *parts) temp(dir string, n int) string { return filepath.Join(dir, p.partName(n)+Unfinished) }

// Write appends b to the stream.
func (p *parts) Write(b []byte) (int, error) {
	n := len(b)
	for len(b) > 0 {
		if p.file == nil {
			if err := p.start(); err != nil {
				return 0, err
			}
		}
		if p.block == nil {
			p.block = block.Take()[:0]
		}
		room := min(int64(block.Size-len(p.block)), p.at.Limit-p.size-int64(len(p.block)))
		k := min(int64(len(b)), room)
		p.block = append(p.block, b[:k]...)
		b = b[k:]
		full := p.size+int64(len(p.block)) == p.at.Limit
		if len(p.block) == block.Size || full {
			if err := p.put(); err != nil {
				return 0, err
			}
		}
		if full {
			if err := p.endPart(); err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}

func (p *parts) start() (err error) {
	if p.at, err = p.next(); err != nil {
		return err
	}
	name := p.temp(p.at.Dir, len(p.done)+1)
	f, err := filemeta.Create(name, 0o600)
	if err != nil {
		return err
	}
	p.file, p.size = f, 0
	p.follow = follow(f, name)
	return nil
}

// put writes the block and passes it to the follower.
func (p *parts) put() error {
	if len(p.block) == 0 {
		return nil
	}
	if _, err := p.file.Write(p.block); err != nil {
		return err
	}
	p.size += int64(len(p.block))
	p.follow.blocks <- p.block
	p.block = nil
	p.waiting.Store(int32(len(p.follow.blocks)))
	return nil
}

// slow reports whether the medium is slower than what is written to it.
func (p *parts) slow() bool { return p.waiting.Load() > runAhead*3/4 }

// endPart flushes the part and waits until it was read back completely.
func (p *parts) endPart() error {
	if err := p.put(); err != nil {
		return err
	}
	hash, err := p.follow.wait()
	p.follow = nil
	if err == nil {
		err = p.file.Sync()
	}
	if cerr := p.file.Close(); err == nil {
		err = cerr
	}
	p.file = nil
	p.done = append(p.done, Part{Size: p.size, Hash: hash.String(), Medium: p.at.Medium, Dir: p.at.Dir})
	return err
}

func (p *parts) finish() error {
	if p.file == nil {
		return nil
	}
	return p.endPart()
}

// commit gives the parts their final names.
func (p *parts) commit() ([]Part, error) {
	for i := range p.done {
		d := &p.done[i]
		d.Name = p.name
		if len(p.done) > 1 {
			d.Name = p.partName(i + 1)
		}
		if _, err := os.Lstat(filepath.Join(d.Dir, d.Name)); err == nil && d.Medium != 0 { // perhaps of a newer copy of the kit
			return nil, fault.New(fault.CannotPlace, "%s exists already: use an empty folder", filepath.Join(d.Dir, d.Name))
		}
		if err := os.Rename(p.temp(d.Dir, i+1), filepath.Join(d.Dir, d.Name)); err != nil {
			return nil, err
		}
		if i+1 == len(p.done) || p.done[i+1].Dir != d.Dir {
			if err := SyncDir(d.Dir); err != nil {
				return nil, err
			}
		}
	}
	return p.done, nil
}

// abort removes the files of the stream.
func (p *parts) abort() {
	if p.follow != nil {
		p.follow.wait()
		p.follow = nil
	}
	if p.file != nil {
		p.file.Close()
		p.file = nil
	}
	for i, d := range p.done {
		os.Remove(p.temp(d.Dir, i+1))
	}
	os.Remove(p.temp(p.at.Dir, len(p.done)+1))
}

// follower reads a part back while it is being written.
type follower struct {
	blocks chan []byte
	result chan error
	hash   *digest.Hash
}

func follow(w *os.File, name string) *follower {
	f := &follower{blocks: make(chan []byte, runAhead), result: make(chan error, 1), hash: digest.New()}
	go func() {
		err := f.run(w, name)
		for b := range f.blocks { // after a failure the writer must not wait
			block.Give(b)
		}
		f.result <- err
	}()
	return f
}

func (f *follower) wait() (digest.Sum, error) {
	close(f.blocks)
	err := <-f.result
	return f.hash.Sum(), err
}

func (f *follower) run(w *os.File, name string) error {
	r, err := openUncached(name)
	if err != nil {
		return err
	}
	defer r.Close()
	back := block.Take()
	defer block.Give(back)
	var off int64
	var held [][]byte
	for more := true; more; {
		var b []byte
		if b, more = <-f.blocks; more {
			held = append(held, b)
		}
		if len(held) < window && more || len(held) == 0 {
			continue
		}
		if err := syncData(w); err != nil {
			return err
		}
		var n int64
		for _, b := range held {
			n += int64(len(b))
		}
		dropCache(r, off, n)
		for i, b := range held {
			got, err := io.ReadFull(r, back[:blockLen(len(b))])
			if err != nil && (err != io.ErrUnexpectedEOF || got < len(b)) {
				return fault.Wrap(fault.Damaged, err, "cannot read %s back at byte %d", name, off)
			}
			if !bytes.Equal(back[:len(b)], b) {
				return fault.New(fault.Damaged, "the medium returned different data than was written, in %s from byte %d", name, off)
			}
			f.hash.Write(back[:len(b)])
			off += int64(len(b))
			block.Give(b)
			held[i] = nil
		}
		dropCache(r, off-n, n)
		held = held[:0]
	}
	return nil
}
