//go:build !linux

package filemeta

import (
	"io/fs"
	"os"
	"path/filepath"
)

// LstatIn is os.Lstat of a name in an open folder.
func LstatIn(dir *os.File, name string) (fs.FileInfo, error) {
	return os.Lstat(dir.Name() + string(filepath.Separator) + name)
}

// InfoIn is the Info of an entry of an open folder. Windows returns it together with the name.
func InfoIn(_ *os.File, e fs.DirEntry) (fs.FileInfo, error) { return e.Info() }
