// Package keys moves keys of the Windows registry, with all that is below them: by value, of
// every type, byte for byte. On the running system they are written; what is in the way gets
// another name beside it, as files do. A disk's registry is read from its hives and never
// written: a .reg file is left there instead, for a person to take in.
package keys

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/registry"
	"movekit/internal/core/repoint"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// ending is that of the sealed .reg text. What is put in place is read from the list, which
// has every value as it is.
const ending = ".reg" + seal.Ending

// Mover moves one key.
type Mover struct{ *item.One }

var _ item.Mover = Mover{}

// New moves one key.
func New(o *item.One) item.Mover { return Mover{o} }

// At is the same under another key.
func (m Mover) At(path string) item.Mover {
	o := *m.One
	o.Path = path
	return Mover{&o}
}

// Close has nothing to end.
func (Mover) Close() {}

// Ask fails: there is nothing to ask.
func (m Mover) Ask(context.Context, string) (int64, error) {
	return 0, fault.New(fault.BadCard, "%s is no database that could be asked", m.Label())
}

// Locate takes the key from the card, or where a person said.
func (m Mover) Locate(context.Context) error {
	if m.Computer.System() != machine.Windows {
		return fault.New(fault.BadCard, "%s is a key of the Windows registry, and %s has none", m.Card.Name, m.Computer.Name())
	}
	m.One.Path = m.Card.Key
	if m.Place != "" {
		m.One.Path = m.Place
	}
	return nil
}

// Where is the key; it is on no disk that could be measured.
func (m Mover) Where() (spoken, disk string) { return m.Path, "" }

// Volume is none: keys are small.
func (Mover) Volume(context.Context) string { return "" }

// matches reports whether a path below a key is one of those that a card names.
func matches(patterns []string, path string) bool {
	path = strings.ToLower(strings.ReplaceAll(path, `\`, "/"))
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, _ := doublestar.Match(strings.ToLower(p), path)
		return ok
	})
}

// choice is what of the key moves.
func (m Mover) choice() registry.Choice {
	return registry.Choice{
		Enter: func(key string) bool { return !matches(m.Card.Skip, key) && !tree.IsAside(key) },
		Take: func(value string) bool {
			return value != complete && !matches(m.Card.Skip, value) && (len(m.Card.Include) == 0 || matches(m.Card.Include, value))
		},
		Bare: len(m.Card.Include) == 0,
	}
}

// read reads what is there. A key that is not gives an error that is fs.ErrNotExist.
func (m Mover) read() (all []registry.Branch, left []string, err error) {
	k, err := m.Computer.Registry(m.Path, m.User)
	if err != nil {
		return nil, nil, err
	}
	defer k.Close()
	return registry.Read(k, m.choice())
}

func (m Mover) unreadable(err error) error {
	return fault.Wrap(fault.Unreadable, err, "cannot read the registry key %s", m.Path)
}

// There reports whether the key is there, with anything that moves.
func (m Mover) There(context.Context) (bool, error) {
	all, _, err := m.read()
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, m.unreadable(err)
	}
	return len(all) > 0, nil
}

// Look counts the values.
func (m Mover) Look(context.Context, item.Looking) (*item.Look, error) {
	is := m.Blank()
	all, left, err := m.read()
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(all) == 0 {
		return is, nil
	}
	if err != nil {
		is.Unreadable = []string{m.Path + ": " + err.Error()}
		return is, nil
	}
	is.State, is.Left, is.Stamp = item.IsHere, left, stamp(all)
	for _, b := range all {
		for _, v := range b.Values {
			is.Files++
			is.Bytes += int64(len(v.Data))
			if item.Protected(v.Data) {
				is.Details = append(is.Details, b.Child(v.Name)+" is encrypted by Windows for this user on this computer, and cannot be opened on another: note down what it holds, such as a password, before")
			}
		}
	}
	is.Sealed = is.Bytes
	return is, nil
}

// stamp changes when anything does.
func stamp(all []registry.Branch) string {
	h := digest.New()
	for _, b := range all {
		fmt.Fprintf(h, "%q %d\n", b.Path, len(b.Values))
		for _, v := range b.Values {
			fmt.Fprintf(h, "%q %d %d\n", v.Name, v.Type, len(v.Data))
			h.Write(v.Data)
		}
	}
	return h.Sum().String()
}

// Seal seals the values, and the same as a .reg text that can be taken in by hand.
func (m Mover) Seal(ctx context.Context, is *item.Look) (*kit.Sealed, error) {
	progress := m.Progress("sealing", is.Bytes)
	all, left, err := m.read()
	if err != nil {
		return nil, m.unreadable(err)
	}
	s := &kit.Sealed{Stream: m.Stream(), Stamp: stamp(all), Left: left, LeftCount: len(left)}
	for _, b := range all {
		s.Files += int64(len(b.Values))
		for _, v := range b.Values {
			s.Bytes += int64(len(v.Data))
		}
	}
	text, to := io.Pipe()
	go func() { to.CloseWithError(registry.WriteReg(to, m.Path, all)) }()
	s.Parts, _, err = m.Run.SealFrom(ctx, m.Key.App, s.Stream+ending, text, progress)
	text.Close()
	if err != nil {
		return nil, err
	}
	s.List, err = m.Run.SealJSON(m.Key.App, s.Stream+item.ListEnding, all)
	return s, err
}

// sealed are the sealed values.
func (m Mover) sealed() (all []registry.Branch, err error) {
	err = m.Run.OpenJSON(m.Key.App, m.Known.Sealed.List, &all)
	return all, err
}

// Check sees that the sealed names are ones that a registry has.
func (m Mover) Check() error {
	all, err := m.sealed()
	if err != nil {
		return err
	}
	for _, b := range all {
		for _, name := range strings.Split(b.Path, `\`) {
			if len(name) > 255*4 || name == "" && b.Path != "" || strings.ContainsRune(name, 0) {
				return fault.New(fault.Hostile, "the sealed list has the key %q", b.Path)
			}
		}
		for _, v := range b.Values {
			if v.Type == registry.Link || strings.ContainsRune(v.Name, 0) {
				return fault.New(fault.Hostile, "the sealed list has the value %q", b.Child(v.Name))
			}
		}
	}
	return nil
}

// Unfit returns nothing: every registry takes the same names.
func (Mover) Unfit(context.Context) ([]string, error) { return nil, nil }

// Lacks says why the key cannot be written.
func (m Mover) Lacks(context.Context) ([]string, error) {
	for path := m.Path; strings.Contains(path, `\`); path = path[:strings.LastIndex(path, `\`)] {
		k, err := m.Computer.Change(path, m.User, false)
		switch {
		case err == nil:
			return nil, k.Close()
		case errors.Is(err, fs.ErrNotExist):
			continue
		case errors.Is(err, registry.ErrOffline):
			return nil, nil // a file is left instead
		}
		return []string{fmt.Sprintf("the registry key %s may not be changed (as administrator, perhaps): %v", path, err)}, nil
	}
	return nil, nil
}

// Same reports whether the values there are the sealed ones.
func (m Mover) Same(ctx context.Context) (bool, error) {
	out, err := m.compare()
	return err == nil && out.Equal, err
}

// Beside is a free name beside the key.
func (m Mover) Beside() string { return m.free(m.Path + " (from " + m.Run.Manifest.Old.Name + ")") }

// Aside is a free name beside the key; one that an interrupted run was about to use holds what
// that has carried over already.
func (m Mover) Aside(_ context.Context, earlier string) (string, error) {
	if m.offline() {
		return "", item.ErrFixed
	}
	if earlier != "" {
		return earlier, nil
	}
	return m.free(tree.AsideName(m.Path, m.Run.Now())), nil
}

func (m Mover) free(path string) string {
	for n, try := 2, path; ; n++ {
		k, err := m.Computer.Registry(try, m.User)
		if err != nil {
			return try
		}
		k.Close()
		try = fmt.Sprintf("%s-%d", path, n)
	}
}

// Put writes the values, after what is in the way has another name.
func (m Mover) Put(ctx context.Context, done *steps.Placed) error {
	all, err := m.sealed()
	if err == nil && done.Over != "" {
		err = m.Rename(ctx, done.Over)
	}
	if err != nil {
		return err
	}
	if all, err = m.repointed(ctx, all); err != nil {
		return err
	}
	if m.offline() {
		file, err := m.leave(all)
		done.Waits = "open " + machine.Spoken(m.Computer, file) + " on the computer itself" + m.as() + ", which takes the keys in"
		return err
	}
	policy := tree.Policy(done.Policy)
	switch policy {
	case tree.SetAside:
		if done.Aside == "" {
			break // nothing is in the way
		}
		if done.Aside, err = m.setAside(done.Aside, all); err != nil {
			return err
		}
	case tree.Replace:
		if err := m.Remove(ctx); err != nil {
			return err
		}
	}
	return m.write(done.To, all, policy != tree.Skip)
}

// as says who must take a file in.
func (m Mover) as() string {
	if m.User == nil {
		return ", as an administrator"
	}
	return ", signed in as " + m.User.Name
}

// offline reports whether the key cannot be written, as its system does not run.
func (m Mover) offline() bool {
	k, err := m.Computer.Change(m.Path, m.User, false)
	if err == nil {
		k.Close()
	}
	return errors.Is(err, registry.ErrOffline)
}

// file is where a .reg file is left for a person.
func (m Mover) file() (string, error) {
	term := `%PROGRAMDATA%\`
	if m.User != nil {
		term = `%USERPROFILE%\`
	}
	return m.Computer.Locate(term+m.Key.App+"-"+m.Stream()+".reg", m.User)
}

func (m Mover) leave(all []registry.Branch) (file string, err error) {
	if file, err = m.file(); err != nil {
		return "", err
	}
	if err := m.MakeParent(file); err != nil {
		return file, err
	}
	to, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(registry.WriteReg(to, m.Path, all), to.Close())
	}
	if err != nil {
		return file, fault.Wrap(fault.CannotPlace, err, "cannot write %s", filepath.Base(file))
	}
	return file, nil
}

// repointed has the values that the card names say where things are now.
func (m Mover) repointed(ctx context.Context, all []registry.Branch) ([]registry.Branch, error) {
	paths := m.Repoints()
	if paths == nil {
		return all, nil
	}
	var edits []repoint.Edit
	var lines []repoint.Line
	now := slices.Clone(all)
	for i, b := range now {
		b.Values = slices.Clone(b.Values)
		now[i] = b
		for n := range b.Values {
			v := &b.Values[n]
			if v.Type != registry.String && v.Type != registry.Expand && v.Type != registry.Multi || !matches(m.Card.Repoint, b.Child(v.Label())) {
				continue
			}
			was := registry.FromUTF16(v.Data)
			text, places := paths.Text(was)
			if places == 0 {
				continue
			}
			e := repoint.Edit{In: b.Path, Column: v.Name, Old: v.Data, New: registry.ToUTF16(text)}
			v.Data = e.New
			edits = append(edits, e)
			lines = append(lines, repoint.Line{In: strings.Trim(m.Path+`\`+b.Path, `\`), Where: v.Label(), Old: shown(was), New: shown(text)})
		}
	}
	agreed, err := m.Repointing.Agreed(ctx, m.One, edits, lines)
	if err != nil || !agreed {
		return all, err
	}
	return now, nil
}

func shown(text string) string {
	return strings.ReplaceAll(strings.TrimRight(text, "\x00"), "\x00", "; ")
}

// Mark is the stamp of the values.
func (m Mover) Mark(ctx context.Context, done *steps.Placed) error { return item.Stamp(ctx, m, done) }

// Untouched looks at the stamp.
func (m Mover) Untouched(ctx context.Context, stamp string) (bool, error) {
	return item.Stamped(ctx, m, stamp)
}

// Compare holds every value against the sealed one.
func (m Mover) Compare(context.Context) (*steps.Checked, error) {
	m.Progress("comparing", m.Known.Sealed.Bytes)
	out, err := m.compare()
	if err != nil {
		return nil, m.unreadable(err)
	}
	return out, nil
}

// maxDiffs is how many differences are named.
const maxDiffs = 20

func (m Mover) compare() (*steps.Checked, error) {
	old, err := m.sealed()
	if err != nil {
		return nil, err
	}
	now, _, err := m.read()
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	turned, terr := m.Turned()
	if err = errors.Join(err, terr); err != nil {
		return nil, err
	}
	out := &steps.Checked{}
	differ := func(format string, args ...any) {
		if out.Count++; len(out.Diffs) < maxDiffs {
			out.Diffs = append(out.Diffs, fmt.Sprintf(format, args...))
		}
	}
	here := map[string]registry.Value{}
	keys := map[string]bool{}
	for _, b := range now {
		keys[strings.ToLower(b.Path)] = true
		for _, v := range b.Values {
			here[strings.ToLower(b.Child(v.Label()))] = v
		}
	}
	var values, found int64
	for _, b := range old {
		if !keys[strings.ToLower(b.Path)] && len(b.Values) == 0 {
			differ("the key %s is missing", b.Path)
		}
		for _, v := range b.Values {
			values++
			name := b.Child(v.Label())
			is, there := here[strings.ToLower(name)]
			delete(here, strings.ToLower(name))
			switch {
			case !there:
				differ("%s is missing", name)
				continue
			case is.Type != v.Type:
				differ("%s has another type", name)
			case !bytes.Equal(is.Data, v.Data) && !slices.ContainsFunc(turned[b.Path], func(e repoint.Edit) bool { return e.Column == v.Name && bytes.Equal(e.New, is.Data) }):
				differ("%s has other content", name)
			}
			found++
		}
	}
	for name := range here {
		differ("%s was not in what was sealed", name)
	}
	slices.Sort(out.Diffs)
	if file, err := m.file(); found == 0 && err == nil {
		if there, _ := machine.Exists(file); there {
			differ("%s waits to be taken in%s", machine.Spoken(m.Computer, file), m.as())
		}
	}
	out.Equal = out.Count == 0
	out.Rows = append(out.Rows, item.Row("values", values, found+int64(len(here))), item.Content(values, "value", "values", out.Count))
	m.AddRepointed(out)
	return out, nil
}

// Rename gives the key another name; nothing there is no error.
func (m Mover) Rename(ctx context.Context, to string) error { return m.carry(m.Path, to, false) }

// Remove removes what moves of the key.
func (m Mover) Remove(context.Context) error { return m.remove(m.Path) }

// TakeBack removes what is the same as what was put there, and gives what was set aside its
// name back.
func (m Mover) TakeBack(ctx context.Context, u steps.Undone) (kept bool, err error) {
	if file, err := m.file(); err == nil {
		os.Remove(file) //nolint:errcheck // where it was taken in, the values tell
	}
	if m.offline() {
		return m.There(ctx)
	}
	back := u.Back
	if back != "" {
		if waits, err := m.At(back).There(ctx); err != nil || !waits {
			back = ""
			if err != nil {
				return false, err
			}
		}
	}
	if u.Back != "" && m.marked(u.From) { // a run that was cut off had given all of it back
		if err := m.remove(u.Back); err != nil {
			return false, err
		}
		return false, m.mark(u.From, false)
	}
	here, err := m.readAt(u.From)
	if err != nil {
		return false, err
	}
	if here != nil && (u.Back == "" || back != "") {
		if kept, err = m.clear(ctx, u, here, back); err != nil {
			return kept, err
		}
	}
	if back != "" {
		return kept, m.carry(back, u.From, false)
	}
	return kept, nil
}

// clear makes the key free: what is of what was put there, or of what is to have its name back,
// is removed, and anything else is kept under another name.
func (m Mover) clear(ctx context.Context, u steps.Undone, here []registry.Branch, back string) (kept bool, err error) {
	if ours, err := m.Ours(ctx, m.At(u.From)); err != nil {
		return false, err
	} else if ours {
		return false, m.remove(u.From)
	}
	ours, err := m.sealed()
	if err != nil {
		return false, err
	}
	turned, err := m.Turned()
	if err != nil {
		return false, err
	}
	for _, b := range ours {
		for i := range b.Values {
			for _, e := range turned[b.Path] {
				if e.Column == b.Values[i].Name {
					b.Values[i].Data = e.New
				}
			}
		}
	}
	var aside []registry.Branch
	if back != "" {
		if aside, err = m.readAt(back); err != nil {
			return false, err
		}
	}
	if within(here, ours, aside) {
		return false, m.remove(u.From)
	}
	return true, m.carry(u.From, u.Kept, false)
}
