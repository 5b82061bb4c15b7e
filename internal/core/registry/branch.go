package registry

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"unicode/utf16"
)

// Writable is a key that can be changed.
type Writable interface {
	Key
	// Create opens a key below for changes, and makes it where it is not there.
	Create(name string) (Writable, error)
	Set(Value) error
	// Unset removes a value; one that is not there is no error.
	Unset(name string) error
	// Delete removes a key below that has none below it; one that is not there is no error.
	Delete(name string) error
}

// ErrOffline says that a key belongs to a system that does not run, or to a user who is not
// signed in, and cannot be changed.
var ErrOffline = errors.New("the registry is not that of the running system")

// Link is the type of the value by which a key stands for another one.
const Link Type = 6 // REG_LINK

// Bounds of what is read as one item.
const (
	maxValue = 16 << 20 // bytes of a value
	maxAll   = 64 << 20 // bytes of all
	maxDepth = 512      // keys below each other; Windows has the same bound
)

// Branch is a key with its values.
type Branch struct {
	Path   string  `json:"path"` // below the top, with \ between names; "" for the top itself
	Values []Value `json:"values,omitempty"`
}

// Child is the path of a key below.
func (b Branch) Child(name string) string { return strings.TrimPrefix(b.Path+`\`+name, `\`) }

// Choice says what of a key and what is below it is meant, by paths with \ between names; that
// of a value ends with its name, or @ for the key's own.
type Choice struct {
	Enter func(key string) bool   // whether a key below is looked into
	Take  func(value string) bool // whether a value is taken
	Bare  bool                    // whether keys without values are taken
}

// Read reads a key and what is below it, a key before those below, in the order that the
// registry has. What does not move is named with the reason.
func Read(k Key, c Choice) (all []Branch, left []string, err error) {
	r := reader{c, 0, nil, nil}
	err = r.read(k, Branch{}, 0)
	return r.all, r.left, err
}

type reader struct {
	Choice
	bytes int
	all   []Branch
	left  []string
}

func (r *reader) read(k Key, b Branch, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("%s is more than %d keys deep", b.Path, maxDepth)
	}
	values, err := k.Values()
	if err != nil {
		return err
	}
	for _, v := range values {
		name := b.Child(v.Label())
		switch {
		case !r.Take(name):
			continue
		case v.Type == Link:
			r.left = append(r.left, name+" (it stands for another key)")
			continue
		case len(v.Data) > maxValue:
			r.left = append(r.left, fmt.Sprintf("%s (%d bytes; at most %d move)", name, len(v.Data), maxValue))
			continue
		}
		if r.bytes += len(v.Data) + len(v.Name); r.bytes > maxAll {
			return fmt.Errorf("there are more than %d bytes of values", maxAll)
		}
		b.Values = append(b.Values, v)
	}
	if len(b.Values) > 0 || r.Bare {
		r.all = append(r.all, b)
	}
	names, err := k.Keys()
	if err != nil {
		return err
	}
	for _, name := range names {
		path := b.Child(name)
		if !r.Enter(path) {
			continue
		}
		below, err := k.Open(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // gone since
		}
		if errors.Is(err, fs.ErrPermission) {
			r.left = append(r.left, path+" (it may not be read)")
			continue
		}
		if err == nil {
			err = r.read(below, Branch{Path: path}, depth+1)
			below.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// roots are the names of roots in .reg files.
var roots = map[string]string{"HKLM": "HKEY_LOCAL_MACHINE", "HKCU": "HKEY_CURRENT_USER"}

// maxQuoted is how long a text may be, in bytes, that is written as one; longer ones are
// written in hex, piece by piece.
const maxQuoted = 64 << 10

// WriteReg writes keys below a path as a .reg file of version 5, which Windows' own tools take
// in: UTF-16 with a mark.
func WriteReg(to io.Writer, path string, all []Branch) error {
	out := wide{bufio.NewWriterSize(to, 1<<16)}
	out.printf("\ufeffWindows Registry Editor Version 5.00\r\n")
	root, rest, _ := strings.Cut(path, `\`)
	if long := roots[strings.ToUpper(root)]; long != "" {
		root = long
	}
	for _, b := range all {
		out.printf("\r\n[%s]\r\n", strings.Trim(root+`\`+rest+`\`+b.Path, `\`))
		for _, v := range b.Values {
			name := "@"
			if v.Name != "" {
				name = quotedReg(v.Name)
			}
			text, plain := "", false
			if v.Type == String && len(v.Data) <= maxQuoted {
				text = v.Text()
				plain = string(v.Data) == string(ToUTF16(text+"\x00")) && !strings.ContainsAny(text, "\r\n\x00")
			}
			switch {
			case plain:
				out.printf("%s=%s\r\n", name, quotedReg(text))
			case v.Type == DWord && len(v.Data) == 4:
				out.printf("%s=dword:%08x\r\n", name, binary.LittleEndian.Uint32(v.Data))
			default:
				kind := "hex"
				if v.Type != Binary {
					kind = fmt.Sprintf("hex(%x)", uint32(v.Type))
				}
				out.printf("%s=%s:", name, kind)
				out.hex(v.Data)
				out.printf("\r\n")
			}
		}
	}
	return out.Flush()
}

// wide writes UTF-16. What fails is told by Flush.
type wide struct{ *bufio.Writer }

func (w wide) printf(format string, args ...any) { w.Write(ToUTF16(fmt.Sprintf(format, args...))) }

func (w wide) hex(data []byte) {
	const digits = "0123456789abcdef"
	first := 2 // without the comma
	for _, c := range data {
		piece := [6]byte{',', 0, digits[c>>4], 0, digits[c&15], 0}
		w.Write(piece[first:])
		first = 0
	}
}

func quotedReg(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// ToUTF16 writes a text as values hold it: UTF-16, little-endian.
func ToUTF16(text string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}
