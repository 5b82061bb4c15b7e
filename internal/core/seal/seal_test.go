package seal

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/test/fatal"
)

func sealed(t *testing.T, dir string, data []byte, partSize int64) ([]Part, *age.X25519Identity) {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	fatal.If(t, err)
	w, err := Create(dir, "x.zst.age", Options{To: id.Recipient(), PartSize: partSize})
	fatal.If(t, err)
	for rest := data; len(rest) > 0; {
		n := min(len(rest), 1+rand.IntN(300_000))
		if _, err := w.Write(rest[:n]); err != nil {
			t.Fatal(err)
		}
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
		for _, partSize := range []int64{0, 700_000} {
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
	noise := make([]byte, chunkSize)
	for i := range noise {
		noise[i] = byte(rand.Uint32())
	}
	if n := len(frame(nil, noise)); n > chunkSize+64 {
		t.Errorf("%d bytes of noise became %d", chunkSize, n)
	}
	if n := len(frame(nil, bytes.Repeat([]byte("mooring "), chunkSize/8))); n > chunkSize/100 {
		t.Errorf("%d bytes of text became %d", chunkSize, n)
	}
}

func TestFewerPartsReplaceMore(t *testing.T) {
	dir := t.TempDir()
	if parts, _ := sealed(t, dir, sample(4<<20), 500_000); len(parts) < 3 {
		t.Fatalf("only %d parts", len(parts))
	}
	sealed(t, dir, sample(1000), 0)
	left, _ := os.ReadDir(dir)
	if len(left) != 1 || left[0].Name() != "x.zst.age" {
		t.Errorf("left: %v", left)
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
	if _, err := Open(dir, parts, id); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a short file gave %v", err)
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

// TestCloseEarly closes readers before, and while, the first bytes are read: no
// goroutine may wait for what nobody reads any more.
func TestCloseEarly(t *testing.T) {
	dir := t.TempDir()
	parts, id := sealed(t, dir, sample(6<<20), 0)
	done := make(chan error, 1)
	go func() {
		for i := range 400 {
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
