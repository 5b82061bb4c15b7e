package test

import (
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestReady checks a new computer before an unpack, and changes nothing on it.
func TestReady(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	on := func(code int, args ...string) said {
		return step(t, code, dir, "new", "ready", args...)
	}
	if s := on(5); !strings.Contains(s.out, "not packed yet") || !strings.Contains(s.out, "Before the unpack:") {
		t.Error(s.out)
	}
	step(t, 0, dir, "old", "pack")
	if s := on(0); !strings.Contains(s.out, "3.4.9 here, v3.4.0 on OLD (same-minor)") || !strings.Contains(s.out, "no existing data") || !strings.Contains(s.out, "Everything is ready") {
		t.Error(s.out)
	}
	lay.Out(t, dir, map[string]string{"new/srv/diary/x": "x", "new/opt/app/version": "3.5"})
	before := picture(t, filepath.Join(dir, "new"))
	if s := on(5); !strings.Contains(s.out, "there is other existing data") || !strings.Contains(s.out, "do this first") {
		t.Error(s.out)
	}
	cmd := command(t.Context(), dir, "ready", "--kit", "kit", "--root", "new")
	cmd.Env = append(cmd.Env, "MOVEKIT_PASSPHRASE=")
	if s := finish(t, cmd); s.code != 5 || !strings.Contains(s.out, "not compared, because no passphrase") || !strings.Contains(s.err, "--passphrase-file") {
		t.Errorf("%d %s%s", s.code, s.out, s.err)
	}
	if after := picture(t, filepath.Join(dir, "new")); after != before {
		t.Errorf("the survey has changed the new computer:\n%s\n%s", before, after)
	}
	must(t, 2, dir, "ready", "--kit", "kit", "--root", "old").tells(t, "the old computer OLD itself")
}
