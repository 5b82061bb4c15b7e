package served

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
)

// TestCheckQuery accepts queries that only count, and rejects everything else.
func TestCheckQuery(t *testing.T) {
	for query, want := range map[string]string{
		"SELECT count(*) FROM boat": "SELECT COUNT FROM BOAT", "select Count(DISTINCT pier) from `The Boats` where name like 'O''Neil%' and n in (1, 2.5)": "SELECT COUNT DISTINCT PIER FROM THE BOATS WHERE NAME LIKE AND N IN",
		"WITH x AS (SELECT n FROM \"a b\") SELECT coalesce(sum(n), 0) FROM x;": "WITH X AS SELECT N FROM A B SELECT COALESCE SUM N FROM X", "SELECT 1": "SELECT",
	} {
		if names, err := CheckQuery(query); err != nil || strings.Join(names, " ") != want {
			t.Errorf("%s: %q %v", query, names, err)
		}
	}
	for query, says := range map[string]string{
		"DELETE FROM boat": "a statement other than SELECT", "SELECT f(1)": "a call of f", "SELECT db.count(1)": "a call of count", "SELECT count (1)": "a space between count", "SELECT `count`(1)": "a call of `count`", "SELECT 1 INTO OUTFILE 'x'": "INTO", "SELECT 1 FOR UPDATE": "FOR",
		"SELECT 1; SELECT 2": "not allowed", "SELECT 'a\\' OR f(1)": "not allowed", "SELECT 1 -- x": "not allowed", "SELECT /*!1*/ 1": "not allowed", "SELECT @a": "not allowed", "SELECT q'{a}'": "the prefix q", "SELECT (1": "without an end", "SELECT 1)": "without a beginning", "SELECT 'x": "not allowed",
	} {
		if names, err := CheckQuery(query); fault.KindOf(err) != fault.BadCard || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %q %v", query, names, err)
		}
	}
}

// FuzzCheckQuery checks that a query that is accepted is one SELECT without other statements or calls.
func FuzzCheckQuery(f *testing.F) {
	for _, s := range []string{"SELECT count(*) FROM a", "SELECT 'a''b' FROM \"c\"", "WITH x AS (SELECT 1) SELECT 2", "SELECT a . b (1)", "SELECT 1;", "select`a`(1)"} {
		f.Add(s)
	}
	quoted, call := regexp.MustCompile("'[^']*'|\"[^\"]*\"|`[^`]*`"), regexp.MustCompile(`([\p{L}_$][\p{L}\p{N}_$]*)\s*\(`)
	f.Fuzz(func(t *testing.T, query string) {
		names, err := CheckQuery(query)
		if err != nil || len(names) == 0 {
			return
		}
		code := quoted.ReplaceAllString(strings.TrimRight(query, "; \t\r\n"), " ")
		if strings.ContainsAny(code, ";@\\#'\"`") || slices.Contains(names, "INTO") || strings.Count(code, "(") != strings.Count(code, ")") {
			t.Errorf("%q was accepted", query)
		}
		for _, m := range call.FindAllStringSubmatch(code, -1) {
			if word := strings.ToUpper(m[1]); !slices.Contains(functions, word) && !slices.Contains(keywords, word) {
				t.Errorf("%q calls %s", query, word)
			}
		}
	})
}
