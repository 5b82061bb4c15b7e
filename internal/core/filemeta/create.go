package filemeta

import "os"

// Create creates a file for writing. An existing file or link of that name is removed first, so that a planted link cannot lead to
// another file.
func Create(name string, perm os.FileMode) (*os.File, error) {
	if err := os.Remove(name); err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	return os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, perm)
}
