package move_test

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/move"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// victims are files that no item has. A forged kit must never change them.
var victims = map[string]string{
	"etc/passwd": "users", "srv/victim/a": "1", "srv/victim/b": "2", "srv/deep/data-secret/a": "3", "srv/deep/database": "4", "srv/deep/data.set-aside/a": "5", "home/maren/letter": "6",
}

// forgedNames are names for the journal of a forged kit.
var forgedNames = []string{
	"", "/", "/etc", "/etc/passwd", "/srv", "/srv/victim", "/srv/victim/a", "/srv/deep", "/srv/deep/data", "/srv/deep/data-secret", "/srv/deep/database", "/srv/deep/data.set-aside", "/home/maren",
	"/srv/deep/data.set-aside-20260101-000000", "/srv/deep/data.set-aside-20260101-000000/../../victim", "/srv/deep/data/../../victim", "../../victim", "/srv/deep/data.from-OLD/../data-secret", "/srv/deep/years/../../victim",
	"/srv/deep/years/2025", "/srv/deep/years/../data-secret", "/srv/victim.set-aside-20260101-000000", "/srv/deep.set-aside-20260101-000000/data", "/srv/deep/data.moved-to-NEW.txt", "/srv/deep/store.db", "/srv/deep/store.db.movekit-part",
}

// forgedRuns is the number of forged kits of a test.
func forgedRuns() int {
	if os.Getenv("MOVEKIT_SOAK") != "" {
		return 1000
	}
	return 40
}

// unharmed checks that files which no item has are as before, and that nothing else was written.
func unharmed(t *testing.T, o *office.Office, seed int) {
	t.Helper()
	for _, side := range []string{"old", "new"} {
		now := office.Contents(t, filepath.Join(o.Dir, side))
		for name, content := range victims {
			if now[name] != content {
				t.Errorf("seed %d: %s/%s is %q", seed, side, name, now[name])
			}
		}
		for name := range now {
			own := strings.HasPrefix(name, "srv/deep/data") || strings.HasPrefix(name, "srv/deep/years/20") || name == "computer.yaml"
			if _, is := victims[name]; !is && !own {
				t.Errorf("seed %d: %s/%s was written", seed, side, name)
			}
		}
	}
}

// TestForgedJournal appends random events with random names to a kit, as somebody with the
// passphrase could, and runs every step on both computers. Files that no item has stay as they are.
func TestForgedJournal(t *testing.T) {
	t.Parallel()
	for seed := range forgedRuns() {
		r := rand.New(rand.NewPCG(uint64(seed), 5))
		files := map[string]string{"old/srv/deep/data/x": "x", "old/srv/deep/years/2025/y": "y", "old/srv/deep/years/2026/y": "z"}
		for name, content := range victims {
			files["old/"+name], files["new/"+name] = content, content
		}
		if r.IntN(2) == 0 {
			files["new/srv/deep/data/mine"] = "mine"
		}
		o := office.New(t, "items:\n  - {name: data, kind: folder, path: /srv/deep/data}\n  - {name: years, kind: folder, path: /srv/deep/years, each: '20??'}\n", "linux", files)
		o.Pack()
		if r.IntN(2) == 0 {
			o.Unpack()
			o.Verify()
		}
		name := func() string { return forgedNames[r.IntN(len(forgedNames))] }
		plan := func() *steps.Plan {
			if r.IntN(3) == 0 {
				return nil
			}
			p := &steps.Plan{At: r.IntN(2)}
			for range 1 + r.IntN(3) {
				p.Ops = append(p.Ops, steps.Op{
					Do: []steps.Do{steps.MoveOut, steps.MoveIn, steps.MergeIn, steps.CopyMissing, steps.Delete}[r.IntN(5)], From: name(), To: name(), Aside: name(), Part: r.IntN(2) == 0,
					If: []steps.If{"", steps.IfSame, steps.IfUnedited}[r.IntN(3)], Policy: []string{"", "replace", "skip"}[r.IntN(3)], Stamp: []string{"", "0 0"}[r.IntN(2)],
				})
			}
			return p
		}
		j := o.Job(o.New)
		for range 1 + r.IntN(4) {
			key := []steps.Key{{App: "app", Item: "data"}, {App: "app", Item: "years@2025"}, {App: "app", Item: "years@../../victim"}, {App: "app", Item: "data@../victim"}}[r.IntN(4)]
			event := []string{journal.EventPlacing, journal.EventPlaced, journal.EventUndoing, journal.EventUndone, journal.EventRetiring, journal.EventRetired, journal.EventReturning, journal.EventChosen, journal.EventSealed}[r.IntN(9)]
			var data any
			switch event {
			case journal.EventPlacing, journal.EventPlaced:
				data = steps.Placed{To: name(), Aside: name(), Policy: []string{"", "keep-both", "replace"}[r.IntN(3)], Stamp: "0 0", Plan: plan()}
			case journal.EventUndoing, journal.EventUndone:
				data = steps.Undone{From: name(), Back: name(), Kept: name(), Plan: plan()}
			case journal.EventRetiring, journal.EventRetired, journal.EventReturning:
				data = steps.Retired{From: name(), To: name(), Note: name(), Plan: plan()}
			case journal.EventChosen:
				key, data = steps.Key{}, steps.Chosen{Places: map[string]string{"app/data": name(), "app/years": name()}, Users: map[string]string{"maren": "root"}, Drives: map[string]string{"D": name()}}
			case journal.EventSealed:
				key = []steps.Key{{App: "app", Item: "years@../../victim"}, {App: "app", Item: "data@../victim"}}[r.IntN(2)]
				data = j.State.Items[steps.Key{App: "app", Item: "data"}].Sealed
			}
			fatal.If(t, j.Record(event, key, data))
			if event == journal.EventSealed {
				packed := *j.State.Packed["app"]
				packed.Items = append(packed.Items, key)
				fatal.If(t, j.Record(journal.EventPacked, steps.Key{App: "app"}, packed))
			}
		}
		for range 4 {
			c := o.New
			if r.IntN(3) == 0 {
				c = o.Old
			}
			j := o.Job(c)
			j.Overrides = map[string]string{"right-name": "x", "set-aside-exists": "x", "old-data-exists": "x", "users-known": "x", "destination-ready": "x", "items-present": "x", "old-unchanged": "x"}
			switch r.IntN(6) {
			case 0:
				j.Unpack(ctx)
			case 1:
				j.Undo(ctx)
			case 2:
				j.Verify(ctx)
			case 3:
				j.Retire(ctx)
			case 4:
				j.Return(ctx)
			case 5:
				j.RemoveRetired(ctx, "x")
			}
		}
		unharmed(t, o, seed)
		os.RemoveAll(o.Dir)
		if t.Failed() {
			return
		}
	}
}

// TestForgedStreams seals random lists, streams and path updates, as somebody with the passphrase could,
// and runs every step. Files that no item has stay as they are.
func TestForgedStreams(t *testing.T) {
	t.Parallel()
	key, placed := steps.Key{App: "app", Item: "data"}, 0
	for seed := range forgedRuns() {
		r := rand.New(rand.NewPCG(uint64(seed), 6))
		pick := func(all ...string) string { return all[r.IntN(len(all))] }
		files := map[string]string{"old/srv/deep/data/a.ini": "folder=/srv/deep/data\n", "old/srv/deep/data/d/x": "x"}
		for name, content := range victims {
			files["old/"+name], files["new/"+name] = content, content
		}
		o := office.New(t, "items: [{name: data, kind: folder, path: /srv/deep/data, update-paths: ['*.ini']}]\n", "linux", files)
		o.Pack()
		j := o.Job(o.Old)
		name := func() string {
			if r.IntN(4) > 0 {
				return pick("a.ini", "d", "d/x", "d/e/x", "l", "l/a", "l/x", "k", "d/l", "d/l/a")
			}
			return pick("../victim/a", "../../../etc/passwd", "/srv/victim/a", "d/../../victim/a", "..", ".", "", "d//x", "a.ini/x", "..\\..\\victim\\a", "C:\\evil", "x\x00y", "\xff")
		}
		target := func() string {
			return pick("a.ini", "d", "..", "../victim", "../../srv/victim", "/srv/victim", "/etc", "../victim/a", "d/../../victim", ".", "l", "", "d/l")
		}
		list := []tree.Entry{{Path: ".", Type: tree.Dir, Mode: 0o755}}
		for range r.IntN(5) {
			e := tree.Entry{Path: name(), Type: []tree.Type{tree.File, tree.File, tree.Dir, tree.Dir, tree.Link, tree.Link, tree.Hard, tree.Type(pick("device", "link"))}[r.IntN(8)], Mode: fs.FileMode([]int{0o644, 0o755, 0o777, 0o755, 0o4755}[r.IntN(5)])}
			switch e.Type {
			case tree.File:
				e.Size, e.Hash = 4, digest.Of([]byte("evil"))
			case tree.Link, tree.Hard:
				e.Target = target()
			}
			list = append(list, e)
		}
		if r.IntN(4) > 0 {
			slices.SortFunc(list[1:], func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
			list = slices.CompactFunc(list, func(a, b tree.Entry) bool { return a.Path == b.Path })
		}
		sealed := j.State.Items[key].Sealed
		sealed.Files, sealed.Bytes = 0, 0
		for _, e := range list {
			if e.Type == tree.File {
				sealed.Files, sealed.Bytes = sealed.Files+1, sealed.Bytes+4
			}
		}
		sealed.List = sealing(t, j, item.ListEnding, func(w io.Writer) {
			for _, e := range list {
				json.NewEncoder(w).Encode(e)
			}
		})
		sealed.Parts = sealing(t, j, ".tar.zst.age", func(w io.Writer) {
			tw := tar.NewWriter(w)
			for _, e := range list {
				h := tar.Header{Name: e.Path, Mode: 0o644, Size: e.Size, Linkname: e.Target, Typeflag: map[tree.Type]byte{tree.File: tar.TypeReg, tree.Dir: tar.TypeDir, tree.Link: tar.TypeSymlink, tree.Hard: tar.TypeLink}[e.Type]}
				if e.Type == tree.Dir {
					h.Name += "/"
				}
				if r.IntN(12) == 0 {
					h.Name = name()
				}
				if r.IntN(12) == 0 {
					h.Linkname = target()
				}
				if tw.WriteHeader(&h) == nil && h.Size > 0 {
					io.WriteString(tw, "evil")
				}
			}
			tw.Close()
		})
		fatal.If(t, errors.Join(j.RecordSealed(key, sealed), j.Record(journal.EventPacked, steps.Key{App: "app"}, steps.Packed{Items: []steps.Key{key}})))
		if r.IntN(2) == 0 {
			updates := steps.PathUpdates{Places: 1, Within: 1}
			var err error
			updates.List, err = j.SealJSON("app", "data.paths.json"+seal.Ending, []pathmap.Edit{{In: name(), At: r.IntN(9) - 1, Old: []byte(pick("", "1", "root", "/srv")), New: []byte(pick("", "evil", "/srv"))}})
			fatal.If(t, err)
			fatal.If(t, j.Record(journal.EventPathsPlanned, key, updates))
		}
		fatal.If(t, j.Kit.MendChecksums())
		for range 4 {
			j := o.Job(o.New)
			switch r.IntN(4) {
			case 0, 1:
				if out, err := j.Unpack(ctx); err == nil && out[0].Err == nil && len(out[0].Blocks) == 0 {
					placed++
				}
			case 2:
				j.Verify(ctx)
			case 3:
				j.Undo(ctx)
			}
		}
		unharmed(t, o, seed)
		os.RemoveAll(o.Dir)
		if t.Failed() {
			return
		}
	}
	if placed == 0 {
		t.Error("no forged list was valid, so nothing was tried")
	}
}

// TestForgedPlace checks that a forged destination is reported as such, and named.
func TestForgedPlace(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: data, kind: folder, path: /srv/data}]\n", "linux", map[string]string{"old/srv/data/x": "x", "new/etc/passwd": "users"})
	o.Pack()
	o.Unpack()
	j := o.Job(o.New)
	key := steps.Key{App: "app", Item: "data"}
	fatal.If(t, j.Record(journal.EventPlaced, key, steps.Placed{To: "/etc", Aside: "/srv/data"}))
	for name, do := range map[string]func() error{
		"undo":   func() error { out, err := o.Job(o.New).Undo(ctx); return firstErr(out[0].Err, err) },
		"unpack": func() error { out, err := o.Job(o.New).Unpack(ctx); return firstErr(out[0].Err, err) },
		"verify": func() error { out, err := o.Job(o.New).Verify(ctx); return firstErr(out[0].Err, err) },
	} {
		if err := do(); fault.KindOf(err) != fault.Outside || !strings.Contains(fmt.Sprint(err), "/etc") {
			t.Errorf("%s: %v", name, err)
		}
	}
	// Choices that are only in the kit stop every step.
	fatal.If(t, j.Record(journal.EventPlaced, key, steps.Placed{To: "/srv/data"}))
	fatal.If(t, j.Record(journal.EventChosen, steps.Key{}, steps.Chosen{Users: map[string]string{"maren": "root"}}))
	out, err := o.Job(o.New).Verify(ctx)
	if err != nil || office.Blocked(out[0]) != "destinations-confirmed" || !strings.Contains(out[0].Blocks[0].Why, "user maren: root") {
		t.Errorf("%v %+v", err, out[0].Blocks)
	}
	again := o.Job(o.New)
	again.Choices.Users = map[string]string{"maren": "root"}
	fatal.If(t, again.Redirect())
	if out, err := again.Verify(ctx); err != nil || office.Blocked(out[0]) != "" {
		t.Errorf("%v %+v", err, out[0].Blocks)
	}
}

// TestForgedScope seals an item whose name leads out of the folder that contains several items.
func TestForgedScope(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"years@../../victim", "years@/srv/victim", "data@../victim"} {
		o := office.New(t, "items:\n  - {name: data, kind: folder, path: /srv/deep/data}\n  - {name: years, kind: folder, path: /srv/deep/years, each: '*'}\n", "linux",
			map[string]string{"old/srv/deep/data/x": "x", "old/srv/deep/years/2025/y": "y", "new/srv/victim/a": "mine"})
		o.Pack()
		j := o.Job(o.New)
		key := steps.Key{App: "app", Item: name}
		fatal.If(t, j.Record(journal.EventSealed, key, j.State.Items[steps.Key{App: "app", Item: "data"}].Sealed))
		packed := *j.State.Packed["app"]
		packed.Items = append(packed.Items, key)
		fatal.If(t, j.Record(journal.EventPacked, steps.Key{App: "app"}, packed))
		out, err := o.Job(o.New).Unpack(ctx)
		if fault.KindOf(firstErr(err, out[0].Err)) != fault.Outside || o.Text("new/srv/victim/a") != "mine" || o.Text("new/srv/victim/x") != "" {
			t.Errorf("%s: %v %v", name, err, out[0].Err)
		}
	}
}

func firstErr(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// TestForgedPathUpdates seals path updates that hide a change, as somebody with the passphrase could.
// Verify does not reverse them.
func TestForgedPathUpdates(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: settings, kind: folder, path: /srv/app, update-paths: ['*.ini']}]\n", "linux", map[string]string{"old/srv/app/a.ini": "account=1111\n"})
	o.Pack()
	o.Unpack()
	lay.Out(t, o.Dir, map[string]string{"new/srv/app/a.ini": "account=2222\n"})
	j := o.Job(o.New)
	r := steps.PathUpdates{Places: 1, Within: 1}
	var err error
	r.List, err = j.SealJSON("app", "settings.paths.json"+seal.Ending, []pathmap.Edit{{In: "a.ini", At: 8, Old: []byte("1111"), New: []byte("2222")}})
	fatal.If(t, err)
	fatal.If(t, errors.Join(j.Record(journal.EventPathsPlanned, steps.Key{App: "app", Item: "settings"}, r), j.Kit.MendChecksums()))
	if v := o.Verify(); v.Equal() || !strings.Contains(fmt.Sprint(v.Items), "not agreed to on this computer") || !strings.Contains(fmt.Sprint(v.Items), "a.ini") {
		t.Errorf("%+v", v.Items)
	}
}

// TestTwoKits unpacks two kits with the same app on one computer at the same time. One of them is
// told that the other is at work, or both complete one after the other. No file is lost.
func TestTwoKits(t *testing.T) {
	t.Parallel()
	files := map[string]string{}
	for i := range 400 {
		files[fmt.Sprintf("old/srv/data/%d", i)] = fmt.Sprint(i)
	}
	const card = "items: [{name: data, kind: folder, path: /srv/data}]\n"
	one, two := office.New(t, card, "linux", files), office.New(t, card, "linux", files)
	one.Pack()
	two.Pack()
	type result struct {
		busy bool
		err  error
	}
	results := make(chan result)
	for _, o := range []*office.Office{one, two} {
		go func() {
			r := o.Run(o.Kit, one.New)
			r.Marks = filepath.Join(one.Dir, "marks")
			out, err := move.New(r).Unpack(ctx)
			results <- result{fault.KindOf(out[0].Err) == fault.Busy, firstErr(err, out[0].Err)}
		}()
	}
	for range 2 {
		if r := <-results; r.err != nil && !r.busy {
			t.Error(r.err)
		}
	}
	now := office.Contents(t, filepath.Join(one.Dir, "new/srv/data"))
	if len(now) != 400 || now["7"] != "7" {
		t.Errorf("%d files are there", len(now))
	}
}

// sealing seals what fill writes as a stream of the item data.
func sealing(t *testing.T, j *move.Move, ending string, fill func(io.Writer)) []seal.Part {
	t.Helper()
	w, err := j.Seal("app", "data"+ending, 1)
	fatal.If(t, err)
	fill(w)
	parts, err := w.Close()
	fatal.If(t, err)
	return parts
}
