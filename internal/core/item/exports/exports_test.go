package exports_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/exports"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

const statements = `items:
  - {name: ledger, kind: sqlite, path: /srv/ledger.db, optional: true}
  - name: statements
    kind: exports
    path: /srv/statements
    exports: {item: ledger, query: 'SELECT count(DISTINCT statement) FROM entry', count: 'SELECT count(*) FROM entry WHERE statement = {name}', import: Import each file}
`

// records is a database that knows how many records each query finds.
type records map[string]int64

func (r records) Query(_ context.Context, query string) (int64, error) {
	n, known := r[query]
	if !known {
		return 0, fault.New(fault.BadCard, "no such query: %s", query)
	}
	return n, nil
}

// TestExports counts the records of each export on the old computer, and compares those that were imported.
func TestExports(t *testing.T) {
	o := office.New(t, statements, "linux", map[string]string{"old/srv/statements/2025.csv": "a", "old/srv/statements/deep/it's.csv": "b", "new/srv/.keep": ""})
	lay.Database(t, filepath.Join(o.Dir, "old/srv/ledger.db"), "CREATE TABLE entry (statement)", "INSERT INTO entry VALUES ('2025'), ('2025'), ('2025'), ('it''s'), ('it''s')")
	o.Pack()
	o.Unpack()
	j := o.Job(o.New)
	c := j.Cards[0]
	target, err := kinds.All.Target(t.Context(), j.Run, c, j.State.Items[steps.Key{App: "app", Item: "statements"}], j.Choices)
	fatal.If(t, err)
	names, err := exports.Files(target.Instance)
	if err != nil || !slices.Equal(names, []string{"2025.csv", "deep/it's.csv"}) {
		t.Fatalf("%q %v", names, err)
	}
	db := records{"SELECT count(*) FROM entry WHERE statement = '2025'": 3, "SELECT count(*) FROM entry WHERE statement = 'it''s'": 2, "SELECT count(*) FROM entry WHERE statement = 'other'": 2}
	counted, err := exports.Counted(t.Context(), target.Instance, target.InKit.Sealed, db)
	if err != nil || len(counted) != 2 || counted[0].Name != "2025.csv" || counted[0].Records != 3 || counted[1].Records != 2 {
		t.Fatalf("%+v %v", counted, err)
	}
	target.InKit.Sealed.Tables = counted
	compare := func(ticked map[string]string) *steps.Checked {
		t.Helper()
		target.InKit.Ticked = ticked
		out := &steps.Checked{Equal: true}
		fatal.If(t, exports.Compare(t.Context(), target.Instance, db, out))
		return out
	}
	if out := compare(nil); !out.Equal || len(out.Rows) != 0 {
		t.Errorf("nothing was imported: %+v", out)
	}
	if out := compare(map[string]string{"2025.csv": "", "deep/it's.csv": "other"}); !out.Equal || len(out.Rows) != 2 || out.Rows[1].What != "records of other" {
		t.Errorf("imported: %+v", out)
	}
	db["SELECT count(*) FROM entry WHERE statement = '2025'"] = 1
	if out := compare(map[string]string{"2025.csv": ""}); out.Equal || len(out.Diffs) != 1 || !strings.Contains(out.Diffs[0], "2025.csv was imported as 2025: 3 records then, 1 now") {
		t.Errorf("records are missing: %+v", out)
	}
	target.InKit.Ticked = map[string]string{"2025.csv": `a\b`}
	if err := exports.Compare(t.Context(), target.Instance, db, &steps.Checked{}); fault.KindOf(err) != fault.BadCard {
		t.Errorf("a name with a backslash: %v", err)
	}
	if _, err := exports.Counted(t.Context(), target.Instance, target.InKit.Sealed, records{}); err == nil {
		t.Error("a query that fails counts nothing")
	}
	// Verify compares how many were imported.
	if checked := j.State.Items[target.Key].Checked; checked != nil {
		t.Errorf("%+v", checked)
	}
	if out := o.Verify(); out.Equal() || !strings.Contains(strings.Join(out.Items[1].Diffs, " "), "2 exports still to be imported by hand") {
		t.Errorf("%+v", out.Items)
	}
}

// TestCommands makes exports and imports them with the app's own programs. Nothing runs without consent, or on a disk.
func TestCommands(t *testing.T) {
	o := office.New(t, strings.Replace(statements, "import: Import", "make: [/bin/sh, -c, 'echo x > $HOME/made'], load: [/bin/sh, -c, 'test -s {file}'], import: Import", 1), "linux", map[string]string{"old/srv/statements/a.csv": "a"})
	c := o.Job(o.Old).Cards[0]
	here, err := machine.Open("")
	fatal.If(t, err)
	home := t.TempDir()
	t.Setenv("HOME", home)
	made := func() bool { _, err := os.Stat(filepath.Join(home, "made")); return err == nil }
	onDisk, silent, agreed := *o.Job(o.Old).ForApp(c), *o.Job(o.Old).ForApp(c), *o.Job(o.Old).ForApp(c)
	onDisk.Commands, silent.Computer, silent.Commands, agreed.Computer, agreed.Commands = true, here, false, here, true
	for what, h := range map[string]*run.Host{"on a disk": &onDisk, "without consent": &silent} {
		if err := exports.Make(t.Context(), h, c); err != nil || made() {
			t.Errorf("%s: made %v, %v", what, made(), err)
		}
	}
	if err := exports.Make(t.Context(), &agreed, c); err != nil || !made() {
		t.Errorf("made %v, %v", made(), err)
	}
	it := c.Item("statements")
	full, empty := filepath.Join(home, "made"), filepath.Join(home, "empty")
	fatal.If(t, os.WriteFile(empty, nil, 0o600))
	if err := exports.Load(t.Context(), &agreed, it, nil, full); err != nil {
		t.Errorf("imported: %v", err)
	}
	if err := exports.Load(t.Context(), &agreed, it, nil, empty); fault.KindOf(err) != fault.ServerRefused || !strings.Contains(err.Error(), "did not import "+empty) {
		t.Errorf("a program that fails: %v", err)
	}
	c.Item("statements").Exports.Make = []string{"/bin/false"}
	if err := exports.Make(t.Context(), &agreed, c); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("exports that cannot be made: %v", err)
	}
}
