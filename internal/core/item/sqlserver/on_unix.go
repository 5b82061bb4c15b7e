//go:build unix

package sqlserver

import (
	"os"
	"path/filepath"
	"syscall"
)

// asFolder gives a file the owner of its folder, so that the server can read it.
func asFolder(file string) error {
	info, err := os.Stat(filepath.Dir(file))
	if err != nil {
		return err
	}
	st := info.Sys().(*syscall.Stat_t)
	if int(st.Uid) == os.Geteuid() {
		return nil
	}
	return os.Chown(file, int(st.Uid), int(st.Gid))
}
