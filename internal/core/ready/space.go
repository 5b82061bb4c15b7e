package ready

import (
	"io/fs"
	"maps"
	"path/filepath"
	"slices"

	"movekit/internal/core/volume"
)

// disk is a disk that receives data.
type disk struct {
	at   string // a path on it
	need int64
	free uint64
}

// over returns by how many bytes the needed space exceeds the free space. It is negative if
// everything fits.
func (v *disk) over() int64 { return v.need - int64(min(v.free, 1<<62)) }

// volumes maps volume ids to the volumes that receive data.
type volumes map[string]*disk

// add counts bytes that will be written at path; "" means none of this computer's disks.
func (v volumes) add(path string, bytes int64) error {
	if path == "" {
		return nil
	}
	is, err := volume.Of(path)
	if err != nil {
		return err
	}
	if v[is.ID] == nil {
		v[is.ID] = &disk{at: path, free: is.Free}
	}
	v[is.ID].need += bytes
	return nil
}

// reclaim counts the space used by an interrupted run's stage as free, because the next run deletes
// it first.
func (v volumes) reclaim(path string, bytes int64) {
	if path == "" || bytes == 0 {
		return
	}
	if is, err := volume.Of(path); err == nil && v[is.ID] != nil {
		v[is.ID].free += uint64(bytes)
	}
}

// sizeOf returns the size of a file, or of all files in a folder, in bytes. Unreadable files count
// as 0.
func sizeOf(path string) (bytes int64) {
	filepath.WalkDir(path, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			if info, err := e.Info(); err == nil {
				bytes += info.Size()
			}
		}
		return nil
	})
	return bytes
}

// tightest returns the volume with the least space to spare, or nil.
func (v volumes) tightest() (t *disk) {
	for _, id := range slices.Sorted(maps.Keys(v)) {
		if t == nil || v[id].over() > t.over() {
			t = v[id]
		}
	}
	return t
}
