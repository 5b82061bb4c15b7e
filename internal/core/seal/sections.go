package seal

import (
	"encoding/binary"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// A stream in sections is a sequence of sealed files, each of which can be read alone. Sections end where the content says so, not
// at fixed offsets. So a stream that changed in one place has the same sections before and after it, which are stored once.

// Sizes of a section's plain data, in bytes. The average is about 5 MiB.
const (
	leastSection = 1 << 20
	mostSection  = 16 << 20
	sectionBits  = 22
)

// Sharing says how a stream shares sections with earlier ones.
type Sharing struct {
	// Key is secret: without it, ids and ends of sections reveal nothing of the content.
	Key digest.Sum
	// Known returns the undamaged sealed files of a section; none if it must be sealed.
	Known func(id string) []Part
}

// Sections seals a stream in sections. It must be ended with Close or Abort.
type Sections struct {
	dir, name string
	opt       Options
	share     Sharing
	cut       cutter
	buf       []byte
	order     []string          // ids
	done      map[string][]Part // by id; nil while a section is being sealed
	made      []Part            // sealed in this run
	mu        sync.Mutex
	err       error
	busy      sync.WaitGroup
	slots     chan []byte
}

// CreateSections starts a stream called name in the folder dir.
func CreateSections(dir, name string, opt Options, share Sharing) *Sections {
	s := &Sections{dir: dir, name: name, opt: opt, share: share, cut: newCutter(share.Key), done: map[string][]Part{}, slots: make(chan []byte, 2)} // one is filled while one is sealed
	for range cap(s.slots) {
		s.slots <- nil
	}
	s.buf = <-s.slots
	return s
}

// Write seals plain data. An error may come from an earlier Write.
func (s *Sections) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		k, ends := s.cut.next(p, len(s.buf))
		s.buf, p = append(s.buf, p[:k]...), p[k:]
		if ends {
			s.end()
		}
	}
	return n, s.failed()
}

// end seals the section that is complete, unless it is known.
func (s *Sections) end() {
	h := digest.Keyed(s.share.Key)
	h.Write(s.buf)
	sum := h.Sum()
	id := hex.EncodeToString(sum[:16])
	s.order = append(s.order, id)
	s.mu.Lock()
	_, is := s.done[id]
	s.mu.Unlock()
	if !is {
		known := s.share.Known(id)
		s.mu.Lock()
		s.done[id] = known
		s.mu.Unlock()
		is = len(known) > 0
	}
	if is || s.failed() != nil {
		s.buf = s.buf[:0]
		return
	}
	data := s.buf
	s.buf = (<-s.slots)[:0]
	s.busy.Go(func() {
		parts, err := s.seal(id, data)
		s.mu.Lock()
		s.done[id], s.made = parts, append(s.made, parts...)
		if s.err == nil {
			s.err = err
		}
		s.mu.Unlock()
		s.slots <- data
	})
}

// seal writes one section.
func (s *Sections) seal(id string, data []byte) ([]Part, error) {
	w, err := Create(s.dir, strings.TrimSuffix(s.name, Ending)+"."+id+Ending, s.opt)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		w.Abort()
		return nil, err
	}
	parts, err := w.Close()
	if err == nil {
		parts[0].Section = id
	}
	return parts, err
}

func (s *Sections) failed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Close ends the stream, when every section was flushed and read back. It returns the files in order.
func (s *Sections) Close() ([]Part, error) {
	if len(s.buf) > 0 || len(s.order) == 0 {
		s.end()
	}
	s.busy.Wait()
	if err := s.failed(); err != nil {
		s.remove()
		return nil, err
	}
	var out []Part
	for _, id := range s.order {
		out = append(out, s.done[id]...)
	}
	return out, nil
}

// Abort ends the stream and removes what it sealed.
func (s *Sections) Abort() {
	s.busy.Wait()
	s.remove()
}

func (s *Sections) remove() {
	for _, p := range s.made {
		os.Remove(filepath.Join(p.Dir, p.Name))
	}
}

// cutter finds the ends of sections: where a hash of the bytes before is 0 in sectionBits bits (a gear hash).
type cutter struct {
	gear [256]uint64
	hash uint64
}

func newCutter(key digest.Sum) (c cutter) {
	for i := range c.gear {
		h := digest.Keyed(key)
		h.Write([]byte{byte(i)})
		sum := h.Sum()
		c.gear[i] = binary.LittleEndian.Uint64(sum[:])
	}
	return c
}

// next returns how many bytes of p belong to the section that has size bytes already, and whether it ends with them.
func (c *cutter) next(p []byte, size int) (n int, ends bool) {
	if skip := leastSection - size; skip > 0 {
		if n = min(skip, len(p)); n == len(p) {
			return n, false
		}
	}
	last := min(len(p), mostSection-size)
	h := c.hash
	for n < last {
		h = h<<1 + c.gear[p[n]]
		n++
		if h>>(64-sectionBits) == 0 {
			c.hash = 0
			return n, true
		}
	}
	c.hash = h
	if size+n == mostSection {
		c.hash = 0
		return n, true
	}
	return n, false
}

// sectionsOf groups the files of a stream by section. A stream without sections is one group.
func sectionsOf(parts []Part) (out [][]Part) {
	for i, p := range parts {
		if i == 0 || p.Section != "" {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], p)
	}
	return out
}

// chain reads sections one after the other.
type chain struct {
	dir  string
	rest [][]Part
	id   age.Identity
	now  *Reader
}

func (c *chain) Read(p []byte) (int, error) {
	for {
		if c.now == nil {
			if len(c.rest) == 0 {
				return 0, io.EOF
			}
			r, err := open(c.dir, c.rest[0], c.id)
			if err != nil {
				return 0, err
			}
			c.now, c.rest = r, c.rest[1:]
		}
		n, err := c.now.Read(p)
		if err != io.EOF {
			return n, err
		}
		err = c.now.Close()
		if c.now = nil; err != nil {
			return n, fault.Wrap(fault.Damaged, err, "cannot close a sealed file")
		}
		if n > 0 {
			return n, nil
		}
	}
}

func (c *chain) Close() error {
	c.rest = nil
	if c.now == nil {
		return nil
	}
	err := c.now.Close()
	c.now = nil
	return err
}
