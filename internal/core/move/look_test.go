package move_test

import (
	"os"
	"strings"
	"testing"

	"movekit/internal/core/tree"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestExpected stops where a figure is not the number that the card tells, and doubts a
// folder that holds one of its own name.
func TestExpected(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items:
  - {name: projects, kind: folder, path: /srv/projects, counts: [{name: projects, files: '*.prj', expect: 3}]}
  - {name: boats, kind: sqlite, path: /srv/boats.db, counts: [{name: boats, query: SELECT count(*) FROM boat, expect: 2}]}
`, "linux", map[string]string{"old/srv/projects/a.prj": "", "old/srv/projects/b.prj": "", "old/srv/projects/Projects/c.prj": "", "new/srv/.keep": ""})
	fleet := o.Dir + "/old/srv/boats.db"
	lay.Database(t, fleet, "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1)")
	s, err := o.Job(o.Old).Survey(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if i := s.Apps[0].Items[0]; len(i.Doubts) != 1 || !strings.Contains(i.Doubts[0], "of its own name") || len(i.Counts) != 1 || i.Counts[0].Value != 2 {
		t.Errorf("the survey: %+v", i)
	}
	out := o.Pack()
	if office.Blocked(out) != "as-expected as-expected" || !strings.Contains(out.Blocks[0].Why, "projects of projects: the card expects 3, and 2 are here") || !strings.Contains(out.Blocks[1].Why, "expects 2, and 1 are") {
		t.Errorf("%+v", out.Blocks)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/projects/c.prj": ""})
	lay.Database(t, fleet, "INSERT INTO boat VALUES (2)")
	if out := o.Pack(); office.Blocked(out) != "" || len(out.Items[0].Notes) != 1 {
		t.Errorf("%+v", out)
	}
}

// TestUnreadable finds before a pack what cannot be read.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	if os.Geteuid() == 0 {
		t.Skip("root may read everything")
	}
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x"})
	os.Chmod(o.Dir+"/old/srv/diary/a", 0)
	if s, err := o.Job(o.Old).Survey(ctx); err != nil || len(s.Apps[0].Items[0].Unreadable) != 1 {
		t.Errorf("%+v, %v", s, err)
	}
}

// TestOwnLeftovers does not count what a killed run has left as space that is taken.
func TestOwnLeftovers(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/diary" + tree.StageEnding + "/half": "h"})
	o.Pack()
	lay.Out(t, o.Dir, map[string]string{"new/computer.yaml": lay.Ident("linux", "OTHER", "9")}) // a gate stops it
	if out := o.Only(o.Job(office.Open(t, o.Dir+"/new")).Unpack(ctx)); office.Blocked(out) != "right-name" || o.Text("new/srv/diary"+tree.StageEnding+"/half") != "" {
		t.Errorf("%+v", out.Blocks)
	}
}
