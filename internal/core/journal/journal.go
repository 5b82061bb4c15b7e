// Package journal reads and writes the kit's append-only record of every step.
//
// Read returns the lines and lists any damage. Log.Append adds a line and flushes it.
// Log.Authenticate checks that every line was written by somebody who knows the passphrase.
//
// A line is one JSON object. It has the BLAKE3 hash of the line before it, and a message
// authentication code that can only be computed with the passphrase. A second file, the head, has
// the number of lines and the hash of the last one, so that missing lines at the end are detected.
package journal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// The journal's two files in the kit.
const (
	File     = "journal.jsonl"
	HeadFile = "journal.head"
)

// Line is one record.
type Line struct {
	N        int             `json:"n"` // from 1
	At       time.Time       `json:"at"`
	Event    string          `json:"event"`
	App      string          `json:"app,omitempty"`
	Item     string          `json:"item,omitempty"`
	User     string          `json:"user,omitempty"`
	Licence  string          `json:"licence,omitempty"`
	Computer string          `json:"computer,omitempty"` // name of the computer that wrote it
	By       string          `json:"by,omitempty"`       // name of the technician; "" if unknown
	Data     json.RawMessage `json:"data,omitempty"`
	Prev     string          `json:"prev"`          // BLAKE3 of the line before, hex
	MAC      string          `json:"mac,omitempty"` // keyed BLAKE3 of this line without the mac, hex
}

// head is the content of the HeadFile.
type head struct {
	Lines int    `json:"lines"`
	Hash  string `json:"hash"` // of the last line
	MAC   string `json:"mac"`  // keyed BLAKE3 of lines and hash
	Sum   string `json:"sum"`  // BLAKE3 of lines, hash and mac, to detect a changed head
}

func (h head) said() []byte { return fmt.Appendf(nil, "%d %s", h.Lines, h.Hash) }

func (h head) sum() string { return digest.Of(append(h.said(), " "+h.MAC...)).String() }

// Damage is a place where the journal was changed.
type Damage struct {
	Line int    `json:"line"` // 0 for the head
	What string `json:"what"`
}

// Log is a journal that was read, and can be appended to.
type Log struct {
	Sent  func() error // if not nil, it is called when a line is written, and must make it known elsewhere too
	dir   string
	Lines []Line
	// Damage lists all damage. A damaged journal cannot be appended to.
	Damage []Damage
	// Torn is true if the last line is incomplete. The next Append removes it.
	Torn  bool
	whole int64 // bytes of complete lines
	head  *head // nil if there is none
	last  string
	raw   [][]byte // the lines' bytes, until they are authenticated
}

// firstPrev is the Prev of the first line.
var firstPrev = digest.Of(nil).String()

// maxJournal limits a journal, in bytes.
const maxJournal = 256 << 20

// Read reads the journal of a kit. Damage is returned in the Log, not as an error.
func Read(dir string) (*Log, error) {
	data, err := ReadFile(filepath.Join(dir, File), maxJournal)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the kit's journal")
	}
	l := &Log{dir: dir, last: firstPrev}
	missing := err != nil
	for len(data) > 0 {
		line, rest, ended := bytes.Cut(data, []byte("\n"))
		if !ended {
			l.Torn = true
			break
		}
		l.take(line)
		data = rest
		l.whole += int64(len(line)) + 1
	}
	l.checkHead(missing)
	return l, nil
}

// take parses one line and checks it against the line before it.
func (l *Log) take(raw []byte) {
	n := len(l.Lines) + 1
	var line Line
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	err := dec.Decode(&line)
	line.App, line.Item, line.User = bytejson.Unescape(line.App), bytejson.Unescape(line.Item), bytejson.Unescape(line.User)
	switch {
	case err != nil:
		l.damage(n, "line %d is not a journal line", n)
	case line.N != n:
		l.damage(n, "line %d has the number %d: lines were removed, added or reordered", n, line.N)
	case line.Prev != l.last && n == 1:
		l.damage(n, "line 1 was changed, or lines before it were removed")
	case line.Prev != l.last:
		l.damage(n-1, "line %d was changed", n-1)
	}
	l.Lines = append(l.Lines, line)
	l.raw = append(l.raw, raw)
	l.last = digest.Of(raw).String()
}

func (l *Log) damage(line int, format string, args ...any) {
	l.Damage = append(l.Damage, Damage{Line: line, What: fmt.Sprintf(format, args...)})
}

func (l *Log) checkHead(noJournal bool) {
	data, err := ReadFile(filepath.Join(l.dir, HeadFile), 1<<20)
	if errors.Is(err, fs.ErrNotExist) && noJournal {
		return // nothing was ever written
	}
	var h head
	if err == nil {
		err = json.Unmarshal(data, &h)
	}
	again, _ := json.Marshal(h)
	if err != nil || h.Sum != h.sum() || string(data) != string(again)+"\n" {
		// A kit that was interrupted at its very first line has no head yet.
		if len(l.Lines) > 1 || !errors.Is(err, fs.ErrNotExist) {
			l.damage(0, "%s was changed or is missing", HeadFile)
		}
		return
	}
	l.head = &h
	switch {
	case h.Lines > len(l.Lines):
		l.damage(len(l.Lines)+1, "line %d and the following lines up to line %d were removed", len(l.Lines)+1, h.Lines)
	case h.Lines < len(l.Lines)-1:
		l.damage(h.Lines+2, "line %d was added", h.Lines+2)
	case h.Lines == len(l.Lines) && h.Hash != l.last:
		l.damage(h.Lines, "line %d was changed", h.Lines)
	case h.Lines == len(l.Lines)-1 && h.Hash != l.Lines[h.Lines].Prev:
		l.damage(h.Lines, "line %d was changed", h.Lines)
	}
}

// macOf computes a line's authentication code over its bytes without the code.
func macOf(key digest.Sum, unsigned []byte) string {
	h := digest.Keyed(key)
	h.Write(unsigned)
	return h.Sum().String()
}

// Authenticate checks every line, and the head, with the key that only the passphrase gives. It
// returns a description of the first one that is not authentic, or "".
func (l *Log) Authenticate(key digest.Sum) string {
	for i, raw := range l.raw {
		line := l.Lines[i]
		tail := fmt.Appendf(nil, `,"mac":%q}`, line.MAC)
		body, ok := bytes.CutSuffix(raw, tail)
		if !ok || macOf(key, append(body[:len(body):len(body)], '}')) != line.MAC {
			return fmt.Sprintf("line %d", i+1)
		}
	}
	if l.head != nil && macOf(key, l.head.said()) != l.head.MAC {
		return "the head"
	}
	return ""
}

// Append appends a line, authenticated with the kit's key, and flushes it. It sets N, Prev, MAC
// and, if it is zero, At.
func (l *Log) Append(line Line, key digest.Sum) error {
	if len(l.Damage) > 0 {
		return fault.New(fault.Damaged, "the kit's journal is damaged: %s", l.Damage[0].What)
	}
	if len(l.Lines) > 0 && (l.head == nil || l.head.Lines < len(l.Lines)) {
		// An earlier run was interrupted before it wrote the head. Without the head, another
		// interruption here would leave two lines that the head does not cover.
		if err := l.writeHead(key); err != nil {
			return err
		}
	}
	line.N, line.Prev, line.MAC = len(l.Lines)+1, l.last, ""
	if line.At.IsZero() {
		line.At = time.Now()
	}
	line.At = line.At.UTC().Truncate(time.Millisecond)
	unsigned, err := bytejson.Marshal(line)
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot write a journal line")
	}
	line.MAC = macOf(key, unsigned)
	raw := append(unsigned[:len(unsigned)-1:len(unsigned)-1], fmt.Sprintf(`,"mac":%q}`, line.MAC)...)
	if err := l.write(raw); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the kit's journal")
	}
	l.Lines, l.raw = append(l.Lines, line), append(l.raw, raw)
	l.last = digest.Of(raw).String()
	if err := l.writeHead(key); err != nil || l.Sent == nil {
		return err
	}
	return l.Sent()
}

// writeHead writes the head for the current lines.
func (l *Log) writeHead(key digest.Sum) error {
	h := head{Lines: len(l.Lines), Hash: l.last}
	h.MAC = macOf(key, h.said())
	h.Sum = h.sum()
	data, _ := json.Marshal(h)
	if err := WriteFile(filepath.Join(l.dir, HeadFile), append(data, '\n'), 0o644); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the kit's journal head")
	}
	l.head = &h
	return nil
}

// write writes raw after the complete lines, over a torn one.
func (l *Log) write(raw []byte) error {
	f, err := os.OpenFile(filepath.Join(l.dir, File), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Truncate(l.whole); err != nil {
		return err
	}
	if _, err := f.WriteAt(append(raw, '\n'), l.whole); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	l.whole += int64(len(raw)) + 1
	l.Torn = false
	return f.Close()
}
