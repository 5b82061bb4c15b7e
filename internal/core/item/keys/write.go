package keys

import (
	"errors"
	"io/fs"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
)

// Values that record in a spare key how far a move is. Not every Windows version can rename a key,
// so a key is copied value by value and then removed.
const (
	complete = "movekit set all of this aside" // the spare has all values
	emptying = "movekit moved all of this"     // home has all values, or nobody needs them: the rest is to be removed
)

func (m mover) cannot(err error, path string) error {
	return fault.Wrap(fault.CannotPlace, err, "cannot change the registry key %s", path)
}

// write writes values below a key. over says whether to overwrite existing ones.
func (m mover) write(path string, all []registry.Branch, over bool) error {
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

func (m mover) writeBranch(top registry.Writable, b registry.Branch, over bool) error {
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

// readAt reads the item's values below another key. It returns nothing if there are none.
func (m mover) readAt(path string) ([]registry.Branch, error) {
	all, _, err := m.at(path).read()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the registry key %s", path)
	}
	return all, nil
}

// remove removes the item's values below a key, and keys that become empty.
func (m mover) remove(path string) error {
	all, err := m.readAt(path)
	if err != nil || all == nil && !m.marked(path, complete) && !m.marked(path, emptying) {
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

// empty removes values of a key and its subkeys, and reports whether nothing is left.
func (m mover) empty(k registry.Writable, b registry.Branch, values map[string][]registry.Value) (bool, error) {
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

// bare reports whether a key has nothing but marks.
func bare(k registry.Key) bool {
	keys, err := k.Keys()
	values, verr := k.Values()
	for _, v := range values {
		if v.Name != complete && v.Name != emptying {
			return false
		}
	}
	return err == nil && verr == nil && len(keys) == 0
}

// marked reports whether a key has a mark.
func (m mover) marked(path, mark string) bool {
	k, err := m.Computer.Registry(path, m.User)
	if err != nil {
		return false
	}
	defer k.Close()
	_, err = registry.Get(k, mark)
	return err == nil
}

// mark adds a mark to a key.
func (m mover) mark(path, mark string) error {
	k, err := m.Computer.Change(path, m.User, true)
	if err != nil {
		return m.cannot(err, path)
	}
	defer k.Close()
	return k.Set(registry.Value{Name: mark, Type: registry.DWord, Data: []byte{1, 0, 0, 0}})
}

// MissingParents returns the number of keys above the item's key that do not exist.
func (m mover) MissingParents() (n int) {
	for path := m.Path; strings.Count(path, `\`) > 1; n++ {
		path = path[:strings.LastIndexByte(path, '\\')]
		k, err := m.Computer.Registry(path, m.User)
		if err == nil {
			k.Close()
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return n
		}
	}
	return n
}

// RemoveParents removes the n nearest keys above the item's key, as far as they are empty.
func (m mover) RemoveParents(n int) {
	path := m.Path
	for range n {
		path = path[:max(strings.LastIndexByte(path, '\\'), 0)]
		cut := strings.LastIndexByte(path, '\\')
		if cut < 0 || strings.Count(path, `\`) < 1 || !m.bare(path) {
			return
		}
		above, err := m.Computer.Change(path[:cut], m.User, false)
		if err != nil {
			return
		}
		err = above.Delete(path[cut+1:])
		above.Close()
		if err != nil {
			return
		}
	}
}

// bare reports whether a key has neither values nor subkeys.
func (m mover) bare(path string) bool {
	k, err := m.Computer.Registry(path, m.User)
	if err != nil {
		return false
	}
	defer k.Close()
	keys, err := k.Keys()
	values, verr := k.Values()
	return err == nil && verr == nil && len(keys) == 0 && len(values) == 0
}
