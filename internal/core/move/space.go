package move

import (
	"maps"
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

// tightest is the one with the least space left over; nil where there is none.
func (v volumes) tightest() (t *volume) {
	for _, id := range slices.Sorted(maps.Keys(v)) {
		if t == nil || v[id].over() > t.over() {
			t = v[id]
		}
	}
	return t
}
