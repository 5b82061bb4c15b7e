package survey

import (
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/klauspost/compress/zstd"

	"movekit/internal/core/tree"
)

// How content is sampled for its sealed size.
const (
	sampleFiles  = 24       // files looked into
	sampleBytes  = 64 << 10 // bytes read of each
	perEntry     = 96       // bytes that a file or folder itself takes, compressed
	sampleMargin = 16 << 20 // bytes that are kept free in any case
)

// sampler chooses files at random, a large one more likely than a small one
// (weighted reservoir sampling, algorithm A-Res of Efraimidis and Spirakis).
type sampler struct {
	random  *rand.Rand
	chosen  []chosen
	entries int64
}

type chosen struct {
	path string
	size int64
	key  float64
}

func (s *sampler) see(e tree.Entry) {
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

// estimate returns how many bytes the source will take in the kit, about.
func (s *sampler) estimate(src tree.Source, st *tree.Stats) int64 {
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

// scaled is the size of all where a sample of raw bytes takes packed bytes.
func scaled(all, raw, packed int64) int64 {
	if raw == 0 {
		return all
	}
	return int64(float64(all) * min(float64(packed)/float64(raw), 1))
}

// sampleDatabase estimates the sealed size of a single file that is read at
// several spots.
func (l *Looker) sampleDatabase(path string, is *Item) error {
	if l.Estimate {
		raw, packed := squeeze(path, is.Bytes, 16)
		is.Sealed = scaled(is.Bytes, raw, packed) + perEntry
	}
	return nil
}

// squeeze compresses pieces of a file, spread over it, and returns the bytes
// read and what they became. What cannot be read does not count.
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

func matches(pattern, text string) bool {
	re, err := regexp.Compile(`(?m)` + pattern)
	return err == nil && re.MatchString(text)
}

func plural(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
