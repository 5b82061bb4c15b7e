package wire

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"
)

// message writes one message of the protocol.
func message(typ byte, body []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{typ}, uint32(len(body)+4)), body...)
}

// messages reads a stream of messages, and joins those of CopyData.
func messages(t *testing.T, r io.Reader, longest int) (types string, data []byte) {
	t.Helper()
	for {
		head := make([]byte, headSize)
		if _, err := io.ReadFull(r, head); err == io.EOF {
			return types, data
		} else if err != nil {
			t.Fatal(err)
		}
		body := make([]byte, binary.BigEndian.Uint32(head[1:])-4)
		if _, err := io.ReadFull(r, body); err != nil {
			t.Fatal(err)
		}
		if head[0] != 'd' {
			types += string(head[0])
			continue
		}
		if data = append(data, body...); len(body) > longest {
			t.Fatalf("a CopyData of %d bytes is handed on whole", len(body))
		}
	}
}

// TestSplitter passes on messages of many lengths, for any size of reads.
func TestSplitter(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	var stream, want []byte
	stream = append(stream, message('T', make([]byte, 300))...)
	for _, n := range []int{0, 1, 99, 100, 101, 200, 1000, 5} {
		body := make([]byte, n)
		for i := range body {
			body[i] = byte(random.Int())
		}
		want = append(want, body...)
		stream = append(stream, message('d', body)...)
		stream = append(stream, message('N', body)...) // not a CopyData: never split
	}
	stream = append(stream, message('Z', []byte{'I'})...)
	for name, r := range map[string]io.Reader{
		"at once": bytes.NewReader(stream), "byte by byte": iotest.OneByteReader(bytes.NewReader(stream)), "halves": iotest.HalfReader(bytes.NewReader(stream)), "with its end": iotest.DataErrReader(bytes.NewReader(stream)),
	} {
		s := newSplitter(r)
		s.part, s.buf = 100, make([]byte, 64)
		types, data := messages(t, s, 100)
		if types != "TNNNNNNNNZ" || !bytes.Equal(data, want) {
			t.Errorf("%s: %s, %d bytes of %d", name, types, len(data), len(want))
		}
	}
	whole := newSplitter(bytes.NewReader(stream))
	if got, err := io.ReadAll(iotest.OneByteReader(whole)); err != nil || !bytes.Equal(got, stream) {
		t.Errorf("nothing is long: %d bytes of %d (%v)", len(got), len(stream), err)
	}
	if _, err := io.ReadAll(newSplitter(iotest.TimeoutReader(iotest.OneByteReader(bytes.NewReader(stream))))); err != iotest.ErrTimeout {
		t.Errorf("an error of the network: %v", err)
	}
}
