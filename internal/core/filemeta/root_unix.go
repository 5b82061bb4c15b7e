//go:build unix

package filemeta

import "os"

// Root is a folder that no link leads out of.
type Root = os.Root

// OpenRoot opens a folder.
func OpenRoot(dir string) (*Root, error) { return os.OpenRoot(dir) }

// Long returns the path: the system changes no names.
func Long(path string) string { return path }

// Short returns the path.
func Short(path string) string { return path }
