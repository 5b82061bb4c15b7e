// Package tree moves folders and files. It walks them, writes them as a tar stream (POSIX.1-2001
// pax) with a list of every entry, puts such a stream in place, and compares a folder with a list.
//
// Everything is streamed: memory does not grow with the number of files.
package tree

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
)

// Type is the type of an entry.
type Type string

// The types of entry.
const (
	Dir  Type = "dir"
	File Type = "file"
	Link Type = "link" // a symbolic link to a place inside the item
	Hard Type = "name" // a hard link to an earlier file
	// Outside is a symbolic link that leads out of the item, and Special a device, pipe or socket.
	// Both are listed, but not moved.
	Outside Type = "outside-link"
	Special Type = "special"
	// Unfit has a name that the new computer does not allow. It is listed, but not moved.
	Unfit Type = "unfit"
)

// Entry is one file, folder or link of an item.
type Entry struct {
	Path    string // below the item's root, with / between folders; "." is the root
	Type    Type
	Size    int64 // bytes, for a File
	Mode    fs.FileMode
	ModTime time.Time
	Hash    digest.Sum // for a File
	Target  string     // target of a link, with / between folders; for a hard link, the first name
	filemeta.Metadata
	owner filemeta.Owner // the owner on the computer where it was read
	// Encrypted is true if Windows encrypted it for one user (EFS).
	Encrypted bool
	// Cloud is true if its content is not on this computer.
	Cloud   bool
	lost    []string // properties that are not moved
	holes   int64    // bytes of holes
	id      uint64   // the same as in filemeta.Stat
	changed int64
}

// Archived reports whether the entry is in the tar stream.
func (e *Entry) Archived() bool {
	return e.Type == Dir || e.Type == File || e.Type == Link || e.Type == Hard
}

// entryJSON is the line of an Entry in a list. Names can be any bytes (package bytejson).
type entryJSON struct {
	Path    string    `json:"path,omitempty"`
	Type    Type      `json:"type"`
	Size    int64     `json:"size,omitempty"`
	Mode    uint32    `json:"mode"`
	ModTime time.Time `json:"mtime"`
	Hash    string    `json:"b3,omitempty"`
	Target  string    `json:"target,omitempty"`
	filemeta.Metadata
}

// MarshalJSON encodes the entry as a line of a list.
func (e Entry) MarshalJSON() ([]byte, error) {
	j := entryJSON{Path: e.Path, Type: e.Type, Size: e.Size, Mode: filemeta.ModeOf(e.Mode), ModTime: e.ModTime.UTC(), Target: e.Target, Metadata: e.Metadata}
	if e.Type == File {
		j.Hash = e.Hash.String()
	}
	return bytejson.Marshal(j)
}

// UnmarshalJSON decodes a line of a list.
func (e *Entry) UnmarshalJSON(data []byte) error {
	var j entryJSON
	if err := bytejson.Unmarshal(data, &j); err != nil {
		return err
	}
	if filemeta.ModeOf(filemeta.ModeFrom(j.Mode)) != j.Mode {
		return fmt.Errorf("the mode %#o is not one that Move Kit seals", j.Mode)
	}
	*e = Entry{Path: j.Path, Type: j.Type, Size: j.Size, Mode: filemeta.ModeFrom(j.Mode), ModTime: j.ModTime, Target: j.Target, Metadata: j.Metadata}
	e.Hash, _ = digest.Parse(j.Hash)
	return nil
}

// before compares paths in walk order: a folder before its content, names by their bytes.
func before(a, b string) int {
	if a == "." || b == "." {
		return strings.Compare(strings.TrimPrefix(a, "."), strings.TrimPrefix(b, ".")) // the root is before everything
	}
	n := min(len(a), len(b))
	for i := range n {
		if x, y := a[i], b[i]; x != y {
			return int(rank(x)) - int(rank(y))
		}
	}
	// The one with more follows, because a folder is before its content, and / before every other byte.
	return len(a) - len(b)
}

// rank sorts / before every other byte of a name.
func rank(b byte) byte {
	if b == '/' {
		return 0
	}
	return b
}

// maxLine limits the line of an entry, in bytes. Extended attributes can make a line long.
const maxLine = 16 << 20

// ListReader reads the entries of a list.
type ListReader struct {
	r    *bufio.Reader
	head Entry
	have bool
}

// NewListReader returns a reader of the list in r.
func NewListReader(r io.Reader) *ListReader {
	return &ListReader{r: bufio.NewReaderSize(r, 64<<10)}
}

// Next returns the next entry, or io.EOF.
func (l *ListReader) Next() (Entry, error) {
	if l.have {
		l.have = false
		return l.head, nil
	}
	line, err := l.r.ReadSlice('\n')
	if err == bufio.ErrBufferFull {
		var more []byte
		for line = slices.Clone(line); err == bufio.ErrBufferFull; line = append(line, more...) {
			if len(line) > maxLine {
				return Entry{}, fault.New(fault.Hostile, "a list of files has a line of more than %d bytes", maxLine)
			}
			more, err = l.r.ReadSlice('\n')
		}
	}
	if err == io.EOF && len(line) == 0 {
		return Entry{}, io.EOF
	}
	if err != nil {
		return Entry{}, fault.Wrap(fault.Damaged, err, "cannot read a list of files")
	}
	var e Entry
	if err := e.UnmarshalJSON(line); err != nil {
		return Entry{}, fault.Wrap(fault.Damaged, err, "cannot read a list of files")
	}
	return e, nil
}

// Peek returns the next entry without consuming it.
func (l *ListReader) Peek() (Entry, error) {
	if !l.have {
		e, err := l.Next()
		if err != nil {
			return e, err
		}
		l.head, l.have = e, true
	}
	return l.head, nil
}

// CheckList reads a list to its end, and rejects anything that could lead outside the destination:
// an absolute path, "..", a drive, a stream or device name, a link out of the item, an entry below
// a link, or the same path twice, including in another spelling that the system treats as the same.
// system "" means that all names are allowed. It returns the statistics of the list.
func CheckList(l *ListReader, system string) (*Stats, error) {
	last, link, names, counted := "", "", filename.On(system), &Stats{}
	for {
		e, err := l.Next()
		if err == io.EOF {
			return counted, nil
		}
		if err != nil {
			return nil, err
		}
		if !e.Archived() && e.Type != Outside && e.Type != Special && e.Type != Unfit {
			return nil, hostile(e, "it has the unknown type %q", e.Type)
		}
		if last != "" && before(last, e.Path) >= 0 {
			return nil, hostile(e, "it comes after %q", last)
		}
		last = e.Path
		counted.add(e)
		if !e.Archived() {
			continue
		}
		if why := refusal(e.Path); why != "" {
			return nil, hostile(e, "%s", why)
		}
		if e.Size < 0 || e.Type != Dir && e.Mode != e.Mode&(fs.ModePerm|fs.ModeSticky) {
			return nil, hostile(e, "it has %d bytes and the permissions %04o", e.Size, filemeta.ModeOf(e.Mode))
		}
		if why := names.Refuses(e.Path); why != "" {
			return nil, hostile(e, "%s", why)
		}
		if link != "" && strings.HasPrefix(e.Path, link+"/") {
			return nil, hostile(e, "it is below the link %q", link)
		}
		if e.Type == Hard && (refusal(e.Target) != "" || before(e.Target, e.Path) >= 0) {
			return nil, hostile(e, "it is a hard link to %q", e.Target)
		}
		if e.Type == Link {
			link = e.Path
			if !filename.Within(e.Path, e.Target, strings.HasPrefix(system, "windows") || runtime.GOOS == "windows") {
				return nil, hostile(e, "it is a link to %q", e.Target)
			}
		}
	}
}

func hostile(e Entry, format string, args ...any) error {
	return fault.Wrap(fault.Hostile, fault.New(fault.Hostile, format, args...), "the kit lists %q, which is not allowed", e.Path)
}

// refusal returns why a path must not be written, or "".
func refusal(p string) string {
	switch {
	case p == "" || strings.ContainsRune(p, 0) || path.Clean(p) != p || strings.HasPrefix(p, "/"):
		return "it is not a plain path"
	case p == ".." || strings.HasPrefix(p, "../"):
		return "it leads outside its folder"
	case !filepath.IsLocal(filepath.FromSlash(p)):
		return "it is not a local path"
	}
	return ""
}
