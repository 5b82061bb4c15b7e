package machine

import (
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
)

// maxText is how much of a text file is searched for a value, in bytes.
const maxText = 1 << 20

// Value returns the first group of a pattern in a text file of the computer,
// or the file's first line where the pattern is empty. Nothing found gives "".
func Value(c Computer, path card.Path, pattern string, user *User) (string, error) {
	p := path.On(string(c.System()))
	if p == "" {
		return "", nil
	}
	file, err := c.Locate(p, user)
	if err != nil {
		return "", err
	}
	text, err := readText(file)
	if os.IsNotExist(err) {
		return "", nil
	}
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "cannot read %s", file)
	}
	if pattern == "" {
		line, _, _ := strings.Cut(text, "\n")
		return strings.TrimSpace(line), nil
	}
	re, err := regexp.Compile(`(?m)` + pattern)
	if err != nil {
		return "", fault.Wrap(fault.BadCard, err, "the pattern %q cannot be used", pattern)
	}
	if m := re.FindStringSubmatch(text); len(m) == 2 {
		return strings.TrimSpace(m[1]), nil
	}
	return "", nil
}

// readText reads a text file as UTF-8, or as UTF-16 with a byte order mark,
// which Windows programs write.
func readText(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	marked := unicode.BOMOverride(unicode.UTF8.NewDecoder())
	data, err := io.ReadAll(transform.NewReader(io.LimitReader(f, maxText), marked))
	return string(data), err
}

var digits = regexp.MustCompile(`\d+`)

// Numbers returns the numbers of a version as people mean them: 8_2 is 8 and
// 2, v14 is 14, 3.07.1.9 is 3, 7, 1 and 9.
func Numbers(version string) []int {
	var out []int
	for _, d := range digits.FindAllString(version, 8) {
		n, err := strconv.Atoi(d)
		if err != nil {
			break
		}
		out = append(out, n)
	}
	return out
}

// Allows reports whether version new may take over the data of version old.
func Allows(rule card.Rule, old, new string) bool {
	o, n := Numbers(old), Numbers(new)
	if len(o) == 0 || len(n) == 0 {
		return false
	}
	switch rule {
	case card.Exact:
		return strings.EqualFold(strings.TrimSpace(old), strings.TrimSpace(new))
	case card.SameMinor:
		return o[0] == n[0] && at(o, 1) == at(n, 1)
	case card.SameOrNewer:
		for i := range max(len(o), len(n)) {
			if at(o, i) != at(n, i) {
				return at(o, i) < at(n, i)
			}
		}
		return true
	}
	return o[0] == n[0]
}

func at(n []int, i int) int {
	if i < len(n) {
		return n[i]
	}
	return 0
}
