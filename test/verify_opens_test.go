package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestOpensByCommand checks the data with the app's own command, on the computer itself.
func TestOpensByCommand(t *testing.T) {
	t.Parallel()
	dir := office(t)
	app := filepath.Join(dir, "hoist")
	lay.Out(t, dir, map[string]string{"hoist": "#!/bin/sh\necho \"records: $(ls " + dir + "/live | wc -l)\"\n", "diary.yaml": `card: 1
name: diary
title: Hoistbook
opens: {run: ['` + app + `'], pattern: 'records: ([1-9]\d*)'}
items:
  - {name: diary, kind: folder, path: /srv/diary}
`})
	os.Chmod(app, 0o755)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	live := func(code int, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), dir, append(args, "--kit", "kit")...)
		cmd.Env = append(cmd.Env, "HOME="+filepath.Join(dir, "new"))
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
		}
		return s
	}
	live(4, "unpack") // the kit is for another computer
	name := []string{"--override", "right-name", "--because", "it stands for the new one here"}
	live(0, append([]string{"unpack", "--place", "diary/diary=" + filepath.Join(dir, "live")}, name...)...)
	if s := live(0, "verify"); !strings.Contains(s.out, "not checked: the command") {
		t.Errorf("the command was not allowed: %s", s.out)
	}
	if s := live(0, "verify", "--run-commands"); !strings.Contains(s.out, "opened: Hoistbook on ") || !strings.Contains(s.out, "saw 4") {
		t.Errorf("by its command: %s", s.out)
	}
	os.WriteFile(app, []byte("#!/bin/sh\necho records: 4\necho cannot open page 3\nexit 1\n"), 0o755)
	if s := live(3, "verify"); !strings.Contains(s.out, "found a problem") || !strings.Contains(s.out, "it ended with code 1: cannot open page 3") {
		t.Errorf("a command that fails: %s", s.out)
	}
	os.WriteFile(app, []byte("#!/bin/sh\necho no licence\n"), 0o755)
	if s := live(3, "verify"); !strings.Contains(s.out, "found a problem") {
		t.Errorf("an app that opens nothing: %s", s.out)
	}
}
