package tree

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestLostProperties archives files with properties that are not moved. Each is named; sticky bits and
// times are moved.
func TestLostProperties(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"in/plain": "1", "in/shared": "2", "in/both": "3", "in/able": "4", "in/trusted": "5", "in/late": "6", "in/never": "7", "in/sticky": "8", "in/setgid": "9"})
	at := func(name string) string { return filepath.Join(dir, "in", name) }
	fatal.If(t, os.Link(at("shared"), filepath.Join(dir, "outside")))
	fatal.If(t, os.Link(at("both"), at("both too")))
	fatal.If(t, os.Chmod(at("sticky"), 0o644|os.ModeSticky))
	fatal.If(t, os.Chmod(at("setgid"), 0o755|os.ModeSetgid))
	late := time.Date(2400, 1, 2, 3, 4, 5, 0, time.UTC)
	set := func(name string, s unix.Timespec) {
		fatal.If(t, unix.UtimesNanoAt(unix.AT_FDCWD, at(name), []unix.Timespec{s, s}, 0))
	}
	set("late", unix.Timespec{Sec: late.Unix()})
	set("never", unix.Timespec{Sec: 1 << 39})
	want := map[string]string{"shared": "another name outside", "setgid": "without the setuid or setgid bit"}
	// version 2, and the right to bind low ports (linux/capability.h)
	if unix.Setxattr(at("able"), "security.capability", []byte("\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"), 0) == nil {
		want["able"] = "without the attribute security.capability"
	}
	if unix.Setxattr(at("trusted"), "trusted.x", []byte("y"), 0) == nil {
		want["trusted"] = "without the attribute trusted.x"
	}
	var info unix.Stat_t
	if fatal.If(t, unix.Stat(at("never"), &info)); info.Mtim.Sec == 1<<39 { // not every file system has such years
		want["never"] = "without its time, in the year 17"
	}
	s := Source{Root: filepath.Join(dir, "in"), Marked: true}
	data, list, st := archive(t, s)
	if st.LeftCount != len(want) {
		t.Errorf("%q", st.Left)
	}
	for name, says := range want {
		if !slices.ContainsFunc(st.Left, func(l string) bool { return strings.HasPrefix(l, name+": ") && strings.Contains(l, says) }) {
			t.Errorf("%s: %q", name, st.Left)
		}
	}
	to := filepath.Join(dir, "to")
	fatal.If(t, stage(to, data, list))
	if is, err := os.Stat(filepath.Join(to, "sticky")); err != nil || is.Mode() != 0o644|os.ModeSticky {
		t.Errorf("%v %v", is.Mode(), err)
	}
	if is, err := os.Stat(filepath.Join(to, "late")); err != nil || !is.ModTime().Equal(late) && info.Mtim.Sec == 1<<39 {
		t.Errorf("%v %v", is.ModTime(), err)
	}
	compare := func() *Comparison {
		c, err := Comparing{Modes: true, Times: true}.Compare(ctx, Source{Root: to, Marked: true}, reader(list))
		fatal.If(t, err)
		return c
	}
	if c := compare(); !c.Equal() {
		t.Errorf("%+v", c.Diffs)
	}
	fatal.If(t, os.Chtimes(filepath.Join(to, "plain"), time.Time{}, time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)))
	if c := compare(); c.Count != 1 || !strings.Contains(c.Diffs[0].What, "is from 2020-01-01 00:00:00") {
		t.Errorf("%+v", c.Diffs)
	}
}

// TestSameTime compares times as file systems store them.
func TestSameTime(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 1, 123456789, time.UTC)
	for _, c := range []struct {
		other time.Time
		want  bool
	}{
		{at, true}, {at.Truncate(100), true}, {at.Truncate(time.Microsecond), true}, {at.Truncate(time.Second), true}, {at.Truncate(2 * time.Second), true},
		{at.Add(1), false}, {at.Add(time.Second), false}, {at.Truncate(time.Second).Add(time.Second), false}, {at.Add(-100), false},
	} {
		if sameTime(at, c.other) != c.want || sameTime(c.other, at) != c.want {
			t.Errorf("%v: not %v", c.other, c.want)
		}
	}
}
