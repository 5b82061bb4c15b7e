package journal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
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

// TestWhatIsDamaged names what happened to a line, and the right one.
func TestWhatIsDamaged(t *testing.T) {
	dir, whole := written(t, 4)
	headFile := filepath.Join(dir, HeadFile)
	head, err := os.ReadFile(headFile)
	fatal.If(t, err)
	lines := bytes.SplitAfter(whole, []byte("\n"))[:4]
	join := func(ls ...[]byte) []byte { return bytes.Join(ls, nil) }
	first := bytes.Replace(lines[0], firstPrevBytes(), bytes.Repeat([]byte("0"), len(firstPrev)), 1)
	for name, c := range map[string]struct {
		data, head []byte
		want       []string
	}{
		"whole":        {whole, head, nil},
		"no line":      {join(lines[0], []byte("x\n"), lines[2], lines[3]), head, []string{"2 line 2 is not a journal line", "2 line 2 was changed"}},
		"another kind": {join(lines[0], []byte(`{"n":2,"color":"red"}`+"\n")), nil, []string{"2 line 2 is not a journal line", "0 head.json was changed or is missing"}},
		"no beginning": {join(first, lines[1], lines[2], lines[3]), head, []string{"1 line 1 was changed, or lines before it were removed", "1 line 1 was changed"}},
		"cut":          {join(lines[0], lines[1]), head, []string{"3 line 3 and the following lines up to line 4 were removed"}},
		"no journal":   {nil, head, []string{"1 line 1 and the following lines up to line 4 were removed"}},
		"no head":      {whole, nil, []string{"0 head.json was changed or is missing"}},
		"a new head":   {whole, []byte(`{"lines":4}`), []string{"0 head.json was changed or is missing"}},
		"one line":     {lines[0], nil, nil},
	} {
		os.WriteFile(filepath.Join(dir, File), c.data, 0o644)
		if c.data == nil {
			os.Remove(filepath.Join(dir, File))
		}
		os.WriteFile(headFile, c.head, 0o644)
		if c.head == nil {
			os.Remove(headFile)
		}
		log, err := Read(dir)
		fatal.If(t, err)
		var got []string
		for _, d := range log.Damage {
			got = append(got, fmt.Sprint(d.Line, " ", d.What))
		}
		if want := strings.Join(c.want, "; "); strings.ReplaceAll(strings.Join(got, "; "), HeadFile, "head.json") != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

func firstPrevBytes() []byte { return []byte(firstPrev) }

// TestHeadOfOtherLines detects lines that were added, and a last line that was replaced, by the head.
func TestHeadOfOtherLines(t *testing.T) {
	other, _ := written(t, 6)
	dir, whole := written(t, 3)
	longer := readFile(t, other)
	lines := bytes.SplitAfter(longer, []byte("\n"))
	shorterHead := func(n int) []byte {
		d, _ := written(t, n)
		data, err := os.ReadFile(filepath.Join(d, HeadFile))
		fatal.If(t, err)
		return data
	}
	// The lines of another kit are whole by themselves, and the head is of this one.
	head, err := os.ReadFile(filepath.Join(dir, HeadFile))
	fatal.If(t, err)
	for name, c := range map[string]struct {
		data, head []byte
		line       int
	}{
		"two more":   {longer, shorterHead(3), 5},
		"three more": {longer, shorterHead(2), 4},
		"one more":   {bytes.Join(lines[:4], nil), shorterHead(3), 3}, // the line before it is another one
		"as many":    {bytes.Join(lines[:3], nil), head, 3},
		"as it was":  {whole, head, 0},
	} {
		os.WriteFile(filepath.Join(dir, File), c.data, 0o644)
		os.WriteFile(filepath.Join(dir, HeadFile), c.head, 0o644)
		log, err := Read(dir)
		fatal.If(t, err)
		if c.line == 0 && len(log.Damage) > 0 || c.line > 0 && (len(log.Damage) != 1 || log.Damage[0].Line != c.line || !strings.HasPrefix(log.Damage[0].What, fmt.Sprintf("line %d was ", c.line))) {
			t.Errorf("%s: %+v, want line %d", name, log.Damage, c.line)
		}
	}
}

// TestSent sends each line once, after it is written. A failure to send is returned.
func TestSent(t *testing.T) {
	dir := t.TempDir()
	log, err := Read(dir)
	fatal.If(t, err)
	var sent []int
	fails := errors.New("no connection")
	log.Sent = func() error {
		now, err := Read(dir)
		fatal.If(t, err)
		if len(now.Damage) > 0 {
			t.Errorf("sent with damage: %v", now.Damage)
		}
		if sent = append(sent, len(now.Lines)); len(sent) == 2 {
			return fails
		}
		return nil
	}
	at := time.Date(2026, 11, 20, 8, 30, 0, 123456789, time.FixedZone("", 3600))
	fatal.If(t, log.Append(Line{Event: "packed", At: at}, key))
	if err := log.Append(Line{Event: "packed"}, key); !errors.Is(err, fails) {
		t.Errorf("not sent: %v", err)
	}
	if !slices.Equal(sent, []int{1, 2}) || !log.Lines[0].At.Equal(at.Truncate(time.Millisecond)) || time.Since(log.Lines[1].At) > time.Minute {
		t.Errorf("sent %v, %v", sent, log.Lines)
	}
	// Where the journal cannot be written, no head is left.
	broken := t.TempDir()
	log, err = Read(broken)
	fatal.If(t, err)
	fatal.If(t, os.Mkdir(filepath.Join(broken, File), 0o755))
	if err := log.Append(Line{Event: "packed"}, key); fault.KindOf(err) != fault.CannotPlace {
		t.Errorf("written: %v", err)
	}
	if _, err := os.Stat(filepath.Join(broken, HeadFile)); !os.IsNotExist(err) {
		t.Errorf("a head without a line: %v", err)
	}
	if _, err := Read(broken); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("a folder as the journal: %v", err)
	}
}
