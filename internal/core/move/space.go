package move

import (
	"io/fs"
	"maps"
	"path/filepath"
	"slices"

	"movekit/internal/core/machine"
)

// volume is a disk that things are put on.
type volume struct {
	at   string // a path on it
	need int64
	free uint64
}

// over is by how many bytes more is needed than is free; less than 0 where all fits.
func (v *volume) over() int64 { return v.need - int64(min(v.free, 1<<62)) }

// volumes are those that something goes to, by their ids.
type volumes map[string]*volume

// add counts what will be put at a path; "" stands for no disk of this computer.
func (v volumes) add(path string, bytes int64) error {
	if path == "" {
		return nil
	}
	is, err := machine.VolumeOf(path)
	if err != nil {
		return err
	}
	if v[is.ID] == nil {
		v[is.ID] = &volume{at: path, free: is.Free}
	}
	v[is.ID].need += bytes
	return nil
}

// reclaim counts the space that an interrupted run's stage uses as free: the next run deletes it first.
func (v volumes) reclaim(path string, bytes int64) {
	if path == "" || bytes == 0 {
		return
	}
	if is, err := machine.VolumeOf(path); err == nil && v[is.ID] != nil {
		v[is.ID].free += uint64(bytes)
	}
}

// sizeOf returns the bytes of the files in a folder, or of one file. What cannot be read counts as nothing.
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

// tightest is the one with the least space left over; nil where there is none.
func (v volumes) tightest() (t *volume) {
	for _, id := range slices.Sorted(maps.Keys(v)) {
		if t == nil || v[id].over() > t.over() {
			t = v[id]
		}
	}
	return t
}
