package pathmap

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"strconv"
	"strings"
	"unicode/utf16"
)

// syntax is the syntax of a file that writes some characters as escapes. Paths are searched in what it
// means, and written in its own way.
type syntax interface {
	// parses reports whether a text has this syntax.
	parses(text string) bool
	// unescape returns the character that an escape at i stands for, and its length; 0 if there is none.
	unescape(text []rune, i int) (rune, int)
	// escape writes a text in the syntax, in the manner of the old one.
	escape(text, old string) string
	// verbatim returns the beginning and the end of parts without escapes; "" if there are none.
	verbatim() (begin, end string)
}

// syntaxOf returns the syntax of a text, or nil.
func syntaxOf(text string) syntax {
	head := strings.TrimLeft(strings.TrimPrefix(text, "\ufeff"), " \t\r\n")
	var s syntax
	switch {
	case strings.HasPrefix(head, "<"):
		s = xmlSyntax{}
	case strings.HasPrefix(head, "{"), strings.HasPrefix(head, "["), strings.HasPrefix(head, `"`):
		s = jsonSyntax{}
	default:
		return nil
	}
	if !s.parses(text) {
		return nil
	}
	return s
}

// unescaped returns a text without escapes, the offset of each character, and whether it is in a part
// without escapes. at has the offsets of the characters of text.
func unescaped(s syntax, text []rune, at []int) (runes []rune, offsets []int, verbatim []bool) {
	begin, end := s.verbatim()
	inside := false
	for i := 0; i < len(text); {
		switch {
		case inside && hasPrefix(text, i, end):
			inside = false
		case begin != "" && !inside && hasPrefix(text, i, begin):
			inside = true
		}
		r, n := text[i], 1
		if !inside {
			if plain, length := s.unescape(text, i); length > 0 {
				r, n = plain, length
			}
		}
		runes, offsets, verbatim = append(runes, r), append(offsets, at[i]), append(verbatim, inside)
		i += n
	}
	return runes, append(offsets, at[len(text)]), verbatim
}

// jsonSyntax is JSON (RFC 8259). A backslash is only in strings.
type jsonSyntax struct{}

func (jsonSyntax) parses(text string) bool {
	return json.Valid([]byte(strings.TrimPrefix(text, "\ufeff")))
}

func (jsonSyntax) verbatim() (begin, end string) { return "", "" }

func (jsonSyntax) unescape(text []rune, i int) (rune, int) {
	if text[i] != '\\' || i+1 >= len(text) {
		return 0, 0
	}
	unit := func(i int) (rune, bool) {
		if i+6 > len(text) || text[i] != '\\' || text[i+1] != 'u' {
			return 0, false
		}
		n, err := strconv.ParseUint(string(text[i+2:i+6]), 16, 16)
		return rune(n), err == nil
	}
	if r, is := unit(i); is {
		if low, both := unit(i + 6); both && utf16.IsSurrogate(r) {
			return utf16.DecodeRune(r, low), 12
		}
		return r, 6
	}
	return map[rune]rune{'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}[text[i+1]], 2
}

func (jsonSyntax) escape(text, old string) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.Encode(text) //nolint:errcheck // a string always encodes
	text = strings.TrimSuffix(strings.TrimPrefix(strings.TrimSuffix(b.String(), "\n"), `"`), `"`)
	if strings.Contains(old, `\/`) {
		text = strings.ReplaceAll(text, "/", `\/`)
	}
	return text
}

// xmlSyntax is XML 1.0.
type xmlSyntax struct{}

func (xmlSyntax) parses(text string) bool {
	d := xml.NewDecoder(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // the text is decoded already
	for {
		if _, err := d.RawToken(); err != nil {
			return errors.Is(err, io.EOF)
		}
	}
}

func (xmlSyntax) verbatim() (begin, end string) { return "<![CDATA[", "]]>" }

func (xmlSyntax) unescape(text []rune, i int) (rune, int) {
	if text[i] != '&' {
		return 0, 0
	}
	for n := 2; n <= 12 && i+n <= len(text); n++ {
		if text[i+n-1] != ';' {
			continue
		}
		name := string(text[i+1 : i+n-1])
		if number, is := strings.CutPrefix(name, "#"); is {
			base := 10
			if hex, is := strings.CutPrefix(number, "x"); is {
				number, base = hex, 16
			}
			r, err := strconv.ParseUint(number, base, 21)
			if err != nil {
				return 0, 0
			}
			return rune(r), n
		}
		if r := map[string]rune{"amp": '&', "lt": '<', "gt": '>', "quot": '"', "apos": '\''}[name]; r != 0 {
			return r, n
		}
		return 0, 0
	}
	return 0, 0
}

func (xmlSyntax) escape(text, _ string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(text)
}
