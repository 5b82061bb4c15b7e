// Package bytejson reads and writes JSON whose strings can be any bytes. File names on Linux need not
// be valid UTF-8, and JSON has only text (RFC 8259, section 8.1), so each other byte is written as one
// character of a private plane of Unicode. Valid text is written as it is.
package bytejson

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"
	"unicode/utf8"
)

// first is the character for the byte 0: U+10FF00. Characters from first to last that are in a string
// themselves are written byte by byte, so that every string has one form.
const (
	first = 0x10ff00
	last  = first + 0xff
)

// Plain reports whether a string is written as it is.
func Plain(s string) bool {
	for _, r := range s {
		if r >= first && r <= last {
			return false
		}
	}
	return utf8.ValidString(s)
}

// Escape returns a string as valid text.
func Escape(s string) string {
	if Plain(s) {
		return s
	}
	var b strings.Builder
	for s != "" {
		r, n := utf8.DecodeRuneInString(s)
		if r == utf8.RuneError && n == 1 || r >= first && r <= last {
			for _, c := range []byte(s[:n]) {
				b.WriteRune(first + rune(c))
			}
		} else {
			b.WriteString(s[:n])
		}
		s = s[n:]
	}
	return b.String()
}

// Unescape returns the string that Escape escaped.
func Unescape(s string) string {
	if Plain(s) {
		return s
	}
	var b []byte
	for _, r := range s {
		if r >= first && r <= last {
			b = append(b, byte(r-first))
		} else {
			b = utf8.AppendRune(b, r)
		}
	}
	return string(b)
}

// Marshal encodes a value.
func Marshal(v any) ([]byte, error) { return json.Marshal(Escaped(v)) }

// Unmarshal decodes a value that Marshal wrote into the value that v points to.
func Unmarshal(data []byte, v any) error {
	if err := json.Unmarshal(data, v); err != nil {
		return err
	}
	// The characters from first to last begin with these bytes, or are written as \u.
	if bytes.Contains(data, []byte("\xf4\x8f\xbc")) || bytes.Contains(data, []byte("\xf4\x8f\xbd")) || bytes.Contains(data, []byte("\xf4\x8f\xbe")) || bytes.Contains(data, []byte("\xf4\x8f\xbf")) || bytes.Contains(data, []byte(`\u`)) {
		to := reflect.ValueOf(v).Elem()
		to.Set(mapped(to, Unescape))
	}
	return nil
}

// Escaped returns a value with escaped strings, for another JSON encoder.
func Escaped(v any) any {
	if v == nil || plain(reflect.ValueOf(v)) {
		return v
	}
	return mapped(reflect.ValueOf(v), Escape).Interface()
}

var marshaler = reflect.TypeFor[json.Marshaler]()

// opaque reports whether a value encodes itself, or has no strings.
func opaque(t reflect.Type) bool {
	return t.Implements(marshaler) || t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Uint8
}

// plain reports whether all strings in a value are written as they are.
func plain(v reflect.Value) bool {
	if opaque(v.Type()) {
		return true
	}
	switch v.Kind() {
	case reflect.String:
		return Plain(v.String())
	case reflect.Pointer, reflect.Interface:
		return v.IsNil() || plain(v.Elem())
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); (f.IsExported() || f.Anonymous) && !plain(v.Field(i)) {
				return false
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			if !plain(v.Index(i)) {
				return false
			}
		}
	case reflect.Map:
		for each := v.MapRange(); each.Next(); {
			if !plain(each.Key()) || !plain(each.Value()) {
				return false
			}
		}
	}
	return true
}

// mapped returns a copy of a value with each string changed.
func mapped(v reflect.Value, change func(string) string) reflect.Value {
	if opaque(v.Type()) {
		return v
	}
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	switch v.Kind() {
	case reflect.String:
		out.SetString(change(v.String()))
	case reflect.Pointer:
		if !v.IsNil() {
			out.Set(reflect.New(v.Type().Elem()))
			out.Elem().Set(mapped(v.Elem(), change))
		}
	case reflect.Interface:
		if !v.IsNil() {
			out.Set(mapped(v.Elem(), change))
		}
	case reflect.Struct:
		mapFields(out, change)
	case reflect.Slice:
		if !v.IsNil() {
			out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
		}
		fallthrough
	case reflect.Array:
		for i := range v.Len() {
			out.Index(i).Set(mapped(v.Index(i), change))
		}
	case reflect.Map:
		if !v.IsNil() {
			out.Set(reflect.MakeMapWithSize(v.Type(), v.Len()))
		}
		for each := v.MapRange(); each.Next(); {
			out.SetMapIndex(mapped(each.Key(), change), mapped(each.Value(), change))
		}
	}
	return out
}

// mapFields changes each string in a struct. The encoder also writes the fields of an embedded struct
// whose type is not exported.
func mapFields(v reflect.Value, change func(string) string) {
	for i := range v.NumField() {
		switch f := v.Type().Field(i); {
		case f.IsExported():
			v.Field(i).Set(mapped(v.Field(i), change))
		case f.Anonymous && f.Type.Kind() == reflect.Struct:
			mapFields(v.Field(i), change)
		}
	}
}
