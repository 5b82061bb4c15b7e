// Package version compares application versions as vendors write them.
package version

import (
	"regexp"
	"strconv"
	"strings"
)

// Rule says which versions of an app can read the data of another version.
type Rule string

// The version rules.
const (
	Exact       Rule = "exact"         // the same version
	SameMinor   Rule = "same-minor"    // the same first two numbers
	SameMajor   Rule = "same-major"    // the same first number
	SameOrNewer Rule = "same-or-newer" // the same version or a later one
)

// Rules lists the rules, the strictest first.
var Rules = []Rule{Exact, SameMinor, SameMajor, SameOrNewer}

// part is a number of a version and the letters after it.
type part struct {
	n    int
	word string
}

var pieces = regexp.MustCompile(`(\d+)(?:[._\-+~ ]?(alpha|beta|preview|pre|rc|sp|[a-z])(?:[^a-z]|$))?`)

// split splits a version: 8_2 is 8 and 2, v14 is 14, 3.07.1.9 is 3, 7, 1 and 9, and 6.11b is 6 and
// 11b.
func split(s string) []part {
	var out []part
	s = strings.ToLower(s)
	for len(out) < 8 {
		m := pieces.FindStringSubmatchIndex(s)
		if m == nil {
			break
		}
		n, err := strconv.Atoi(s[m[2]:m[3]])
		if err != nil {
			break
		}
		p := part{n: n}
		end := m[3]
		if m[4] >= 0 {
			p.word, end = s[m[4]:m[5]], m[5]
		}
		out = append(out, p)
		s = s[end:]
	}
	for len(out) > 0 && out[len(out)-1] == (part{}) {
		out = out[:len(out)-1] // 8.2.0 equals 8.2
	}
	return out
}

// Numbers returns the numbers of a version, without letters.
func Numbers(s string) []int {
	var out []int
	for _, p := range split(s) {
		out = append(out, p.n)
	}
	return out
}

// rank orders the words after a number: previews come before the number itself, service packs and
// letters after it.
func rank(word string) (int, string) {
	switch word {
	case "alpha":
		return -4, ""
	case "beta":
		return -3, ""
	case "preview", "pre":
		return -2, ""
	case "rc":
		return -1, ""
	case "":
		return 0, ""
	}
	return 1, word
}

// Compare returns a negative number if a is older than b, a positive one if it is newer, and 0 if
// they are equal.
func Compare(a, b string) int {
	x, y := split(a), split(b)
	for i := range max(len(x), len(y)) {
		p, q := at(x, i), at(y, i)
		if p.n != q.n {
			return p.n - q.n
		}
		pr, pw := rank(p.word)
		qr, qw := rank(q.word)
		if pr != qr {
			return pr - qr
		}
		if c := strings.Compare(pw, qw); c != 0 {
			return c
		}
	}
	return 0
}

// Allows reports whether version new can read the data of version old. A version without a number
// is never allowed.
func Allows(rule Rule, old, new string) bool {
	o, n := split(old), split(new)
	if len(o) == 0 || len(n) == 0 {
		return false
	}
	switch rule {
	case Exact:
		return Compare(old, new) == 0
	case SameMinor:
		return o[0].n == n[0].n && at(o, 1).n == at(n, 1).n
	case SameOrNewer:
		return Compare(old, new) <= 0
	}
	return o[0].n == n[0].n
}

func at(p []part, i int) part {
	if i < len(p) {
		return p[i]
	}
	return part{}
}
