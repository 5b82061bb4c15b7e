package move_test

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
	"movekit/test/office"
)

// berths makes a dBase table of so many records, which wants a memo file.
func berths(records int) string {
	b := make([]byte, 65)
	b[0], b[64] = 0x83, 0x0d
	binary.LittleEndian.PutUint32(b[4:], uint32(records))
	binary.LittleEndian.PutUint16(b[8:], 65)
	binary.LittleEndian.PutUint16(b[10:], 11)
	return string(b) + strings.Repeat(" Grey Wagta", records)
}

const jet = "\x00\x01\x00\x00Standard Jet DB\x00"

// TestDesktopDatabases moves sets of files whole, and not while they are open.
func TestDesktopDatabases(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: tables, kind: dbase, path: /srv/tables, counts: [{name: tables, files: '*.dbf'}]}\n  - {name: yard, kind: jet, path: /srv/yard.mdb}\n", "linux", map[string]string{
		"old/srv/tables/berth.dbf": berths(5), "old/srv/yard.mdb": jet, "old/srv/yard.ldb": strings.Repeat("QUAY-DESK-1\x00", 6)[:64], "new/srv/x": "",
	})
	stopped := func(want, why string) {
		t.Helper()
		out := o.Only(o.Job(o.Old).Pack(ctx))
		if office.Blocked(out) != want || !strings.Contains(out.Blocks[0].Why, why) {
			t.Errorf("stopped by %q, want %q: %+v", office.Blocked(out), want, out.Blocks)
		}
	}
	stopped("files-closed needs-met", "lock file yard.ldb names QUAY-DESK-1")
	os.Remove(filepath.Join(o.Dir, "old/srv/yard.ldb"))
	stopped("needs-met", "berth.dbf has memo fields, and its .dbt file is not there")
	lay.Out(t, o.Dir, map[string]string{"old/srv/tables/BERTH.DBT": "memo", "old/srv/tables/berth.dbf": berths(5)[:100]})
	stopped("readable", "need 120")
	lay.Out(t, o.Dir, map[string]string{"old/srv/tables/berth.dbf": berths(5), "old/srv/yard.mdb": "no database"})
	stopped("readable", "no Jet or ACE database")
	lay.Out(t, o.Dir, map[string]string{"old/srv/yard.mdb": jet + "rest"})
	if out := o.Pack(); len(out.Blocks) > 0 {
		t.Fatalf("%+v", out.Blocks)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/tables/berth.dbf": "what the first start made"})
	o.Unpack()
	v := o.Verify()
	if !v.Equal() || o.Text("new/srv/tables/BERTH.DBT") != "memo" || o.Text("new/srv/yard.mdb") != jet+"rest" {
		t.Errorf("%+v", v.Items)
	}
	records := func(now string) bool {
		for _, r := range o.Verify().Items[0].Rows {
			if r.What == "records of berth.dbf" {
				return r.Old == "5" && r.New == now && r.Same == (now == "5")
			}
		}
		return false
	}
	if !records("5") {
		t.Error("the records are not told")
	}
	for text, now := range map[string]string{berths(4): "4", berths(9)[:80]: "damaged"} {
		lay.Out(t, o.Dir, map[string]string{"new/srv/tables/berth.dbf": text})
		if !records(now) || o.Verify().Equal() {
			t.Errorf("records of another table: %+v", o.Verify().Items[0].Rows)
		}
	}
	os.Remove(filepath.Join(o.Dir, "new/srv/tables/berth.dbf"))
	if !records("missing") {
		t.Error("a table that is missing")
	}
}

// TestJetRecords shows the records of a Jet database, old and new. Its file is
// made by the published layout; mdbtools reads it too.
func TestJetRecords(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("testdata/yard.mdb")
	if err != nil {
		t.Fatal(err)
	}
	o := office.New(t, "items:\n  - {name: yard, kind: jet, path: /srv/yard.mdb}\n", "linux", map[string]string{"old/srv/yard.mdb": string(data), "new/srv/x": ""})
	o.Pack()
	o.Unpack()
	rows := func() map[string]string {
		out := map[string]string{}
		for _, r := range o.Verify().Items[0].Rows {
			out[r.What] = r.Old + " " + r.New
		}
		return out
	}
	if got := rows(); got["records of Moorings"] != "40 40" || got["records of Lift orders"] != "3 3" {
		t.Errorf("%v", got)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/yard.mdb": string(data[:6000])})
	if got := rows(); got["records of Moorings"] != "40 damaged" {
		t.Errorf("cut off: %v", got)
	}
}
