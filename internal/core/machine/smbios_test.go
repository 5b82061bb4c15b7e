package machine

import (
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestFirmware reads the UUID of an SMBIOS table laid out as DMTF DSP0134 says.
func TestFirmware(t *testing.T) {
	structure := func(kind byte, data string, texts ...string) string {
		return string([]byte{kind, byte(4 + len(data)), 7, 0}) + data + strings.Join(texts, "\x00") + "\x00\x00"
	}
	bios := structure(0, strings.Repeat("b", 20), "The maker", "1.2")
	system := func(id string) string { return structure(1, "\x01\x02\x03\x04"+id+"\x06\x00\x00", "a", "b") }
	id := "0123456789abcdef"
	for name, c := range map[string]struct{ table, want string }{
		"second":            {bios + system(id) + structure(127, ""), "30313233343536373839616263646566"},
		"first":             {system(id), "30313233343536373839616263646566"},
		"none":              {bios + structure(127, ""), ""},
		"not set":           {system(strings.Repeat("\xff", 16)), ""},
		"nought":            {system(strings.Repeat("\x00", 16)), ""},
		"of old, without":   {structure(1, "\x01\x02\x03\x04", "a"), ""},
		"cut off":           {(bios + system(id))[:len(bios)+9], ""},
		"texts without end": {bios[:len(bios)-2], ""},
		"of no length":      {"\x05\x00\x00\x00rest", ""},
		"of four bytes":     {structure(127, "") + system(id), "30313233343536373839616263646566"}, "just long enough": {structure(1, "\x01\x02\x03\x04"+id), "30313233343536373839616263646566"},
		"a byte too short": {structure(1, "\x01\x02\x03\x04"+id[:15]), ""}, "all of it": {"\x01\x18\x07\x00\x01\x02\x03\x04" + id, "30313233343536373839616263646566"}, "without texts": {"\x05\x04\x00\x00\x00\x00" + system(id), "30313233343536373839616263646566"},
		"empty": {"", ""},
	} {
		if got := smbiosUUID([]byte(c.table)); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// TestInside tells what lies in a folder, by whatever path it is named.
func TestInside(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"kit/a": "x", "link": "-> kit", "kitten/b": "y"})
	t.Chdir(dir)
	for path, want := range map[string]bool{
		"kit": true, "kit/a": true, "kit/new/deep": true, "link/new": true, dir + "/kit/none": true, "./kit/../kit/x": true,
		"kitten": false, "kitten/none": false, ".": false, "kit/../other": false, "/none": false,
	} {
		for _, outer := range []string{"kit", dir + "/kit", "link"} {
			if got := Inside(path, outer); got != want {
				t.Errorf("%s in %s: %t", path, outer, got)
			}
		}
	}
}

// TestRealIsTheWayBack writes paths in a computer's own terms, and finds them where
// its disk is. What a journal says leads nowhere else.
func TestRealIsTheWayBack(t *testing.T) {
	for _, system := range []string{"windows", "linux"} {
		root := lay.Disk(t, system, map[string]string{"srv/data/a": "x", "srv/out": "-> /etc", "etc/hosts": "h"})
		c, err := Open(root)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(c.Root(), "srv", "data", "new")
		if got, err := Real(c, Spoken(c, path)); err != nil || got != path {
			t.Errorf("%s: %q, %v", system, got, err)
		}
		for _, bad := range []string{"/../../../etc/passwd", "/srv/../../x", "/srv/out/hosts", `C:\..\..\x`} {
			if got, err := Real(c, bad); err == nil && !strings.HasPrefix(got, c.Root()+"/") {
				t.Errorf("%s: %s leads to %s", system, bad, got)
			}
		}
		if _, err := Real(c, `D:\data`); err == nil && system == "windows" {
			t.Error("a drive that is not there was found")
		}
		if got, err := Real(c, "postgresql:x@h:5432/ledger"); err != nil || got != "postgresql:x@h:5432/ledger" {
			t.Errorf("an address became %q, %v", got, err)
		}
	}
}
