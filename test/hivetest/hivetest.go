// Package hivetest creates registry hive files for tests.
package hivetest

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Empty returns an empty hive file with a root key.
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

// Lay creates hive files below a folder, by their paths, from .reg texts, with Debian's
// hivexregedit. Keys look like [\Vendor\App]; values are texts, dword: and hex:. Parent keys are
// created too. If the tool is not installed, the test is skipped; with CI=true it fails.
func Lay(t testing.TB, root string, hives map[string]string) {
	t.Helper()
	if _, err := exec.LookPath("hivexregedit"); err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal("hivexregedit is not installed, and is needed with CI=true")
		}
		t.Skip("hivexregedit is not installed")
	}
	for name, reg := range hives {
		path := filepath.Join(root, filepath.FromSlash(name))
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, Empty(), 0o600); err != nil {
			t.Fatal(err)
		}
		merge := exec.Command("hivexregedit", "--merge", path)
		merge.Stdin = strings.NewReader("Windows Registry Editor Version 5.00\n\n" + withParents(reg))
		if out, err := merge.CombinedOutput(); err != nil {
			t.Fatalf("hivexregedit: %v: %s", err, out)
		}
	}
}

// withParents adds the missing parent keys before each key of a .reg text.
func withParents(reg string) string {
	var out strings.Builder
	met := map[string]bool{}
	for line := range strings.Lines(reg) {
		if key, is := strings.CutPrefix(line, `[\`); is {
			parts := strings.Split(strings.TrimRight(key, "]\r\n"), `\`)
			for i := range parts {
				if above := strings.Join(parts[:i+1], `\`); !met[above] {
					met[above] = true
					if i < len(parts)-1 {
						out.WriteString("\n[\\" + above + "]\n")
					}
				}
			}
			out.WriteString("\n")
		}
		out.WriteString(line)
	}
	return out.String()
}
