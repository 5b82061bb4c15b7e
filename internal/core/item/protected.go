package item

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"strings"
	"sync"
)

// protection is the start of data that Windows encrypts for a user or a computer (a DPAPI blob: its
// version and provider id, as published).
var protection = []byte{1, 0, 0, 0, 0xd0, 0x8c, 0x9d, 0xdf, 0x01, 0x15, 0xd1, 0x11, 0x8c, 0x7a, 0, 0xc0, 0x4f, 0xc2, 0x97, 0xeb}

// protections has the forms in which programs write the start: bytes, hex digits, and base64 (RFC 4648) at each of its three
// positions; all texts also in UTF-16. Parts of base64 that differ between its alphabets, or that JSON escapes, are left out.
var protections = sync.OnceValue(func() [][]byte {
	digits := hex.EncodeToString(protection)
	texts := []string{digits, strings.ToUpper(digits)}
	for shift := range 3 {
		text := base64.RawStdEncoding.EncodeToString(append(make([]byte, shift), protection...))
		text = text[(shift*8+5)/6 : len(text)-1] // characters with bits of the protection only
		longest := ""
		for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '+' || r == '/' }) {
			if len(part) > len(longest) {
				longest = part
			}
		}
		texts = append(texts, longest)
	}
	out := [][]byte{protection}
	for _, t := range texts {
		wide := make([]byte, 0, 2*len(t))
		for _, c := range []byte(t) {
			wide = append(wide, c, 0)
		}
		out = append(out, []byte(t), wide)
	}
	return out
})

// Protected reports whether data contains data that Windows encrypted so that no other computer can decrypt it, as bytes or as
// text.
func Protected(data []byte) bool {
	for _, form := range protections() {
		if bytes.Contains(data, form) {
			return true
		}
	}
	return false
}
