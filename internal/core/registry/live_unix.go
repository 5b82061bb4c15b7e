//go:build unix

package registry

import (
	"fmt"
	"io/fs"
)

// OpenLive returns an error: the running system has no registry.
func OpenLive(root, path string) (Key, error) {
	return nil, fmt.Errorf("the registry key %s\\%s: %w", root, path, fs.ErrNotExist)
}

// ChangeLive returns an error: the running system has no registry.
func ChangeLive(root, path string, _ bool) (Writable, error) {
	return nil, fmt.Errorf("the registry key %s\\%s: %w", root, path, fs.ErrNotExist)
}
