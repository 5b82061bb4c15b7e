package test

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"movekit/test/lay"
)

// app is a real application of Debian, with functions that create its data and show it.
type app struct {
	name  string
	files map[string]string // below the home, which HOME stands for in them
	begin [][]string        // commands that make the rest
	moves []string          // what a card is drafted of, below the home
	shows []string          // the command
}

var apps = []app{
	{"task", map[string]string{".taskrc": "data.location=HOME/.task\nconfirmation=off\ncolor=off\n"},
		[][]string{{"task", "add", "Paint", "buoy", "7"}, {"task", "add", "Call", "the", "chandler"}}, []string{".taskrc", ".task"}, []string{"task", "rc.verbose=nothing", "minimal"}},
	{"ledger", map[string]string{"books/main.ledger": "include HOME/books/2026.ledger\n", "books/2026.ledger": "2026/11/20 Mooring fees\n  Assets:Harbour  $120.00\n  Income:Moorings\n", ".ledgerrc": "--file HOME/books/main.ledger\n"},
		nil, []string{"books", ".ledgerrc"}, []string{"ledger", "balance"}},
	{"notmuch", map[string]string{
		".notmuch-config": "[database]\npath=HOME/Post\n[user]\nname=Harbour office\nprimary_email=office@tern.example\n[new]\ntags=new\n",
		"Post/new/1.mail": "From: a@tern.example\nTo: office@tern.example\nSubject: Berth A7\nMessage-ID: <1@tern.example>\nDate: Fri, 20 Nov 2026 10:00:00 +0000\n\nPlease.\n"},
		[][]string{{"notmuch", "new"}}, []string{".notmuch-config", "Post"}, []string{"notmuch", "count", "subject:berth"}},
	{"newsboat", map[string]string{".newsboat/urls": "file://HOME/notices.xml\n", "notices.xml": `<?xml version="1.0"?><rss version="2.0"><channel><title>Notices</title><link>https://tern.example</link><description>x</description><item><title>Buoy 7 is adrift</title><guid>n1</guid><link>https://tern.example/1</link></item></channel></rss>`},
		[][]string{{"newsboat", "-x", "reload"}}, []string{".newsboat", "notices.xml"}, []string{"newsboat", "-x", "print-unread"}},
}

// TestRealApps moves applications with drafted cards, from one user's home to another user's home
// elsewhere. Their own commands show the same data there, with the old home gone, and no file
// contains the old path.
func TestRealApps(t *testing.T) {
	t.Parallel()
	for _, a := range apps {
		t.Run(a.name, func(t *testing.T) {
			t.Parallel()
			need(t, a.name)
			dir := t.TempDir()
			old, now := filepath.Join(dir, "office-a/maren"), filepath.Join(dir, "other/homes/mholm")
			for name, text := range a.files {
				lay.Out(t, old, map[string]string{name: strings.ReplaceAll(text, "HOME", old)})
			}
			lay.Out(t, now, map[string]string{".profile": ""})
			says := func(home string, words ...string) string {
				t.Helper()
				cmd := exec.CommandContext(t.Context(), words[0], words[1:]...)
				cmd.Dir = home
				cmd.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME=", "XDG_DATA_HOME=", "TERM=dumb", "LC_ALL=C.UTF-8")
				cmd.WaitDelay = 10 * time.Second
				out, err := cmd.CombinedOutput()
				if err != nil {
					t.Fatalf("%v: %v\n%s", words, err, out)
				}
				return string(out)
			}
			for _, words := range a.begin {
				says(old, words...)
			}
			before := says(old, a.shows...)
			if strings.TrimSpace(before) == "" || strings.TrimSpace(before) == "0" {
				t.Fatalf("%s shows nothing to begin with: %q", a.name, before)
			}
			move := func(home string, args ...string) said {
				t.Helper()
				cmd := command(t.Context(), dir, args...)
				cmd.Env = append(cmd.Env, "HOME="+home, "XDG_CONFIG_HOME=", "XDG_DATA_HOME=")
				s := finish(t, cmd)
				if s.code != 0 {
					t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
				}
				return s
			}
			draft := []string{"card", "draft", a.name, "--to", "card.yaml"}
			for _, m := range a.moves {
				draft = append(draft, "--from", filepath.Join(old, m))
			}
			move(old, draft...)
			kit := []string{"--kit", "kit"}
			move(old, "new", "kit", "--cards", "card.yaml", "--keep", "--yes")
			move(old, append([]string{"pack"}, kit...)...)
			if err := os.Rename(filepath.Join(dir, "office-a"), filepath.Join(dir, "gone")); err != nil {
				t.Fatal(err)
			}
			user := filepath.Base(old)
			s := move(now, append([]string{"unpack", "--yes", "--user", user + "=" + filepath.Base(now)}, kit...)...)
			if !strings.Contains(s.out, "in its settings") {
				t.Errorf("no path was updated: %s%s", s.out, s.err)
			}
			filepath.WalkDir(now, func(path string, e fs.DirEntry, _ error) error {
				if data, err := os.ReadFile(path); err == nil && bytes.Contains(data, []byte(old)) {
					t.Errorf("%s names the old home", path)
				}
				return nil
			})
			move(now, append([]string{"verify"}, kit...)...)
			if after := says(now, a.shows...); after != before {
				t.Errorf("%s shows\n%s\nand showed\n%s", a.name, after, before)
			}
		})
	}
}

// TestCalendarServer moves a calendar server's collections, whose path is in a setting, into
// another folder and to its own user, who has another number on the new computer. The server itself
// finds them all.
func TestCalendarServer(t *testing.T) {
	t.Parallel()
	need(t, "/usr/bin/python3")
	if err := exec.Command("/usr/bin/python3", "-c", "import radicale").Run(); err != nil && os.Getenv("CI") != "true" {
		t.Skip("the calendar server is not installed")
	}
	if os.Geteuid() != 0 {
		t.Skip("only root gives files to others")
	}
	dir := t.TempDir()
	const event = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20261120T100000Z\r\nDTSTART:20261120T100000Z\r\nSUMMARY:Lift\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/etc/passwd": "radicale:x:970:970::/var/lib/radicale:/usr/sbin/nologin\n", "new/etc/passwd": "radicale:x:981:981::/var/lib/radicale:/usr/sbin/nologin\n",
		"old/etc/group": "radicale:x:970:\n", "new/etc/group": "radicale:x:981:\n",
		"old/etc/radicale/config": "[storage]\nfilesystem_folder = /var/lib/radicale/collections\n", "new/etc/radicale/config": "[storage]\nfilesystem_folder = /srv/calendars\n", "new/srv/x": "",
		"old/var/lib/radicale/collections/collection-root/maren/lifts/.Radicale.props": `{"tag": "VCALENDAR"}`, "old/var/lib/radicale/collections/collection-root/maren/lifts/1.ics": event,
		"calendar.yaml": "card: 1\nname: calendar\ntitle: Pier Calendar\nitems: [{name: store, kind: folder, path: {from: {file: /etc/radicale/config, key: storage/filesystem_folder, format: ini}}, counts: [{name: entries, files: '**/*.ics'}]}]\n",
	})
	filepath.WalkDir(filepath.Join(dir, "old/var/lib/radicale"), func(path string, _ fs.DirEntry, _ error) error { return os.Chown(path, 970, 970) })
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "calendar.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "verify")
	store := filepath.Join(dir, "new/srv/calendars")
	filepath.WalkDir(store, func(path string, e fs.DirEntry, _ error) error {
		info, err := os.Lstat(path)
		if err != nil || info.Sys().(*syscall.Stat_t).Uid != 981 {
			t.Errorf("%s belongs to another: %+v %v", path, info, err)
		}
		return nil
	})
	lay.Out(t, dir, map[string]string{"try.conf": "[storage]\nfilesystem_folder = " + store + "\n"})
	check := func() error {
		out, err := exec.CommandContext(t.Context(), "/usr/bin/python3", "-m", "radicale", "--config", filepath.Join(dir, "try.conf"), "--verify-storage").CombinedOutput()
		if err != nil {
			t.Logf("%s", out)
		}
		return err
	}
	if err := check(); err != nil {
		t.Errorf("the server: %v", err)
	}
	os.WriteFile(filepath.Join(store, "collection-root/maren/lifts/1.ics"), []byte("no calendar"), 0o600)
	if err := check(); err == nil {
		t.Error("the server's own check sees nothing")
	}
}
