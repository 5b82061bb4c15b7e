package run

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"movekit/internal/core/journal"
)

// mark is how far a kit's journal was when this computer last worked on it. It
// lies in the user's cache, and is the one thing remembered outside the kit: it
// tells a copy of a kit that is behind from the one that was worked on.
type seenUpTo struct {
	Lines int    `json:"lines"`
	Mac   string `json:"mac"` // of the last of them
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

// behind says what another copy of the kit, which was worked on here, has and
// this one has not; or "". Where nothing can be remembered, nothing is said.
func (r *Run) behind() string {
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
		return fmt.Sprintf("another copy of this kit was worked on here: its journal has %d lines, this one's %d", m.Lines, len(lines))
	case lines[m.Lines-1].MAC != m.Mac:
		return fmt.Sprintf("another copy of this kit was worked on here: line %d of its journal is not the one of this copy", m.Lines)
	}
	return ""
}

// remember keeps how far the kit's journal is now.
func (r *Run) remember() {
	name, err := r.markFile()
	lines := r.Kit.Lines()
	if err != nil || len(lines) == 0 || !r.Kit.Unlocked() {
		return
	}
	data, err := json.Marshal(seenUpTo{len(lines), lines[len(lines)-1].MAC})
	if err == nil && os.MkdirAll(filepath.Dir(name), 0o700) == nil {
		journal.WriteFile(name, data, 0o600) //nolint:errcheck // a mark that is missing makes nothing unsafe
	}
}
