package table

import (
	"fmt"
	"io"
	"reflect"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Untrusted text (file names, cards, desks, the operating system) may contain control characters
// that move the cursor, clear the screen or change the text direction, and lines that imitate the
// program's own. They are escaped.

// Block is the program's own text, which may have several lines.
type Block string

// Lines escapes everything in a text except line breaks and tabs.
func Lines(s string) string { return visible(s, "\n\t") }

// Visible escapes control characters, line breaks and direction marks. The program's own colours
// stay.
func Visible(s string) string { return visible(s, "") }

func visible(s, keep string) string {
	plain := func(r rune) bool {
		return r != utf8.RuneError && !unicode.IsControl(r) && !unicode.Is(unicode.Cf, r) && r != '\u2028' && r != '\u2029' || strings.ContainsRune(keep, r)
	}
	if strings.IndexFunc(s, func(r rune) bool { return !plain(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		if own := ours(s); own != "" {
			b.WriteString(own)
			s = s[len(own):]
			continue
		}
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case plain(r), r == utf8.RuneError:
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		s = s[n:]
	}
	return b.String()
}

// ours returns the program's own colour sequence at the start of a text, or "".
func ours(s string) string {
	if s[0] != '\x1b' {
		return ""
	}
	for _, c := range colours {
		if strings.HasPrefix(s, c.EscapeSeq()) {
			return c.EscapeSeq()
		}
	}
	if reset := text.Reset.EscapeSeq(); strings.HasPrefix(s, reset) {
		return reset
	}
	return ""
}

// Fprintf is fmt.Fprintf with every text made visible, except tables, which do that themselves, and
// Blocks.
func Fprintf(w io.Writer, format string, args ...any) (int, error) {
	shown := make([]any, len(args))
	for i, a := range args {
		shown[i] = shownAs(a)
	}
	return fmt.Fprintf(w, format, shown...)
}

// Sprintf is fmt.Sprintf with every text made visible.
func Sprintf(format string, args ...any) string {
	var b strings.Builder
	Fprintf(&b, format, args...) //nolint:errcheck // a Builder never fails
	return b.String()
}

func shownAs(a any) any {
	switch a := a.(type) {
	case nil, *Table:
		return a
	case Block:
		return visible(string(a), "\n")
	case string:
		return Visible(a)
	case []string:
		out := make([]string, len(a))
		for i, s := range a {
			out[i] = Visible(s)
		}
		return out
	case error:
		return Visible(a.Error())
	case fmt.Stringer:
		return Visible(a.String())
	}
	if v := reflect.ValueOf(a); v.Kind() == reflect.String {
		return Visible(v.String())
	}
	return a
}
