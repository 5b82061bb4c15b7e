package kit

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/test/fatal"
	"movekit/test/lay"
)

var ctx = context.Background()

const pass = "agency-balcony-cabana-dagger-eagle-fable"

// madeKit creates a kit with one sealed item in several parts.
func madeKit(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	cardFile, program := filepath.Join(dir, "hoistbook.yaml"), filepath.Join(dir, "movekit")
	os.WriteFile(cardFile, []byte("card: 1\nname: hoistbook\ntitle: Hoistbook\nitems: [{name: diary, kind: folder, path: /srv/diary}]\n"), 0o644)
	os.WriteFile(program, []byte("the program"), 0o755)
	c, err := card.Read(cardFile)
	fatal.If(t, err)
	k, err := Create(filepath.Join(dir, "kit"), New{Tool: "test", Cards: []*card.Card{c}, Programs: []string{program}, Passphrase: pass, Work: 1,
		Old: Computer{Name: "QUAY-DESK-1", System: "linux", ID: "1"}, New: Computer{Name: "QUAY-DESK-2", System: "linux"}})
	fatal.If(t, err)
	w, err := k.Seal("hoistbook", "diary.tar.zst.age", seal.Options{PartSize: 400})
	fatal.If(t, err)
	for i := range 500 {
		w.Write([]byte{byte(i * 7), byte(i * i)})
	}
	parts, err := w.Close()
	if err != nil || len(parts) < 2 {
		t.Fatalf("%d parts, %v", len(parts), err)
	}
	_, err = k.Record(journal.Line{Event: journal.EventSealed, App: "hoistbook", Item: "diary"}, Sealed{Stream: "diary", Parts: parts})
	fatal.If(t, err)
	fatal.If(t, k.MendChecksums())
	fatal.If(t, k.WriteReport("handover.txt", []byte("all is well\n")))
	k.Close()
	return k.Dir
}

func damage(t *testing.T, dir string) []Damage {
	t.Helper()
	in, err := Inspect(ctx, dir, nil, nil, nil, nil)
	if err != nil {
		if fault.KindOf(err) == fault.NewerFormat {
			return []Damage{{File: ManifestFile, What: err.Error()}}
		}
		t.Fatal(err)
	}
	return in.Damage
}

func TestEveryChangedByteOfAKitIsSeen(t *testing.T) {
	dir := madeKit(t)
	if d := damage(t, dir); len(d) > 0 {
		t.Fatalf("the whole kit: %v", d)
	}
	flips := 0
	filepath.WalkDir(dir, func(path string, e fs.DirEntry, _ error) error {
		if e.IsDir() || e.Name() == LockFile {
			return nil
		}
		rel, _ := filepath.Rel(dir, path)
		whole, _ := os.ReadFile(path)
		for i := 0; i < len(whole); i += 1 + len(whole)/50 {
			bad := bytes.Clone(whole)
			bad[i] ^= 1 << (i % 8)
			os.WriteFile(path, bad, 0o644)
			flips++
			d := damage(t, dir)
			if len(d) == 0 {
				t.Errorf("%s: a bit of byte %d changed unseen", rel, i)
			}
			// The file that the message names: the changed file, or the file with its hash.
			named := false
			for _, x := range d {
				named = named || x.File == filepath.ToSlash(rel) || rel == journal.HeadFile || rel == ChecksumsFile
			}
			if !named {
				t.Errorf("%s: byte %d: %v do not name it", rel, i, d)
			}
		}
		for _, short := range [][]byte{whole[:len(whole)-1], append(bytes.Clone(whole), 'x', '\n')} {
			os.WriteFile(path, short, 0o644)
			if rel == journal.File && len(short) < len(whole) {
				continue // a line that was cut off is mended
			}
			if len(damage(t, dir)) == 0 {
				t.Errorf("%s: %d bytes instead of %d unseen", rel, len(short), len(whole))
			}
		}
		os.Remove(path)
		if len(damage(t, dir)) == 0 {
			t.Errorf("%s: missing unseen", rel)
		}
		os.WriteFile(path, whole, 0o644)
		return nil
	})
	if d := damage(t, dir); len(d) > 0 || flips < 300 {
		t.Errorf("after %d flips the whole kit: %v", flips, d)
	}
}

func TestPassphrase(t *testing.T) {
	dir := madeKit(t)
	for _, p := range []string{"", "wrong", pass + "x"} {
		k, _ := Open(dir)
		if err := k.Unlock(p); fault.KindOf(err) != fault.WrongPassphrase {
			t.Errorf("%q: %v", p, err)
		}
	}
	k, err := Open(dir)
	fatal.If(t, err)
	if err := k.Unlock("  " + pass + "\n"); err != nil {
		t.Errorf("with spaces around it: %v", err)
	}
}

// TestForgedKit changes files and all checksums, as somebody without the passphrase can.
func TestForgedKit(t *testing.T) {
	for name, forge := range map[string]func(dir string){
		"card": func(dir string) {
			p := filepath.Join(dir, CardsDir, "hoistbook.yaml")
			text, _ := os.ReadFile(p)
			os.WriteFile(p, bytes.Replace(text, []byte("/srv/diary"), []byte("/etc/cron.d"), 1), 0o644)
		},
		"manifest": func(dir string) {
			p := filepath.Join(dir, ManifestFile)
			text, _ := os.ReadFile(p)
			os.WriteFile(p, bytes.Replace(text, []byte("QUAY-DESK-1"), []byte("QUAY-DESK-9"), 1), 0o644)
		},
		"journal": func(dir string) {
			log, _ := journal.Read(dir)
			log.Append(journal.Line{Event: "answered", App: "hoistbook"}, [32]byte{1})
		},
	} {
		dir := madeKit(t)
		forge(dir)
		k, err := Open(dir)
		fatal.If(t, err)
		if err := k.Unlock(pass); fault.KindOf(err) != fault.Forged {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestNotAKit(t *testing.T) {
	if _, err := Open(t.TempDir()); fault.KindOf(err) != fault.NotAKit {
		t.Errorf("an empty folder: %v", err)
	}
	if _, err := Inspect(ctx, t.TempDir(), nil, nil, nil, nil); fault.KindOf(err) != fault.NotAKit {
		t.Errorf("an empty folder inspected: %v", err)
	}
	dir := madeKit(t)
	os.Remove(filepath.Join(dir, ChecksumsFile))
	k, err := Open(dir)
	if err != nil || k.Unlock(pass) != nil {
		t.Fatal(err)
	}
	for name, err := range map[string]error{"report": k.WriteReport("x", nil), "pack": k.MendChecksums()} {
		if fault.KindOf(err) != fault.Damaged {
			t.Errorf("%s without checksums: %v", name, err)
		}
	}
	manifest, _ := os.ReadFile(filepath.Join(dir, ManifestFile))
	for old, hostile := range map[string]string{"id: " + k.Manifest.ID: "id: ../../../tmp", "name: " + k.Manifest.Old.Name: "name: a/../../b", "name: " + k.Manifest.New.Name: `name: "a\\b"`} {
		text := strings.Replace(strings.ReplaceAll(string(manifest), `"`, ""), old, hostile, 1)
		os.WriteFile(filepath.Join(dir, ManifestFile), []byte(text), 0o644)
		if _, err := Open(dir); fault.KindOf(err) != fault.Damaged || text == string(manifest) {
			t.Errorf("%s: %v", hostile, err)
		}
	}
	if _, err := Create(t.TempDir(), New{Old: Computer{Name: "../x"}, Passphrase: pass}); fault.KindOf(err) != fault.Usage {
		t.Errorf("a computer named by a path: %v", err)
	}
	os.WriteFile(filepath.Join(dir, ManifestFile), []byte("format: 2\nlaw: new\n"), 0o644)
	if _, err := Open(dir); fault.KindOf(err) != fault.NewerFormat {
		t.Errorf("a newer format: %v", err)
	}
	if _, err := Create(dir, New{}); fault.KindOf(err) != fault.Usage {
		t.Errorf("a kit over a kit: %v", err)
	}
}

func TestOneRunAtATime(t *testing.T) {
	dir := madeKit(t)
	a, _ := Open(dir)
	b, _ := Open(dir)
	fatal.If(t, a.Lock())
	if err := b.Lock(); fault.KindOf(err) != fault.Busy {
		t.Errorf("a second run: %v", err)
	}
	a.Close()
	if err := b.Lock(); err != nil {
		t.Errorf("after the first: %v", err)
	}
	b.Close()
}

func TestUnknownFilesAreReported(t *testing.T) {
	dir := madeKit(t)
	lay.Out(t, dir, map[string]string{"holiday.jpg": "", "System Volume Information/x": ""})
	in, err := Inspect(ctx, dir, nil, nil, nil, nil)
	if err != nil || len(in.Damage) > 0 || strings.Join(in.Strange, " ") != "holiday.jpg" {
		t.Errorf("%v %+v", err, in)
	}
}

// TestPulledOut removes the stick during a run. The folder in its place is not the kit, and nothing
// is written into it.
func TestPulledOut(t *testing.T) {
	dir := madeKit(t)
	k, err := Open(dir)
	if err == nil {
		err = k.Unlock(pass)
	}
	fatal.If(t, err)
	fatal.If(t, os.Rename(dir, dir+"-pulled"))
	for _, there := range []bool{false, true} {
		if there {
			os.Mkdir(dir, 0o755)
		}
		_, recorded := k.Record(journal.Line{Event: journal.EventReported}, nil)
		_, sealed := k.Seal("hoistbook", "more.zst.age", seal.Options{})
		for what, err := range map[string]error{"record": recorded, "seal": sealed, "report": k.WriteReport("x", nil), "checksums": k.MendChecksums(), "flush": k.Flush(ctx), "tidy": k.Tidy()} {
			if fault.KindOf(err) != fault.Pulled {
				t.Errorf("%s: %v", what, err)
			}
		}
	}
	again, err := Open(dir + "-pulled")
	fatal.If(t, err)
	fatal.If(t, os.Rename(dir+"-pulled", dir+"-gone"))
	if err := again.Unlock(pass); fault.KindOf(err) != fault.Pulled {
		t.Errorf("unlock: %v", err)
	}
	fatal.If(t, os.Rename(dir+"-gone", dir+"-pulled"))
	if entries, _ := os.ReadDir(dir); len(entries) > 0 {
		t.Errorf("written beside the stick: %v", entries)
	}
	os.Remove(dir)
	// A share may renumber its folders.
	fatal.If(t, os.CopyFS(dir, os.DirFS(dir+"-pulled")))
	if err := k.Flush(ctx); err != nil {
		t.Errorf("the same kit in a folder of another number: %v", err)
	}
	os.RemoveAll(dir)
	os.Rename(dir+"-pulled", dir)
	if _, err := k.Record(journal.Line{Event: journal.EventReported}, nil); err != nil {
		t.Errorf("once it is back: %v", err)
	}
}

// TestMinorDamage changes files that are not part of the move: the steps still run. Leftovers of a
// killed run are removed, and the README is restored.
func TestMinorDamage(t *testing.T) {
	dir := madeKit(t)
	os.WriteFile(filepath.Join(dir, ReadmeFile), []byte("edited"), 0o644)
	os.Remove(filepath.Join(dir, "movekit"))
	os.WriteFile(filepath.Join(dir, ReportDir, "handover.txt"), []byte("edited"), 0o644)
	in, err := Inspect(ctx, dir, nil, nil, nil, nil)
	if err != nil || !in.Whole() || len(in.Damage) != 3 {
		t.Fatalf("%+v, %v", in, err)
	}
	k, err := Open(dir)
	if err == nil {
		err = k.Unlock(pass)
	}
	fatal.If(t, err)
	if d, err := k.Inspect(ctx, nil, nil, nil); err != nil || len(d) > 0 {
		t.Errorf("it stops the move: %v, %v", d, err)
	}
	left := filepath.Join(dir, SealedDir, "hoistbook", "other.tar.zst.age.001"+seal.Unfinished)
	os.WriteFile(left, []byte("half"), 0o644)
	fatal.If(t, k.Tidy())
	sealed, _ := filepath.Glob(filepath.Join(dir, SealedDir, "*", "*"))
	if in, _ := Inspect(ctx, dir, nil, nil, nil, nil); len(in.Damage) != 2 || there(left) || len(sealed) < 2 {
		t.Errorf("after it was mended: %+v, %v", in, sealed)
	}
	os.Remove(sealed[0])
	if in, _ := Inspect(ctx, dir, nil, nil, nil, nil); in.Whole() {
		t.Error("a sealed file is missing, and it is whole")
	}
}

// FuzzManifest reads forged manifests. None causes a panic, and an accepted one has every required
// field.
func FuzzManifest(f *testing.F) {
	f.Add([]byte("format: 1\nid: abcdefgh\nold: {name: OLD, system: linux, id: a}\nnew: {name: NEW, system: windows}\napps: [diary]\n"))
	f.Add([]byte("apps: &a [*a]\n"))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		fatal.If(t, os.WriteFile(filepath.Join(dir, ManifestFile), data, 0o600))
		if k, err := Open(dir); err == nil {
			k.Close()
			t.Errorf("a manifest alone is taken for a kit: %q", data)
		}
	})
}

// counted is a context that ends after a number of checks.
type counted struct {
	context.Context
	left int
}

func (c *counted) Err() error {
	if c.left--; c.left < 0 {
		return context.Canceled
	}
	return nil
}

// closing creates a kit whose journal says that it is closed.
func closing(t *testing.T, c Closed) string {
	t.Helper()
	dir := madeKit(t)
	k, err := Open(dir)
	if err == nil {
		err = k.Unlock(pass)
	}
	if err == nil {
		_, err = k.Record(journal.Line{Event: journal.EventClosed}, c)
	}
	fatal.If(t, err)
	return dir
}

func there(parts ...string) bool {
	_, err := os.Lstat(filepath.Join(parts...))
	return err == nil
}

// TestEmpty empties a kit, interrupted at every moment. The key is removed first, and one place
// always has the complete record.
func TestEmpty(t *testing.T) {
	if err := Empty(ctx, madeKit(t)); fault.KindOf(err) != fault.Usage {
		t.Errorf("a kit that is not closed: %v", err)
	}
	for _, elsewhere := range []bool{false, true} {
		record := ""
		if elsewhere {
			record = filepath.Join(t.TempDir(), "papers", "move")
		}
		dir := closing(t, Closed{HandOver: "/papers", Record: record})
		key, _ := os.ReadFile(filepath.Join(dir, KeyFile))
		secret, spare := digest.Of(key), filepath.Join(t.TempDir(), "spare")
		fatal.If(t, os.Link(filepath.Join(dir, KeyFile), spare))
		whole, _ := filepath.Glob(filepath.Join(dir, SealedDir, "*", "*"))
		for n, done := 0, false; !done; n++ {
			err := Empty(&counted{ctx, n}, dir)
			if done = err == nil; !done && fault.KindOf(err) != fault.Stopped || n > 100 {
				t.Fatalf("cut off after %d: %v", n, err)
			}
			sealed, _ := filepath.Glob(filepath.Join(dir, SealedDir, "*", "*"))
			if now, _ := os.ReadFile(filepath.Join(dir, KeyFile)); len(sealed) < len(whole) && digest.Of(now) == secret {
				t.Fatalf("after %d: sealed files went before the key", n)
			}
			if elsewhere && !there(dir, KeyFile) && !(there(record, journal.File) && there(record, ManifestFile) && there(record, CardsDir, "hoistbook.yaml") && there(record, ReportDir, "handover.txt")) {
				t.Fatalf("after %d: the key went before the record was stored", n)
			}
			if c, err := ClosedIn(dir); !done && (err != nil || c == nil) {
				t.Fatalf("after %d nobody knows that it is being closed: %v", n, err)
			}
			in, err := Inspect(ctx, dir, nil, nil, nil, nil)
			if err == nil && there(dir, SealedDir) && !slices.Contains(in.Left, SealedDir) {
				t.Errorf("after %d it is not said that it is not empty yet: %+v", n, in)
			}
		}
		if left, err := os.ReadFile(spare); err != nil || len(left) != len(key) || string(left[:40]) == string(key[:40]) {
			t.Errorf("the key was not overwritten: %.40q, %v", left, err)
		}
		at := dir
		if elsewhere {
			at = record
			var left []string
			entries, _ := os.ReadDir(dir)
			for _, e := range entries {
				left = append(left, e.Name())
			}
			if got := strings.Join(left, " "); got != "README.txt kit.lock movekit" {
				t.Errorf("the kit's folder still has %s", got)
			}
		}
		in, err := Inspect(ctx, at, nil, nil, nil, nil)
		if err != nil || len(in.Damage)+len(in.Left) > 0 || in.Closed == nil || in.Closed.HandOver != "/papers" {
			t.Errorf("the record: %+v, %v", in, err)
		}
		k, err := Open(at)
		if err != nil || k.Manifest.Old.Name != "QUAY-DESK-1" || len(k.Lines()) != 3 || k.Card("hoistbook") == nil {
			t.Fatalf("the record cannot be read: %v", err)
		}
		if err := k.Unlock(pass); fault.KindOf(err) != fault.NotAKit || !strings.Contains(err.Error(), "closed") {
			t.Errorf("unlocking it: %v", err)
		}
		if err := Empty(ctx, at); err != nil {
			t.Errorf("once more: %v", err)
		}
	}
}

// TestChosenApps reads only the sealed files of the selected apps, and lists the damaged files of
// an item.
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
	all, of, others := k.TotalBytes(nil, nil), k.TotalBytes([]string{"hoistbook"}, nil), k.TotalBytes([]string{"other"}, nil)
	var rest int64 // README and programs, which no step needs
	for name := range k.sums {
		if info, err := os.Stat(filepath.Join(dir, name)); err == nil && (file{name: name}).minor() {
			rest += info.Size()
		}
	}
	if others <= 0 || rest <= 0 || of+rest != all || of <= others {
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
	if bad := k.DamagedFiles(ctx, "hoistbook", made); bad != nil {
		t.Errorf("not whole: %q", bad)
	}
	name := filepath.Join(dir, SealedDir, "hoistbook", made.Parts[1].Name)
	whole, _ := os.ReadFile(name)
	os.WriteFile(name, append(slices.Clone(whole[:len(whole)-1]), whole[len(whole)-1]^1), 0o600)
	if bad := k.DamagedFiles(ctx, "hoistbook", made); !slices.Equal(bad, []string{made.Parts[1].Name}) {
		t.Errorf("not whole: %q", bad)
	}
	var read int64
	for app, want := range map[string]int{"hoistbook": 1, "other": 0} {
		d, err := k.Inspect(ctx, []string{app}, nil, func(n int64) { read += n })
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
	if bad := k.DamagedFiles(ctx, "hoistbook", made); !slices.Equal(bad, []string{made.Parts[1].Name}) {
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

// TestWhichComputer distinguishes computers, even if both were restored from one image.
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

// TestInterruptedCreate creates a kit again after an interruption, and changes no other folder.
func TestInterruptedCreate(t *testing.T) {
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
	fatal.If(t, os.Remove(filepath.Join(whole, journal.File)))
	if halfMade(whole) {
		t.Error("a kit that lost its journal is half made, and would be overwritten")
	}

	for name, want := range map[string]string{ManifestFile: "", KeyFile: "", journal.File: "", journal.HeadFile: "", ChecksumsFile: "", CardsDir + "/a.yaml": "", SealedDir + "/a/b": "", ReadmeFile: "minor", "report/handover.html": "minor", "movekit.exe": "minor program"} {
		got := ""
		if (file{name: name}).minor() {
			got = "minor"
		}
		if (file{name: name}).isProgram() {
			got += " program"
		}
		if strings.TrimSpace(got) != want {
			t.Errorf("%s is %q, not %q", name, got, want)
		}
	}
}

// TestChecksums accepts checksums only in the exact form, and names the wrong line.
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
