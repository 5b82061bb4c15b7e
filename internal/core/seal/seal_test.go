package seal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"movekit/internal/core/block"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/test/fatal"
	"movekit/test/lay"
)

func sealed(t *testing.T, dir string, data []byte, partSize int64) ([]Part, *age.X25519Identity) {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	fatal.If(t, err)
	w, err := Create(dir, "x.zst.age", Options{To: id.Recipient(), PartSize: partSize})
	fatal.If(t, err)
	for rest := data; len(rest) > 0; {
		n := min(len(rest), 1+rand.IntN(300_000))
		_, err := w.Write(rest[:n])
		fatal.If(t, err)
		rest = rest[n:]
	}
	parts, err := w.Close()
	fatal.If(t, err)
	return parts, id
}

func sample(n int) []byte {
	r := rand.New(rand.NewPCG(1, uint64(n)))
	out := make([]byte, n)
	for i := range out {
		if (i>>18)%2 == 0 {
			out[i] = byte(r.Uint32())
		} else {
			out[i] = "berth, boat, buoy. "[i%19]
		}
	}
	return out
}

func TestSealedDataComesBackWhole(t *testing.T) {
	for _, size := range []int{0, 1, 65536, chunkSize - 1, chunkSize, chunkSize + 1, 5*chunkSize + 17, 40 << 20} {
		for _, partSize := range []int64{0, 700_000, 2_500_000} {
			t.Run(fmt.Sprintf("%d in parts of %d", size, partSize), func(t *testing.T) {
				dir := t.TempDir()
				data := sample(size)
				parts, id := sealed(t, dir, data, partSize)
				for _, p := range parts {
					raw, err := os.ReadFile(filepath.Join(dir, p.Name))
					fatal.If(t, err)
					if int64(len(raw)) != p.Size || digest.Of(raw).String() != p.Hash {
						t.Errorf("%s: size or hash is not what was returned", p.Name)
					}
					if partSize > 0 && p.Size > partSize {
						t.Errorf("%s has %d bytes, over the limit of %d", p.Name, p.Size, partSize)
					}
				}
				if many := len(parts) > 1; many != strings.HasSuffix(parts[0].Name, ".001") {
					t.Errorf("%d parts, the first named %s", len(parts), parts[0].Name)
				}
				r, err := Open(dir, parts, id)
				fatal.If(t, err)
				defer r.Close()
				got, err := io.ReadAll(r)
				if err != nil || !bytes.Equal(got, data) {
					t.Fatalf("read %d bytes of %d, equal %v, error %v", len(got), len(data), bytes.Equal(got, data), err)
				}
				left, _ := filepath.Glob(filepath.Join(dir, "*"+Unfinished))
				if len(left) > 0 {
					t.Errorf("left behind: %v", left)
				}
			})
		}
	}
}

func TestIncompressibleDataIsStored(t *testing.T) {
	c := &compressor{}
	noise := make([]byte, chunkSize)
	for i := range noise {
		noise[i] = byte(rand.Uint32())
	}
	if n := len(c.frame(nil, noise, balanced)); n > chunkSize+64 {
		t.Errorf("%d bytes of noise became %d", chunkSize, n)
	}
	text := bytes.Repeat([]byte("mooring "), chunkSize/8)
	if n := len(c.frame(nil, text, balanced)); n > chunkSize/100 {
		t.Errorf("%d bytes of text became %d", chunkSize, n)
	}
	// The middle is tested if the chunk is long enough.
	const least, before = 16 * probeSize, "what is there"
	copy(text[least/2:], noise[:probeSize])
	for what, data := range map[string][]byte{"noise": noise[:least], "text around noise": text[:least]} {
		if got := c.frame([]byte(before), data, balanced); !bytes.Equal(got, stored([]byte(before), data, nil)) {
			t.Errorf("%s is not stored: %d bytes", what, len(got))
		}
	}
	for what, data := range map[string][]byte{"short noise": noise[:least-1], "text beside noise": append(bytes.Clone(text[:least+probeSize]), noise[:probeSize]...)} {
		if bytes.Equal(c.frame(nil, data, balanced), stored(nil, data, nil)) {
			t.Errorf("%s is stored", what)
		}
	}
}

// TestQuickFrames compresses every sort of data for a medium with much room. The zstd program and our reader read the frames.
func TestQuickFrames(t *testing.T) {
	noise := make([]byte, chunkSize)
	for i := range noise {
		noise[i] = byte(rand.Uint32())
	}
	var words bytes.Buffer
	for words.Len() < chunkSize {
		fmt.Fprintf(&words, "berth %d pays %x; ", rand.IntN(1e6), rand.IntN(1e9))
	}
	text := words.Bytes()[:chunkSize]
	twoLetters := make([]byte, chunkSize)
	for i := range twoLetters {
		twoLetters[i] = "ab"[rand.IntN(2)]
	}
	mixed := append(bytes.Clone(text[:300<<10]), noise[:chunkSize-300<<10]...)
	sizes := map[string]int{}
	for what, data := range map[string][]byte{
		"text": text, "noise": noise, "two letters": twoLetters, "one letter": bytes.Repeat([]byte("a"), chunkSize), "repeated": bytes.Repeat([]byte("mooring 17, "), chunkSize/12), "mixed": mixed,
		"a byte": {'x'}, "nothing": nil, "short": text[:16*probeSize-1], "just long enough": text[:16*probeSize], "not a whole block": text[:200<<10+1], "little at the end": text[:256<<10+700],
	} {
		c := &compressor{}
		before := []byte("before")
		framed := c.frame(bytes.Clone(before), data, quickest)
		if !bytes.HasPrefix(framed, before) {
			t.Errorf("%s: what was there is gone", what)
		}
		framed = framed[len(before):]
		if again := c.frame(nil, data, quickest); !bytes.Equal(again, framed) {
			t.Errorf("%s: a compressor is not reusable", what)
		}
		sizes[what] = len(framed)
		d, err := zstd.NewReader(bytes.NewReader(framed))
		fatal.If(t, err)
		got, err := io.ReadAll(d)
		d.Close()
		if err != nil || !bytes.Equal(got, data) {
			t.Errorf("%s: %d bytes of %d, %v", what, len(got), len(data), err)
		}
		if _, err := exec.LookPath("zstd"); err == nil {
			cmd := exec.Command("zstd", "-dc")
			cmd.Stdin = bytes.NewReader(framed)
			if got, err := cmd.Output(); err != nil || !bytes.Equal(got, data) {
				t.Errorf("%s, by zstd: %d bytes of %d, %v", what, len(got), len(data), err)
			}
		}
	}
	for what, most := range map[string]int{"text": chunkSize * 65 / 100, "noise": chunkSize + 64, "two letters": chunkSize * 22 / 100, "one letter": chunkSize / 100, "repeated": chunkSize / 100, "mixed": chunkSize + 64} {
		if sizes[what] > most {
			t.Errorf("%s: %d bytes, more than %d", what, sizes[what], most)
		}
	}
}

// TestBadMedium stores other bytes than were written, or fewer.
func TestBadMedium(t *testing.T) {
	data := sample(40 * block.Size)
	other := bytes.Clone(data)
	other[len(other)-1] ^= 1
	for _, c := range []struct {
		written []byte
		says    string
	}{{data, ""}, {other, fmt.Sprintf("different data than was written, in NAME from byte %d", 39*block.Size)},
		{data[:len(data)-1], fmt.Sprintf("cannot read NAME back at byte %d", 39*block.Size)}, {nil, "cannot read NAME back at byte 0"}} {
		name := filepath.Join(t.TempDir(), "medium")
		w, err := os.Create(name)
		fatal.If(t, err)
		w.Write(c.written)
		f := follow(w, name)
		for at := 0; at < len(data); at += block.Size {
			f.blocks <- append(block.Take()[:0], data[at:at+block.Size]...)
		}
		sum, err := f.wait()
		w.Close()
		if c.says == "" && (err != nil || sum != digest.Of(data)) {
			t.Errorf("what is whole: %v, hash %s", err, sum)
		}
		if c.says != "" && (fault.KindOf(err) != fault.Damaged || !strings.Contains(err.Error(), strings.ReplaceAll(c.says, "NAME", name))) {
			t.Errorf("%d bytes written of %d: %v, want %s", len(c.written), len(data), err, c.says)
		}
	}
	f, err := os.Create(filepath.Join(t.TempDir(), "gone"))
	fatal.If(t, err)
	os.Remove(f.Name())
	if _, err := follow(f, f.Name()).wait(); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what is gone was read back: %v", err)
	}
}

// TestNoRoomForAPart has a file under the name of the second part.
func TestNoRoomForAPart(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"x.zst.age.002" + Unfinished + "/in the way": ""})
	id, _ := age.GenerateX25519Identity()
	w, err := Create(dir, "x.zst.age", Options{To: id.Recipient(), PartSize: 300_000})
	fatal.If(t, err)
	for range 40 {
		if _, err = w.Write(sample(chunkSize)); err != nil {
			break
		}
	}
	if fault.KindOf(err) != fault.CannotPlace {
		t.Errorf("writing went on: %v", err)
	}
	if parts, err := w.Close(); fault.KindOf(err) != fault.CannotPlace || parts != nil {
		t.Errorf("it was ended: %v, %v", parts, err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("left: %v", left)
	}
	if _, err := Create(filepath.Join(dir, "x.zst.age.002"+Unfinished, "in the way"), "x", Options{To: id.Recipient()}); fault.KindOf(err) != fault.CannotPlace {
		t.Errorf("a folder was made where a file is: %v", err)
	}
	if err := SyncDir(filepath.Join(dir, "missing")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the names of a folder that is missing were flushed: %v", err)
	}
}

// TestSecondStream keeps an earlier stream complete, for any number of parts.
func TestSecondStream(t *testing.T) {
	dir := t.TempDir()
	var all []string
	for _, size := range []int64{500_000, 0, 2_000_000} {
		parts, _ := sealed(t, dir, sample(4<<20), size)
		for _, p := range parts {
			all = append(all, p.Name)
		}
	}
	left, _ := os.ReadDir(dir)
	if len(left) != len(all) || len(all) < 12 || all[0] != "x.zst.age.001" || !slices.Contains(all, "x.2.zst.age") || !slices.Contains(all, "x.3.zst.age.002") {
		t.Errorf("%d files for the parts %q", len(left), all)
	}
}

func TestChangedBytesAreFound(t *testing.T) {
	dir := t.TempDir()
	parts, id := sealed(t, dir, sample(3<<20), 0)
	name := filepath.Join(dir, parts[0].Name)
	whole, _ := os.ReadFile(name)
	for range 40 {
		at := rand.IntN(len(whole))
		bad := bytes.Clone(whole)
		bad[at] ^= 1 << rand.IntN(8)
		os.WriteFile(name, bad, 0o600)
		r, err := Open(dir, parts, id)
		if err == nil {
			_, err = io.Copy(io.Discard, r)
			r.Close()
		}
		if fault.KindOf(err) != fault.Damaged {
			t.Fatalf("a changed byte at %d gave %v", at, err)
		}
	}
	os.WriteFile(name, whole[:len(whole)-1], 0o600)
	if _, err := Open(dir, parts, id); fault.KindOf(err) != fault.Damaged || !strings.Contains(err.Error(), "does not have the") {
		t.Errorf("a short file gave %v", err)
	}
	os.WriteFile(name, whole, 0o600)
	r, err := Open(dir, parts, id)
	fatal.If(t, err)
	defer r.Close()
	os.Truncate(name, int64(len(whole)/2))
	// The reader may have read all of it before.
	if n, err := io.Copy(io.Discard, r); fault.KindOf(err) != fault.Damaged && (err != nil || n != 3<<20) {
		t.Errorf("a file that was cut while it is read gave %d bytes and %v", n, err)
	}
}

// TestHash reads files from their medium.
func TestHash(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x")
	for _, n := range []int{0, 1, block.Size - 1, block.Size, 2*block.Size + 5} {
		data := sample(n)
		fatal.If(t, os.WriteFile(name, data, 0o600))
		if sum, size, err := Hash(t.Context(), name); err != nil || size != int64(n) || sum != digest.Of(data) {
			t.Errorf("%d bytes: %s of %d, %v", n, sum, size, err)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, size, err := Hash(ctx, name); err == nil || size != 0 {
		t.Errorf("stopped: %d bytes, %v", size, err)
	}
	if _, _, err := Hash(t.Context(), name+"y"); err == nil {
		t.Error("what is missing has a hash")
	}
}

func TestAbortLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	id, _ := age.GenerateX25519Identity()
	w, err := Create(dir, "x.zst.age", Options{To: id.Recipient(), PartSize: 300_000})
	fatal.If(t, err)
	w.Write(sample(9 << 20))
	w.Abort()
	if left, _ := os.ReadDir(dir); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}

// TestCloseEarly closes readers before and during the first read. No goroutine may wait forever.
func TestCloseEarly(t *testing.T) {
	dir := t.TempDir()
	parts, id := sealed(t, dir, sample(6<<20), 0)
	done := make(chan error, 1)
	go func() {
		for i := range 200 {
			r, err := Open(dir, parts, id)
			if err != nil {
				done <- err
				return
			}
			if i%3 > 0 {
				r.Read(make([]byte, i%3*100))
			}
			r.Close()
		}
		done <- nil
	}()
	select {
	case err := <-done:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(time.Minute):
		t.Fatal("a reader that was closed early is still waited for")
	}
}
