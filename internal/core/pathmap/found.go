package pathmap

import (
	"bytes"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/charmap"
)

// Found reports whether data contains an old path in any form that a program may have written: also in binary data, in UTF-16
// at any position, and in the character sets of DOS. Found is for a report; File has what can be changed.
func (m *Map) Found(data []byte) bool {
	if len(data) > MaxFile {
		return false
	}
	if edits, _ := m.File(data); len(edits) > 0 {
		return true
	}
	if enc := encodingOf(data); enc == nil || enc == (latin{}) {
		for _, set := range []*charmap.Charmap{charmap.Windows1252, charmap.CodePage850, charmap.CodePage437} {
			runes := make([]rune, len(data))
			for i, b := range data {
				runes[i] = set.DecodeByte(b)
			}
			if len(m.find(runes)) > 0 {
				return true
			}
			if !m.beyondASCII() {
				break
			}
		}
	}
	if bytes.IndexByte(data, 0) < 0 {
		return false
	}
	for _, w := range []wide{{0, 1}, {1, 0}} {
		for _, from := range []int{0, 1} {
			if runes, _ := w.decode(data[min(from, len(data)):]); len(m.find(runes)) > 0 {
				return true
			}
		}
	}
	return false
}

// beyondASCII reports whether an old path has other letters than those of ASCII.
func (m *Map) beyondASCII() bool {
	return slices.ContainsFunc(m.pairs, func(p place) bool {
		return slices.ContainsFunc(p.parts, func(part string) bool {
			return strings.ContainsFunc(part, func(r rune) bool { return r > 127 })
		})
	})
}

var (
	shortForm = regexp.MustCompile(`^[^ .]{1,8}(\.[^ .]{1,3})?$`)
	notShort  = regexp.MustCompile(`[ .]`)
)

// maxShort is the largest number that Short gives to a short name. Windows numbers further ones in another way.
const maxShort = 4

// Short returns pairs with short names for the folders of each old path ("Naming Files, Paths, and Namespaces" in the Windows
// documentation: six characters, ~ and a number). Which number a folder has is not known, so there is a pair for each.
func Short(pairs []Pair) (out []Pair) {
	for _, p := range pairs {
		parts := strings.Split(p.Old, `\`)
		for n := 1; n <= maxShort; n++ {
			now := slices.Clone(parts)
			for i, part := range parts {
				if i == 0 || part == "" || shortForm.MatchString(part) {
					continue
				}
				plain := notShort.ReplaceAllString(part, "")
				now[i] = plain[:min(6, len(plain))] + "~" + strconv.Itoa(n)
				one := slices.Clone(parts)
				one[i] = now[i]
				out = append(out, Pair{strings.Join(one, `\`), p.New})
			}
			if all := strings.Join(now, `\`); all != p.Old {
				out = append(out, Pair{all, p.New})
			}
		}
	}
	return out
}
