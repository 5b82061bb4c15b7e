package registry

import (
	"time"

	"golang.org/x/sys/windows/registry"
)

// OpenLive opens a key of the running system: root is HKLM, HKCU or HKU.
func OpenLive(root, path string) (Key, error) {
	roots := map[string]registry.Key{"HKLM": registry.LOCAL_MACHINE, "HKCU": registry.CURRENT_USER, "HKU": registry.USERS}
	return openLive(roots[root], path)
}

func openLive(above registry.Key, path string) (Key, error) {
	k, err := registry.OpenKey(above, path, registry.READ|registry.WOW64_64KEY)
	if err != nil {
		return nil, err // registry.ErrNotExist is fs.ErrNotExist
	}
	return liveKey{k}, nil
}

type liveKey struct{ k registry.Key }

func (l liveKey) Modified() time.Time {
	info, err := l.k.Stat()
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

func (l liveKey) Keys() ([]string, error)       { return l.k.ReadSubKeyNames(-1) }
func (l liveKey) Open(name string) (Key, error) { return openLive(l.k, name) }
func (l liveKey) Close() error                  { return l.k.Close() }

func (l liveKey) Values() ([]Value, error) {
	names, err := l.k.ReadValueNames(-1)
	if err != nil {
		return nil, err
	}
	var out []Value
	for _, n := range names {
		size, _, err := l.k.GetValue(n, nil)
		if err != nil {
			continue // gone since
		}
		data := make([]byte, size)
		size, kind, err := l.k.GetValue(n, data)
		if err != nil {
			continue
		}
		out = append(out, Value{Name: n, Type: Type(kind), Data: data[:min(size, len(data))]})
	}
	return out, nil
}
