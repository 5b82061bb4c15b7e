package pathmap

import (
	"bytes"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// encoding is the character encoding of a text file.
type encoding interface {
	// decode returns the characters, the byte offset of each in the file, and the offset of the
	// end.
	decode(data []byte) (runes []rune, at []int)
	encode(text string) ([]byte, bool)
}

// encodingOf detects the encoding of a text: UTF-16 by its byte order mark, UTF-8 if all of it is
// valid, else Windows-1252. Data with zero bytes is not text.
func encodingOf(data []byte) encoding {
	switch {
	case len(data) >= 2 && data[0] == 0xff && data[1] == 0xfe:
		return wide{0, 1}
	case len(data) >= 2 && data[0] == 0xfe && data[1] == 0xff:
		return wide{1, 0}
	case bytes.IndexByte(data, 0) >= 0:
		return nil
	case utf8.Valid(data):
		return utf{}
	}
	return latin{}
}

// utf is UTF-8. A byte order mark is an ordinary character.
type utf struct{}

func (utf) decode(data []byte) (runes []rune, at []int) {
	for i, r := range string(data) {
		runes, at = append(runes, r), append(at, i)
	}
	return runes, append(at, len(data))
}

func (utf) encode(text string) ([]byte, bool) { return []byte(text), true }

// wide is UTF-16 (RFC 2781), with the offsets of a unit's low and high byte.
type wide struct{ low, high int }

func (w wide) decode(data []byte) (runes []rune, at []int) {
	unit := func(i int) rune { return rune(data[i+w.low]) | rune(data[i+w.high])<<8 }
	i := 0
	for ; i+1 < len(data); i += 2 {
		at = append(at, i)
		r := unit(i)
		if utf16.IsSurrogate(r) && i+3 < len(data) {
			if both := utf16.DecodeRune(r, unit(i+2)); both != utf8.RuneError {
				r = both
				i += 2
			}
		}
		runes = append(runes, r)
	}
	return runes, append(at, i)
}

func (w wide) encode(text string) ([]byte, bool) {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		b := make([]byte, 2)
		b[w.low], b[w.high] = byte(u), byte(u>>8)
		out = append(out, b...)
	}
	return out, true
}

// latin is Windows-1252.
type latin struct{}

func (latin) decode(data []byte) (runes []rune, at []int) {
	for i, b := range data {
		runes, at = append(runes, charmap.Windows1252.DecodeByte(b)), append(at, i)
	}
	return runes, append(at, len(data))
}

func (latin) encode(text string) (out []byte, ok bool) {
	for _, r := range text {
		b, ok := charmap.Windows1252.EncodeRune(r)
		if !ok {
			return nil, false
		}
		out = append(out, b)
	}
	return out, true
}
