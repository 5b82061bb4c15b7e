// Package digest defines the content hash of Move Kit: BLAKE3 with 32 bytes of output.
//
// New returns a running hash, Of hashes data, Reader a stream, and File a file on all processors.
package digest

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"math/bits"
	"runtime"
	"sync"
	"sync/atomic"

	"lukechampine.com/blake3"
	"lukechampine.com/blake3/guts"

	"movekit/internal/core/block"
)

// Sum is a BLAKE3 hash.
type Sum [32]byte

// String returns the hash in lower-case hex, as b3sum prints it.
func (s Sum) String() string { return hex.EncodeToString(s[:]) }

// Of returns the hash of data.
func Of(data []byte) Sum {
	if len(data) <= guts.ChunkSize { // such as a row of a database
		return rootSum(guts.CompressChunk(data, &guts.IV, 0, 0))
	}
	h := hashes.Get().(*Hash)
	defer hashes.Put(h)
	h.Reset()
	h.Write(data)
	return h.Sum()
}

var hashes = sync.Pool{New: func() any { return New() }}

// Parse parses 64 lower-case hex digits.
func Parse(s string) (Sum, bool) {
	var out Sum
	raw, err := hex.DecodeString(s)
	if err != nil || len(raw) != len(out) {
		return out, false
	}
	copy(out[:], raw)
	return out, out.String() == s
}

// groupSize is the number of bytes that are compressed at a time: a subtree of 16 chunks (BLAKE3 paper, section 5).
const groupSize = guts.MaxSIMD * guts.ChunkSize

// Hash is a running hash.
type Hash struct {
	key    [8]uint32
	flags  uint32
	stack  [50][8]uint32 // chaining values of complete subtrees, by height above a group
	groups uint64        // number of complete groups; its bits say which subtrees are in the stack
	buf    [groupSize]byte
	n      int // bytes in buf
}

// New returns an empty Hash.
func New() *Hash { return &Hash{key: guts.IV} }

// Keyed returns a Hash that only holders of the 32-byte key can compute.
func Keyed(key Sum) *Hash {
	h := &Hash{flags: guts.FlagKeyedHash}
	for i := range h.key {
		h.key[i] = binary.LittleEndian.Uint32(key[4*i:])
	}
	return h
}

// Write adds p to the hash. It never fails.
func (h *Hash) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		if h.n == groupSize { // more follows, so that this group is not the last one
			h.push(h.group(&h.buf, groupSize, h.groups), 0)
			h.n = 0
		}
		for h.n == 0 && len(p) > groupSize {
			h.push(h.group((*[groupSize]byte)(p), groupSize, h.groups), 0)
			p = p[groupSize:]
		}
		k := copy(h.buf[h.n:], p)
		h.n += k
		p = p[k:]
	}
	return n, nil
}

// group returns the node of n bytes, at most a group, that come after a number of groups.
func (h *Hash) group(buf *[groupSize]byte, n int, groups uint64) guts.Node {
	return guts.CompressBuffer(buf, n, &h.key, groups*guts.MaxSIMD, h.flags)
}

// push adds a complete subtree of 1<<height groups.
func (h *Hash) push(n guts.Node, height int) {
	cv := guts.ChainingValue(n)
	i := height
	for h.groups&(1<<i) != 0 {
		cv = guts.ChainingValue(guts.ParentNode(h.stack[i], cv, &h.key, h.flags))
		i++
	}
	h.stack[i] = cv
	h.groups += 1 << height
}

// Sum returns the hash of everything written.
func (h *Hash) Sum() Sum { return h.root(h.group(&h.buf, h.n, h.groups)) }

// root returns the hash of the complete subtrees and of the last node.
func (h *Hash) root(n guts.Node) Sum {
	for i := bits.TrailingZeros64(h.groups); i < bits.Len64(h.groups); i++ {
		if h.groups&(1<<i) != 0 {
			n = guts.ParentNode(h.stack[i], guts.ChainingValue(n), &h.key, h.flags)
		}
	}
	return rootSum(n)
}

// rootSum returns the hash of which n is the root.
func rootSum(n guts.Node) (s Sum) {
	n.Flags |= guts.FlagRoot
	out := guts.WordsToBytes(guts.CompressNode(n))
	copy(s[:], out[:])
	return s
}

// Reset makes the Hash empty.
func (h *Hash) Reset() { h.groups, h.n = 0, 0 }

// Derive returns a key for one purpose from a secret (BLAKE3 derive_key; the
// purpose is its context string).
func Derive(purpose string, secret []byte) (s Sum) {
	blake3.DeriveKey(s[:], purpose, secret)
	return s
}

// Reader hashes all of r, and returns the hash and the number of bytes.
func Reader(r io.Reader) (Sum, int64, error) {
	buf := block.Take()
	defer block.Give(buf)
	h := hashes.Get().(*Hash)
	defer hashes.Put(h)
	h.Reset()
	n, err := io.CopyBuffer(h, struct{ io.Reader }{r}, buf)
	return h.Sum(), n, err
}

// segmentHeight is the height of the subtrees that File hashes at a time: 64 groups, 1 MiB.
const segmentHeight = 6

// File hashes the first size bytes of r. It reads and hashes segments of 1 MiB on all processors.
func File(r io.ReaderAt, size int64) (Sum, error) {
	const segment = groupSize << segmentHeight
	h := New()
	// The last bytes, at least one, are not a complete subtree.
	whole := int((size - 1) / segment)
	nodes, errs := make([]guts.Node, whole), make([]error, runtime.GOMAXPROCS(0))
	var next atomic.Int64
	var busy sync.WaitGroup
	for w := range errs {
		busy.Go(func() {
			buf := make([]byte, segment)
			for errs[w] == nil {
				i := next.Add(1) - 1
				if i >= int64(whole) {
					return
				}
				if errs[w] = readFull(r, buf, i*segment); errs[w] == nil {
					nodes[i] = h.subtree(buf, uint64(i)<<segmentHeight)
				}
			}
		})
	}
	busy.Wait()
	if err := errors.Join(errs...); err != nil {
		return Sum{}, err
	}
	for _, n := range nodes {
		h.push(n, segmentHeight)
	}
	_, err := io.Copy(h, io.NewSectionReader(r, int64(whole)*segment, size-int64(whole)*segment))
	return h.Sum(), err
}

// subtree returns the node of a complete subtree that comes after a number of groups.
func (h *Hash) subtree(buf []byte, groups uint64) guts.Node {
	if len(buf) == groupSize {
		return h.group((*[groupSize]byte)(buf), groupSize, groups)
	}
	half := len(buf) / 2
	left, right := h.subtree(buf[:half], groups), h.subtree(buf[half:], groups+uint64(half/groupSize))
	return guts.ParentNode(guts.ChainingValue(left), guts.ChainingValue(right), &h.key, h.flags)
}

// readFull fills buf from an offset.
func readFull(r io.ReaderAt, buf []byte, off int64) error {
	n, err := r.ReadAt(buf, off)
	if n == len(buf) {
		return nil
	}
	if err == io.EOF {
		err = io.ErrUnexpectedEOF // it became shorter
	}
	return err
}

// Blocks hashes content that comes in blocks. Content of a single block takes no memory.
type Blocks struct {
	h   *Hash
	sum Sum
}

// Add hashes the next block. last means that it is the last one.
func (s *Blocks) Add(b []byte, last bool) {
	switch {
	case s.h == nil && last:
		s.sum = Of(b)
		return
	case s.h == nil:
		s.h = New()
	}
	s.h.Write(b)
	if last {
		s.sum = s.h.Sum()
	}
}

// Sum returns the hash after the last block.
func (s *Blocks) Sum() Sum { return s.sum }
