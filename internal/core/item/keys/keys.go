// Package keys moves Windows registry keys with everything below them: every value of every type,
// byte for byte. On the running system it writes the keys; existing keys are renamed, as files are.
// On a disk it reads the registry from hive files and never writes them. Instead it leaves a .reg
// file, to be imported by hand.
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
	"movekit/internal/core/pathmap"
	"movekit/internal/core/registry"
	"movekit/internal/core/seal"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
)

// ending is the suffix of the sealed .reg text. Unpack uses the list, which has the exact values.
const ending = ".reg" + seal.Ending

// mover moves one key.
type mover struct{ *item.Instance }

// New returns the parts for one key.
func New(o *item.Instance) item.Parts {
	m := mover{o}
	return item.Parts{Inspector: m, Mover: m, Names: m, Merger: m, Fixed: m.offline}
}

// at returns the mover of another key.
func (m mover) at(path string) mover { return mover{m.At(path)} }

// Close does nothing: no key stays open.
func (mover) Close() {}

// Locate takes the key from the card, or from the user's choice.
func (m mover) Locate(context.Context) error {
	if m.Computer.System() != machine.Windows {
		return fault.New(fault.BadCard, "%s is a Windows registry key, but %s has no registry", m.Item.Name, m.Computer.Name())
	}
	m.Instance.Path = m.Item.Key
	if m.Virtual() {
		m.Instance.Path = machine.VirtualKey(m.Item.Key)
	}
	if m.ChosenPath != "" {
		m.Instance.Path = m.ChosenPath
	}
	return nil
}

// Where returns the key. It is not on a disk that can be measured.
func (m mover) Where() (spoken, disk string) { return m.Path, "" }

// Volume returns "", because keys are small.
func (mover) Volume(context.Context) string { return "" }

// matches reports whether a path below a key matches a pattern of the card.
func matches(patterns []string, path string) bool {
	path = strings.ToLower(strings.ReplaceAll(path, `\`, "/"))
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, _ := doublestar.Match(strings.ToLower(p), path)
		return ok
	})
}

// choice returns which part of the key is moved.
func (m mover) choice() registry.Choice {
	return registry.Choice{
		Enter: func(key string) bool {
			return !matches(m.Item.Skip, key) && !spare.IsAside(key) && !strings.HasSuffix(key, spare.StageEnding)
		},
		Take: func(value string) bool {
			return value != complete && value != emptying && !matches(m.Item.Skip, value) && (len(m.Item.Include) == 0 || matches(m.Item.Include, value))
		},
		Bare: len(m.Item.Include) == 0,
	}
}

// read reads the key. If the key does not exist, the error is fs.ErrNotExist.
func (m mover) read() (all []registry.Branch, left []string, err error) {
	k, err := m.Computer.Registry(m.Path, m.User)
	if err != nil {
		return nil, nil, err
	}
	defer k.Close()
	return registry.Read(k, m.choice())
}

func (m mover) unreadable(err error) error {
	return fault.Wrap(fault.Unreadable, err, "cannot read the registry key %s", m.Path)
}

// Inspect counts the values.
func (m mover) Inspect(context.Context, item.Options) (*item.Inspection, error) {
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
				is.Details = append(is.Details, b.Child(v.Name)+" is encrypted by Windows for this user of this computer, and cannot be opened on another: write down its content, such as a password, first")
			}
		}
	}
	is.Sealed = is.Bytes
	return is, nil
}

// stamp returns a text that changes when any value does.
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

// Seal seals the values, and the same as a .reg text that can be imported by hand.
func (m mover) Seal(ctx context.Context, is *item.Inspection) (*kit.Sealed, error) {
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
	go func() {
		_, err := registry.WriteReg(to, m.Path, all) // the list has all names
		to.CloseWithError(err)
	}()
	s.Parts, _, err = m.Run.SealFrom(ctx, m.Key.App, s.Stream+ending, text, progress)
	text.Close()
	if err != nil {
		return nil, err
	}
	s.List, err = m.sealList(ctx, all)
	return s, err
}

// sealed returns the sealed values.
func (m mover) sealed() (all []registry.Branch, err error) {
	err = m.eachSealed(func(b registry.Branch) error { all = append(all, b); return nil })
	return all, err
}

// Check checks that the sealed names are valid in a registry.
func (m mover) Check() error {
	return m.eachSealed(func(b registry.Branch) error {
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
		return nil
	})
}

// Lacks returns why the key cannot be written.
func (m mover) Lacks(context.Context) (out item.Lacks, err error) {
	for path := m.Path; strings.Contains(path, `\`); path = path[:strings.LastIndex(path, `\`)] {
		k, err := m.Computer.Change(path, m.User, false)
		switch {
		case err == nil:
			return out, k.Close()
		case errors.Is(err, fs.ErrNotExist):
			continue
		case errors.Is(err, registry.ErrOffline):
			return out, nil // a file is left instead
		}
		out.Reasons = []string{fmt.Sprintf("no permission to change the registry key %s (try it as administrator): %v", path, err)}
		return out, nil
	}
	return out, nil
}

// Same reports whether the values match the sealed ones.
func (m mover) Same(_ context.Context, at string) (bool, error) {
	out, err := m.at(at).compare()
	return err == nil && out.Equal, err
}

// Stage writes the values under a spare key. If the registry belongs to a system that is not
// running, it writes a .reg file instead, to be imported by hand.
func (m mover) Stage(ctx context.Context, stage string) (out item.Staged, err error) {
	all, err := m.sealed()
	if err == nil {
		all, err = m.withPathUpdates(ctx, all)
	}
	if err != nil {
		return out, err
	}
	if m.offline() {
		file, leftOut, err := m.leave(all)
		for _, name := range leftOut {
			out.Notes = append(out.Notes, fmt.Sprintf("%q cannot be in a .reg file, because its name has control characters: create it by hand", name))
		}
		out.ManualStep = "open " + machine.DisplayPath(m.Computer, file) + " on the computer itself" + m.as() + ", to import the keys"
		return out, err
	}
	if err := m.remove(stage); err != nil {
		return out, err
	}
	if err := m.write(stage, all, true); err != nil {
		return out, err
	}
	return out, m.mark(stage, complete)
}

// as says which user must import a file.
func (m mover) as() string {
	if m.User == nil {
		return ", as an administrator"
	}
	return ", signed in as " + m.User.Name
}

// offline reports whether the key cannot be written, because its system is not running.
func (m mover) offline() bool {
	k, err := m.Computer.Change(m.Path, m.User, false)
	if err == nil {
		k.Close()
	}
	return errors.Is(err, registry.ErrOffline)
}

// file returns the path for a .reg file to be imported by hand.
func (m mover) file() (string, error) {
	term := `%PROGRAMDATA%\`
	if m.User != nil {
		term = `%USERPROFILE%\`
	}
	return m.Computer.Locate(term+m.Key.App+"-"+m.Stream()+".reg", m.User)
}

// leave writes the .reg file. leftOut lists names that it cannot contain.
func (m mover) leave(all []registry.Branch) (file string, leftOut []string, err error) {
	if file, err = m.file(); err != nil {
		return "", nil, err
	}
	if err := m.MakeParent(file); err != nil {
		return file, nil, err
	}
	to, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err == nil {
		leftOut, err = registry.WriteReg(to, m.Path, all)
		err = errors.Join(err, to.Close())
	}
	if err != nil {
		return file, nil, fault.Wrap(fault.CannotPlace, err, "cannot write %s", filepath.Base(file))
	}
	return file, leftOut, nil
}

// withPathUpdates returns the values with updated paths, as the card lists them.
func (m mover) withPathUpdates(ctx context.Context, all []registry.Branch) ([]registry.Branch, error) {
	paths := m.PathMapFor()
	if paths == nil {
		return all, nil
	}
	var edits []pathmap.Edit
	var lines []pathmap.Line
	now := slices.Clone(all)
	for i, b := range now {
		b.Values = slices.Clone(b.Values)
		now[i] = b
		for n := range b.Values {
			v := &b.Values[n]
			if v.Type != registry.String && v.Type != registry.Expand && v.Type != registry.Multi || !matches(m.Item.UpdatePaths, b.Child(v.Label())) {
				continue
			}
			was := registry.FromUTF16(v.Data)
			text, places := paths.Text(was)
			if places == 0 {
				continue
			}
			e := pathmap.Edit{In: b.Path, Column: v.Name, Old: v.Data, New: registry.ToUTF16(text)}
			v.Data = e.New
			edits = append(edits, e)
			lines = append(lines, pathmap.Line{In: strings.Trim(m.Path+`\`+b.Path, `\`), Where: v.Label(), Old: shown(was), New: shown(text)})
		}
	}
	agreed, err := m.PathUpdates.Agreed(ctx, m.Instance, edits, lines)
	if err != nil || !agreed {
		return all, err
	}
	return now, nil
}

func shown(text string) string {
	return strings.ReplaceAll(strings.TrimRight(text, "\x00"), "\x00", "; ")
}

// RecordPlaced records the stamp.
func (m mover) RecordPlaced(ctx context.Context, at string, done *steps.Placed) error {
	return item.StampByInspection(ctx, m.at(at), done)
}

// Unedited compares the stamp.
func (m mover) Unedited(ctx context.Context, at, stamp string) (bool, error) {
	return item.HasStamp(ctx, m.at(at), stamp)
}

// Compare compares every value with the sealed one.
func (m mover) Compare(context.Context) (*steps.Checked, error) {
	m.Progress("comparing", m.InKit.Sealed.Bytes)
	out, err := m.compare()
	if err != nil {
		return nil, m.unreadable(err)
	}
	return out, nil
}

// maxDiffs limits the listed differences.
const maxDiffs = 20

func (m mover) compare() (*steps.Checked, error) {
	now, _, err := m.read()
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	turned, terr := m.PathEdits()
	if err = errors.Join(err, terr); err != nil {
		return nil, err
	}
	out := &steps.Checked{}
	differ := func(format string, args ...any) {
		if out.Count++; len(out.Diffs) < maxDiffs {
			out.Diffs = append(out.Diffs, fmt.Sprintf(format, args...))
		}
	}
	here, names := map[string]registry.Value{}, map[string]string{}
	keys := map[string]bool{}
	for _, b := range now {
		keys[strings.ToLower(b.Path)] = true
		for _, v := range b.Values {
			here[b.ID(v)], names[b.ID(v)] = v, b.Child(v.Label())
		}
	}
	var values, found int64
	err = m.eachSealed(func(b registry.Branch) error {
		if !keys[strings.ToLower(b.Path)] && len(b.Values) == 0 {
			differ("the key %s is missing", b.Path)
		}
		for _, v := range b.Values {
			values++
			name := b.Child(v.Label())
			is, there := here[b.ID(v)]
			delete(here, b.ID(v))
			switch {
			case !there:
				differ("%s is missing", name)
				continue
			case is.Type != v.Type:
				differ("%s has another type", name)
			case !bytes.Equal(is.Data, v.Data) && !slices.ContainsFunc(turned[b.Path], func(e pathmap.Edit) bool { return e.Column == v.Name && bytes.Equal(e.New, is.Data) }):
				differ("%s has other content", name)
			}
			found++
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for id := range here {
		differ("%s was not in the sealed data", names[id])
	}
	slices.Sort(out.Diffs)
	if file, err := m.file(); found == 0 && err == nil {
		if there, _ := machine.Exists(file); there {
			differ("%s still has to be imported%s", machine.DisplayPath(m.Computer, file), m.as())
		}
	}
	out.Equal = out.Count == 0
	out.Rows = append(out.Rows, item.Row("values", values, found+int64(len(here))), item.Content(values, "value", "values", out.Count))
	m.NotePathUpdates(out)
	return out, nil
}

// Find returns the keys whose names match, and the values whose names or data match. Texts match in UTF-8.
func (m mover) Find(_ context.Context, matches func(content []byte) bool) (found []string, err error) {
	all, err := m.readAt(m.Path)
	if err != nil {
		return nil, err
	}
	for _, b := range all {
		if name := b.Path[strings.LastIndex(b.Path, `\`)+1:]; matches([]byte(name)) {
			found = append(found, b.Path)
		}
		for _, v := range b.Values {
			is := matches([]byte(v.Name)) || matches(v.Data)
			if v.Type == registry.String || v.Type == registry.Expand || v.Type == registry.Multi {
				is = is || matches([]byte(shown(registry.FromUTF16(v.Data))))
			}
			if is {
				found = append(found, b.Child(v.Label()))
			}
		}
	}
	return found, nil
}
