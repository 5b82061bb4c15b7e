package kit

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
)

// counted is a context that is over after it was asked some times.
type counted struct {
	context.Context
	left int
}

func (c *counted) Err() error {
	if c.left--; c.left < 0 {
		return context.Canceled
	}
	return nil
}

// closing makes a kit whose journal says that it is closed.
func closing(t *testing.T, c Closed) string {
	t.Helper()
	dir := madeKit(t)
	k, err := Open(dir)
	if err == nil {
		err = k.Unlock(pass)
	}
	if err == nil {
		_, err = k.Record(journal.Line{Event: journal.EventClosed}, c)
	}
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

func there(parts ...string) bool {
	_, err := os.Lstat(filepath.Join(parts...))
	return err == nil
}

// TestEmpty empties a kit, cut off at every moment. The key goes first, and the
// record is whole in one place at any time.
func TestEmpty(t *testing.T) {
	if err := Empty(ctx, madeKit(t)); fault.KindOf(err) != fault.Usage {
		t.Errorf("a kit that is not closed: %v", err)
	}
	for _, elsewhere := range []bool{false, true} {
		record := ""
		if elsewhere {
			record = filepath.Join(t.TempDir(), "papers", "move")
		}
		dir := closing(t, Closed{HandOver: "/papers", Record: record})
		key, _ := os.ReadFile(filepath.Join(dir, KeyFile))
		secret, spare := digest.Of(key), filepath.Join(t.TempDir(), "spare")
		if err := os.Link(filepath.Join(dir, KeyFile), spare); err != nil {
			t.Fatal(err)
		}
		whole, _ := filepath.Glob(filepath.Join(dir, SealedDir, "*", "*"))
		for n, done := 0, false; !done; n++ {
			err := Empty(&counted{ctx, n}, dir)
			if done = err == nil; !done && fault.KindOf(err) != fault.Stopped || n > 100 {
				t.Fatalf("cut off after %d: %v", n, err)
			}
			sealed, _ := filepath.Glob(filepath.Join(dir, SealedDir, "*", "*"))
			if now, _ := os.ReadFile(filepath.Join(dir, KeyFile)); len(sealed) < len(whole) && digest.Of(now) == secret {
				t.Fatalf("after %d: sealed files went before the key", n)
			}
			if elsewhere && !there(dir, KeyFile) && !(there(record, journal.File) && there(record, ManifestFile) && there(record, CardsDir, "hoistbook.yaml") && there(record, ReportDir, "handover.txt")) {
				t.Fatalf("after %d: the key went before the record was stored", n)
			}
			if c, err := ClosedIn(dir); !done && (err != nil || c == nil) {
				t.Fatalf("after %d nobody knows that it is being closed: %v", n, err)
			}
			in, err := Inspect(ctx, dir, nil, nil)
			if err == nil && there(dir, SealedDir) && !slices.Contains(in.Left, SealedDir) {
				t.Errorf("after %d it is not said that it is not empty yet: %+v", n, in)
			}
		}
		if left, err := os.ReadFile(spare); err != nil || len(left) != len(key) || string(left[:40]) == string(key[:40]) {
			t.Errorf("the key was not written over: %.40q, %v", left, err)
		}
		at := dir
		if elsewhere {
			at = record
			var left []string
			entries, _ := os.ReadDir(dir)
			for _, e := range entries {
				left = append(left, e.Name())
			}
			if got := strings.Join(left, " "); got != "README.txt kit.lock movekit" {
				t.Errorf("the kit's folder still has %s", got)
			}
		}
		in, err := Inspect(ctx, at, nil, nil)
		if err != nil || len(in.Damage)+len(in.Left) > 0 || in.Closed == nil || in.Closed.HandOver != "/papers" {
			t.Errorf("the record: %+v, %v", in, err)
		}
		k, err := Open(at)
		if err != nil || k.Manifest.Old.Name != "QUAY-DESK-1" || len(k.Lines()) != 3 || k.Card("hoistbook") == nil {
			t.Fatalf("the record cannot be read: %v", err)
		}
		if err := k.Unlock(pass); fault.KindOf(err) != fault.NotAKit || !strings.Contains(err.Error(), "closed") {
			t.Errorf("unlocking it: %v", err)
		}
		if err := Empty(ctx, at); err != nil {
			t.Errorf("once more: %v", err)
		}
	}
}
