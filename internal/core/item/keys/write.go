package keys

import (
	"bytes"
	"errors"
	"io/fs"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
)

// complete is the value by which a key that was set aside says that all of it is there. A
// registry has no renaming that every Windows knows: a key is carried over value by value, and
// only then taken away.
const complete = "movekit set all of this aside"

func (m Mover) cannot(err error, path string) error {
	return fault.Wrap(fault.CannotPlace, err, "cannot change the registry key %s", path)
}

// write writes values below a key; over says whether over those that are there.
func (m Mover) write(path string, all []registry.Branch, over bool) error {
	top, err := m.Computer.Change(path, m.User, true)
	if err != nil {
		return m.cannot(err, path)
	}
	defer top.Close()
	for _, b := range all {
		if err := m.writeBranch(top, b, over); err != nil {
			return m.cannot(err, path+`\`+b.Path)
		}
	}
	return nil
}

func (m Mover) writeBranch(top registry.Writable, b registry.Branch, over bool) error {
	at := top
	for _, name := range strings.FieldsFunc(b.Path, func(r rune) bool { return r == '\\' }) {
		next, err := at.Create(name)
		if err != nil {
			return err
		}
		defer next.Close()
		at = next
	}
	for _, v := range b.Values {
		if !over {
			if _, err := registry.Get(at, v.Name); !errors.Is(err, fs.ErrNotExist) {
				if err != nil {
					return err
				}
				continue
			}
		}
		if err := at.Set(v); err != nil {
			return err
		}
	}
	return nil
}

// readAt reads what moves of another key; nothing there is nothing.
func (m Mover) readAt(path string) ([]registry.Branch, error) {
	all, _, err := Mover{m.At(path).(Mover).One}.read()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the registry key %s", path)
	}
	return all, nil
}

// remove removes what moves of a key, and the keys in which nothing is left.
func (m Mover) remove(path string) error {
	all, err := m.readAt(path)
	if err != nil || all == nil {
		return err
	}
	top, err := m.Computer.Change(path, m.User, false)
	if err != nil {
		return m.cannot(err, path)
	}
	defer top.Close()
	byPath := map[string][]registry.Value{}
	for _, b := range all {
		byPath[b.Path] = b.Values
	}
	if _, err := m.empty(top, registry.Branch{}, byPath); err != nil {
		return m.cannot(err, path)
	}
	above, name := path[:strings.LastIndex(path, `\`)], path[strings.LastIndex(path, `\`)+1:]
	if !strings.Contains(above, `\`) || !bare(top) {
		return nil
	}
	k, err := m.Computer.Change(above, m.User, false)
	if err != nil {
		return m.cannot(err, above)
	}
	defer k.Close()
	if err := k.Delete(name); err != nil {
		return m.cannot(err, path)
	}
	return nil
}

// empty removes values of a key and of those below it, and reports whether nothing is left.
func (m Mover) empty(k registry.Writable, b registry.Branch, values map[string][]registry.Value) (bool, error) {
	choice := m.choice()
	names, err := k.Keys()
	if err != nil {
		return false, err
	}
	for _, name := range names {
		path := b.Child(name)
		if !choice.Enter(path) {
			continue
		}
		below, err := k.Create(name)
		if err != nil {
			return false, err
		}
		gone, err := m.empty(below, registry.Branch{Path: path}, values)
		below.Close()
		if err == nil && gone {
			err = k.Delete(name)
		}
		if err != nil {
			return false, err
		}
	}
	for _, v := range values[b.Path] {
		if err := k.Unset(v.Name); err != nil {
			return false, err
		}
	}
	_, ours := values[b.Path]
	return ours && bare(k), nil
}

// bare reports whether nothing is in a key, but for a mark of ours.
func bare(k registry.Key) bool {
	keys, err := k.Keys()
	values, verr := k.Values()
	return err == nil && verr == nil && len(keys) == 0 && (len(values) == 0 || len(values) == 1 && values[0].Name == complete)
}

// marked reports whether a key that was set aside has all of it.
func (m Mover) marked(path string) bool {
	k, err := m.Computer.Registry(path, m.User)
	if err != nil {
		return false
	}
	defer k.Close()
	_, err = registry.Get(k, complete)
	return err == nil
}

// mark says that all is there, or takes that back.
func (m Mover) mark(path string, all bool) error {
	k, err := m.Computer.Change(path, m.User, true)
	if err != nil {
		return m.cannot(err, path)
	}
	defer k.Close()
	if !all {
		return k.Unset(complete)
	}
	return k.Set(registry.Value{Name: complete, Type: registry.DWord, Data: []byte{1, 0, 0, 0}})
}

// carry gives what moves of a key another name. Cut off at any point, it can be begun again.
func (m Mover) carry(from, to string, keepMark bool) error {
	all, err := m.readAt(from)
	if err != nil {
		return err
	}
	if len(all) > 0 {
		if err := m.write(to, all, true); err != nil {
			return err
		}
		if err := m.mark(to, true); err != nil {
			return err
		}
		if err := m.remove(from); err != nil {
			return err
		}
	}
	if there, err := m.readAt(to); keepMark || err != nil || there == nil {
		return err
	}
	return m.mark(to, false)
}

// setAside gives what is in the way another name, and returns that. A run that was cut off may
// have carried a part of it over, or all of it and written a part of ours in its place: what is
// there then is ours, or with it.
func (m Mover) setAside(to string, ours []registry.Branch) (string, error) {
	here, err := m.readAt(m.Path)
	if err != nil {
		return to, err
	}
	if m.marked(to) {
		aside, err := m.readAt(to)
		if err != nil {
			return to, err
		}
		if within(here, ours, aside) {
			return to, m.remove(m.Path)
		}
		to = m.free(to) // somebody has worked here since
	}
	return to, m.carry(m.Path, to, true)
}

// within reports whether each value is in one of some others.
func within(all []registry.Branch, others ...[]registry.Branch) bool {
	has := map[string][][]byte{}
	for _, o := range others {
		for _, b := range o {
			for _, v := range b.Values {
				has[b.Child(v.Label())] = append(has[b.Child(v.Label())], v.Data)
			}
		}
	}
	for _, b := range all {
		for _, v := range b.Values {
			is := false
			for _, data := range has[b.Child(v.Label())] {
				is = is || bytes.Equal(data, v.Data)
			}
			if !is {
				return false
			}
		}
	}
	return true
}
