package private

import (
	"os"
	"path/filepath"
)

// Cache returns the folder for this user's own files. Windows protects the user's profile.
func Cache() (string, error) {
	cache, err := os.UserCacheDir()
	return filepath.Join(cache, "movekit"), err
}

func isPrivate(string) bool { return true }
