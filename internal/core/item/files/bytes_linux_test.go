package files_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"movekit/internal/core/move"
	"movekit/test/fatal"
	"movekit/test/office"
)

var ctx = context.Background()

// TestNamesAreBytes moves trees in which every name is random bytes: of files, folders, links and their
// targets, hard links, extended attributes, items of an `each`, and files with updated paths.
func TestNamesAreBytes(t *testing.T) {
	t.Parallel()
	for seed := range 25 {
		r := rand.New(rand.NewPCG(uint64(seed), 29))
		used := map[string]bool{}
		name := func() string {
			for {
				b := make([]byte, 1+r.IntN(12))
				for i := range b {
					b[i] = []byte{byte(1 + r.IntN(255)), byte(128 + r.IntN(128)), 'a', '\n', '"', '\\', 0xf4, 0x8f, 0xbc, 0x80}[r.IntN(10)]
				}
				if s := strings.ReplaceAll(string(b), "/", "x"); s != "." && s != ".." && !used[s] && !strings.HasSuffix(s, ".movekit-part") {
					used[s] = true
					return s
				}
			}
		}
		o := office.New(t, "items:\n  - {name: data, kind: folder, path: /srv/data, update-paths: ['**/*.ini'], skip: ['*.tmp']}\n  - {name: years, kind: folder, path: /srv/years, each: '*'}\n", "linux", map[string]string{"old/srv/data/x": "x"})
		at := func(names ...string) string { return filepath.Join(append([]string{o.Dir, "old/srv"}, names...)...) }
		dir, sub, first := name(), name(), name()
		fatal.If(t, os.MkdirAll(at("data", dir, sub), 0o755))
		fatal.If(t, os.WriteFile(at("data", dir, first), []byte("1"), 0o644))
		fatal.If(t, os.Link(at("data", dir, first), at("data", dir, sub, name())))
		fatal.If(t, os.Link(at("data", dir, first), at("data", name())))
		fatal.If(t, os.Symlink(first, at("data", dir, name())))
		fatal.If(t, os.Symlink(dir, at("data", name())))
		fatal.If(t, os.Symlink(name(), at("data", name()))) // to nothing
		fatal.If(t, os.WriteFile(at("data", dir, name()+".ini"), []byte("folder=/home/old/x\n"), 0o644))
		attr := "user." + name()
		noAttr := unix.Setxattr(at("data", dir, first), attr, []byte("\xff"), 0)
		for range 3 {
			year := name()
			fatal.If(t, os.MkdirAll(at("years", year), 0o755))
			fatal.If(t, os.WriteFile(at("years", year, name()), []byte("y"), 0o644))
		}
		o.Pack()
		out := o.Only(o.Job(o.New).Unpack(ctx))
		if out.Err != nil || len(out.Blocks) > 0 {
			t.Errorf("seed %d: %v %+v", seed, out.Err, out.Blocks)
			continue
		}
		if v := o.Verify(); !v.Equal() {
			t.Errorf("seed %d: %+v", seed, v.Items)
		}
		was, is := office.Contents(t, filepath.Join(o.Dir, "old/srv")), office.Contents(t, filepath.Join(o.Dir, "new/srv"))
		if len(was) != len(is) {
			t.Errorf("seed %d: %d names were there, %d are", seed, len(was), len(is))
		}
		for n, text := range was {
			if is[n] != text {
				t.Errorf("seed %d: %q was %q, is %q", seed, n, text, is[n])
			}
		}
		if noAttr == nil {
			value := make([]byte, 9)
			if n, err := unix.Getxattr(filepath.Join(o.Dir, "new/srv/data", dir, first), attr, value); err != nil || string(value[:n]) != "\xff" {
				t.Errorf("seed %d: the attribute %q is %q: %v", seed, attr, value, err)
			}
		}
		for what, run := range map[string]func(*move.Move) error{
			"undo":   func(j *move.Move) error { out, err := j.Undo(ctx); return errors.Join(err, out[0].Err) },
			"unpack": func(j *move.Move) error { out, err := j.Unpack(ctx); return errors.Join(err, out[0].Err) },
		} {
			if err := run(o.Job(o.New)); err != nil {
				t.Errorf("seed %d: %s: %v", seed, what, err)
			}
		}
		retire, err := o.Job(o.Old).Retire(ctx)
		if err = errors.Join(err, retire[0].Err); err != nil {
			t.Errorf("seed %d: retire: %v %s", seed, err, fmt.Sprint(retire[0].Blocks))
		}
	}
}
