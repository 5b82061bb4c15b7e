package keys_test

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/keys"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/registry"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// memory is a registry key in memory that can fail.
type memory struct {
	name   string
	below  map[string]*memory
	values map[string]registry.Value
	fails  *int // changes that are let through before one fails; nil for all
}

func (k *memory) child(name string, create bool) *memory {
	b := k.below[strings.ToLower(name)]
	if b == nil && create {
		b = &memory{name: name, below: map[string]*memory{}, values: map[string]registry.Value{}, fails: k.fails}
		k.below[strings.ToLower(name)] = b
	}
	return b
}

var errCut = errors.New("cut off")

func (k *memory) change() error {
	if k.fails == nil {
		return nil
	}
	if *k.fails--; *k.fails < 0 {
		return errCut
	}
	return nil
}

func (k *memory) Modified() time.Time { return time.Time{} }
func (k *memory) Close() error        { return nil }
func (k *memory) Keys() (names []string, err error) {
	for _, key := range slices.Sorted(maps.Keys(k.below)) {
		names = append(names, k.below[key].name)
	}
	return names, nil
}
func (k *memory) Values() (all []registry.Value, err error) {
	for _, name := range slices.Sorted(maps.Keys(k.values)) {
		all = append(all, k.values[name])
	}
	return all, nil
}
func (k *memory) Open(name string) (registry.Key, error) {
	if b := k.child(name, false); b != nil {
		return b, nil
	}
	return nil, fs.ErrNotExist
}
func (k *memory) Create(name string) (registry.Writable, error) {
	if k.child(name, false) == nil {
		if err := k.change(); err != nil {
			return nil, err
		}
	}
	return k.child(name, true), nil
}
func (k *memory) Set(v registry.Value) error {
	if err := k.change(); err != nil {
		return err
	}
	k.values[strings.ToLower(v.Name)] = v
	return nil
}
func (k *memory) Unset(name string) error {
	if err := k.change(); err != nil {
		return err
	}
	delete(k.values, strings.ToLower(name))
	return nil
}
func (k *memory) Delete(name string) error {
	if err := k.change(); err != nil {
		return err
	}
	if b := k.child(name, false); b != nil && len(b.below) > 0 {
		return errors.New("it has keys below")
	}
	delete(k.below, strings.ToLower(name))
	return nil
}

// text describes a key, one line per key and value.
func (k *memory) text(path string) (out []string) {
	for _, v := range slices.Sorted(maps.Keys(k.values)) {
		out = append(out, fmt.Sprintf("%s %s=%d:%x", path, v, k.values[v].Type, k.values[v].Data))
	}
	for _, b := range slices.Sorted(maps.Keys(k.below)) {
		out = append(append(out, path+`\`+b), k.below[b].text(path+`\`+b)...)
	}
	return out
}

// running is a computer whose registry is in memory, with one user.
type running struct {
	machine.Computer
	top *memory
}

func newRunning(c machine.Computer) *running {
	return &running{c, &memory{below: map[string]*memory{}, values: map[string]registry.Value{}}}
}

func (r *running) at(path string, user *machine.User, create bool) (*memory, error) {
	if strings.HasPrefix(path, "HKCU") && user == nil {
		return nil, errors.New("whose?")
	}
	k := r.top
	for _, name := range strings.Split(path, `\`) {
		if k.child(name, false) == nil && create {
			if err := k.change(); err != nil {
				return nil, err
			}
		}
		if k = k.child(name, create); k == nil {
			return nil, fs.ErrNotExist
		}
	}
	return k, nil
}

func (r *running) Registry(path string, user *machine.User) (registry.Key, error) {
	k, err := r.at(path, user, false)
	if err != nil {
		return nil, err
	}
	return k, nil
}

func (r *running) Change(path string, user *machine.User, create bool) (registry.Writable, error) {
	k, err := r.at(path, user, create)
	if err != nil {
		return nil, err
	}
	return k, nil
}

func (r *running) set(path, name string, kind registry.Type, data string) {
	k, _ := r.at(path, &machine.User{}, true)
	k.values[strings.ToLower(name)] = registry.Value{Name: name, Type: kind, Data: []byte(data)}
}

func wide(s string) string { return string(registry.ToUTF16(s + "\x00")) }

const cardText = `items:
  - {name: settings, kind: registry, key: 'HKCU\Software\Harbour\Chartroom', skip: ['Window/**', Cache], update-paths: ['Recent/*', '@']}
  - {name: start, kind: registry, key: 'HKLM\SOFTWARE\Run', include: [chartroom]}
`

// newOffice creates an old and a new Windows computer.
func newOffice(t *testing.T) (o *office.Office, old, now *running) {
	t.Helper()
	o = office.New(t, cardText, machine.Windows, map[string]string{"old/Users/Maren/x": "", "new/Users/mholm/x": ""})
	lay.Out(t, o.Dir, map[string]string{"old/computer.yaml": lay.Ident("windows", "OLD", "1")})
	old, now = newRunning(office.Open(t, filepath.Join(o.Dir, "old"))), newRunning(office.Open(t, filepath.Join(o.Dir, "new")))
	o.Old, o.New = old, now
	const key = `HKCU\Software\Harbour\Chartroom`
	old.set(key, "", registry.String, wide(`C:\Users\Maren\charts`))
	old.set(key, "Größe", registry.DWord, "\x01\x02\x03\x04")
	old.set(key, "odd", 4711, "\x00\xff")
	old.set(key, "empty", registry.Binary, "")
	old.set(key, "Cache", registry.Binary, "x")
	old.set(key, "alias", registry.Link, wide(`\Registry\x`))
	old.set(key+`\Recent`, "1", registry.Expand, wide(`"C:\Users\Maren\a.chart"`))
	old.set(key+`\Recent`, "2", registry.Multi, wide("C:\\Users\\Maren\\b\x00D:\\c\x00"))
	old.set(key+`\Recent\Empty`, "x", registry.String, wide(""))
	old.set(key+`\Window\Main`, "x", registry.DWord, "\x00\x00\x00\x00")
	old.set(`HKLM\SOFTWARE\Run`, "Chartroom", registry.String, wide(`C:\Chartroom.exe`))
	old.set(`HKLM\SOFTWARE\Run`, "Other", registry.String, wide(`C:\Other.exe`))
	return o, old, now
}

type yes struct{ office.Person }

func (yes) Change(string, steps.Key, []pathmap.Line) (bool, error) { return true, nil }

func unpack(o *office.Office, policy tree.Policy) (*run.Outcome, error) {
	j := o.Job(o.New)
	j.Technician, j.Policies, j.Choices.Users = &yes{}, map[string]tree.Policy{"": policy}, map[string]string{"Maren": "mholm"}
	out, err := j.Unpack(o.T.Context())
	if err != nil {
		return nil, err
	}
	return out[0], out[0].Err
}

func TestKeys(t *testing.T) {
	t.Parallel()
	o, old, now := newOffice(t)
	out := o.Pack()
	if out.Items[0].Files != 7 || len(out.Items[0].Left) != 1 || out.Items[1].Files != 1 {
		t.Fatalf("packed %+v %v", out.Items, out.Blocks)
	}
	now.set(`HKCU\Software\Harbour\Chartroom`, "Size", registry.DWord, "1234")
	now.set(`HKCU\Software\Harbour\Chartroom\Window`, "mine", registry.DWord, "1234")
	now.set(`HKLM\SOFTWARE\Run`, "Other", registry.String, wide(`C:\Mine.exe`))
	before := now.top.text("")
	_, err := unpack(o, tree.SetAside)
	fatal.If(t, err)
	text := strings.Join(now.top.text(""), "\n")
	for _, want := range []string{
		fmt.Sprintf(`\hkcu\software\harbour\chartroom =1:%x`, wide(`C:\Users\mholm\charts`)), `chartroom odd=4711:00ff`, `chartroom empty=3:`, `chartroom größe=4:01020304`, `chartroom\window mine=4:31323334`,
		fmt.Sprintf(`recent 1=2:%x`, wide(`"C:\Users\mholm\a.chart"`)), fmt.Sprintf(`recent 2=7:%x`, wide("C:\\Users\\mholm\\b\x00D:\\c\x00")), `size=4:31323334`, fmt.Sprintf(`run chartroom=1:%x`, wide(`C:\Chartroom.exe`)),
	} {
		if !strings.Contains(text, want) {
			t.Errorf("not there: %s", want)
		}
	}
	for _, not := range []string{"alias", "cache", "main"} {
		if strings.Contains(text, not) {
			t.Errorf("there: %s\n%s", not, text)
		}
	}
	if v := o.Verify(); !v.Equal() {
		t.Errorf("%+v", v.Items)
	}
	// A modified value is detected, and named.
	now.set(`HKCU\Software\Harbour\Chartroom`, "ODD", 4711, "\x00\xfe")
	if v := o.Verify(); v.Equal() || !strings.Contains(fmt.Sprint(v.Items[0].Diffs), "odd has other content") {
		t.Errorf("%+v", v.Items)
	}
	now.set(`HKCU\Software\Harbour\Chartroom`, "odd", 4711, "\x00\xff")
	// It is undone even if a newer version is sealed.
	old.set(`HKCU\Software\Harbour\Chartroom`, "late", registry.DWord, "1234")
	o.Pack()
	if out := o.Only(o.Job(o.New).Undo(t.Context())); out.Items[0].Did != "undone" || out.Items[0].Aside != "" {
		t.Errorf("undo %+v", out.Items)
	}
	if got := now.top.text(""); !slices.Equal(got, before) {
		t.Errorf("after undo\n%s\nbefore\n%s", strings.Join(got, "\n"), strings.Join(before, "\n"))
	}
}

// TestDifferentKeys names and counts differences, and ignores letter case.
// TestOldPathsInKeys names keys and values with paths that cannot be changed.
func TestOldPathsInKeys(t *testing.T) {
	t.Parallel()
	o, old, _ := newOffice(t)
	const key = `HKCU\Software\Harbour\Chartroom`
	old.set(key, "blob", registry.Binary, "\x07"+wide(`C:\Users\Maren\x`))
	old.set(key+`\Seen`, `C:\Users\Maren\name.chart`, registry.DWord, "\x01\x00\x00\x00")
	old.set(key, "other", registry.String, wide(`C:\Users\Marenka`))
	o.Pack()
	_, err := unpack(o, tree.SetAside)
	fatal.If(t, err)
	j := o.Job(o.New)
	j.Choices.Users = map[string]string{"Maren": "mholm"}
	v := o.Only(j.Verify(t.Context()))
	notes := strings.Join(v.Items[0].Notes, "; ")
	if !strings.Contains(notes, "still in 2 values") || !strings.Contains(notes, "blob") || !strings.Contains(notes, `Seen\C:\Users\Maren\name.chart`) || strings.Contains(notes, "other") {
		t.Errorf("%q", notes)
	}
}

func TestDifferentKeys(t *testing.T) {
	t.Parallel()
	o, _, now := newOffice(t)
	o.Pack()
	const key = `HKCU\Software\Harbour\Chartroom`
	_, err := unpack(o, tree.SetAside)
	fatal.If(t, err)
	k, _ := now.at(strings.ToUpper(key), &machine.User{}, false)
	k.values["odd"] = registry.Value{Name: "ODD", Type: registry.DWord, Data: []byte("\x00\xff")}
	delete(k.values, "empty")
	k.below["recent"].name = "RECENT"
	now.set(key, "", registry.String, wide(`C:\Users\Maren\charts`)) // unchanged since the pack: somebody put it back
	now.set(key+`\Recent`, "1", registry.Expand, wide("mine"))
	v := o.Verify().Items[0]
	want := []string{`RECENT\1 has other content`, "empty is missing", "odd has another type"}
	if got := fmt.Sprint(v.Diffs); v.Count != 3 || !strings.EqualFold(got, fmt.Sprint(want)) || v.Rows[0] != (steps.Row{What: "values", Old: "7", New: "6"}) || v.Rows[1].New != "3 differences" {
		t.Errorf("%d differ: %s, rows %+v", v.Count, got, v.Rows)
	}
	for i := range 30 {
		now.set(key+`\More`, fmt.Sprint(i), registry.DWord, "1234")
	}
	if v := o.Verify().Items[0]; v.Count != 33 || len(v.Diffs) != 20 || v.Rows[0].New != "36" {
		t.Errorf("many: %d, %d of them told, %+v", v.Count, len(v.Diffs), v.Rows)
	}
	now.top.below["hkcu"].below["software"].below = map[string]*memory{}
	if v := o.Verify().Items[0]; v.Count != 7 || v.Rows[0].New != "0" {
		t.Errorf("all is gone: %d, %+v", v.Count, v.Rows)
	}
}

// TestInvalidKeys uses a sealed list with names that no registry has, or that are not values
// of the key.
func TestInvalidKeys(t *testing.T) {
	t.Parallel()
	o, _, _ := newOffice(t)
	r := o.Run(o.Kit, o.New)
	value := func(name string, kind registry.Type) registry.Branch {
		return registry.Branch{Path: "a", Values: []registry.Value{{Name: "", Type: registry.String}, {Name: name, Type: kind}}}
	}
	for what, b := range map[string]registry.Branch{
		"": value("x", registry.Binary), "long": {Path: `a\` + strings.Repeat("x", 1021)}, "no name": {Path: `a\\b`}, "zero": {Path: "a\x00"}, "a link": value("x", registry.Link), "zero in a value": value("x\x00", registry.String),
	} {
		parts, err := r.SealJSON("app", "list", []registry.Branch{{Path: ""}, {Path: strings.Repeat("x", 1020)}, b})
		fatal.If(t, err)
		m := keys.New(&item.Instance{Host: r.Host, Run: r, Key: steps.Key{App: "app", Item: "settings"}, InKit: &steps.Item{Sealed: kit.Sealed{List: parts}}})
		if err := m.Mover.Check(); (fault.KindOf(err) == fault.Hostile) != (what != "") || what == "" && err != nil {
			t.Errorf("%q: %v", what, err)
		}
	}
}

// TestKeysInterrupted interrupts an unpack and an undo after every change, and repeats each.
func TestKeysInterrupted(t *testing.T) {
	t.Parallel()
	for cut := 0; ; cut++ {
		o, _, now := newOffice(t)
		o.Pack()
		now.set(`HKCU\Software\Harbour\Chartroom`, "Size", registry.DWord, "1234")
		now.set(`HKCU\Software\Harbour\Chartroom`, "odd", 4711, "mine")
		now.set(`HKLM\SOFTWARE\Run`, "Other", registry.String, wide("mine"))
		now.set(`HKCU\Software\Harbour\Chartroom\Recent`, "3", registry.DWord, "1234")
		before := strings.Join(now.top.text(""), "\n")
		left := cut
		fail := func() { left = cut; now.setFails(&left) }
		fail()
		_, err := unpack(o, tree.SetAside)
		now.setFails(nil)
		whole := err == nil
		if _, err := unpack(o, tree.SetAside); err != nil {
			t.Fatalf("cut %d: %v", cut, err)
		}
		if v := o.Verify(); !v.Equal() {
			t.Fatalf("cut %d: %+v", cut, v.Items)
		}
		fail()
		o.Job(o.New).Undo(t.Context()) //nolint:errcheck // it is cut off
		whole = whole && left >= 0
		now.setFails(nil)
		o.Only(o.Job(o.New).Undo(t.Context()))
		if got := strings.Join(now.top.text(""), "\n"); got != before && !strings.Contains(got, "set-aside") {
			t.Fatalf("cut %d: after undo\n%s\nbefore\n%s", cut, got, before)
		} else if !contains(got, before) {
			t.Fatalf("cut %d: lost\n%s\nbefore\n%s", cut, got, before)
		}
		if whole {
			return
		}
	}
}

// contains reports whether each line of a text is in another.
func contains(all, part string) bool {
	lines := strings.Split(all, "\n")
	return !slices.ContainsFunc(strings.Split(part, "\n"), func(l string) bool { return !slices.Contains(lines, l) })
}

func (r *running) setFails(n *int) { setFails(r.top, n) }

func setFails(k *memory, n *int) {
	k.fails = n
	for _, b := range k.below {
		setFails(b, n)
	}
}

// TestKeysOfADisk leaves a file on a computer that does not run.
func TestKeysOfADisk(t *testing.T) {
	t.Parallel()
	o, _, now := newOffice(t)
	o.Pack()
	o.New = now.Computer
	out, err := unpack(o, tree.SetAside)
	fatal.If(t, err)
	file := filepath.Join(o.Dir, "new/Users/mholm/app-settings@Maren.reg")
	data, err := os.ReadFile(file)
	if text := registry.FromUTF16(data); err != nil || !strings.HasPrefix(text, "\ufeffWindows Registry Editor Version 5.00\r\n") || !strings.Contains(text, "[HKEY_CURRENT_USER\\Software\\Harbour\\Chartroom]\r\n@=\"C:\\\\Users\\\\mholm\\\\charts\"\r\n") || !strings.Contains(text, "\"Größe\"=dword:04030201\r\n") || !strings.Contains(text, "\"odd\"=hex(1267):00,ff\r\n") {
		t.Errorf("%v: %s", err, text)
	}
	if out.Items[0].Did != "left" || !strings.Contains(out.Items[0].ManualStep, `C:\Users\mholm\app-settings@Maren.reg`) {
		t.Errorf("%+v", out.Items[0])
	}
	if v := o.Verify(); v.Equal() || !strings.Contains(fmt.Sprint(v.Items[0].Diffs), "still has to be imported") {
		t.Errorf("%+v", v.Items)
	}
	o.Only(o.Job(o.New).Undo(t.Context()))
	if _, err := os.Stat(file); !os.IsNotExist(err) {
		t.Errorf("the file is left: %v", err)
	}
}

// TestAmbiguousNames moves values whose paths are the same text: @ beside the default value, and a
// backslash in a name beside a subkey.
func TestAmbiguousNames(t *testing.T) {
	t.Parallel()
	o, old, now := newOffice(t)
	const key = `HKCU\Software\Harbour\Chartroom`
	old.set(key, "@", registry.String, wide("not the default"))
	old.set(key, `Sub\V`, registry.String, wide("a name"))
	old.set(key+`\Sub`, "V", registry.String, wide("a subkey"))
	old.set(key+`\Sub`, "@", registry.DWord, "\x01\x00\x00\x00")
	o.Pack()
	_, err := unpack(o, tree.SetAside)
	fatal.If(t, err)
	if v := o.Verify(); !v.Equal() {
		t.Errorf("%+v", v.Items)
	}
	now.set(key+`\Sub`, "V", registry.String, wide("changed"))
	if v := o.Verify(); v.Equal() || v.Items[0].Count != 1 {
		t.Errorf("%+v", v.Items)
	}
}

// TestUndoRemovesKeys undoes an unpack that created the keys above an item. They are gone; a key that
// somebody uses meanwhile stays.
func TestUndoRemovesKeys(t *testing.T) {
	t.Parallel()
	for _, used := range []bool{false, true} {
		o, _, now := newOffice(t)
		o.Pack()
		now.set(`HKCU\Software\Other`, "x", registry.DWord, "1234")
		_, err := unpack(o, tree.SetAside)
		fatal.If(t, err)
		if used {
			now.set(`HKCU\Software\Harbour`, "mine", registry.DWord, "1234")
		}
		if out := o.Only(o.Job(o.New).Undo(t.Context())); out.Items[0].Did != "undone" {
			t.Errorf("%+v", out.Items)
		}
		software := now.top.child("HKCU", false).child("Software", false)
		if software == nil || software.child("Other", false) == nil || (software.child("Harbour", false) != nil) != used {
			t.Errorf("used %v: %v", used, software.below)
		}
	}
}

// TestActingKeys sets the key of a service aside where Windows does not look for services, on both computers.
func TestActingKeys(t *testing.T) {
	t.Parallel()
	const services, yard = `HKLM\SYSTEM\CurrentControlSet\Services`, `HKLM\SYSTEM\CurrentControlSet\Services\Yard`
	o := office.New(t, "items:\n  - {name: service, kind: registry, key: '"+yard+"'}\n", machine.Windows, map[string]string{"old/computer.yaml": lay.Ident("windows", "OLD", "1"), "new/Users/x": ""})
	old, now := newRunning(o.Old), newRunning(o.New)
	o.Old, o.New = old, now
	old.set(yard, "ImagePath", registry.String, wide(`C:\Yard\yard.exe`))
	old.set(yard+`\Parameters`, "Port", registry.DWord, "\x01\x02\x00\x00")
	now.set(yard, "ImagePath", registry.String, wide(`C:\Other\yard.exe`))
	below := func(r *running) string {
		k, err := r.at(services, nil, false)
		if err != nil {
			return ""
		}
		names, _ := k.Keys()
		return strings.Join(names, " ")
	}
	before := strings.Join(now.top.text(""), "\n")
	o.Pack()
	out, err := unpack(o, tree.SetAside)
	if err != nil || !strings.HasPrefix(out.Items[0].Aside, `HKLM\SOFTWARE\Move Kit\SYSTEM/CurrentControlSet/Services/Yard.set-aside-`) || below(now) != "Yard" {
		t.Errorf("%+v %v: services %q", out, err, below(now))
	}
	if v := o.Verify(); !v.Equal() {
		t.Errorf("%+v", v.Items)
	}
	o.Only(o.Job(o.New).Undo(t.Context()))
	if got := strings.Join(now.top.text(""), "\n"); !contains(got, before) || below(now) != "Yard" {
		t.Errorf("after undo\n%s\nbefore\n%s", got, before)
	}
	_, err = unpack(o, tree.SetAside)
	fatal.If(t, err)
	o.Verify()
	o.Only(o.Job(o.Old).Retire(t.Context()))
	if below(old) != "" {
		t.Errorf("after retire: %q", below(old))
	}
	o.Only(o.Job(o.Old).Return(t.Context()))
	if below(old) != "Yard" {
		t.Errorf("after retire --back: %q", below(old))
	}
}
