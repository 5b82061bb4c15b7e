package registry

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"unicode"
	"unicode/utf16"
)

// Writable is a key that can be changed.
type Writable interface {
	Key
	// Create opens a subkey for changes, and creates it if it is missing.
	Create(name string) (Writable, error)
	Set(Value) error
	// Unset removes a value. A missing value is not an error.
	Unset(name string) error
	// Delete removes a subkey that has no subkeys. A missing key is not an error.
	Delete(name string) error
}

// ErrOffline means that a key cannot be changed, because its system is not running or its user is
// not signed in.
var ErrOffline = errors.New("the registry does not belong to the running system")

// Link is the type of the value that makes a key a link to another key.
const Link Type = 6 // REG_LINK

// Limits for an item.
const (
	maxValue = 16 << 20 // bytes of a value
	maxAll   = 64 << 20 // bytes of all values
	maxDepth = 512      // nesting of keys; Windows has the same limit
)

// Branch is a key with its values.
type Branch struct {
	Path   string  `json:"path"` // below the top key, with \ between names; "" for the top key itself
	Values []Value `json:"values,omitempty"`
}

// Child returns the path of a subkey.
func (b Branch) Child(name string) string { return strings.TrimPrefix(b.Path+`\`+name, `\`) }

// ID identifies a value below the item's key. Its path does not: a value can be named @ like the default
// one, or have a backslash in its name.
func (b Branch) ID(v Value) string { return strings.ToLower(b.Path + "\x00" + v.Name) }

// Choice selects keys and values by paths with \ between names. The path of a value ends with its
// name, or @ for the default value.
type Choice struct {
	Enter func(key string) bool   // whether to read a subkey
	Take  func(value string) bool // whether to select a value
	Bare  bool                    // whether to include keys without values
}

// Read reads a key and its subkeys in registry order, parents first. left lists keys and values
// that cannot be moved, with the reason.
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
			r.left = append(r.left, name+" (it is a link to another key)")
			continue
		case len(v.Data) > maxValue:
			r.left = append(r.left, fmt.Sprintf("%s (%d bytes; the limit is %d)", name, len(v.Data), maxValue))
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
			continue // deleted meanwhile
		}
		if errors.Is(err, fs.ErrPermission) {
			r.left = append(r.left, path+" (no permission to read it)")
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

// roots are the root names in .reg files.
var roots = map[string]string{"HKLM": "HKEY_LOCAL_MACHINE", "HKCU": "HKEY_CURRENT_USER"}

// maxQuoted limits the length of a quoted text, in bytes. Longer texts are written in hex, piece by
// piece.
const maxQuoted = 64 << 10

// WriteReg writes keys below a path as a .reg file of version 5, which Windows can import: UTF-16
// with a byte order mark. It leaves out names with control characters, and returns them: a line
// break in a name would start another key.
func WriteReg(to io.Writer, path string, all []Branch) (leftOut []string, err error) {
	out := wide{bufio.NewWriterSize(to, 1<<16)}
	out.printf("\ufeffWindows Registry Editor Version 5.00\r\n")
	root, rest, _ := strings.Cut(path, `\`)
	if long := roots[strings.ToUpper(root)]; long != "" {
		root = long
	}
	if hasControl(path) {
		return nil, fmt.Errorf("the key %q cannot be in a .reg file", path)
	}
	for _, b := range all {
		if hasControl(b.Path) {
			leftOut = append(leftOut, b.Path)
			continue
		}
		out.printf("\r\n[%s]\r\n", strings.Trim(root+`\`+rest+`\`+b.Path, `\`))
		for _, v := range b.Values {
			if hasControl(v.Name) {
				leftOut = append(leftOut, b.Child(v.Name))
				continue
			}
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
	return leftOut, out.Flush()
}

func hasControl(name string) bool { return strings.ContainsFunc(name, unicode.IsControl) }

// wide writes UTF-16. Flush returns the errors.
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

// ToUTF16 encodes a text as in registry values: UTF-16, little-endian.
func ToUTF16(text string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}
