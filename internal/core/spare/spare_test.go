package spare

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// TestAsideNames finds unused names, and recognises set-aside names.
func TestAsideNames(t *testing.T) {
	target := filepath.Join(t.TempDir(), "data")
	at := time.Date(2026, 11, 20, 8, 30, 0, 0, time.Local)
	for _, end := range []string{".set-aside-20261120-083000", ".set-aside-20261120-083000-2", ".set-aside-20261120-083000-3"} {
		name, err := Aside(target, at)
		if err != nil || name != target+end || !IsAside(name) || IsAside(target) || !IsBeside(filepath.Base(name), "") || IsBeside("list.set-aside-2020.txt", "") || IsBeside("list.moved-to-a.txt", name) {
			t.Errorf("set aside as %s", name)
		}
		os.WriteFile(name, nil, 0o600)
	}
	if got, err := Both(target, `QUAY 1/*é`); err != nil || got != target+".from-QUAY-1--é" {
		t.Errorf("beside it: %s", got)
	}
	if got := Plain("a\x1f b\x7f<>:\"/\\|?*"); got != "a--b\x7f---------" {
		t.Errorf("plain: %q", got)
	}
}
