package test

import (
	"strings"
	"testing"
)

// TestColourAndDetail checks that colours are only printed to a terminal, and not with --no-color,
// and that --verbose prints more.
func TestColourAndDetail(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	for flag, colour := range map[string]bool{"": true, "--no-color": false} {
		args := []string{"status", "--kit", "kit", "--root", "old"}
		if flag != "" {
			args = append(args, flag)
		}
		if out := atTerminal(t, dir, "", args...); strings.Contains(out, "\x1b[") != colour {
			t.Errorf("%q: %q", flag, out)
		}
	}
	if s := step(t, 0, dir, "old", "status"); strings.Contains(s.out+s.err, "\x1b[") {
		t.Errorf("not at a terminal: %q", s.out)
	}
	quiet, verbose := step(t, 0, dir, "old", "pack"), step(t, 0, dir, "old", "pack", "--verbose")
	if len(verbose.err) <= len(quiet.err) || !strings.Contains(verbose.out, "kept") {
		t.Errorf("verbose: %q, else %q", verbose.err, quiet.err)
	}
}
