package move_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
	"movekit/test/office"
)

// TestDamageWhileStaging damages the sealed data of one item, which is inspected while the first one is staged. Nothing
// is put in place, whatever the damage is, and nothing is left over.
func TestDamageWhileStaging(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: first, kind: folder, path: /srv/first}\n  - {name: second, kind: file, path: /srv/second}\n", "linux", map[string]string{
		"old/srv/first/a": strings.Repeat("first ", 9000), "old/srv/second": strings.Repeat("second ", 90000), "new/srv/first/own": "mine",
	})
	o.Pack()
	before := office.Contents(t, filepath.Join(o.Dir, "new"))
	for _, item := range []string{"first", "second"} {
		parts, _ := filepath.Glob(o.Dir + "/kit/sealed/app/" + item + ".tar*")
		if len(parts) != 1 {
			t.Fatalf("%s: %v", item, parts)
		}
		whole, err := os.ReadFile(parts[0])
		fatal.If(t, err)
		for what, data := range map[string][]byte{"first byte": flipped(whole, 0), "middle": flipped(whole, len(whole)/2), "last byte": flipped(whole, len(whole)-1), "cut": whole[:len(whole)-1], "empty": {}, "longer": append(slices.Clone(whole), 0), "gone": nil} {
			if os.Remove(parts[0]); data != nil {
				fatal.If(t, os.WriteFile(parts[0], data, 0o644))
			}
			out := o.Only(o.Job(o.New).Unpack(t.Context()))
			if office.Blocked(out) != "kit-undamaged" || len(out.Blocks) != 1 || !strings.Contains(out.Blocks[0].Why, filepath.Base(parts[0])) || len(out.Items) > 0 {
				t.Errorf("%s, %s: %+v", item, what, out)
			}
			if now := office.Contents(t, filepath.Join(o.Dir, "new")); len(now) != len(before) || now["srv/first/own"] != before["srv/first/own"] {
				t.Errorf("%s, %s: %v, and it was %v", item, what, now, before)
			}
		}
		fatal.If(t, os.WriteFile(parts[0], whole, 0o644))
	}
	// A run that is cancelled meanwhile does not report damage.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if out, err := o.Job(o.New).Unpack(ctx); fault.KindOf(err) == fault.Damaged || len(out) > 0 && (len(out[0].Blocks) > 0 || fault.KindOf(out[0].Err) == fault.Damaged) {
		t.Errorf("cancelled: %+v %v", out, err)
	}
	o.Unpack()
	if out := o.Verify(); !out.Equal() {
		t.Errorf("%+v", out)
	}
}

// flipped returns data with one bit changed.
func flipped(data []byte, at int) []byte {
	out := slices.Clone(data)
	out[at] ^= 1
	return out
}
