package journal

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"movekit/internal/core/digest"
	"movekit/test/fatal"
)

var key = digest.Of([]byte("key"))

func written(t *testing.T, n int) (string, []byte) {
	t.Helper()
	dir := t.TempDir()
	log, err := Read(dir)
	fatal.If(t, err)
	for range n {
		fatal.If(t, log.Append(Line{Event: "packed", App: "hoistbook"}, key))
	}
	data, err := os.ReadFile(filepath.Join(dir, File))
	fatal.If(t, err)
	return dir, data
}

func TestDamageIsNamedByLine(t *testing.T) {
	dir, whole := written(t, 6)
	lines := bytes.SplitAfter(whole, []byte("\n"))[:6]
	join := func(ls ...[]byte) []byte { return bytes.Join(ls, nil) }
	changed := bytes.Replace(lines[2], []byte("packed"), []byte("locked"), 1)
	last := bytes.Replace(lines[5], []byte("packed"), []byte("locked"), 1)
	for name, c := range map[string]struct {
		data []byte
		line int
	}{
		"changed":      {join(lines[0], lines[1], changed, lines[3], lines[4], lines[5]), 3},
		"removed":      {join(lines[0], lines[1], lines[3], lines[4], lines[5]), 3},
		"reordered":    {join(lines[0], lines[2], lines[1], lines[3], lines[4], lines[5]), 2},
		"last changed": {join(lines[0], lines[1], lines[2], lines[3], lines[4], last), 6},
		"last removed": {join(lines[0], lines[1], lines[2], lines[3], lines[4]), 6},
		"all removed":  {nil, 1},
		"doubled":      {join(lines[0], lines[0], lines[1], lines[2], lines[3], lines[4], lines[5]), 2},
	} {
		os.WriteFile(filepath.Join(dir, File), c.data, 0o644)
		log, err := Read(dir)
		fatal.If(t, err)
		if len(log.Damage) == 0 || log.Damage[0].Line != c.line {
			t.Errorf("%s: damage %v, want line %d", name, log.Damage, c.line)
		}
		if err := log.Append(Line{Event: "packed"}, key); err == nil {
			t.Errorf("%s: a damaged journal was added to", name)
		}
	}
}

func readFile(t *testing.T, dir string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, File))
	fatal.If(t, err)
	return data
}

func TestEveryFlippedBitIsSeen(t *testing.T) {
	dir, _ := written(t, 3)
	for _, name := range []string{File, HeadFile} {
		whole, _ := os.ReadFile(filepath.Join(dir, name))
		for i := range whole {
			bad := bytes.Clone(whole)
			bad[i] ^= 1 << (i % 8)
			os.WriteFile(filepath.Join(dir, name), bad, 0o644)
			if log, err := Read(dir); err == nil && len(log.Damage) == 0 {
				t.Fatalf("%s: a bit of byte %d changed unseen", name, i)
			}
		}
		os.WriteFile(filepath.Join(dir, name), whole, 0o644)
	}
	if log, _ := Read(dir); len(log.Damage) > 0 || log.Authenticate(key) != "" {
		t.Errorf("the whole journal: %v", log.Damage)
	}
}

func TestLineOfAnotherKeyIsFound(t *testing.T) {
	dir, _ := written(t, 2)
	log, _ := Read(dir)
	fatal.If(t, log.Append(Line{Event: "deactivated"}, digest.Of([]byte("other"))))
	again, _ := Read(dir)
	if got := again.Authenticate(key); got != "line 3" {
		t.Errorf("the first foreign line is %s, want 3", got)
	}
	// Lines that are missing at the end, with a forged head for the rest.
	dir, whole := written(t, 4)
	three := bytes.Join(bytes.SplitAfter(whole, []byte("\n"))[:3], nil)
	os.WriteFile(filepath.Join(dir, File), three, 0o644)
	h := head{Lines: 3, Hash: digest.Of(bytes.Split(three, []byte("\n"))[2]).String(), MAC: log.head.MAC}
	h.Sum = h.sum()
	data, _ := json.Marshal(h)
	os.WriteFile(filepath.Join(dir, HeadFile), append(data, '\n'), 0o644)
	if cut, _ := Read(dir); len(cut.Damage) > 0 || cut.Authenticate(key) != "the head" {
		t.Errorf("cut off: %v, %q was not written by us", cut.Damage, cut.Authenticate(key))
	}
}

func TestTornLineIsRepaired(t *testing.T) {
	dir, whole := written(t, 4)
	oldHead, _ := os.ReadFile(filepath.Join(dir, HeadFile))
	log, _ := Read(dir)
	log.Append(Line{Event: "fifth"}, key)
	five := readFile(t, dir)
	for cut := len(whole); cut <= len(five); cut++ {
		os.WriteFile(filepath.Join(dir, File), five[:cut], 0o644)
		os.WriteFile(filepath.Join(dir, HeadFile), oldHead, 0o644)
		log, err := Read(dir)
		if err != nil || len(log.Damage) > 0 {
			t.Fatalf("cut at %d: %v %v", cut, err, log.Damage)
		}
		fatal.If(t, log.Append(Line{Event: "again"}, key))
		if log, _ := Read(dir); len(log.Damage) > 0 || log.Authenticate(key) != "" || log.Torn {
			t.Fatalf("cut at %d and mended: %v", cut, log.Damage)
		}
	}
}

// TestInterruptedTwice is interrupted between a line and the head, again and again. The head is never
// more than one line behind.
func TestInterruptedTwice(t *testing.T) {
	for _, lines := range []int{0, 1, 3} {
		dir := t.TempDir()
		log, err := Read(dir)
		fatal.If(t, err)
		for range lines {
			fatal.If(t, log.Append(Line{Event: "before"}, key))
		}
		name := filepath.Join(dir, HeadFile)
		behind, herr := os.ReadFile(name)
		back := func() { // the head as it was before what was written last
			os.RemoveAll(name)
			if herr == nil {
				os.WriteFile(name, behind, 0o644)
			}
		}
		fatal.If(t, log.Append(Line{Event: "cut off"}, key))
		back()
		if log, err = Read(dir); err != nil || len(log.Damage) > 0 {
			t.Fatalf("%d lines: %v %v", lines, log.Damage, err)
		}
		os.RemoveAll(name)
		os.MkdirAll(filepath.Join(name, "x"), 0o755) // where no head can be written
		if err := log.Append(Line{Event: "cut off too"}, key); err == nil {
			t.Fatalf("%d lines: a head was written over a folder", lines)
		}
		back()
		log, err = Read(dir)
		if err != nil || len(log.Damage) > 0 || log.Authenticate(key) != "" || len(log.Lines) != lines+1 {
			t.Fatalf("%d lines, then two: %d lines, %v %v", lines, len(log.Lines), log.Damage, err)
		}
		fatal.If(t, log.Append(Line{Event: "again"}, key))
		if log, _ = Read(dir); len(log.Damage) > 0 || log.Authenticate(key) != "" || len(log.Lines) != lines+2 {
			t.Fatalf("%d lines, mended: %v", lines, log.Damage)
		}
	}
}

// FuzzRead reads forged journals. None causes a panic, and forged lines are never authentic.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"n":1,"at":"2026-11-26T14:05:00Z","event":"made","prev":"x","mac":"y"}`+"\n"), []byte(`{"lines":1,"hash":"x","mac":"y","sum":"z"}`+"\n"))
	f.Fuzz(func(t *testing.T, lines, head []byte) {
		dir := t.TempDir()
		os.WriteFile(filepath.Join(dir, File), lines, 0o600)
		os.WriteFile(filepath.Join(dir, HeadFile), head, 0o600)
		log, err := Read(dir)
		if err == nil && len(log.Lines) > 0 && len(log.Damage) == 0 && log.Authenticate(key) == "" {
			t.Errorf("%q is taken for ours", lines)
		}
	})
}
