// Package hivetest makes registry hive files for tests.
package hivetest

import (
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// Empty returns a hive file with a root key and nothing in it.
func Empty() []byte {
	h := make([]byte, 8192)
	put := func(at int, v uint32) { binary.LittleEndian.PutUint32(h[at:], v) }
	copy(h, "regf")
	put(4, 1)
	put(8, 1)
	put(20, 1)
	put(24, 5)
	put(32, 1)
	put(36, 32)   // the root key
	put(40, 4096) // one bin
	put(44, 1)
	var sum uint32
	for i := 0; i < 508; i += 4 {
		sum ^= binary.LittleEndian.Uint32(h[i:])
	}
	put(508, sum)
	bin := 4096
	copy(h[bin:], "hbin")
	put(bin+8, 4096)
	nk := bin + 32
	used := func(at, size int) { put(at, uint32(-size)) }
	used(nk, 88)
	copy(h[nk+4:], "nk")
	binary.LittleEndian.PutUint16(h[nk+6:], 0x2c)
	for _, none := range []int{32, 36, 44, 52} { // lists and class
		put(nk+none, 0xffffffff)
	}
	put(nk+48, 32+88) // security
	binary.LittleEndian.PutUint16(h[nk+4+72:], 4)
	copy(h[nk+4+76:], "ROOT")
	sk := nk + 88
	used(sk, 48)
	copy(h[sk+4:], "sk")
	put(sk+8, 32+88)
	put(sk+12, 32+88)
	put(sk+16, 1)
	put(sk+20, 20)
	copy(h[sk+24:], []byte{1, 0, 4, 0x80})
	free := sk + 48
	put(free, uint32(8192-free))
	return h
}

// Make makes a hive file with the keys of a .reg text, by Debian's
// hivexregedit. Values are texts, dword: and hex:.
func Make(name, reg string) error {
	if err := os.WriteFile(name, Empty(), 0o600); err != nil {
		return err
	}
	merge := exec.Command("hivexregedit", "--merge", name)
	merge.Stdin = strings.NewReader("Windows Registry Editor Version 5.00\n\n" + reg)
	if out, err := merge.CombinedOutput(); err != nil {
		return fmt.Errorf("hivexregedit: %w: %s", err, out)
	}
	return nil
}
