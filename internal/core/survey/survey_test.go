package survey

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/registry"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// look surveys one card on a simulated Linux computer.
func look(t *testing.T, cardText, ident string, files map[string]string, change func(root string, l *Scanner)) *Survey {
	t.Helper()
	root := lay.Disk(t, "linux", files)
	if ident != "" {
		lay.Out(t, root, map[string]string{machine.IdentityFile: lay.Ident("linux", "OLD", "invented-id-1234") + ident})
	}
	c, l := parsed(t, cardText), on(t, root)
	l.Estimate = true
	if change != nil {
		change(root, l)
	}
	s, err := l.Scan(context.Background(), []*card.Card{c}, func(*card.Card) steps.Facts { return steps.Facts{Side: steps.OldSide, Title: "The App"} })
	fatal.If(t, err)
	return s
}

func gates(a App) string {
	var out []string
	for _, b := range a.Blocks {
		out = append(out, b.Gate)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func TestPackStops(t *testing.T) {
	const text = `programs: [pontoon]
version: {file: /opt/v, edition: {file: /opt/app.ini, key: edition}}
items:
  - {name: data, kind: folder, path: /srv/data, needs: [key, dongle, seat]}
  - {name: key, kind: file, path: /srv/key, secret: true, optional: true}
  - {name: win, kind: folder, path: {windows: 'C:\x'}}
  - {name: server, kind: network, address: 'QUAY-SRV:5432', from: {file: /opt/app.ini, key: server}}
  - {name: account, kind: hosted, address: 'https://ledger.example'}
sync:
  - {about: mail, path: /srv/out, files: '**/*.out'}
requires: [{name: A driver, path: /lib/driver}, {name: A font, path: /lib/font}]
licences:
  - {name: dongle, method: token, usb: '1d6b:0002', deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}
  - {name: seat, method: account, deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}
`
	s := look(t, text, "running: [{name: pontoon, pid: 7}, {name: backup, pid: 9, open: [/srv/data/a.rec, /etc/x]}]\nadapters: [{name: Stick, removable: true, disabled: true}, {name: Board}]\n", map[string]string{
		"opt/v": "v4.1b", "opt/app.ini": "edition=Harbour\nserver=OTHER:1\n", "srv/data/a.rec": "x", "srv/out/1/a.out": "x", "srv/out/b.out": "x", "lib/font": "x",
	}, nil)
	a := s.Apps[0]
	if got := strings.Join(a.Facts.Pack.LacksNeed, "; "); got != "data needs key, which is missing; data needs dongle, which is missing" {
		t.Errorf("what is missed: %q", got)
	}
	if got, want := gates(a), "app-closed dependencies-present dependencies-present files-closed items-present sync-done"; got != want {
		t.Errorf("stopped by %q, want %q: %+v", got, want, a.Blocks)
	}
	if a.Version != "v4.1b" || a.Edition != "Harbour" || !strings.HasSuffix(a.VersionFrom, "/opt/v") {
		t.Errorf("version %q %q %q", a.Version, a.Edition, a.VersionFrom)
	}
	states := map[string]item.State{}
	for _, i := range a.Items {
		states[i.Item] = i.State
	}
	if fmt.Sprint(states) != fmt.Sprint(map[string]item.State{"data": item.IsHere, "key": item.Missing, "win": item.Missing, "server": item.OnServer, "account": item.Hosted}) {
		t.Errorf("states %v", states)
	}
	if a.Items[3].Path != "OTHER:1" || a.Items[3].Reached != nil {
		t.Errorf("the settings name another server: %+v", a.Items[3])
	}
	if len(a.Items[0].OpenBy) != 1 || a.Items[0].OpenBy[0] != "backup (process 9)" {
		t.Errorf("open by %v", a.Items[0].OpenBy)
	}
	if a.Sync[0].Finished || !strings.Contains(a.Sync[0].Why, "2 files waiting") {
		t.Errorf("sync %+v", a.Sync)
	}
	if a.Requires[0].Here || !a.Requires[1].Here {
		t.Errorf("requires %+v", a.Requires)
	}
	if !slices.ContainsFunc(a.Blocks, func(b steps.Block) bool { return strings.Contains(b.Why, "no path for a linux computer") }) {
		t.Errorf("a path for another system: %+v", a.Blocks)
	}
	if s.HardwareID == "invented-id-1234" || len(s.Adapters) != 2 || s.Adapters[0].Risk() == "" || s.Adapters[1].Risk() != "" {
		t.Errorf("hardware %q %+v", s.HardwareID, s.Adapters)
	}
}

func TestSyncQuery(t *testing.T) {
	for _, c := range []struct {
		rows     string
		query    string
		finished bool
		known    bool
	}{
		{"(1)", "SELECT count(*) FROM outbox", false, true}, {"", "SELECT count(*) FROM outbox", true, true},
		{"(1)", "SELECT count(*) FROM outbox WHERE id > 1", true, true}, {"", "SELECT count(*) FROM nowhere", false, false},
	} {
		s := look(t, "items: [{name: data, kind: sqlite, path: /srv/b.db}]\nsync: [{about: bookings, item: data, query: "+c.query+"}]\n", "", map[string]string{}, func(root string, _ *Scanner) {
			os.MkdirAll(filepath.Join(root, "srv"), 0o755)
			db, err := sql.Open("sqlite", filepath.Join(root, "srv/b.db"))
			fatal.If(t, err)
			defer db.Close()
			db.Exec("CREATE TABLE outbox (id INTEGER)")
			if c.rows != "" {
				db.Exec("INSERT INTO outbox VALUES " + c.rows)
			}
		})
		if got := s.Apps[0].Sync[0]; got.Finished != c.finished || got.Known != c.known {
			t.Errorf("%s with %q: %+v", c.query, c.rows, got)
		}
	}
}

// TestUnreadableIsNamed needs a user without full read rights.
func TestUnreadableIsNamed(t *testing.T) {
	if os.Geteuid() == 0 {
		t.Skip("root reads everything; the built program's test does this as another user")
	}
	s := look(t, "items: [{name: data, kind: folder, path: /srv}]\n", "", map[string]string{"srv/a/x": "1", "srv/b/y": "2"}, func(root string, _ *Scanner) {
		os.Chmod(filepath.Join(root, "srv/a"), 0)
		t.Cleanup(func() { os.Chmod(filepath.Join(root, "srv/a"), 0o755) })
	})
	if i := s.Apps[0].Items[0]; len(i.Unreadable) != 1 || i.Files != 1 || gates(s.Apps[0]) != "readable" || s.Unreadable != 1 {
		t.Errorf("%+v %s", i, gates(s.Apps[0]))
	}
}

func TestEstimate(t *testing.T) {
	noise := make([]byte, 300_000)
	for i, v := 0, uint32(1); i < len(noise); i++ {
		v = v*1664525 + 1013904223
		noise[i] = byte(v >> 24)
	}
	s := look(t, "items: [{name: text, kind: folder, path: /srv/text}, {name: noise, kind: file, path: /srv/noise}, {name: none, kind: folder, path: /srv/none}]\n", "", map[string]string{
		"srv/text/a": strings.Repeat("mooring account\n", 40000), "srv/text/b": strings.Repeat("paid\n", 100), "srv/noise": string(noise), "srv/none/empty": "",
	}, func(_ string, l *Scanner) { l.KitDir = t.TempDir() })
	i := s.Apps[0].Items
	if i[0].Sealed > i[0].Bytes/10 || i[0].Sealed == 0 {
		t.Errorf("text of %d bytes is estimated to take %d", i[0].Bytes, i[0].Sealed)
	}
	if i[1].Sealed < i[1].Bytes*9/10 || i[1].Sealed > i[1].Bytes*11/10 {
		t.Errorf("noise of %d bytes is estimated to take %d", i[1].Bytes, i[1].Sealed)
	}
	if s.Space.Sealed == 0 || s.Space.Sealed > s.Space.AtMost || !s.Space.Known || s.Space.Free == 0 {
		t.Errorf("space %+v", s.Space)
	}
}

func TestHundredUsers(t *testing.T) {
	files := map[string]string{}
	var passwd strings.Builder
	for i := range 100 {
		fmt.Fprintf(&passwd, "user%02d:x:%d:1000::/home/user%02d:/bin/bash\n", i, 1000+i, i)
		files[fmt.Sprintf("home/user%02d/.config/app/s.ini", i)] = "x"
	}
	files["etc/passwd"] = passwd.String()
	s := look(t, "items: [{name: settings, kind: folder, path: $XDG_CONFIG_HOME/app}]\n", "", files, nil)
	if len(s.Apps[0].Items) != 100 || len(s.Users) != 100 || len(s.Apps[0].Blocks) != 0 {
		t.Errorf("%d items, %d users, %v", len(s.Apps[0].Items), len(s.Users), s.Apps[0].Blocks)
	}
}

// TestProtected detects data that Windows encrypted for somebody on this computer, in any form that programs write.
func TestProtected(t *testing.T) {
	blob := "\x01\x00\x00\x00\xd0\x8c\x9d\xdf\x01\x15\xd1\x11\x8c\x7a\x00\xc0\x4f\xc2\x97\xeb and more"
	base := func(lead string) string { return base64.StdEncoding.EncodeToString([]byte(lead + blob)) }
	files := map[string]string{
		"login.dat": blob, "json": `{"v":1}` + blob, "middle.bin": strings.Repeat("x", 100_000) + blob,
		"state.json": `{"encrypted_key":"` + base("DPAPI") + `"}`, "one.xml": "<p>" + base("") + "</p>", "two.xml": "<p>" + base("a") + "</p>", "url.json": strings.NewReplacer("+", "-", "/", "_").Replace(base("")), "escaped.json": strings.ReplaceAll(base(""), "/", `\/`),
		"quay.rdp": string(registry.ToUTF16(fmt.Sprintf("username:s:maren\r\npassword 51:b:%X\r\n", blob))), "small.reg": fmt.Sprintf("%x", blob),
	}
	all := map[string]string{"ProgramData/Tide/plain.ini": "password=", "ProgramData/Tide/empty": "", "ProgramData/Tide/other.b64": base64.StdEncoding.EncodeToString([]byte(strings.Repeat("\x01\x00", 200)))}
	for name, text := range files {
		all["ProgramData/Tide/"+name] = text
	}
	root := lay.Disk(t, "windows", all)
	c := parsed(t, "items: [{name: data, kind: folder, path: '%PROGRAMDATA%\\Tide'}]\n")
	s, err := on(t, root).Scan(context.Background(), []*card.Card{c}, func(*card.Card) steps.Facts { return steps.Facts{Side: steps.OldSide} })
	fatal.If(t, err)
	told := strings.Join(s.Apps[0].Items[0].Details, "\n")
	for name := range files {
		if !strings.Contains(told, name+" has data that Windows encrypted") {
			t.Errorf("%s is not named", name)
		}
	}
	if strings.Contains(told, "plain") || strings.Contains(told, "empty") || strings.Contains(told, "other.b64") {
		t.Errorf("told %q", told)
	}
}

// TestCloud does not take a file whose content is in the cloud for a link. Linux shows it as one on an NTFS disk.
func TestCloud(t *testing.T) {
	root := lay.Disk(t, "windows", map[string]string{"ProgramData/Tide/here.rec": "x"})
	dir := filepath.Join(root, "ProgramData/Tide")
	fatal.If(t, errors.Join(os.Symlink("unsupported reparse tag 0x9000601a", filepath.Join(dir, "plan.rec")), os.Symlink("unsupported reparse tag 0x80000017", filepath.Join(dir, "packed.exe")), os.Symlink("here.rec", filepath.Join(dir, "link"))))
	c := parsed(t, "items: [{name: data, kind: folder, path: '%PROGRAMDATA%\\Tide'}]\n")
	s, err := on(t, root).Scan(context.Background(), []*card.Card{c}, func(*card.Card) steps.Facts { return steps.Facts{Side: steps.OldSide} })
	fatal.If(t, err)
	told := strings.Join(s.Apps[0].Items[0].Unreadable, "\n")
	if !strings.Contains(told, "plan.rec: its content is only in the cloud") || !strings.Contains(told, "packed.exe: Windows stores its content in a form that this system cannot read (reparse tag 0x80000017)") || len(s.Apps[0].Items[0].Unreadable) != 2 {
		t.Errorf("told %q", told)
	}
	if gates(s.Apps[0]) == "" {
		t.Error("the pack is not stopped")
	}
}

// TestFileAndFolder detects a folder if the card expects a file, and the reverse: nothing of it
// would be packed.
func TestFileAndFolder(t *testing.T) {
	s := look(t, "items: [{name: lib, kind: file, path: /srv/lib.photos}, {name: data, kind: folder, path: /srv/data}]\n", "", map[string]string{"srv/lib.photos/a": "x", "srv/data": "x"}, nil)
	missing := strings.Join(s.Apps[0].Facts.Pack.Missing, "; ")
	if gates(s.Apps[0]) != "items-present" || !strings.Contains(missing, "lib.photos is a folder (or a package), but the card's kind needs a file") || !strings.Contains(missing, "data is a file, but the card's kind needs a folder") {
		t.Errorf("%q %s", missing, gates(s.Apps[0]))
	}
}

// TestSyncByCommand asks the app's own program whether everything is sent. A program that fails has not answered.
func TestSyncByCommand(t *testing.T) {
	for script, want := range map[string]Sync{
		"echo all sent":         {Finished: true, Known: true},
		"echo 2 left":           {Known: true, Why: "did not report that sync is finished"},
		"echo all sent; exit 1": {Why: "it ended with code 1: all sent"},
	} {
		c := parsed(t, "items: [{name: data, kind: folder, path: /srv/data}]\nsync: [{about: mail, command: [/bin/sh, -c, '"+script+"'], pattern: 'all sent'}]\n")
		l := on(t, lay.Disk(t, "linux", nil))
		for _, allowed := range []bool{false, true} {
			h := *l.Host
			l.Host = &h
			h.Commands = allowed
			if allowed {
				here, err := machine.Open("")
				fatal.If(t, err)
				l.Computer = here
			}
			got, err := l.sync(t.Context(), c.Sync[0], nil)
			fatal.If(t, err)
			if !allowed {
				want := Sync{About: "mail", Why: got.Why}
				if got != want || !strings.HasPrefix(got.Why, "unknown: ") {
					t.Errorf("%s, not allowed: %+v", script, got)
				}
				continue
			}
			if got.Finished != want.Finished || got.Known != want.Known || !strings.Contains(got.Why, want.Why) {
				t.Errorf("%s: %+v", script, got)
			}
		}
	}
}
