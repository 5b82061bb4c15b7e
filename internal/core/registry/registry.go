// Package registry reads the Windows registry: that of the running system, and
// hive files (the regf format, as described by the Windows registry file
// format specification of M. Suhanov) on the disk of another computer, on any
// system. It changes the running system's only.
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

// Type is the type of a value, by the numbers of winnt.h.
type Type uint32

// The types of values that are more than bytes.
const (
	String   Type = 1 // REG_SZ
	Expand   Type = 2 // REG_EXPAND_SZ: %NAMES% stand in it
	Binary   Type = 3
	DWord    Type = 4 // 32 bits, little-endian
	DWordBig Type = 5
	Multi    Type = 7 // REG_MULTI_SZ
	QWord    Type = 11
)

// Value is one value of a key.
type Value struct {
	Name string // "" for the key's own value
	Type Type
	Data []byte
}

// Label is the value's name as patterns have it: @ for the key's own.
func (v Value) Label() string { return cmp.Or(v.Name, "@") }

// Text returns the value as a person reads it: texts as they are, several of
// them a line each, numbers in decimal, anything else in hex.
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

// FromUTF16 reads a text as values hold it, with the zeros that end it.
func FromUTF16(data []byte) string {
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(data[2*i:])
	}
	return string(utf16.Decode(units))
}

// Key is a key of the registry. Names are compared without regard to letter
// case.
type Key interface {
	Modified() time.Time // zero where it is not known
	// Keys returns the names of the keys below.
	Keys() ([]string, error)
	// Open opens a key below by its name; one that is not there gives an
	// error that is fs.ErrNotExist.
	Open(name string) (Key, error)
	Values() ([]Value, error)
	Close() error
}

// Find opens the key at a path below another, with \ between names. The caller
// closes it.
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

// noClose is a key that somebody else closes.
type noClose struct{ Key }

func (noClose) Close() error { return nil }

// Get returns the value of that name; one that is not there gives an error
// that is fs.ErrNotExist.
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

// Text returns the text of a value of the key at a path below another, or ""
// where there is none or it cannot be read.
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

// errDamaged is wrapped by every error about what a hive file holds.
var errDamaged = errors.New("the hive is damaged or no hive")
