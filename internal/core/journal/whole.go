package journal

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"movekit/internal/core/filemeta"
)

// WriteBelow writes a file of the folder dir like WriteFile. name is separated by slashes.
func WriteBelow(dir, name string, data []byte) error {
	if err := MakeBelow(dir, path.Dir(name)); err != nil {
		return err
	}
	return WriteFile(filepath.Join(dir, filepath.FromSlash(name)), data, 0o644)
}

// MakeBelow creates a folder below dir, with its parents. It does not create dir, which is missing if its
// medium was unplugged.
func MakeBelow(dir, name string) error {
	if name = path.Clean(name); name == "." {
		return nil
	}
	for part := range strings.SplitSeq(name, "/") {
		dir = filepath.Join(dir, part)
		err := os.Mkdir(dir, 0o755)
		if os.IsExist(err) {
			var info os.FileInfo
			if info, err = os.Lstat(dir); err == nil && !info.IsDir() {
				err = &os.PathError{Op: "mkdir", Path: dir, Err: errNotFolder} // a link would lead out of the kit
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

var errNotFolder = errors.New("it exists, and is not a folder")

// Unfinished is the suffix of a file that is not complete.
const Unfinished = ".unfinished"

// WriteFile writes a file in an existing folder, so that it appears under its name only when it is complete and
// flushed.
func WriteFile(name string, data []byte, perm os.FileMode) error {
	temp := name + Unfinished
	f, err := filemeta.Create(temp, perm)
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
