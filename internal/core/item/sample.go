package item

import (
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"

	"github.com/klauspost/compress/zstd"

	"movekit/internal/core/tree"
)

// Limits for sampling content to estimate its sealed size.
const (
	sampleFiles = 24       // files sampled
	sampleBytes = 64 << 10 // bytes read per file
	perEntry    = 96       // bytes for the entry of a file or folder, compressed
)

// Sampler picks files at random, weighted by size (weighted reservoir sampling, algorithm A-Res of
// Efraimidis and Spirakis).
type Sampler struct {
	random  *rand.Rand
	chosen  []chosen
	entries int64
}

type chosen struct {
	path string
	size int64
	key  float64
}

// See adds an entry.
func (s *Sampler) See(e tree.Entry) {
	s.entries++
	if e.Type != tree.File || e.Size == 0 {
		return
	}
	if s.random == nil {
		s.random = rand.New(rand.NewPCG(1, 1))
	}
	c := chosen{e.Path, e.Size, math.Log(1-s.random.Float64()) / float64(e.Size)}
	if len(s.chosen) < sampleFiles {
		s.chosen = append(s.chosen, c)
		return
	}
	least := 0
	for i := range s.chosen {
		if s.chosen[i].key < s.chosen[least].key {
			least = i
		}
	}
	if c.key > s.chosen[least].key {
		s.chosen[least] = c
	}
}

// Estimate returns the approximate size of the source in the kit, in bytes.
func (s *Sampler) Estimate(src tree.Source, st *tree.Stats) int64 {
	var raw, packed int64
	slices.SortFunc(s.chosen, func(a, b chosen) int { return int(a.size - b.size) })
	for _, c := range s.chosen {
		name := src.Root
		if !src.Single {
			name = filepath.Join(src.Root, filepath.FromSlash(c.path))
		}
		r, p := squeeze(name, c.size, 1)
		raw, packed = raw+r, packed+p
	}
	return scaled(st.Bytes, raw, packed) + s.entries*perEntry
}

// scaled extrapolates from a sample of raw bytes, which compressed to packed bytes, to all bytes.
func scaled(all, raw, packed int64) int64 {
	if raw == 0 {
		return all
	}
	return int64(float64(all) * min(float64(packed)/float64(raw), 1))
}

// EstimateFile returns the approximate size of a file in the kit, in bytes, from samples at several
// offsets.
func EstimateFile(path string, size int64) int64 {
	raw, packed := squeeze(path, size, 16)
	return scaled(size, raw, packed) + perEntry
}

// squeeze compresses pieces of a file and returns their raw and compressed sizes. It ignores
// unreadable pieces.
func squeeze(name string, size int64, pieces int) (raw, packed int64) {
	f, err := os.Open(name)
	if err != nil {
		return 0, 0
	}
	defer f.Close()
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return 0, 0
	}
	defer enc.Close()
	buf := make([]byte, sampleBytes)
	for i := range pieces {
		at := max(size-sampleBytes, 0) * int64(i) / int64(max(pieces-1, 1))
		n, err := f.ReadAt(buf, at)
		if n == 0 || err != nil && err != io.EOF {
			break
		}
		raw += int64(n)
		packed += int64(len(enc.EncodeAll(buf[:n], nil)))
		if size <= sampleBytes {
			break
		}
	}
	return raw, packed
}
