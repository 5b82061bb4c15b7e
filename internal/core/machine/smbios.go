package machine

import (
	"bytes"
	"encoding/hex"
)

// smbiosUUID returns the system UUID in an SMBIOS structure table (DMTF DSP0134, sections 6.1 and
// 7.2), or "" if there is none.
func smbiosUUID(table []byte) string {
	for len(table) >= 4 {
		kind, length := table[0], int(table[1])
		if length < 4 || length > len(table) {
			return ""
		}
		if kind == 1 && length >= 24 {
			id := table[8:24]
			if bytes.Count(id, []byte{0}) == 16 || bytes.Count(id, []byte{0xff}) == 16 {
				return ""
			}
			return hex.EncodeToString(id)
		}
		// Strings follow, up to two zero bytes.
		end := bytes.Index(table[length:], []byte{0, 0})
		if end < 0 {
			return ""
		}
		table = table[length+end+2:]
	}
	return ""
}
