package seal

import (
	"encoding/binary"

	"github.com/klauspost/compress/huff0"
	"github.com/klauspost/compress/zstd"
)

// chunkSize is the plain data in one zstd frame, in bytes. Frames are independent, so that they can
// be compressed in parallel; together they are one zstd stream (RFC 8878, section 3).
const chunkSize = 1 << 20

// probeSize is the number of bytes of a chunk that are compressed to test whether it is
// compressible.
const probeSize = 8 << 10

// The encoders: fast is for media that take data as fast as it is compressed, small for slower ones, where fewer bytes count.
var fast, small = encoder(zstd.SpeedFastest, 256<<10), encoder(zstd.SpeedDefault, chunkSize)

// encoder returns an encoder whose frames look back at most window bytes.
func encoder(level zstd.EncoderLevel, window int) *zstd.Encoder {
	e, err := zstd.NewWriter(nil,
		zstd.WithEncoderLevel(level),
		zstd.WithEncoderCRC(false), // age authenticates every byte
		zstd.WithZeroFrames(true),
		zstd.WithWindowSize(window))
	if err != nil {
		panic(err) // only for contradictory options
	}
	return e
}

// speed says which of time and bytes counts more.
type speed int

const (
	smallest speed = iota // bytes: the medium is slower than the compression
	balanced
	quickest // time: the medium is fast, and has room
)

// compressor compresses chunks, one at a time.
type compressor struct{ codes huff0.Scratch }

// frame appends one zstd frame with src to dst. Incompressible data (pictures, archives, encrypted
// data) is stored uncompressed.
func (c *compressor) frame(dst, src []byte, want speed) []byte {
	if len(src) >= 16*probeSize {
		mid := len(src) / 2
		switch probe := len(fast.EncodeAll(src[mid:mid+probeSize], dst)) - len(dst); {
		case probe > probeSize*97/100:
			return stored(dst, src, nil)
		case want == quickest && probe > probeSize*repetitive/100:
			return stored(dst, src, c)
		}
	}
	if want == smallest {
		return small.EncodeAll(src, dst)
	}
	return fast.EncodeAll(src, dst)
}

// repetitive is the percentage up to which data shrinks if much of it is repeated. Finding what is repeated is then quick, too.
const repetitive = 30

// stored appends a frame (RFC 8878, section 3.1.1.1: a single segment with a 4-byte content size) whose blocks are raw (3.1.1.2) or,
// with a compressor, literals in Huffman codes without sequences (3.1.1.3.1). Coding letters by their frequency takes a quarter of
// the time of searching for what is repeated.
func stored(dst, src []byte, c *compressor) []byte {
	const maxBlock = 128 << 10
	dst = append(dst, 0x28, 0xb5, 0x2f, 0xfd, 0b10_1_00000)
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(src)))
	for {
		block := src[:min(len(src), maxBlock)]
		src = src[len(block):]
		last := uint32(0)
		if len(src) == 0 {
			last = 1
		}
		if coded := c.codesOf(block); coded != nil {
			const literals, fourStreams, lengths = 2, 3, 5 // lengths: bytes of the literals' header
			dst = blockHeader(dst, last, 2, lengths+len(coded)+1)
			head := literals | fourStreams<<2 | uint64(len(block))<<4 | uint64(len(coded))<<22
			dst = append(dst, byte(head), byte(head>>8), byte(head>>16), byte(head>>24), byte(head>>32))
			dst = append(append(dst, coded...), 0) // no sequences
		} else {
			dst = append(blockHeader(dst, last, 0, len(block)), block...)
		}
		if last == 1 {
			return dst
		}
	}
}

// blockHeader appends the header of a block.
func blockHeader(dst []byte, last, kind uint32, size int) []byte {
	header := last | kind<<1 | uint32(size)<<3
	return append(dst, byte(header), byte(header>>8), byte(header>>16))
}

// codesOf returns the Huffman codes of a block with their table, or nil if that is not much smaller. They are valid until the next call.
func (c *compressor) codesOf(block []byte) []byte {
	if c == nil || len(block) < 1<<10 {
		return nil
	}
	c.codes.Reuse = huff0.ReusePolicyNone
	coded, _, err := huff0.Compress4X(block, &c.codes)
	if err != nil || len(coded) > len(block)*97/100 {
		return nil
	}
	return coded
}
