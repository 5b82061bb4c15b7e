package test

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/sshd"
)

// sharing starts movekit share on a kit, and returns the address to type on the other computer, and a function that ends it.
func sharing(t *testing.T, dir string) (address string, stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	cmd := command(ctx, dir, "share", "--kit", "kit", "--root", "old", "--listen", "127.0.0.1:0")
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	out, err := cmd.StdoutPipe()
	fatal.If(t, err)
	fatal.If(t, cmd.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if m := regexp.MustCompile(`--kit (sftp://\S+)`).FindStringSubmatch(lines.Text()); m != nil {
			address = m[1]
			break
		}
	}
	if address == "" {
		cmd.Wait()
		t.Fatal("share prints no address")
	}
	return address, func() { cancel(); cmd.Wait() }
}

// TestShare moves without a stick: the new computer uses the kit over the network, as if it were a folder.
func TestShare(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	os.RemoveAll(filepath.Join(dir, "kit"))
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "run")
	address, stop := sharing(t, dir)
	defer stop()
	far := func(code int, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), dir, append(args, "--kit", address, "--root", "new")...)
		cmd.Env = append(cmd.Env, "XDG_CACHE_HOME="+filepath.Join(dir, "cache-of-new"))
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
		}
		return s
	}
	if s := far(0, "run", "--existing", "set-aside"); !strings.Contains(s.err, "$ movekit verify") || !strings.Contains(s.out, "Next is retire on OLD") {
		t.Errorf("the new computer: %s%s", s.out, s.err)
	}
	// A wrong passphrase is refused before anything is loaded.
	cmd := command(t.Context(), dir, "status", "--kit", address, "--root", "new")
	cmd.Env = append(cmd.Env, "XDG_CACHE_HOME="+filepath.Join(dir, "cache-of-stranger"), "MOVEKIT_PASSPHRASE=abacus-abdomen-ability-ablaze-able-abnormal")
	if s := finish(t, cmd); s.code != 1 || !strings.Contains(s.err, "the passphrase is not the one of the kit that is shared") {
		t.Errorf("a stranger: %d %s%s", s.code, s.out, s.err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "cache-of-stranger/movekit/network/*/kit/*")); len(left) > 0 {
		t.Errorf("a stranger got %q", left)
	}
	stop()
	far(1, "status").tells(t, "the connection to the kit at")
	// The old computer's kit has everything.
	if s := step(t, 0, dir, "old", "status"); !strings.Contains(s.out, "retire") {
		t.Errorf("the kit on the old computer: %s", s.out)
	}
	must(t, 0, dir, "inspect", "--kit", "kit")
	step(t, 0, dir, "old", "retire")
}

// TestServerKit keeps the kit on an SSH server, with the user's known servers and keys.
func TestServerKit(t *testing.T) {
	t.Parallel()
	need(t, "/usr/sbin/sshd", "ssh-keygen")
	dir := settled(t)
	os.RemoveAll(filepath.Join(dir, "kit"))
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW")
	server, err := sshd.Start(dir)
	fatal.If(t, err)
	defer server.Stop()
	address := "sftp://" + server.User + "@127.0.0.1:" + server.Port + filepath.Join(dir, "kit")
	far := func(code int, side string, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), dir, append(args, "--kit", address, "--root", side)...)
		cmd.Env = append(cmd.Env, "XDG_CACHE_HOME="+filepath.Join(dir, "cache-of-"+side), "HOME="+server.Home, "SSH_AUTH_SOCK=")
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
		}
		return s
	}
	far(0, "old", "run")
	far(0, "new", "run", "--existing", "set-aside")
	if s := far(0, "new", "inspect"); !strings.Contains(s.out, "undamaged") {
		t.Errorf("inspect: %s", s.out)
	}
	far(0, "old", "retire")
	must(t, 0, dir, "inspect", "--kit", "kit")
	// Another run holds it.
	lay.Out(t, dir, map[string]string{"kit/movekit-remote.lock": ""})
	far(1, "new", "status").tells(t, "another run uses the kit")
	fatal.If(t, os.Remove(filepath.Join(dir, "kit/movekit-remote.lock")))
	// A server with another key is refused.
	own, _ := os.ReadFile(filepath.Join(server.Home, ".ssh/id_ed25519.pub"))
	fatal.If(t, server.Know(string(own)))
	far(1, "new", "status").tells(t, "key mismatch")
}

// TestShareCut moves over a network that drops connections at random, and listens in between: every run continues, and nothing that
// passes has a word of the data or the passphrase.
func TestShareCut(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	for n := range 6 {
		text := strings.Repeat("the berths of Quay Seven are full until the tide turns\n", 30_000+n)
		fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/diary", "berths-"+string(rune('a'+n))), []byte(text), 0o644))
		fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/diary", "scan-"+string(rune('a'+n))), noise(1 << 20)[n:], 0o644))
	}
	step(t, 0, dir, "old", "pack")
	address, stop := sharing(t, dir)
	defer stop()
	wire := newWire(t, regexp.MustCompile(`[^/]+:\d+`).FindString(address), 12)
	far := func(args ...string) said {
		cmd := command(t.Context(), dir, append(args, "--kit", "sftp://"+wire.address+"/", "--root", "new", "--user", "maren=mholm", "--yes")...)
		cmd.Env = append(cmd.Env, "XDG_CACHE_HOME="+filepath.Join(dir, "cache-of-new"))
		return finish(t, cmd)
	}
	failed := 0
	for s := far("unpack"); s.code != 0; s = far("unpack") {
		if failed++; failed > 30 || !strings.Contains(s.err, "safe: ") {
			t.Fatalf("unpack: exit %d\n%s%s", s.code, s.out, s.err)
		}
	}
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "new/srv/diary"))
	cut, heard := wire.close()
	t.Logf("%d cuts, %d runs that failed, %d bytes heard", cut, failed, len(heard))
	if failed < 3 || len(heard) < 3<<20 {
		t.Errorf("%d runs failed, %d bytes heard", failed, len(heard))
	}
	for _, secret := range []string{"berths of Quay", "maren", passphrase, strings.Split(passphrase, "-")[0]} {
		if bytes.Contains(heard, []byte(secret)) {
			t.Errorf("%q was heard", secret)
		}
	}
	if journal, _ := os.ReadFile(filepath.Join(dir, "kit/journal.jsonl")); !bytes.Contains(journal, []byte(`"placed"`)) {
		t.Error("the kit on the old computer does not have the unpack")
	}
}

// wire is a network between two computers that drops connections and records what passes.
type wire struct {
	address string
	mu      sync.Mutex
	heard   []byte
	cuts    int // left
	cut     int
	end     func()
}

func newWire(t *testing.T, to string, cuts int) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	fatal.If(t, err)
	w := &wire{address: l.Addr().String(), cuts: cuts, end: func() { l.Close() }}
	random := rand.New(rand.NewPCG(3, 3))
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			most := int64(1 << 40)
			if w.mu.Lock(); w.cuts > 0 {
				w.cuts--
				w.cut++
				most = random.Int64N(2 << 20)
			}
			w.mu.Unlock()
			for _, way := range [][2]net.Conn{{near, far}, {far, near}} {
				go func() {
					io.CopyN(io.MultiWriter(way[0], w), way[1], most)
					near.Close()
					far.Close()
				}()
			}
		}
	}()
	return w
}

// Write records what passes.
func (w *wire) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.heard = append(w.heard, p...)
	return len(p), nil
}

func (w *wire) close() (cut int, heard []byte) {
	w.end()
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.cut, w.heard
}
