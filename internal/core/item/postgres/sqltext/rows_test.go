package sqltext

import (
	"regexp"
	"strings"
	"testing"
)

// quotedText matches strings and quoted names, also with escapes.
var quotedText = regexp.MustCompile(`E'(?:[^'\\]|''|\\.)*'|'(?:[^']|'')*'|"(?:[^"]|"")*"`)

// FuzzTyped checks that a list of names becomes literals only, and that an accepted statement is one
// statement without comments.
func FuzzTyped(f *testing.F) {
	for _, s := range []string{`"$user", public`, `a; b`, `"a""b", c`, `'x'`, "SELECT pg_catalog.setval('public.q', 1, true)", "SELECT pg_catalog.setval('a''; b', 1, true)", `COPY public."a;b" ("c") FROM stdin`, `COMMENT ON LARGE OBJECT 1 IS E'x\'; y'`, "GRANT SELECT ON LARGE OBJECT 1 TO a", "ALTER LARGE OBJECT 1 OWNER TO a;b"} {
		f.Add(s)
	}
	literals := regexp.MustCompile(`^'(?:[^']|'')*'(?:, '(?:[^']|'')*')*$`)
	f.Fuzz(func(t *testing.T, s string) {
		if list, ok := ListOf(s); ok && !literals.MatchString(list) {
			t.Errorf("%q became %s", s, list)
		}
		accepted := isReplayed(s) || copyIn.MatchString(s) || View.MatchString(s) || ownerOf.MatchString(s+";") || ownerFn.MatchString(s+";") || rightOn.MatchString(s+";")
		if code := quotedText.ReplaceAllString(s, ""); accepted && (strings.Contains(code, ";") || strings.ContainsRune(code, 0)) {
			t.Errorf("%q was accepted", s)
		}
	})
}
