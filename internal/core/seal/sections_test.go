package seal

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"

	"movekit/internal/core/digest"
	"movekit/test/fatal"
)

// TestSections seals random streams again after edits: each comes back as it was, and sections away from the edit are shared.
func TestSections(t *testing.T) {
	t.Parallel()
	id, err := age.GenerateX25519Identity()
	fatal.If(t, err)
	random := rand.New(rand.NewPCG(7, 7))
	var seed [32]byte
	data := make([]byte, 60<<20)
	rand.NewChaCha8(seed).Read(data)
	dir := t.TempDir()
	known := map[string][]Part{}
	seal := func(data []byte, key byte) (parts []Part, made int) {
		t.Helper()
		before, _ := os.ReadDir(dir)
		s := CreateSections(dir, "diary.tar"+Ending, Options{To: id.Recipient(), PartSize: 9 << 20}, Sharing{Key: digest.Of([]byte{key}), Known: func(id string) []Part { return known[id] }})
		for rest := data; len(rest) > 0; {
			n := min(len(rest), 1+random.IntN(3<<20))
			_, err := s.Write(rest[:n])
			fatal.If(t, err)
			rest = rest[n:]
		}
		parts, err := s.Close()
		fatal.If(t, err)
		for _, group := range sectionsOf(parts) {
			known[group[0].Section] = group
		}
		r, err := Open(dir, parts, id)
		fatal.If(t, err)
		defer r.Close()
		if back, err := io.ReadAll(r); err != nil || !bytes.Equal(back, data) {
			t.Fatalf("%d bytes came back as %d, %v", len(data), len(back), err)
		}
		after, _ := os.ReadDir(dir)
		return parts, len(after) - len(before)
	}
	first, _ := seal(data, 1)
	if n := len(sectionsOf(first)); n < 6 || n > 40 {
		t.Fatalf("%d sections", n)
	}
	if _, made := seal(data, 1); made != 0 {
		t.Errorf("unchanged data made %d files", made)
	}
	for _, edit := range []func([]byte) []byte{
		func(d []byte) []byte { return append([]byte("a new first line\n"), d...) },
		func(d []byte) []byte { return append(d, "a new last line\n"...) },
		func(d []byte) []byte { d = bytes.Clone(d); d[len(d)/2] ^= 1; return d },
		func(d []byte) []byte { return append(bytes.Clone(d[:20<<20]), d[20<<20+1:]...) },
	} {
		if _, made := seal(edit(data), 1); made > 4 {
			t.Errorf("an edit made %d files", made)
		}
	}
	if other, _ := seal(data, 2); fmt.Sprint(len(sectionsOf(other)), other[0].Section) == fmt.Sprint(len(sectionsOf(first)), first[0].Section) {
		t.Error("another key gives the same sections")
	}
	// Small and repeated content.
	for _, d := range [][]byte{{}, {1}, make([]byte, 40<<20)} {
		if parts, made := seal(d, 1); len(parts) == 0 || made > 3 {
			t.Errorf("%d bytes: %d parts, %d files", len(d), len(parts), made)
		}
	}
	// Nothing is left of a stream that was given up, and a damaged section is an error.
	before, _ := os.ReadDir(dir)
	s := CreateSections(dir, "other.tar"+Ending, Options{To: id.Recipient()}, Sharing{Known: func(string) []Part { return nil }})
	s.Write(data)
	s.Abort()
	if after, _ := os.ReadDir(dir); len(after) != len(before) {
		t.Errorf("given up: %d files, %d before", len(after), len(before))
	}
	last := first[len(first)-1]
	fatal.If(t, os.Truncate(filepath.Join(dir, last.Name), last.Size-1))
	r, err := Open(dir, first, id)
	fatal.If(t, err)
	defer r.Close()
	if _, err := io.ReadAll(r); err == nil {
		t.Error("a damaged section was read")
	}
}

// TestSlowMedium seals text while the medium seems slower than what is written: it takes fewer bytes, and comes back as it was.
func TestSlowMedium(t *testing.T) {
	t.Parallel()
	id, err := age.GenerateX25519Identity()
	fatal.If(t, err)
	var text bytes.Buffer
	for n := range 400_000 {
		fmt.Fprintf(&text, "berth %d of boat %d, ", n%977, n*n%10_007)
	}
	size := map[bool]int64{}
	for _, slow := range []bool{false, true} {
		dir := t.TempDir()
		w, err := Create(dir, "a"+Ending, Options{To: id.Recipient(), Workers: 1})
		fatal.If(t, err)
		for rest := text.Bytes(); len(rest) > 0; {
			if slow {
				w.parts.waiting.Store(runAhead)
			}
			n, err := w.Write(rest[:min(len(rest), 10_000)])
			fatal.If(t, err)
			rest = rest[n:]
		}
		parts, err := w.Close()
		fatal.If(t, err)
		size[slow] = parts[0].Size
		r, err := Open(dir, parts, id)
		fatal.If(t, err)
		if back, err := io.ReadAll(r); err != nil || !bytes.Equal(back, text.Bytes()) {
			t.Errorf("slow %v: %d bytes came back, %v", slow, len(back), err)
		}
		r.Close()
	}
	if size[true] >= size[false]*19/20 {
		t.Errorf("%d bytes on a slow medium, %d on a fast one", size[true], size[false])
	}
}
