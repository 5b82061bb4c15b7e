package machine

import (
	"os"
	"path/filepath"
	"strings"

	volumes "github.com/shirou/gopsutil/v4/disk"

	"movekit/internal/core/fault"
)

// Volume is the file system that holds a path.
type Volume struct {
	ID      string // tells it from the others
	Free    uint64 // bytes that may still be written
	Type    string // its type, as the system names it; "" where not told
	MaxFile uint64 // the largest file it takes, in bytes; 0 where there is no limit that matters
}

// VolumeOf returns the file system that holds path, or its nearest folder
// that exists: Windows tells the space of folders only.
func VolumeOf(path string) (Volume, error) {
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
	v := Volume{ID: volumeID(at), Free: u.Free, Type: u.Fstype}
	if t := strings.ToLower(v.Type); strings.Contains(t, "msdos") || strings.Contains(t, "vfat") || t == "fat32" || t == "fat" {
		v.MaxFile = 1<<32 - 1
	}
	return v, nil
}

// Mount is a file system that is part of the folders of this computer.
type Mount struct {
	Path    string
	Remote  bool // it lies on another computer
	Foreign bool // it is none of this computer's own disks: remote, removable or made up
}
