// Package pathmap updates old paths in settings.
//
// New makes a Map from old paths to new ones. Map.File returns the edits for a file, Apply makes
// them, and Back undoes them. The package only works on texts, and supports the ways in which
// programs write paths.
package pathmap

import (
	"bytes"
	"cmp"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"movekit/internal/core/plist"
)

// Pair is a location on the old computer, and its location on the new one. Both are full paths, or
// start with a term such as %APPDATA%.
type Pair struct{ Old, New string }

// Edit is one change.
type Edit struct {
	In     string `json:"in,omitempty"`     // the file, by its path in the item; or the table or key
	At     int    `json:"at,omitempty"`     // for a file: offset in the sealed data, in bytes
	Row    string `json:"row,omitempty"`    // for a table: the row's key after the change
	Column string `json:"column,omitempty"` // for a table: column; for a registry key: value name
	Old    []byte `json:"old"`
	New    []byte `json:"new"`
	// Was and Is are for server tables: hashes of a row before and after the change. The edits of a
	// table together have the hashes of all changed rows.
	Was string `json:"was,omitempty"`
	Is  string `json:"is,omitempty"`
}

// Map maps old paths to new ones.
type Map struct {
	windows bool
	pairs   []place
	names   []Pair // computer names
}

// place is a parsed pair.
type place struct {
	parts []string // folders of the old path; the first is "" if it starts at the root
	new   string
}

// New makes a map for a system. "windows" ignores letter case; "macos" accepts letters with marks in both
// Unicode forms (composed and decomposed). If one old path is inside another, the inner one takes precedence.
func New(system string, pairs []Pair, names ...Pair) *Map {
	m := &Map{windows: system == "windows", names: names}
	if system == "macos" {
		for _, p := range slices.Clone(pairs) {
			pairs = append(pairs, Pair{norm.NFC.String(p.Old), p.New}, Pair{norm.NFD.String(p.Old), p.New})
		}
	}
	for _, p := range pairs {
		parts := strings.FieldsFunc(p.Old, func(r rune) bool { return r == '/' || m.windows && r == '\\' })
		if strings.HasPrefix(p.Old, "/") {
			parts = append([]string{""}, parts...)
		}
		if strings.HasPrefix(p.Old, `\\`) || len(parts) == 0 || parts[0] == "" && len(parts) == 1 || m.known(parts) {
			continue
		}
		m.pairs = append(m.pairs, place{parts, strings.TrimRight(p.New, `/\`)})
	}
	slices.SortStableFunc(m.pairs, func(a, b place) int {
		return cmp.Compare(len(strings.Join(b.parts, "/")), len(strings.Join(a.parts, "/")))
	})
	return m
}

func (m *Map) known(parts []string) bool {
	return slices.ContainsFunc(m.pairs, func(p place) bool { return slices.EqualFunc(p.parts, parts, m.equal) })
}

func (m *Map) equal(a, b string) bool { return a == b || m.windows && strings.EqualFold(a, b) }

// Text returns a text with all old paths replaced, and their number.
func (m *Map) Text(text string) (string, int) {
	edits, _ := m.inText([]byte(text), utf{})
	return string(Apply([]byte(text), edits)), len(edits)
}

// MaxFile limits the size of files that are searched, in bytes.
const MaxFile = 4 << 20

// File returns the edits for a file in any encoding, by offset. why is set if the file is not text,
// or its encoding cannot represent a new path.
func (m *Map) File(data []byte) (edits []Edit, why string) {
	if len(data) > MaxFile {
		return nil, "it is too large to be searched"
	}
	if plist.IsBinary(data) {
		now, n, err := plist.Changed(data, m.changed)
		if err != nil {
			return nil, err.Error()
		}
		if n == 0 {
			return nil, ""
		}
		return []Edit{{Old: data, New: now}}, "" // it has byte offsets of its content
	}
	enc := encodingOf(data)
	if enc == nil {
		return nil, "it is not a text file"
	}
	return m.inText(data, enc)
}

// inText returns the edits for a text. XML and JSON stay valid.
func (m *Map) inText(data []byte, enc encoding) (edits []Edit, why string) {
	runes, at := enc.decode(data)
	verbatim := make([]bool, len(runes))
	s := syntaxOf(string(runes))
	if s != nil {
		runes, at, verbatim = unescaped(s, runes, at)
	}
	for _, c := range m.find(runes) {
		text, old := c.new, data[at[c.from]:at[c.to]]
		if s != nil && !verbatim[c.from] {
			text = s.escape(text, string(old))
		}
		now, ok := enc.encode(text)
		if !ok {
			return nil, "the file's encoding lacks a character in " + c.new
		}
		edits = append(edits, Edit{At: at[c.from], Old: bytes.Clone(old), New: now})
	}
	if s != nil && len(edits) > 0 {
		if now, _ := enc.decode(Apply(data, edits)); !s.parses(string(now)) {
			return nil, "with the new paths it would not be valid any more"
		}
	}
	return edits, ""
}

// changed returns a text with old paths replaced, and whether there were any.
func (m *Map) changed(text string) (string, bool) {
	to, n := m.Text(text)
	return to, n > 0
}

// change is one replacement in decoded text.
type change struct {
	from, to int
	new      string
}

// find searches old paths from left to right. It does not search replaced text again.
func (m *Map) find(text []rune) (out []change) {
	for i := 0; i < len(text); {
		if c, ok := m.at(text, i); ok {
			if c.new != string(text[c.from:c.to]) {
				out = append(out, c)
			}
			i = c.to
			continue
		}
		i++
	}
	return out
}

// at returns the replacement for a path that starts at i.
func (m *Map) at(text []rune, i int) (change, bool) {
	r := text[i]
	if !m.windows && r != '/' && r != '\\' && r != '%' && r != '~' && r != '$' && len(m.names) == 0 {
		return change{}, false
	}
	if m.begins(text, i) {
		for _, p := range m.pairs {
			if end, how, ok := m.match(text, i, p.parts); ok {
				return change{i, end, how.write(p.new, m.windows)}, true
			}
		}
	}
	for _, n := range m.names {
		if end, ok := m.word(text, i, n.Old); ok {
			return change{i, end, n.New}, true
		}
	}
	return change{}, false
}

// inName reports whether a character is likely to be part of a file name, so that a path next to it
// continues.
func inName(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) || strings.ContainsRune("_-.~+@#$({[!^", r)
}

// begins reports whether a path can start here.
func (m *Map) begins(text []rune, i int) bool {
	if i == 0 {
		return true
	}
	before := text[i-1]
	if before == '[' && strings.HasSuffix(string(text[max(0, i-9):i]), "<![CDATA[") {
		return true
	}
	if m.windows {
		return !inName(before) || before == '('
	}
	// In a URL the path follows the two slashes, or localhost.
	if lead := string(text[max(0, i-17):i]); strings.HasSuffix(lead, "file://") || strings.HasSuffix(lead, "file://localhost") {
		return true
	}
	return before != '/' && before != '%' && (!inName(before) || before == '(')
}

// style is how a path is written.
type style struct {
	separator string // "" if there was none
	escaped   bool   // as in a URL
}

// separators are the ways to write a separator, longer ones first.
var separators = []string{`\\`, `\/`, "%5C", "%5c", "%2F", "%2f", `\`, "/"}

// separator parses a separator.
func (m *Map) separator(text []rune, i int) string {
	for _, s := range separators {
		if backward := s == `\\` || s == `\` || s[0] == '%' && s[1] == '5'; backward && !m.windows {
			continue
		}
		if hasPrefix(text, i, s) {
			return s
		}
	}
	return ""
}

func hasPrefix(text []rune, i int, s string) bool {
	for _, r := range s {
		if i >= len(text) || text[i] != r {
			return false
		}
		i++
	}
	return true
}

// match reports whether an old path is written here, and where it ends.
func (m *Map) match(text []rune, i int, parts []string) (end int, how style, ok bool) {
	start := i
	for n, part := range parts {
		if n > 0 {
			s := m.separator(text, i)
			if s == "" {
				return 0, how, false
			}
			how.separator = cmp.Or(how.separator, s)
			how.escaped = how.escaped || s[0] == '%'
			i += len(s) // all of them are ASCII
		}
		for _, want := range part {
			have, length, escaped := next(text, i)
			if length == 0 || have != want && !(m.windows && equalFold(have, want)) {
				return 0, how, false
			}
			how.escaped = how.escaped || escaped
			i += length
		}
	}
	how.escaped = how.escaped || inURL(text, start)
	s := m.separator(text, i)
	how.separator = cmp.Or(how.separator, s)
	if s != "" || i == len(text) {
		return i, how, true
	}
	after, _, _ := next(text, i)
	return i, how, !inName(after) && after != ' ' && after != '&' && after != '%'
}

// word reports whether a name is written here as a separate word.
func (m *Map) word(text []rune, i int, name string) (end int, ok bool) {
	if name == "" || i > 0 && (unicode.IsLetter(text[i-1]) || unicode.IsDigit(text[i-1]) || text[i-1] == '-' || text[i-1] == '_') {
		return 0, false
	}
	for _, want := range name {
		if i >= len(text) || !equalFold(text[i], want) {
			return 0, false
		}
		i++
	}
	return i, i == len(text) || !unicode.IsLetter(text[i]) && !unicode.IsDigit(text[i]) && text[i] != '-' && text[i] != '_'
}

func equalFold(a, b rune) bool {
	if a < utf8.RuneSelf && b < utf8.RuneSelf {
		return a == b || a|0x20 == b|0x20 && a|0x20 >= 'a' && a|0x20 <= 'z'
	}
	return a == b || unicode.ToLower(a) == unicode.ToLower(b) || unicode.ToUpper(a) == unicode.ToUpper(b)
}

// next decodes one character, which may be escaped as in a URL (RFC 3986).
func next(text []rune, i int) (r rune, length int, escaped bool) {
	if i >= len(text) {
		return 0, 0, false
	}
	var raw []byte
	for at := i; at+2 < len(text) && text[at] == '%' && len(raw) < utf8.UTFMax; at += 3 {
		hi, lo := nibble(text[at+1]), nibble(text[at+2])
		if hi < 0 || lo < 0 {
			break
		}
		raw = append(raw, byte(hi<<4|lo))
		if utf8.FullRune(raw) {
			if r, _ := utf8.DecodeRune(raw); r != utf8.RuneError {
				return r, 3 * len(raw), true
			}
			break
		}
	}
	return text[i], 1, false
}

func nibble(r rune) int {
	switch {
	case r >= '0' && r <= '9':
		return int(r - '0')
	case r >= 'a' && r <= 'f':
		return int(r-'a') + 10
	case r >= 'A' && r <= 'F':
		return int(r-'A') + 10
	}
	return -1
}

// inURL reports whether a file: URL starts shortly before.
func inURL(text []rune, i int) bool {
	lead := string(text[max(0, i-17):i])
	at := strings.LastIndex(lead, "file:")
	if at < 0 {
		return false
	}
	between := lead[at+len("file:"):]
	return strings.Trim(between, "/") == "" || between == "//localhost" || between == "//localhost/"
}

// write formats a new path in the style of the old one.
func (s style) write(path string, windows bool) string {
	parts := strings.FieldsFunc(path, func(r rune) bool { return r == '/' || windows && r == '\\' })
	separator := s.separator
	if separator == "" {
		separator = map[bool]string{true: `\`, false: "/"}[windows]
	}
	if s.escaped {
		for i, p := range parts {
			parts[i] = strings.ReplaceAll(url.PathEscape(p), "%3A", ":")
		}
	}
	out := strings.Join(parts, separator)
	switch {
	case strings.HasPrefix(path, `\\`):
		out = separator + separator + out
	case strings.HasPrefix(path, "/"):
		out = separator + out
	}
	return out
}

// Apply makes edits, which are in order of their offsets, in a file.
func Apply(data []byte, edits []Edit) []byte {
	var out []byte
	at := 0
	for _, e := range edits {
		out = append(append(out, data[at:e.At]...), e.New...)
		at = e.At + len(e.Old)
	}
	return append(out, data[at:]...)
}

// Back undoes edits in a file. ok is false if the file does not have them.
func Back(data []byte, edits []Edit) (was []byte, ok bool) {
	at := 0
	for _, e := range edits {
		gap := e.At - len(was)
		if gap < 0 || at+gap+len(e.New) > len(data) || !bytes.Equal(data[at+gap:at+gap+len(e.New)], e.New) {
			return nil, false
		}
		was = append(append(was, data[at:at+gap]...), e.Old...)
		at += gap + len(e.New)
	}
	return append(was, data[at:]...), true
}

// Grown returns how many bytes longer the edits make a file.
func Grown(edits []Edit) (n int64) {
	for _, e := range edits {
		n += int64(len(e.New) - len(e.Old))
	}
	return n
}

// Line is one line of a difference: of a file, or a value of a database or key.
type Line struct {
	In    string `json:"in"`    // as in Edit
	Where string `json:"where"` // line number from 1; or the row's key and column; or the value name
	Old   string `json:"old"`
	New   string `json:"new"`
}

// Lines returns the changed lines of a file for display.
func Lines(in string, data []byte, edits []Edit) (out []Line) {
	enc := encodingOf(data)
	switch {
	case len(edits) == 0:
		return nil
	case plist.IsBinary(data):
		return listLines(in, edits[0])
	case enc == nil:
		return nil
	}
	lines := func(data []byte) []string {
		runes, _ := enc.decode(data)
		return strings.Split(string(runes), "\n")
	}
	now := lines(Apply(data, edits))
	for i, was := range lines(data) {
		if i < len(now) && was != now[i] {
			out = append(out, Line{in, strconv.Itoa(i + 1), strings.TrimRight(was, "\r"), strings.TrimRight(now[i], "\r")})
		}
	}
	return out
}

// listLines returns the changed strings of a binary property list, in file order.
func listLines(in string, e Edit) (out []Line) {
	was, now := plist.Strings(e.Old), plist.Strings(e.New)
	for i := range was {
		if i < len(now) && was[i] != now[i] {
			out = append(out, Line{in, strconv.Itoa(i + 1), was[i], now[i]})
		}
	}
	return out
}
