// Package registry reads the Windows registry: the running system's registry, and hive files (the
// regf format, described in the Windows registry file format specification by M. Suhanov) on
// another computer's disk, on any system. It can change only the running system's registry.
package registry

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"
	"unicode/utf16"
)

// Type is the type of a value, with the numbers of winnt.h.
type Type uint32

// The types of values with a known form.
const (
	String   Type = 1 // REG_SZ
	Expand   Type = 2 // REG_EXPAND_SZ: contains %NAMES%
	Binary   Type = 3
	DWord    Type = 4 // 32 bits, little-endian
	DWordBig Type = 5
	Multi    Type = 7 // REG_MULTI_SZ
	QWord    Type = 11
)

// Value is one value of a key.
type Value struct {
	Name string // "" for the default value
	Type Type
	Data []byte
}

// Label returns the value's name in patterns: @ for the default value.
func (v Value) Label() string { return cmp.Or(v.Name, "@") }

// Text returns the value for display: strings as they are (several strings as lines), numbers in
// decimal, other types in hex.
func (v Value) Text() string {
	switch {
	case v.Type == String || v.Type == Expand:
		s, _, _ := strings.Cut(FromUTF16(v.Data), "\x00")
		return s
	case v.Type == Multi:
		return strings.ReplaceAll(strings.Trim(FromUTF16(v.Data), "\x00"), "\x00", "\n")
	case v.Type == DWord && len(v.Data) == 4:
		return fmt.Sprint(binary.LittleEndian.Uint32(v.Data))
	case v.Type == DWordBig && len(v.Data) == 4:
		return fmt.Sprint(binary.BigEndian.Uint32(v.Data))
	case v.Type == QWord && len(v.Data) == 8:
		return fmt.Sprint(binary.LittleEndian.Uint64(v.Data))
	}
	return fmt.Sprintf("%x", v.Data)
}

// FromUTF16 decodes a text in a value, without its terminating zeros.
func FromUTF16(data []byte) string {
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(data[2*i:])
	}
	return string(utf16.Decode(units))
}

// Key is a registry key. Names are compared without regard to letter case.
type Key interface {
	Modified() time.Time // zero if unknown
	// Keys returns the names of the subkeys.
	Keys() ([]string, error)
	// Open opens a subkey. If it does not exist, the error is fs.ErrNotExist.
	Open(name string) (Key, error)
	Values() ([]Value, error)
	Close() error
}

// Find opens the key at a path below another, with \ between names. The caller closes it.
func Find(k Key, path string) (Key, error) {
	at := k
	for _, name := range strings.FieldsFunc(path, func(r rune) bool { return r == '\\' }) {
		next, err := at.Open(name)
		if at != k {
			at.Close()
		}
		if err != nil {
			return nil, err
		}
		at = next
	}
	if at == k {
		return noClose{k}, nil
	}
	return at, nil
}

// noClose is a key that another owner closes.
type noClose struct{ Key }

func (noClose) Close() error { return nil }

// Get returns a value. If it does not exist, the error is fs.ErrNotExist.
func Get(k Key, name string) (Value, error) {
	values, err := k.Values()
	if err != nil {
		return Value{}, err
	}
	for _, v := range values {
		if strings.EqualFold(v.Name, name) {
			return v, nil
		}
	}
	return Value{}, fmt.Errorf("the registry value %q: %w", name, fs.ErrNotExist)
}

// Text returns the text of a value of the key at a path below another, or "" if it cannot be read.
func Text(k Key, path, name string) string {
	at, err := Find(k, path)
	if err != nil {
		return ""
	}
	defer at.Close()
	v, err := Get(at, name)
	if err != nil {
		return ""
	}
	return v.Text()
}

// errDamaged is wrapped by every error about the content of a hive file.
var errDamaged = errors.New("the file is a damaged hive, or not a hive")
