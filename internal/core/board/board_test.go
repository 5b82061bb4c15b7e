package board_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/board"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/steps"
	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

const cardText = `card: 1
name: hoist
title: Hoistbook
items: [{name: diary, kind: folder, path: /srv/diary}]
licences: [{name: seat, method: guided, wait: 24h, reactivate-by: 48h, deactivate: {steps: [{do: deactivate it}]}, activate: {steps: [{do: take it}]}}]
`

// moves creates kits with different progress.
func moves(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"hoist.yaml": cardText, "firm/elsewhere/readme.txt": "no kit"})
	c, err := card.Read(filepath.Join(dir, "hoist.yaml"))
	fatal.If(t, err)
	make := func(name, office string, record func(k *kit.Kit)) {
		k, err := kit.Create(filepath.Join(dir, "firm", name), kit.New{Tool: "test", Cards: []*card.Card{c}, Passphrase: "agency-balcony-cabana-dagger-eagle-fable", Work: 1, Office: office,
			Old: kit.Computer{Name: "OLD", System: "linux", ID: "o"}, New: kit.Computer{Name: "NEW", System: "linux"}})
		fatal.If(t, err)
		record(k)
		k.Close()
	}
	add := func(k *kit.Kit, l journal.Line, data any) {
		l.Computer = "OLD"
		_, err := k.Record(l, data)
		fatal.If(t, err)
	}
	packed := func(k *kit.Kit) {
		add(k, journal.Line{Event: journal.EventSealed, App: "hoist", Item: "diary"}, kit.Sealed{Stream: "diary"})
		add(k, journal.Line{Event: journal.EventPacked, App: "hoist"}, steps.Packed{Items: []steps.Key{{App: "hoist", Item: "diary"}}})
	}
	make("a/new", "Tern Quay", func(*kit.Kit) {})
	make("b/deep/packed", "Ebb House", packed)
	make("deactivated", "Ebb House", func(k *kit.Kit) {
		packed(k)
		add(k, journal.Line{Event: journal.EventAnswered, App: "hoist", Licence: "seat"}, licence.Answer{Action: licence.Deactivate, Computer: "o", State: licence.Deactivated, Transfers: -1})
	})
	make("closed", "", func(k *kit.Kit) {
		packed(k)
		add(k, journal.Line{Event: journal.EventClosed}, kit.Closed{})
	})
	make("too/deep/for/anybody/here", "", packed)
	lay.Out(t, dir, map[string]string{"firm/broken/kit.yaml": "nonsense"})
	return filepath.Join(dir, "firm")
}

func told(all []board.Move) string {
	var out []string
	for _, m := range all {
		out = append(out, fmt.Sprintf("%s %s on %q for %v", filepath.Base(m.Folder), m.Due, m.On, m.For))
	}
	return strings.Join(out, "; ")
}

// TestBoard finds kits, and lists the most urgent first.
func TestBoard(t *testing.T) {
	dir := moves(t)
	now := time.Now()
	all, bad, err := board.Find(t.Context(), []string{dir, filepath.Join(dir, "a")}, now)
	fatal.If(t, err)
	slices.SortFunc(all[1:3], func(a, b board.Move) int { return strings.Compare(a.Folder, b.Folder) }) // made at once
	want := `deactivated unpack on "NEW" for [Hoistbook]; new pack on "OLD" for [Hoistbook]; packed deactivate on "OLD" for [Hoistbook]; closed  on "" for []`
	if got := told(all); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if len(bad) != 1 || filepath.Base(bad[0].Folder) != "broken" || !strings.Contains(bad[0].Why, "damaged") {
		t.Errorf("not read: %v", bad)
	}
	d := all[0].Dates
	if len(d) != 2 || d[0].Back || !d[1].Back || d[1].At.Sub(d[0].At).Round(time.Minute) != 24*time.Hour || d[1].App != "Hoistbook" {
		t.Errorf("dates: %+v", d)
	}
	if later := board.Of(kit.Manifest{ID: "x", Made: now.Add(-50 * time.Hour)}, nil, &steps.State{}, now); later.Days(now) != 2 {
		t.Errorf("%d days", later.Days(now))
	}
	// Of two copies of a kit, the newer one counts.
	fatal.If(t, os.CopyFS(filepath.Join(dir, "copy"), os.DirFS(filepath.Join(dir, "a/new"))))
	if again, _, _ := board.Find(t.Context(), []string{dir}, now); len(again) != 4 {
		t.Errorf("a copy counts twice: %s", told(again))
	}
	if _, _, err := board.Find(t.Context(), []string{filepath.Join(dir, "none")}, now); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("a folder that is not there: %v", err)
	}
}

// TestDatabase stores moves of several technicians: the same move twice, and an older state.
func TestDatabase(t *testing.T) {
	server, err := dbserver.Postgres()
	if err == dbserver.ErrMissing {
		if os.Getenv("CI") == "true" {
			t.Fatal("no PostgreSQL server is installed, and it is needed with CI=true")
		}
		t.Skip("no PostgreSQL server is installed")
	}
	fatal.If(t, err)
	defer server.Stop()
	address := "postgres://postgres@/postgres?host=" + server.Dir + "&port=" + server.Port
	all, _, err := board.Find(t.Context(), []string{moves(t)}, time.Now())
	fatal.If(t, err)
	for range 2 {
		d, err := board.OpenDatabase(t.Context(), address)
		fatal.If(t, err)
		fatal.If(t, d.Store(t.Context(), all))
		d.Close()
	}
	d, err := board.OpenDatabase(t.Context(), address)
	fatal.If(t, err)
	older := all[0]
	older.Due, older.Last = steps.Pack, older.Last.Add(-time.Hour)
	fatal.If(t, d.Store(t.Context(), []board.Move{older}))
	back, err := d.Load(t.Context())
	if err != nil || told(back) != told(all) || back[0].Office != "Ebb House" || !back[0].Dates[1].At.Equal(all[0].Dates[1].At) {
		t.Errorf("%s, %v", told(back), err)
	}
	d.Close()
	if out, err := server.SQL("postgres", "SELECT count(*) FROM movekit.move WHERE office = 'Ebb House' AND due = 'unpack'"); err != nil || strings.TrimSpace(out) != "1" {
		t.Errorf("as another program sees it: %q, %v", out, err)
	}
	server.SQL("postgres", "UPDATE movekit.version SET version = 99")
	for address, want := range map[string]fault.Kind{
		address: fault.NewerFormat, "mysql://x/y": fault.Usage, "postgres://a:secret@h/y": fault.Usage, "postgres://nobody@/none?host=" + server.Dir + "&port=1": fault.ServerDown,
	} {
		if _, err := board.OpenDatabase(t.Context(), address); fault.KindOf(err) != want || strings.Contains(fmt.Sprint(err), "secret") {
			t.Errorf("%s: %v", address, err)
		}
	}
}
