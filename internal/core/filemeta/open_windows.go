package filemeta

import "os"

// Open opens a file for reading, like os.Open.
func Open(name string) (*os.File, error) { return os.Open(name) }
