// Package volume reads the file systems of this computer.
package volume

import (
	"os"
	"path/filepath"
	"strings"

	volumes "github.com/shirou/gopsutil/v4/disk"

	"movekit/internal/core/fault"
)

// Volume is the file system of a path.
type Volume struct {
	ID      string // identifies the volume
	Free    uint64 // free bytes
	Total   uint64 // its size, in bytes
	Type    string // type as the system names it; "" if unknown
	MaxFile uint64 // size limit of a file, in bytes; 0 if there is no relevant limit
}

// Of returns the file system of path, or of its nearest existing folder, because Windows
// reports free space only for folders.
func Of(path string) (Volume, error) {
	at, err := filepath.Abs(path)
	if err != nil {
		return Volume{}, fault.Wrap(fault.Unreadable, err, "cannot find the disk of %s", path)
	}
	for {
		if info, err := os.Stat(at); err == nil && info.IsDir() || filepath.Dir(at) == at {
			break
		}
		at = filepath.Dir(at)
	}
	u, err := volumes.Usage(at)
	if err != nil {
		return Volume{}, fault.Wrap(fault.Unreadable, err, "cannot read the free space of %s", at)
	}
	v := Volume{ID: volumeID(at), Free: u.Free, Total: u.Total, Type: u.Fstype}
	if t := strings.ToLower(v.Type); strings.Contains(t, "msdos") || strings.Contains(t, "vfat") || t == "fat32" || t == "fat" {
		v.MaxFile = 1<<32 - 1
	}
	return v, nil
}

// Octal decodes the characters that a mount table writes as octal numbers.
var Octal = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

// Mount is a mounted file system.
type Mount struct {
	Path    string
	Remote  bool // it is on another computer
	Foreign bool // it is not one of this computer's own disks: remote, removable or virtual
}
