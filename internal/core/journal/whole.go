package journal

import (
	"fmt"
	"io"
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

// ReadFile reads a file of at most limit bytes. A longer file is an error.
func ReadFile(name string, limit int64) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, fmt.Errorf("%s has more than %d bytes", name, limit)
	}
	return data, err
}
