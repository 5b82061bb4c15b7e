package item

import "bytes"

// protection starts what Windows encrypts for a user or a computer (a data protection blob:
// its version, and the id of the provider, by the layout that is published of it).
var protection = []byte{1, 0, 0, 0, 0xd0, 0x8c, 0x9d, 0xdf, 0x01, 0x15, 0xd1, 0x11, 0x8c, 0x7a, 0, 0xc0, 0x4f, 0xc2, 0x97, 0xeb}

// Protected reports whether data is, or holds at its beginning, what Windows encrypted so that
// no other computer can open it.
func Protected(data []byte) bool {
	return bytes.Contains(data[:min(len(data), 256)], protection)
}
