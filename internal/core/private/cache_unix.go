//go:build unix

package private

import (
	"errors"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// Cache returns the folder for this user's own files. It is the user's cache folder, if nobody else
// can change it. Otherwise, such as with sudo and the $HOME of another user, it is in the home of
// the account.
func Cache() (string, error) {
	cache, err := os.UserCacheDir()
	if err == nil && onlyMine(cache) {
		return filepath.Join(cache, "movekit"), nil
	}
	u, uerr := user.LookupId(strconv.Itoa(os.Geteuid()))
	if uerr != nil || u.HomeDir == "" {
		return "", errors.Join(err, uerr)
	}
	if cache = filepath.Join(u.HomeDir, ".cache"); !onlyMine(cache) {
		return "", errors.New("other users can change the folder " + cache)
	}
	return filepath.Join(cache, "movekit"), nil
}

// onlyMine reports whether only this user and the administrator can change or replace a path, which
// need not exist.
func onlyMine(path string) bool {
	path, err := filepath.Abs(path)
	if err != nil {
		return false
	}
	for {
		real, err := filepath.EvalSymlinks(path)
		if err == nil {
			path = real
			break
		}
		if !errors.Is(err, os.ErrNotExist) || filepath.Dir(path) == path {
			return false
		}
		path = filepath.Dir(path)
	}
	for ; ; path = filepath.Dir(path) {
		info, err := os.Lstat(path)
		if err != nil {
			return false
		}
		owner := int(info.Sys().(*syscall.Stat_t).Uid)
		if owner != 0 && owner != os.Geteuid() || info.Mode()&0o022 != 0 && info.Mode()&os.ModeSticky == 0 {
			return false
		}
		if filepath.Dir(path) == path {
			return true
		}
	}
}

// isPrivate reports whether dir is a folder of this user that nobody else may read, and that nobody
// else can replace.
func isPrivate(dir string) bool {
	info, err := os.Lstat(dir)
	return err == nil && info.IsDir() && info.Mode()&0o077 == 0 && int(info.Sys().(*syscall.Stat_t).Uid) == os.Geteuid() && onlyMine(dir)
}
