package pathmap

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"howett.net/plist"
)

// windows and linux are the maps of the tests.
var (
	windows = New("windows", []Pair{
		{`C:\Users\maren`, `C:\Users\maren.holm`},
		{`C:\Users\maren\AppData\Roaming\Tidewright`, `C:\Users\maren.holm\AppData\Roaming\Tidewright`},
		{`D:\Data`, `C:\Harbour\Data`},
		{`D:`, `E:`},
		{`E:`, `D:`}, // two drives change places
		{`C:\Kept`, `C:\Kept`},
		{`C:\Übersee`, `C:\Größe & Maß`},
		{`C:\Shared`, `\\QUAY-SRV\shared`},
		{`%APPDATA%\Hoist`, `F:\Hoist`},
	}, Pair{"QUAY-DESK-1", "QUAY-DESK-2"})
	odd   = New("linux", []Pair{{"/srv/𝄞 ü", "/srv/x"}})
	mac   = New("macos", []Pair{{"/Users/André", "/Users/andre"}})
	linux = New("linux", []Pair{{"/home/maren", "/srv/people/maren holm"}, {"/home/maren/Mail", "/mail"}, {"~/.hoist", "/opt/hoist"}})
)

func TestText(t *testing.T) {
	for _, c := range []struct {
		m        *Map
		old, new string
	}{
		{windows, `C:\Users\maren\x.ini`, `C:\Users\maren.holm\x.ini`},
		{windows, `c:\USERS\Maren`, `C:\Users\maren.holm`},
		{windows, `path="C:\\Users\\maren\\x"`, `path="C:\\Users\\maren.holm\\x"`},
		{windows, `path=C:/Users/maren/x;D:/Data/y`, `path=C:/Users/maren.holm/x;C:/Harbour/Data/y`},
		{windows, `{"p":"C:\/Users\/maren\/x"}`, `{"p":"C:\/Users\/maren.holm\/x"}`},
		{windows, `\\?\C:\Users\maren\x`, `\\?\C:\Users\maren.holm\x`},
		{windows, `file:///C:/%C3%9Cbersee/a%20b.txt`, `file:///C:/Gr%C3%B6%C3%9Fe%20&%20Ma%C3%9F/a%20b.txt`},
		{windows, `file:///d:/Data/x`, `file:///C:/Harbour/Data/x`},
		{windows, `D:\Data2\x`, `E:\Data2\x`},                 // D:\Data is not this one; its drive is
		{windows, `D:\Data\x E:\y`, `C:\Harbour\Data\x D:\y`}, // nothing is changed twice
		{windows, `D:\Data-old`, `E:\Data-old`},
		{windows, `D:\Data old\x`, `E:\Data old\x`},
		{windows, `"D:\Data"`, `"C:\Harbour\Data"`},
		{windows, `C:\Kept\x`, `C:\Kept\x`},
		{windows, `C:\Shared\x`, `\\QUAY-SRV\shared\x`},
		{windows, `XD:\Data`, `XD:\Data`},
		{windows, `%appdata%\Hoist\diary`, `F:\Hoist\diary`},
		{windows, `%APPDATA%\Hoists`, `%APPDATA%\Hoists`},
		{windows, `host=quay-desk-1, QUAY-DESK-10, MYQUAY-DESK-1`, `host=QUAY-DESK-2, QUAY-DESK-10, MYQUAY-DESK-1`},
		{mac, "/Users/André/x", `/Users/andre/x`},
		{mac, "/Users/Andre\u0301/x", `/Users/andre/x`},
		{mac, "file:///Users/Andre%CC%81/x", `file:///Users/andre/x`},
		{linux, `/home/maren/x`, `/srv/people/maren holm/x`},
		{linux, `/home/maren/Mail/x:/home/maren/Mailbox`, `/mail/x:/srv/people/maren holm/Mailbox`},
		{linux, `file:///home/maren/My%20files`, `file:///srv/people/maren%20holm/My%20files`},
		{linux, `file://localhost/home/maren`, `file://localhost/srv/people/maren%20holm`},
		{linux, `https://tern.example/home/maren`, `https://tern.example/home/maren`},
		{linux, `/mnt/home/maren/x`, `/mnt/home/maren/x`},
		{linux, `/home/Maren/x`, `/home/Maren/x`},
		{linux, `/home/maren2/x /home/maren.old`, `/home/maren2/x /home/maren.old`},
		{linux, `\home\maren`, `\home\maren`},
		{linux, `{"p":"\/home\/maren\/x"}`, `{"p":"\/srv\/people\/maren holm\/x"}`},
		{linux, `a=~/.hoist/x`, `a=/opt/hoist/x`},
		{windows, `(C:\Users\maren) xC:\Users\maren`, `(C:\Users\maren.holm) xC:\Users\maren`},
		{windows, `c:\ÜBERSEE\x`, `C:\Größe & Maß\x`},
		{windows, `file:///C:/%c3%9cbersee`, `file:///C:/Gr%C3%B6%C3%9Fe%20&%20Ma%C3%9F`},
		{windows, `file://localhost/C:/%C3%9Cbersee/x`, `file://localhost/C:/Gr%C3%B6%C3%9Fe%20&%20Ma%C3%9F/x`},
		{windows, `C%3A%5CUsers%5Cmaren%5Cx`, `C:%5CUsers%5Cmaren.holm%5Cx`},
		{windows, `C:\Users\maren&x C:\Users\maren%x`, `C:\Users\maren&x C:\Users\maren%x`},
		{windows, `QUAY-DESK-1_x x_QUAY-DESK-1 -QUAY-DESK-1 QUAY-DESK-1.`, `QUAY-DESK-1_x x_QUAY-DESK-1 -QUAY-DESK-1 QUAY-DESK-2.`},
		{windows, `5QUAY-DESK-1 QUAY-DESK-1- QUAY-DESK-1x QUAY-DESK`, `5QUAY-DESK-1 QUAY-DESK-1- QUAY-DESK-1x QUAY-DESK`},
		{linux, `//home/maren %/home/maren (/home/maren)`, `//home/maren %/home/maren (/srv/people/maren holm)`},
		{linux, `/home%5Cmaren /home%5cmaren`, `/home%5Cmaren /home%5cmaren`},
		{linux, `x=%2Fhome%2fmaren/y`, `x=%2Fsrv%2Fpeople%2Fmaren%20holm/y`},
		{linux, `file:/home/maren/x`, `file:/srv/people/maren%20holm/x`},
		{linux, `file:x /home/maren`, `file:x /srv/people/maren holm`},
		{linux, `/home/m%61ren/x /home/m%zaren /home/m%6`, `/srv/people/maren%20holm/x /home/m%zaren /home/m%6`},
		{odd, `file:///srv/%F0%9D%84%9E%20%C3%BC`, `file:///srv/x`},
		{odd, `file:///srv/%F0%9D%84%20%C3%BC`, `file:///srv/%F0%9D%84%20%C3%BC`},
		{odd, `/srv/𝄞 ü`, `/srv/x`},
		{linux, "", ""},
	} {
		if got, _ := c.m.Text(c.old); got != c.new {
			t.Errorf("%s\n became %s\n want   %s", c.old, got, c.new)
		}
	}
}

func TestFile(t *testing.T) {
	const text = "; Einträge für Maren\r\nlast=C:\\Users\\maren\\Übersee.db\r\nother=1\r\nD:\\Data\\x\n"
	const want = "; Einträge für Maren\r\nlast=C:\\Users\\maren.holm\\Übersee.db\r\nother=1\r\nC:\\Harbour\\Data\\x\n"
	for name, write := range map[string]func(string) []byte{
		"UTF-8":           func(s string) []byte { return []byte(s) },
		"UTF-8, marked":   func(s string) []byte { return []byte("\ufeff" + s) },
		"UTF-16, little":  func(s string) []byte { return utf16Of(s, false) },
		"UTF-16, big":     func(s string) []byte { return utf16Of(s, true) },
		"Windows-1252":    func(s string) []byte { b, _ := latin{}.encode(s); return b },
		"UTF-8, no end":   func(s string) []byte { return []byte(strings.TrimSuffix(s, "\n")) },
		"UTF-16, odd end": func(s string) []byte { return append(utf16Of(s, false), 'x') },
	} {
		old := write(text)
		edits, why := windows.File(old)
		now := Apply(old, edits)
		if why != "" || len(edits) != 2 || !bytes.Equal(now, write(want)) {
			t.Errorf("%s: %q %d edits: %q", name, why, len(edits), now)
		}
		if back, ok := Back(now, edits); !ok || !bytes.Equal(back, old) || int64(len(now)-len(old)) != Grown(edits) {
			t.Errorf("%s: turned back: %q", name, back)
		}
		lines := Lines("x", old, edits)
		if len(lines) != 2 || lines[0].Where != "2" || lines[0].Old != `last=C:\Users\maren\Übersee.db` || lines[1].New != `C:\Harbour\Data\x` {
			t.Errorf("%s: %+v", name, lines)
		}
		// Somebody edited it since.
		if _, ok := Back(bytes.Replace(now, edits[0].New, edits[0].Old, 1), edits); ok {
			t.Errorf("%s: what is not as it was left is turned back", name)
		}
	}
}

func TestNoText(t *testing.T) {
	for name, data := range map[string][]byte{
		"bytes":     []byte("C:\\Users\\maren\x00\x01"),
		"large":     bytes.Repeat([]byte("C:\\Users\\maren\n"), MaxFile/15+2),
		"encoding":  append([]byte("C:\\Shares\xfc\r\n"), "C:\\Users\\maren"...),
		"truncated": {0xff},
	} {
		m := windows
		if name == "encoding" {
			m = New("windows", []Pair{{`C:\Users\maren`, `C:\Users\Łucja`}})
		}
		if edits, why := m.File(data); len(edits) > 0 || why == "" && name != "truncated" {
			t.Errorf("%s: %d edits, %q", name, len(edits), why)
		}
	}
}

func utf16Of(s string, big bool) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune("\ufeff" + s)) {
		if big {
			out = append(out, byte(u>>8), byte(u))
		} else {
			out = append(out, byte(u), byte(u>>8))
		}
	}
	return out
}

// TestList changes a binary property list, and shows its strings.
func TestList(t *testing.T) {
	data, err := plist.Marshal(map[string]any{"a": "/home/maren/x", "b": "kept", "c": []string{"file:///home/maren"}}, plist.BinaryFormat)
	if err != nil {
		t.Fatal(err)
	}
	edits, why := linux.File(data)
	if why != "" || len(edits) != 1 || edits[0].At != 0 {
		t.Fatalf("%q %+v", why, edits)
	}
	var now map[string]any
	if _, err := plist.Unmarshal(Apply(data, edits), &now); err != nil || now["a"] != "/srv/people/maren holm/x" || now["b"] != "kept" {
		t.Errorf("%v %v", now, err)
	}
	var shown []string
	for _, l := range Lines("x", data, edits) {
		shown = append(shown, l.Old+" "+l.New)
	}
	slices.Sort(shown)
	if len(shown) != 2 || shown[0] != "/home/maren/x /srv/people/maren holm/x" || shown[1] != "file:///home/maren file:///srv/people/maren%20holm" {
		t.Errorf("shown: %q", shown)
	}
	if edits, why := windows.File(data); edits != nil || why != "" {
		t.Errorf("nothing to change: %+v %q", edits, why)
	}
	if edits, why := linux.File(data[:len(data)-1]); edits != nil || why == "" {
		t.Errorf("a damaged list: %+v", edits)
	}
	if Lines("x", data, nil) != nil || Lines("x", []byte{0}, edits) != nil {
		t.Error("lines of nothing")
	}
}

// TestBackLeavesOtherChanges reverses only its own changes.
func TestBackLeavesOtherChanges(t *testing.T) {
	data := []byte("abcdef")
	for name, c := range map[string]struct {
		edits []Edit
		was   string
	}{
		"in order": {[]Edit{{At: 0, Old: []byte("X"), New: []byte("ab")}, {At: 3, Old: []byte("YZ"), New: []byte("e")}}, "XcdYZf"}, "to the end": {[]Edit{{At: 5, Old: []byte("X"), New: []byte("f")}}, "abcdeX"},
		"beyond the end": {[]Edit{{At: 5, New: []byte("fg")}}, ""}, "far beyond": {[]Edit{{At: 50, New: nil}}, ""}, "not in order": {[]Edit{{At: 3, New: []byte("d")}, {At: 1, New: []byte("b")}}, ""}, "others": {[]Edit{{At: 0, New: []byte("b")}}, ""},
	} {
		if was, ok := Back(data, c.edits); ok != (c.was != "") || string(was) != c.was {
			t.Errorf("%s: %q, %v", name, was, ok)
		}
	}
}

// FuzzFile checks that every change of a file can be reversed.
func FuzzFile(f *testing.F) {
	for _, s := range []string{`C:\Users\maren`, `file:///C:/%C3%9Cbersee/x`, `%`, `D:\\Data\\x`, "\xff\xfeC\x00:\x00", "C:\xfc"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, m := range []*Map{windows, linux} {
			edits, _ := m.File(data)
			if back, ok := Back(Apply(data, edits), edits); !ok || !bytes.Equal(back, data) {
				t.Fatalf("%q does not come back", data)
			}
			Lines("x", data, edits)
		}
	})
}

// TestEdges uses characters of two UTF-16 units, complete and split, invalid paths, and a file of
// the maximum size.
func TestEdges(t *testing.T) {
	torn := func(s string, unit uint16) []byte { return append(utf16Of(s, false), byte(unit), byte(unit>>8)) }
	if now, n := odd.changed("/srv/𝄞 ü"); now != "/srv/x" || !n {
		t.Errorf("%q", now)
	}
	if edits, _ := odd.File(utf16Of("\n/srv/𝄞 ü\n", false)); len(edits) != 1 || edits[0].At != 4 || len(edits[0].Old) != 18 {
		t.Errorf("a letter of two units in a path: %+v", edits)
	}
	for name, c := range map[string]struct {
		old   []byte
		edits int
	}{
		"half of one and a byte":    {append(torn("C:\\Users\\maren\\x", 0xd834), 'x'), 1},
		"a letter of two units":     {utf16Of("⚓𝄞 C:\\Users\\maren\\𝄞.txt", false), 1},
		"one at the end":            {utf16Of("C:\\Users\\maren\\𝄞", false), 1},
		"half of one at the end":    {torn("C:\\Users\\maren\\x", 0xd834), 1},
		"half of one before a path": {append(torn("", 0xd834), utf16Of("C:\\Users\\maren", false)[2:]...), 1},
		"just small enough":         {append([]byte("C:\\Users\\maren"), bytes.Repeat([]byte{'\n'}, MaxFile-len("C:\\Users\\maren"))...), 1},
		"just too large":            {append([]byte("C:\\Users\\maren"), bytes.Repeat([]byte{'\n'}, MaxFile+1-len("C:\\Users\\maren"))...), 0},
	} {
		edits, _ := windows.File(c.old)
		if len(edits) != c.edits {
			t.Errorf("%s: %d edits", name, len(edits))
			continue
		}
		if back, ok := Back(Apply(c.old, edits), edits); !ok || !bytes.Equal(back, c.old) {
			t.Errorf("%s: turned back it is another", name)
		}
	}
	m := New("linux", []Pair{{"", "/a"}, {"/", "/b"}, {`\\srv\share`, "/c"}, {"/srv/x", "/d"}, {"/srv/x/", "/e"}})
	for old, want := range map[string]string{"/srv/x/y": "/d/y", "/": "/", "": "", "/tmp/x": "/tmp/x", `\\srv\share\x`: `\\srv\share\x`} {
		now, n := m.Text(old)
		if now != want || (n > 0) != (old != want) {
			t.Errorf("%q became %q, %d places", old, now, n)
		}
	}
}

// TestSyntax updates paths in XML and JSON with characters that these write as escapes. What parsed
// before parses after, and means the new path.
func TestSyntax(t *testing.T) {
	windows := New("windows", []Pair{{`D:\Daten`, `E:\Büro & "Co" <1>`}, {`D:\A&B`, `C:\Neu`}, {`D:\Weg\Ü`, `C:\Ü`}})
	linux := New("linux", []Pair{{"/home/maren", "/srv/m&m"}})
	for _, c := range []struct {
		on        *Map
		was, want string
	}{
		{windows, `<a p="D:\Daten\x"/>`, `<a p="E:\Büro &amp; &quot;Co&quot; &lt;1&gt;\x"/>`},
		{windows, "<?xml version='1.0'?>\n<a>D:\\A&amp;B\\y</a>", "<?xml version='1.0'?>\n<a>C:\\Neu\\y</a>"},
		{windows, `<a>D:&#92;Daten&#x5c;z</a>`, `<a>E:\Büro &amp; &quot;Co&quot; &lt;1&gt;&#x5c;z</a>`},
		{windows, `<a><![CDATA[D:\Daten;D:\A&B\y]]> &amp;</a>`, `<a><![CDATA[E:\Büro & "Co" <1>;C:\Neu\y]]> &amp;</a>`},
		{windows, `<a>D:\Daten;&`, `<a>E:\Büro & "Co" <1>;&`}, // no XML
		{windows, `{"p": "D:\\Daten\\x", "q": 1}`, `{"p": "E:\\Büro & \"Co\" <1>\\x", "q": 1}`},
		{windows, `{"p": "D:\u005cDaten\u005Cx"}`, `{"p": "E:\\Büro & \"Co\" <1>\u005Cx"}`},
		{windows, `["D:\\Weg\\\u00dc\\x", "D:/Daten"]`, `["C:\\Ü\\x", "E:/Büro & \"Co\" <1>"]`},
		{windows, `{"p": "[\"D:\\\\Daten\"]"}`, `{"p": "[\"E:\\\\Büro & \"Co\" <1>\"]"}`},
		{windows, "\ufeff" + `{"p": "D:\\Daten"}`, "\ufeff" + `{"p": "E:\\Büro & \"Co\" <1>"}`},
		{windows, `{"p": "D:\\Daten", } // a comment`, `{"p": "E:\\Büro & "Co" <1>", } // a comment`},
		{linux, `{"p":"\/home\/maren\/x"}`, `{"p":"\/srv\/m&m\/x"}`},
		{linux, `<p>/home/maren/x</p>`, `<p>/srv/m&amp;m/x</p>`},
		{linux, "p=/home/maren/x", "p=/srv/m&m/x"},
	} {
		got, n := c.on.Text(c.was)
		if got != c.want || n == 0 {
			t.Errorf("%s\nbecame %s\nwant   %s", c.was, got, c.want)
		}
		edits, why := c.on.File([]byte(c.was))
		if back, ok := Back([]byte(got), edits); why != "" || string(back) != c.was || !ok {
			t.Errorf("%s\ncame back as %s (%s)", c.was, back, why)
		}
	}
	// A comment cannot have two hyphens.
	if edits, why := New("linux", []Pair{{"/home/maren", "/srv/a--b"}}).File([]byte("<a><!--p:/home/maren;--></a>")); len(edits) > 0 || !strings.Contains(why, "not be valid") {
		t.Errorf("%v %s", edits, why)
	}
}
