package run

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"movekit/internal/core/journal"
)

// seenUpTo records how far a kit's journal was when this computer last used it. It is stored in the
// user's cache and is the only thing remembered outside the kit. It shows whether a copy of a kit
// is outdated.
type seenUpTo struct {
	Lines int    `json:"lines"`
	Mac   string `json:"mac"` // MAC of the last line
}

func (r *Run) markFile() (string, error) {
	dir := r.Marks
	if dir == "" {
		cache, err := os.UserCacheDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(cache, "movekit", "kits")
	}
	return filepath.Join(dir, r.Manifest.ID+".json"), nil
}

// outdated compares this copy of the kit with other copies that were used on this computer. If this
// one is outdated, it returns a description; otherwise "".
func (r *Run) outdated() string {
	name, err := r.markFile()
	if err != nil {
		return ""
	}
	data, err := os.ReadFile(name)
	var m seenUpTo
	if err != nil || json.Unmarshal(data, &m) != nil || m.Lines < 1 {
		return ""
	}
	lines := r.Kit.Lines()
	switch {
	case len(lines) < m.Lines:
		return fmt.Sprintf("another copy of this kit was used here: its journal has %d lines, this one has %d", m.Lines, len(lines))
	case lines[m.Lines-1].MAC != m.Mac:
		return fmt.Sprintf("another copy of this kit was used here: line %d of its journal differs from this copy", m.Lines)
	}
	return ""
}

// remember stores how far the kit's journal is now.
func (r *Run) remember() {
	name, err := r.markFile()
	lines := r.Kit.Lines()
	if err != nil || len(lines) == 0 || !r.Kit.Unlocked() {
		return
	}
	data, err := json.Marshal(seenUpTo{len(lines), lines[len(lines)-1].MAC})
	if err == nil && os.MkdirAll(filepath.Dir(name), 0o700) == nil {
		journal.WriteFile(name, data, 0o600) //nolint:errcheck // a missing record makes nothing unsafe
	}
}
