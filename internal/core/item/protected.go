package item

import "bytes"

// protection is the start of data that Windows encrypts for a user or a computer (a DPAPI blob: its
// version and provider id, as published).
var protection = []byte{1, 0, 0, 0, 0xd0, 0x8c, 0x9d, 0xdf, 0x01, 0x15, 0xd1, 0x11, 0x8c, 0x7a, 0, 0xc0, 0x4f, 0xc2, 0x97, 0xeb}

// Protected reports whether data starts with, or soon contains, data that Windows encrypted so that
// no other computer can decrypt it.
func Protected(data []byte) bool {
	return bytes.Contains(data[:min(len(data), 256)], protection)
}
