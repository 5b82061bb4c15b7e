package digest

import (
	"bytes"
	"strings"
	"testing"
	"testing/iotest"
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
