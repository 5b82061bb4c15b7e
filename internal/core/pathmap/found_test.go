package pathmap

import (
	"encoding/binary"
	"testing"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"
)

func units(text string, order binary.AppendByteOrder) (out []byte) {
	for _, u := range utf16.Encode([]rune(text)) {
		out = order.AppendUint16(out, u)
	}
	return out
}

// TestFound finds old paths where they cannot be changed.
func TestFound(t *testing.T) {
	pairs := []Pair{{`C:\Users\maren.QUAY`, `C:\Users\maren`}, {`D:\Bücher`, `C:\Daten\Bücher`}}
	m := New("windows", append(pairs, Short(pairs)...))
	dos, _ := charmap.CodePage850.NewEncoder().Bytes([]byte(`last=D:\Bücher\a.rec`))
	for name, c := range map[string]struct {
		data []byte
		want bool
	}{
		"text":             {[]byte(`x=C:\Users\maren.QUAY\a`), true},
		"binary":           {append([]byte{1, 0, 2}, `c:\users\MAREN.quay\a`+"\x00\x00"...), true},
		"UTF-16":           {append([]byte{1, 0}, units(`C:\Users\maren.QUAY\a`, binary.LittleEndian)...), true},
		"UTF-16, odd":      {append([]byte{9}, units(`C:\Users\maren.QUAY\a`, binary.LittleEndian)...), true},
		"UTF-16, reversed": {units(`C:\Users\maren.QUAY\a`, binary.BigEndian), true},
		"DOS":              {dos, true},
		"short":            {[]byte(`x=C:\Users\MARENQ~1\AppData`), true},
		"another":          {[]byte(`x=C:\Users\marenka\a, C:\Users\MARENK~1`), false},
		"binary, another":  {append([]byte{1, 0, 2}, `c:\users\maren`+"\x00"...), false},
		"the new one":      {[]byte(`x=C:\Users\maren\a`), false},
		"nothing":          {nil, false},
	} {
		if got := m.Found(c.data); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
