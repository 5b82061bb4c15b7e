package kit

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestChosenApps reads the sealed files of the apps that are asked for only, and tells those of
// an item that do not read back.
func TestChosenApps(t *testing.T) {
	dir := madeKit(t)
	k, err := Open(dir)
	fatal.If(t, err)
	if k.Unlocked() {
		t.Error("it is unlocked without its passphrase")
	}
	if err := k.Unlock(pass); err != nil || !k.Unlocked() {
		t.Fatal(err)
	}
	all, of, others := k.TotalBytes(nil), k.TotalBytes([]string{"hoistbook"}), k.TotalBytes([]string{"other"})
	if others <= 0 || of != all || all <= others {
		t.Errorf("%d bytes, of the app %d, of others %d", all, of, others)
	}
	var made Sealed
	for _, l := range k.Lines() {
		if l.Event == journal.EventSealed {
			fatal.If(t, json.Unmarshal(l.Data, &made))
		}
	}
	r, err := k.Open("hoistbook", made.Parts)
	fatal.If(t, err)
	if data, err := io.ReadAll(r); err != nil || len(data) != 1000 || data[3] != 1 {
		t.Errorf("%d bytes, %v", len(data), err)
	}
	r.Close()
	if bad := k.Unwhole(ctx, "hoistbook", made); bad != nil {
		t.Errorf("not whole: %q", bad)
	}
	name := filepath.Join(dir, SealedDir, "hoistbook", made.Parts[1].Name)
	whole, _ := os.ReadFile(name)
	os.WriteFile(name, append(slices.Clone(whole[:len(whole)-1]), whole[len(whole)-1]^1), 0o600)
	if bad := k.Unwhole(ctx, "hoistbook", made); !slices.Equal(bad, []string{made.Parts[1].Name}) {
		t.Errorf("not whole: %q", bad)
	}
	var read int64
	for app, want := range map[string]int{"hoistbook": 1, "other": 0} {
		d, err := k.Inspect(ctx, []string{app}, func(n int64) { read += n })
		if err != nil || len(d) != want {
			t.Errorf("%s: %+v %v", app, d, err)
		}
	}
	if read != of+others {
		t.Errorf("%d bytes were read, of %d", read, of+others)
	}
	k.Discard("hoistbook", made.Parts[1:2])
	if _, err := k.Open("hoistbook", made.Parts); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a part is gone: %v", err)
	}
	if bad := k.Unwhole(ctx, "hoistbook", made); !slices.Equal(bad, []string{made.Parts[1].Name}) {
		t.Errorf("not whole: %q", bad)
	}
	var programs []string
	for name, hash := range k.Programs() {
		programs = append(programs, name)
		if len(hash) != 64 {
			t.Errorf("%s has the hash %q", name, hash)
		}
	}
	if !slices.Equal(programs, []string{"movekit"}) {
		t.Errorf("programs %q", programs)
	}
	for range k.Programs() {
		break // it may be left early
	}
	k.Close()
}

// TestWhichComputer tells one computer from another, also where both were made from one image.
func TestWhichComputer(t *testing.T) {
	for _, c := range []struct {
		a, b Computer
		one  bool
	}{
		{Computer{Name: "A", ID: "1"}, Computer{Name: "a", ID: "1"}, true}, {Computer{Name: "A", ID: "1"}, Computer{Name: "B", ID: "1"}, false}, {Computer{Name: "A", ID: "1"}, Computer{Name: "A", ID: "2"}, false}, {Computer{Name: "A"}, Computer{Name: "A"}, false},
		{Computer{Name: "A", ID: "1", Firmware: "f"}, Computer{Name: "B", ID: "1", Firmware: "f"}, true}, {Computer{Name: "A", ID: "1", Firmware: "f"}, Computer{Name: "A", ID: "1", Firmware: "g"}, false}, {Computer{Name: "A", ID: "1", Firmware: "f"}, Computer{Name: "A", ID: "1"}, true}, {Computer{Name: "A", ID: "1"}, Computer{Name: "B", ID: "1", Firmware: "f"}, false},
	} {
		if c.a.Is(c.b) != c.one {
			t.Errorf("%+v is %+v: %v", c.a, c.b, !c.one)
		}
	}
	for about, firmware := range map[string]bool{"": false, "firmware-id: f\n": true} {
		m, err := machine.Open(lay.Disk(t, "linux", map[string]string{machine.IdentityFile: lay.Ident("linux", "QUAY", "h") + about}))
		fatal.If(t, err)
		if c := ComputerOf(m); c.Name != "QUAY" || c.System != machine.Linux || c.ID != machine.IDOf("h") || (c.Firmware == machine.IDOf("f")) != firmware || (c.Firmware == "") == firmware {
			t.Errorf("%+v", c)
		}
	}
}

// TestHalfMade makes a kit anew where its making was cut off, and touches nothing else's folder.
func TestHalfMade(t *testing.T) {
	for name, half := range map[string]bool{KeyFile: true, ManifestFile + ".unfinished": true, CardsDir: true, "letter.txt": false} {
		dir := t.TempDir()
		if name == CardsDir {
			os.Mkdir(filepath.Join(dir, name), 0o755)
		} else {
			os.WriteFile(filepath.Join(dir, name), []byte("x"), 0o600)
		}
		if halfMade(dir) != half {
			t.Errorf("%s: half made: %v", name, !half)
		}
	}
	whole := madeKit(t)
	if halfMade(whole) {
		t.Error("a whole kit is half made")
	}
	for name, kept := range map[string]bool{"Thumbs.db": true, ".Trash-1000": true, "._kit.yaml": true, "thumbs": false, "trash": false} {
		if droppings(name) != kept {
			t.Errorf("%s is left by a system: %v", name, !kept)
		}
	}
	for name, want := range map[string]string{ManifestFile: "", KeyFile: "", journal.File: "", journal.HeadFile: "", ChecksumsFile: "", CardsDir + "/a.yaml": "", SealedDir + "/a/b": "", ReadmeFile: "minor", "report/handover.html": "minor", "movekit.exe": "minor program"} {
		got := ""
		if minor(name) {
			got = "minor"
		}
		if isProgram(name) {
			got += " program"
		}
		if strings.TrimSpace(got) != want {
			t.Errorf("%s is %q, not %q", name, got, want)
		}
	}
}

// TestChecksums reads checksums only as they are written, and says which line is not.
func TestChecksums(t *testing.T) {
	hash := strings.Repeat("a", 64) + "  "
	for text, why := range map[string]string{
		hash + "a\n" + hash + "b/c\n": "", hash + "b\n" + hash + "a\n": "line 2 of", hash + "a\n" + hash + "a\n": "line 2 of", hash + "../x\n": "line 1 of", hash + "/x\n": "line 1 of", hash[2:] + "a\n": "line 1 of", hash[:65] + "a\n": "line 1 of", "": "line 1 of", hash + "a": "the end of", hash + "a\n\n": "line 2 of",
	} {
		dir := t.TempDir()
		os.WriteFile(filepath.Join(dir, ChecksumsFile), []byte(text), 0o600)
		if sums, err := readSums(dir); (err == nil) != (why == "") || err != nil && (fault.KindOf(err) != fault.Damaged || !strings.HasPrefix(err.Error(), why)) || err == nil && len(sums) != 2 {
			t.Errorf("%q: %v, %v", text, sums, err)
		}
	}
}
