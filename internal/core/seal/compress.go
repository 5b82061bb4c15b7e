package seal

import (
	"encoding/binary"

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

// frame appends one zstd frame with src to dst. Incompressible data (pictures, archives, encrypted
// data) is stored uncompressed.
func frame(encoder *zstd.Encoder, dst, src []byte) []byte {
	if len(src) >= 16*probeSize {
		mid := len(src) / 2
		if probe := fast.EncodeAll(src[mid:mid+probeSize], dst); len(probe)-len(dst) > probeSize*97/100 {
			return stored(dst, src)
		}
	}
	return encoder.EncodeAll(src, dst)
}

// stored appends a frame of raw blocks: RFC 8878, sections 3.1.1.1 (a single segment with a 4-byte
// content size) and 3.1.1.2 (raw blocks).
func stored(dst, src []byte) []byte {
	const maxBlock = 128 << 10
	dst = append(dst, 0x28, 0xb5, 0x2f, 0xfd, 0b10_1_00000)
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(src)))
	for {
		n := min(len(src), maxBlock)
		header := uint32(n) << 3
		if n == len(src) {
			header |= 1
		}
		dst = append(dst, byte(header), byte(header>>8), byte(header>>16))
		dst = append(dst, src[:n]...)
		if src = src[n:]; len(src) == 0 {
			return dst
		}
	}
}
