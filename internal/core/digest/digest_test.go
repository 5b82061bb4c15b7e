package digest

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"lukechampine.com/blake3"
)

// empty is the BLAKE3 hash of nothing, from the published test vectors.
const empty = "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262"

// TestSums checks published hashes, for any split of the input.
func TestSums(t *testing.T) {
	if Of(nil).String() != empty {
		t.Errorf("nothing is %s", Of(nil))
	}
	data := bytes.Repeat([]byte("berth "), 1000)
	sum, n, err := Reader(iotest.OneByteReader(bytes.NewReader(data)))
	if sum != Of(data) || n != int64(len(data)) || err != nil {
		t.Errorf("read: %s of %d bytes, %v", sum, n, err)
	}
	if _, _, err := Reader(iotest.ErrReader(iotest.ErrTimeout)); err == nil {
		t.Error("what cannot be read has a hash")
	}
	h := New()
	h.Write([]byte("x"))
	if h.Reset(); h.Sum().String() != empty {
		t.Errorf("after a new beginning: %s", h.Sum())
	}
	keyed := Keyed(Sum{1})
	if keyed.Sum() == Of(nil) || keyed.Sum() == Keyed(Sum{2}).Sum() || Derive("a", nil) == Derive("b", nil) || Derive("a", data) == Derive("a", nil) {
		t.Error("keys make no difference")
	}
}

// TestParse accepts only the form that String writes.
func TestParse(t *testing.T) {
	if s, ok := Parse(empty); !ok || s != Of(nil) {
		t.Errorf("%s, %v", s, ok)
	}
	for _, text := range []string{"", empty[2:], empty + "00", strings.ToUpper(empty), "x" + empty[1:], " " + empty} {
		if _, ok := Parse(text); ok {
			t.Errorf("%q is taken for a hash", text)
		}
	}
}

// TestSizes compares the hash of data of many sizes with the library's own, for any split, with a key, and of a file on all
// processors.
func TestSizes(t *testing.T) {
	t.Parallel()
	var seed [32]byte
	all := make([]byte, 5<<20+99)
	rand.NewChaCha8(seed).Read(all)
	random := rand.New(rand.NewPCG(1, 2))
	sizes := []int{0, 1, 63, 64, 65, 1023, 1024, 1025, 16383, 16384, 16385, 32768, 1<<20 - 1, 1 << 20, 1<<20 + 1, 2 << 20, 3<<20 + 17, 4 << 20, 5 << 20, len(all)}
	for range 40 {
		sizes = append(sizes, random.IntN(len(all)))
	}
	key := Sum{7, 9}
	for _, size := range sizes {
		data := all[:size]
		want := Sum(blake3.Sum256(data))
		if Of(data) != want {
			t.Errorf("%d bytes: %s, want %s", size, Of(data), want)
		}
		if got, err := File(bytes.NewReader(data), int64(size)); got != want || err != nil {
			t.Errorf("a file of %d bytes: %s, want %s, %v", size, got, want, err)
		}
		theirs := blake3.New(32, key[:])
		theirs.Write(data)
		h, keyed := New(), Keyed(key)
		for rest := data; len(rest) > 0; {
			n := min(1+random.IntN(1+random.IntN(100_000)), len(rest))
			h.Write(rest[:n])
			keyed.Write(rest[:n])
			h.Sum() // does not change it
			rest = rest[n:]
		}
		if h.Sum() != want || !bytes.Equal(theirs.Sum(nil), func() []byte { s := keyed.Sum(); return s[:] }()) {
			t.Errorf("%d bytes in pieces: %s, want %s", size, h.Sum(), want)
		}
	}
	if _, err := File(bytes.NewReader(all), int64(len(all))+1<<20); err == nil {
		t.Error("a file that became shorter has a hash")
	}
	if _, err := File(failing{}, 9<<20); err == nil {
		t.Error("what cannot be read has a hash")
	}
}

type failing struct{}

func (failing) ReadAt([]byte, int64) (int, error) { return 0, iotest.ErrTimeout }

func BenchmarkOf(b *testing.B) {
	for _, size := range []int{100, 4096, 1 << 20} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			data := make([]byte, size)
			b.SetBytes(int64(size))
			for b.Loop() {
				Of(data)
			}
		})
	}
}
