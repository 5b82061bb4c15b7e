package remote

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
	"movekit/test/lay"
)

const words = "agency-balcony-cabana-dagger-eagle-fable"

// shared starts a share of a folder, and returns its address.
func shared(t *testing.T, dir, passphrase, code string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	fatal.If(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var busy sync.Mutex
	s := &Share{Dir: dir, KitID: "0123456789abcdef", Passphrase: passphrase, Code: code, Notify: func(what string) { t.Log(what) }, Lock: func() (func(), error) {
		if !busy.TryLock() {
			return nil, errors.New("it is in use")
		}
		return busy.Unlock, nil
	}}
	ended := make(chan struct{})
	go func() { defer close(ended); s.Serve(ctx, l) }()
	t.Cleanup(func() { cancel(); <-ended })
	return l.Addr().String()
}

func still(string, int64) func(int64) { return func(int64) {} }

func open(t *testing.T, address, dir, passphrase, code string) (*Mirror, error) {
	t.Helper()
	return Open(t.Context(), Scheme+address+"/", dir, Login{Passphrase: passphrase, Code: func() (string, error) { return code, nil }}, still)
}

// content returns the files of a folder.
func content(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	fatal.If(t, filepath.WalkDir(dir, func(at string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			data, rerr := os.ReadFile(at)
			rel, _ := filepath.Rel(dir, at)
			out[filepath.ToSlash(rel)], err = string(data), rerr
		}
		return err
	}))
	return out
}

func same(t *testing.T, a, b string) {
	t.Helper()
	x, y := content(t, a), content(t, b)
	for name := range x {
		if x[name] != y[name] {
			t.Errorf("%s differs: %.60q and %.60q", name, x[name], y[name])
		}
	}
	for name := range y {
		if _, is := x[name]; !is {
			t.Errorf("only one side has %s", name)
		}
	}
}

// TestMirror keeps a copy that is the same on both sides, whoever changes it.
func TestMirror(t *testing.T) {
	t.Parallel()
	kit, copied := t.TempDir(), t.TempDir()
	big := make([]byte, 3<<20)
	rand.Read(big)
	lay.Out(t, kit, map[string]string{"journal.jsonl": "1\n", "journal.head": "h1", "sealed/tide/a.age": string(big), "sealed/gone": "x", "CHECKSUMS.b3": "c"})
	address := shared(t, kit, words, "")
	m, err := open(t, address, copied, words, "")
	fatal.If(t, err)
	same(t, kit, m.Dir)
	lay.Out(t, m.Dir, map[string]string{"journal.jsonl": "1\n2\n", "journal.head": "h2", "sealed/tide/edits.age": "e"})
	fatal.If(t, os.Remove(filepath.Join(m.Dir, "sealed/gone")))
	fatal.If(t, m.Send(t.Context()))
	same(t, kit, m.Dir)
	// Only one at a time.
	if _, err := open(t, address, t.TempDir(), words, ""); err == nil {
		t.Error("two computers use the kit at the same time")
	}
	fatal.If(t, m.Close(t.Context()))
	// The other computer goes on.
	lay.Out(t, kit, map[string]string{"journal.jsonl": "1\n2\n3\n", "journal.head": "h3", "sealed/more.age": "m"})
	m, err = open(t, address, copied, words, "")
	fatal.If(t, err)
	same(t, kit, m.Dir)
	fatal.If(t, m.Close(t.Context()))
	// Both sides went on without each other.
	lay.Out(t, kit, map[string]string{"journal.jsonl": "1\n2\n3\n4 there\n"})
	lay.Out(t, m.Dir, map[string]string{"journal.jsonl": "1\n2\n3\n4 here\n"})
	if _, err := open(t, address, copied, words, ""); err == nil || !strings.Contains(err.Error(), "went on without each other") {
		t.Errorf("two journals: %v", err)
	}
}

// TestCut cuts the connection after every number of bytes. The kit is whole after each cut, and a later run completes the work.
func TestCut(t *testing.T) {
	t.Parallel()
	kit, copied := t.TempDir(), t.TempDir()
	big := make([]byte, 1<<20)
	rand.Read(big)
	lay.Out(t, kit, map[string]string{"journal.jsonl": "1\n", "journal.head": "h1", "sealed/a.age": string(big), "CHECKSUMS.b3": "c1"})
	address := shared(t, kit, words, "")
	line := 1
	for range 40 {
		n, _ := rand.Int(rand.Reader, big16)
		via := cutting(t, address, n.Int64())
		m, err := open(t, via, copied, words, "")
		if err != nil {
			if kind := fault.KindOf(err); kind != fault.Unconnected && kind != fault.Changed {
				t.Fatalf("cut while loading: %s, %v", kind, err)
			}
			continue
		}
		line++
		was, _ := os.ReadFile(filepath.Join(m.Dir, "journal.jsonl"))
		lay.Out(t, m.Dir, map[string]string{"journal.jsonl": string(was) + strings.Repeat("x", line) + "\n", "sealed/new.age": string(big[:line*1000])})
		err = m.Send(t.Context())
		theirs, _ := os.ReadFile(filepath.Join(kit, "journal.jsonl"))
		ours, _ := os.ReadFile(filepath.Join(m.Dir, "journal.jsonl"))
		if err == nil && !bytes.Equal(theirs, ours) {
			t.Fatal("it was sent, and is not there")
		}
		if !bytes.HasPrefix(ours, theirs) {
			t.Fatalf("the journal there is not whole: %q", theirs)
		}
		m.hangUp()
	}
	m, err := open(t, address, copied, words, "")
	fatal.If(t, err)
	fatal.If(t, m.Close(t.Context()))
	for name, text := range content(t, m.Dir) {
		if there, err := os.ReadFile(filepath.Join(kit, name)); err != nil || string(there) != text {
			t.Errorf("%s differs at the end: %v", name, err)
		}
	}
}

var big16 = big.NewInt(3 << 20)

// cutting passes bytes on, and cuts the connection after a number of them.
func cutting(t *testing.T, to string, after int64) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	fatal.If(t, err)
	t.Cleanup(func() { l.Close() })
	var left atomic.Int64
	left.Store(after + 4096) // the handshake
	go func() {
		for {
			a, err := l.Accept()
			if err != nil {
				return
			}
			b, err := net.Dial("tcp", to)
			if err != nil {
				a.Close()
				return
			}
			pass := func(from, to net.Conn) {
				defer from.Close()
				defer to.Close()
				buf := make([]byte, 4096)
				for {
					n, err := from.Read(buf)
					if n > 0 && left.Add(-int64(n)) < 0 {
						return
					}
					if n > 0 {
						to.Write(buf[:n])
					}
					if err != nil {
						return
					}
				}
			}
			go pass(a, b)
			go pass(b, a)
		}
	}()
	return l.Addr().String()
}

// TestStrangers refuses everybody who does not know the passphrase and the code, on both sides.
func TestStrangers(t *testing.T) {
	t.Parallel()
	kit := t.TempDir()
	lay.Out(t, kit, map[string]string{"journal.jsonl": "1\n"})
	address := shared(t, kit, "chosen by somebody 7", "one-two-three-four")
	for _, try := range [][2]string{{"chosen by somebody 8", "one-two-three-four"}, {"chosen by somebody 7", "one-two-three-five"}, {"chosen by somebody 7", ""}} {
		if _, err := open(t, address, t.TempDir(), try[0], try[1]); fault.KindOf(err) != fault.WrongPassphrase {
			t.Errorf("%q: %v", try, err)
		}
	}
	m, err := open(t, address, t.TempDir(), "chosen by somebody 7", "One Two three four")
	fatal.If(t, err)
	// Nothing outside of the kit's folder can be reached.
	outside := filepath.Join(filepath.Dir(kit), "outside.txt")
	fatal.If(t, os.WriteFile(outside, []byte("secret"), 0o600))
	fatal.If(t, os.Symlink(outside, filepath.Join(kit, "link")))
	for _, name := range []string{"/../outside.txt", "../outside.txt", outside, "/link"} {
		if f, err := m.files.Open(name); err == nil {
			data, err := io.ReadAll(f)
			if err == nil && string(data) == "secret" {
				t.Errorf("%s was read", name)
			}
			f.Close()
		}
	}
	if f, err := m.files.Create("/link"); err == nil {
		f.Write([]byte("changed"))
		f.Close()
	}
	if err := m.files.Symlink(outside, "/other"); err == nil {
		t.Error("a link was created")
	}
	if data, _ := os.ReadFile(outside); string(data) != "secret" {
		t.Errorf("outside: %q", data)
	}
	if s, err := m.ssh.NewSession(); err == nil {
		if out, err := s.CombinedOutput("id"); err == nil {
			t.Errorf("a command ran: %s", out)
		}
	}
	if _, err := m.ssh.Dial("tcp", address); err == nil {
		t.Error("the share forwards connections")
	}
	fatal.If(t, m.Close(t.Context()))
	// A server that only claims to be the share learns nothing and is refused.
	false2 := shared(t, kit, "another passphrase 9", "one-two-three-four")
	if _, err := open(t, false2, t.TempDir(), "chosen by somebody 7", "one-two-three-four"); fault.KindOf(err) != fault.WrongPassphrase {
		t.Errorf("a false share: %v", err)
	}
	if _, err := open(t, "127.0.0.1:1", t.TempDir(), words, ""); fault.KindOf(err) != fault.Unconnected {
		t.Errorf("nobody there: %v", err)
	}
}
