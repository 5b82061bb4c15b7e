package registry

import (
	"errors"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
)

// OpenLive opens a key of the running system. root is HKLM, HKCU or HKU.
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
		data := make([]byte, size)
		var kind uint32
		if err == nil {
			size, kind, err = l.k.GetValue(n, data)
		}
		if errors.Is(err, registry.ErrNotExist) {
			continue // deleted meanwhile
		}
		if err != nil {
			return nil, err
		}
		out = append(out, Value{Name: n, Type: Type(kind), Data: data[:min(size, len(data))]})
	}
	return out, nil
}

// ChangeLive opens a key of the running system for changes, and creates it if create is true.
func ChangeLive(root, path string, create bool) (Writable, error) {
	above := map[string]registry.Key{"HKLM": registry.LOCAL_MACHINE, "HKCU": registry.CURRENT_USER, "HKU": registry.USERS}[root]
	const access = registry.READ | registry.WRITE | registry.WOW64_64KEY
	if !create {
		k, err := registry.OpenKey(above, path, access)
		return liveKey{k}, err
	}
	k, _, err := registry.CreateKey(above, path, access)
	return liveKey{k}, err
}

func (l liveKey) Create(name string) (Writable, error) {
	k, _, err := registry.CreateKey(l.k, name, registry.READ|registry.WRITE|registry.WOW64_64KEY)
	return liveKey{k}, err
}

// setValue is RegSetValueExW, which accepts values of any type as bytes.
var setValue = windows.NewLazySystemDLL("advapi32.dll").NewProc("RegSetValueExW")

func (l liveKey) Set(v Value) error {
	name, err := windows.UTF16PtrFromString(v.Name)
	if err != nil {
		return err
	}
	data := append([]byte{}, v.Data...)
	if code, _, _ := setValue.Call(uintptr(l.k), uintptr(unsafe.Pointer(name)), 0, uintptr(v.Type), uintptr(unsafe.Pointer(unsafe.SliceData(data))), uintptr(len(data))); code != 0 {
		return syscall.Errno(code)
	}
	return nil
}

func (l liveKey) Unset(name string) error { return gone(l.k.DeleteValue(name)) }

func (l liveKey) Delete(name string) error { return gone(registry.DeleteKey(l.k, name)) }

func gone(err error) error {
	if errors.Is(err, registry.ErrNotExist) {
		return nil
	}
	return err
}
