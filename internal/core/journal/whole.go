package journal

import (
	"os"
	"path/filepath"
)

// WriteFile writes a file so that it appears under its name only when it is complete and flushed.
func WriteFile(name string, data []byte, perm os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	temp := name + ".unfinished"
	f, err := os.OpenFile(temp, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, perm)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(temp, name)
	}
	if err != nil {
		os.Remove(temp)
	}
	return err
}
