package test

import (
	"bufio"
	"encoding/json"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// runningDesk is a running `movekit desk serve`.
type runningDesk struct {
	url, key string
	pin      string // of its certificate; "" without TLS
	stop     func()
}

func startDesk(t *testing.T, dir, listen string, more ...string) runningDesk {
	t.Helper()
	cmd := command(t.Context(), dir, append([]string{"desk", "serve", "--quiet", "--listen", listen}, more...)...)
	out, err := cmd.StdoutPipe()
	fatal.If(t, err)
	fatal.If(t, cmd.Start())
	lines := bufio.NewScanner(out)
	word := func() string {
		lines.Scan()
		f := strings.Fields(lines.Text())
		if len(f) == 0 {
			t.Fatal("the desk did not start")
		}
		return f[len(f)-1]
	}
	d := runningDesk{url: word(), key: word()}
	if strings.HasPrefix(d.url, "https:") {
		d.pin = word()
	}
	d.stop = func() { cmd.Process.Kill(); cmd.Wait() }
	t.Cleanup(d.stop)
	return d
}

// seat adds a seat at the desk at url to the office's card.
func seat(t *testing.T, dir string, d runningDesk, address string) {
	t.Helper()
	pinned := ""
	if d.pin != "" {
		pinned = ", certificate: " + d.pin
	}
	lay.Out(t, dir, map[string]string{
		"old/srv/licence.ini": "Serial=SN-0042-TERN\nCode=lamp-7\n",
		"diary.yaml": `card: 1
name: diary
title: Hoistbook
version: {file: /opt/app/version, rule: same-minor}
items:
  - {name: diary, kind: folder, path: /srv/diary}
licences:
  - name: seat
    method: desk
    product: hoistbook
    serial: {file: /srv/licence.ini, pattern: 'Serial=(\S+)'}
    code: {file: /srv/licence.ini, pattern: 'Code=(\S+)'}
    token: /srv/activation.jws
    desk: {url: '` + address + `', key: ` + d.key + pinned + `}
`})
}

func addLicence(t *testing.T, dir, yaml string) {
	t.Helper()
	lay.Out(t, dir, map[string]string{"licences.yaml": yaml})
	must(t, 0, dir, "desk", "add", "licences.yaml")
}

const oneSeat = "- {serial: SN-0042-TERN, code: lamp-7, product: hoistbook, covers: '3', seats: 1, transfers: 1, active: [OLD-ID]}\n"

// oldID is the id of the office's old computer at the desk.
func oldID(t *testing.T, dir string) string {
	t.Helper()
	made(t, dir)
	data, err := os.ReadFile(filepath.Join(dir, "kit/kit.yaml"))
	fatal.If(t, err)
	_, rest, _ := strings.Cut(string(data), "id: ")
	_, rest, _ = strings.Cut(rest, "  id: ")
	id, _, _ := strings.Cut(rest, "\n")
	os.RemoveAll(filepath.Join(dir, "kit"))
	return strings.Trim(strings.TrimSpace(id), `"'`)
}

// atDesk returns the desk's state of the office's licence.
func atDesk(t *testing.T, dir string) (active []string, left int) {
	t.Helper()
	var rows []struct {
		Active []string
		Left   int `json:"transfers_left"`
	}
	s := must(t, 0, dir, "desk", "list", "--json")
	if err := json.Unmarshal([]byte(s.out), &rows); err != nil || len(rows) != 1 {
		t.Fatalf("%v %s", err, s.out)
	}
	return rows[0].Active, rows[0].Left
}

func TestLicenceMoves(t *testing.T) {
	t.Parallel()
	dir := office(t)
	id := oldID(t, dir)
	d := startDesk(t, dir, "127.0.0.1:0")
	addLicence(t, dir, strings.Replace(oneSeat, "OLD-ID", id, 1))
	seat(t, dir, d, d.url)
	lay.Out(t, dir, map[string]string{"old/srv/activation.jws": "old activation\n"})
	// Without a kit, the desk is asked too; but not with --local.
	for _, local := range []bool{false, true} {
		s := must(t, 0, dir, append([]string{"licence", "list", "--root", "old", "--cards", "diary.yaml"}, map[bool][]string{true: {"--local"}}[local]...)...)
		if strings.Contains(s.out, "active on this computer, 1 of 1 seat taken, 1 transfer left") == local {
			t.Errorf("local %v: %s", local, s.out)
		}
	}
	made(t, dir)
	step(t, 4, dir, "old", "deactivate", "--yes").tells(t, "is not packed")
	step(t, 0, dir, "old", "pack")
	if s := step(t, 4, dir, "new", "activate", "--yes"); !strings.Contains(s.err, "the licence seat is active on OLD") {
		t.Error(s.err)
	}
	if active, left := atDesk(t, dir); len(active) != 1 || active[0] != id || left != 1 {
		t.Errorf("before the move: %v, %d left", active, left)
	}
	s := step(t, 0, dir, "old", "deactivate", "--yes")
	if !strings.Contains(s.out, "••••TERN") || strings.Contains(s.out, "SN-0042") {
		t.Errorf("the serial is not masked: %s", s.out)
	}
	if _, err := os.Stat(filepath.Join(dir, "old/srv/activation.jws")); err == nil {
		t.Error("the old computer's activation is still in its place")
	}
	if s := step(t, 0, dir, "old", "deactivate", "--yes"); !strings.Contains(s.out, "already deactivated") {
		t.Error(s.out)
	}
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 3, dir, "new", "verify"); !strings.Contains(s.out, "not activated") {
		t.Errorf("verify before the activation: %s", s.out)
	}
	step(t, 0, dir, "new", "activate", "--yes")
	if s := step(t, 0, dir, "new", "activate", "--yes"); !strings.Contains(s.out, "already activated") {
		t.Error(s.out)
	}
	if active, left := atDesk(t, dir); len(active) != 1 || active[0] == id || left != 0 {
		t.Errorf("after the move: %v, %d left", active, left)
	}
	step(t, 0, dir, "new", "verify")
	if token, err := os.ReadFile(filepath.Join(dir, "new/srv/activation.jws")); err != nil || strings.Count(string(token), ".") != 2 {
		t.Errorf("the app's activation: %q %v", token, err)
	}
	// Without the desk, the kit's record is no proof.
	d.stop()
	s = step(t, 1, dir, "new", "verify")
	s.tells(t, "could not be verified")
	if !strings.Contains(s.out, "Not everything is verified") {
		t.Error(s.out)
	}
}

func TestDeskTroubles(t *testing.T) {
	t.Parallel()
	dir := office(t)
	id := oldID(t, dir)
	d := startDesk(t, dir, "127.0.0.1:0")
	addLicence(t, dir, strings.Replace(oneSeat, "OLD-ID", id, 1))
	html := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<html>sign in</html>") }))
	defer html.Close()
	closed, _ := net.Listen("tcp", "127.0.0.1:0")
	closed.Close()
	foreign := t.TempDir()
	other := startDesk(t, foreign, "127.0.0.1:0")
	addLicence(t, foreign, strings.Replace(oneSeat, "OLD-ID", id, 1))
	for address, what := range map[string]string{
		html.URL: ") is not from a licence desk", other.url: "not signed with the key", "http://" + closed.Addr().String(): "cannot be reached",
	} {
		os.RemoveAll(filepath.Join(dir, "kit"))
		seat(t, dir, d, address)
		made(t, dir)
		step(t, 0, dir, "old", "pack")
		step(t, 1, dir, "old", "deactivate", "--yes").tells(t, what)
		if s := must(t, 0, dir, "status", "--kit", "kit"); !strings.Contains(s.out, "next: movekit deactivate") {
			t.Error(s.out)
		}
	}
	if active, _ := atDesk(t, dir); len(active) != 1 {
		t.Errorf("the licence is active on %v", active)
	}
	// Requests that the desk refuses.
	for yaml, what := range map[string]string{
		strings.Replace(oneSeat, "active: [OLD-ID]", "active: [stranger]", 1):                                                        "does not belong to this move (1 of 1 seats are taken)",
		strings.Replace(oneSeat, "lamp-7", "lamp-8", 1):                                                                              "No licence has this serial",
		strings.NewReplacer("transfers: 1", "transfers: 0", "active: [OLD-ID]", "vacated: ["+id+"], free-seats: 1").Replace(oneSeat): "no transfers left",
		strings.NewReplacer("covers: '3'", "covers: '2'", "active: [OLD-ID]", "vacated: ["+id+"]").Replace(oneSeat):                  "the licence covers version 2",
		strings.Replace(oneSeat, "active: [OLD-ID]", "active: [stranger], vacated: ["+id+"]", 1):                                     "does not belong to this move (1 of 1 seats are taken)",
	} {
		dir := office(t)
		d := startDesk(t, dir, "127.0.0.1:0")
		addLicence(t, dir, strings.Replace(yaml, "OLD-ID", id, 1))
		seat(t, dir, d, d.url)
		made(t, dir)
		step(t, 0, dir, "old", "pack")
		s := run(t, dir, "deactivate", "--yes", "--kit", "kit", "--root", "old")
		if s.code == 0 {
			run(t, dir, "unpack", "--kit", "kit", "--root", "new")
			s = run(t, dir, "activate", "--yes", "--kit", "kit", "--root", "new")
		}
		if s.code != 1 && s.code != 4 {
			t.Errorf("%q: exit %d", what, s.code)
		}
		s.tells(t, what)
		for _, secret := range []string{"SN-0042", "lamp-"} {
			if strings.Contains(s.out+s.err, secret) {
				t.Errorf("the secret %s is told: %s", secret, s.err)
			}
		}
	}
}

// TestStorm moves a licence over a network that loses requests and answers, with a program that is
// killed and a desk that restarts. At the end the licence is active on one computer, and one
// transfer was used.
func TestStorm(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 3))
	for move := range 4 {
		dir := office(t)
		id := oldID(t, dir)
		var target atomic.Pointer[url.URL]
		var lose atomic.Int64
		lose.Store(random.Int64())
		proxy := httptest.NewServer(&httputil.ReverseProxy{
			Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target.Load()) },
			ModifyResponse: func(*http.Response) error {
				if lose.Add(0x9e3779b97f4a7c1)%10 < 3 {
					return io.ErrUnexpectedEOF // the answer is lost
				}
				return nil
			},
			ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) {
				if c, _, err := http.NewResponseController(w).Hijack(); err == nil {
					c.Close()
				}
			},
		})
		defer proxy.Close()
		d := startDesk(t, dir, "127.0.0.1:0")
		u, _ := url.Parse(d.url)
		target.Store(u)
		addLicence(t, dir, strings.NewReplacer("OLD-ID", id, "transfers: 1", "transfers: 5").Replace(oneSeat))
		seat(t, dir, d, proxy.URL)
		made(t, dir)
		step(t, 0, dir, "old", "pack")
		step(t, 0, dir, "new", "unpack")
		for _, s := range [][]string{{"deactivate", "old"}, {"activate", "new"}} {
			args := []string{s[0], "--yes", "--kit", "kit", "--root", s[1]}
			for range 4 {
				killed(t, time.Duration(random.Int64N(int64(700*time.Millisecond))), dir, args...)
				if random.IntN(3) == 0 {
					d.stop()
					d = startDesk(t, dir, u.Host)
				}
			}
			done := false
			for try := 0; try < 20 && !done; try++ {
				done = run(t, dir, args...).code == 0
			}
			if !done {
				t.Fatalf("move %d: %s never came to its end", move, s[0])
			}
		}
		if active, left := atDesk(t, dir); len(active) != 1 || active[0] == id || left != 4 {
			t.Errorf("move %d: active on %v, %d transfers left of 5", move, active, left)
		}
		must(t, 0, dir, "inspect", "--kit", "kit")
	}
}

// TestLicenceByFile moves a seat between computers without network: requests and answers are in
// files, and the desk is up only for the exchange.
func TestLicenceByFile(t *testing.T) {
	t.Parallel()
	dir := office(t)
	addLicence(t, dir, strings.Replace(oneSeat, "OLD-ID", oldID(t, dir), 1))
	d := startDesk(t, dir, "127.0.0.1:0")
	seat(t, dir, d, d.url)
	card, err := os.ReadFile(filepath.Join(dir, "diary.yaml"))
	fatal.If(t, err)
	// The kit has another app with a seat, which is not packed.
	lay.Out(t, dir, map[string]string{"books.yaml": strings.NewReplacer("diary", "books", "Hoistbook", "Tally Book", "SN-0042", "SN-0043").Replace(string(card)), "old/srv/books/a": "1"})
	made(t, dir, "--cards", "books.yaml", "--to", "NEW")
	listen := strings.TrimPrefix(d.url, "http://")
	exchange := func(code int, request, answer string) said {
		t.Helper()
		up := startDesk(t, dir, listen)
		defer up.stop()
		return must(t, code, dir, "licence", "exchange", request, answer)
	}
	d.stop()
	step(t, 0, dir, "old", "pack", "diary")
	if s := step(t, 4, dir, "new", "licence", "request", "diary", "--to", "early.json"); !strings.Contains(s.err, "old-deactivated") {
		t.Errorf("activated before it was deactivated: %s", s.err)
	}
	s := step(t, 0, dir, "old", "licence", "request", "diary", "--to", "out.json")
	if !strings.Contains(s.out, "request to deactivate") {
		t.Errorf("request: %s", s.out)
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "out.json")); strings.Contains(string(data), "SN-0042") || strings.Contains(string(data), "lamp-7") {
		t.Errorf("the request tells serial or code: %s", data)
	}
	must(t, 1, dir, "licence", "exchange", "out.json", "none.json") // no network here either
	exchange(0, "out.json", "in.json")
	if active, _ := atDesk(t, dir); len(active) != 0 {
		t.Errorf("active at the desk: %v", active)
	}
	exchange(0, "out.json", "again.json") // sent twice, carried out once
	if s := step(t, 0, dir, "old", "licence", "accept", "in.json"); !strings.Contains(s.out, "deactivated") {
		t.Errorf("accept: %s", s.out)
	}
	for name, change := range map[string]func(string) string{
		"an answer accepted already": func(s string) string { return s },
		"an answer of another kit":   func(s string) string { return strings.Replace(s, `"kit": "`, `"kit": "0`, 1) },
		"a changed answer":           func(s string) string { return strings.Replace(s, ".", "x.", 1) },
		"no answers":                 func(string) string { return "<html>sign in</html>" },
	} {
		text, err := os.ReadFile(filepath.Join(dir, "in.json"))
		fatal.If(t, err)
		lay.Out(t, dir, map[string]string{"bad.json": change(string(text))})
		if s := run(t, dir, "licence", "accept", "bad.json", "--kit", "kit", "--root", "old"); s.code != 1 && s.code != 2 {
			t.Errorf("%s: %d %s", name, s.code, s.err)
		}
	}
	// An older request: its answer does not match the newest one.
	step(t, 0, dir, "new", "unpack", "diary")
	step(t, 0, dir, "new", "licence", "request", "diary", "--to", "first.json")
	step(t, 0, dir, "new", "licence", "request", "diary", "--to", "second.json")
	exchange(0, "first.json", "first-answer.json")
	if s := step(t, 1, dir, "new", "licence", "accept", "first-answer.json"); !strings.Contains(s.err, "belongs to another request") {
		t.Errorf("an older request: %s", s.err)
	}
	exchange(0, "second.json", "second-answer.json")
	step(t, 0, dir, "new", "unpack", "diary")
	if s := step(t, 0, dir, "new", "license", "accept", "second-answer.json"); !strings.Contains(s.out, "activated") {
		t.Errorf("accept: %s", s.out)
	}
	if active, left := atDesk(t, dir); len(active) != 1 || left != 0 {
		t.Errorf("active at the desk: %v, %d left", active, left)
	}
	if _, err := os.Stat(filepath.Join(dir, "new/srv/activation.jws")); err != nil {
		t.Errorf("the app's activation: %v", err)
	}
	up := startDesk(t, dir, listen)
	defer up.stop()
	step(t, 0, dir, "new", "verify", "diary")
	// A request that somebody changed is not carried out.
	var f map[string]any
	data, _ := os.ReadFile(filepath.Join(dir, "second.json"))
	fatal.If(t, json.Unmarshal(data, &f))
	request := f["requests"].([]any)[0].(map[string]any)
	request["idempotency_key"] = "another-key-of-somebody"
	request["request"].(map[string]any)["computer"] = "a-third-computer"
	changed, _ := json.Marshal(f)
	lay.Out(t, dir, map[string]string{"changed.json": string(changed), "text.json": "not json"})
	if s := must(t, 1, dir, "licence", "exchange", "changed.json", "x.json"); !strings.Contains(s.err, "No licence has this") {
		t.Errorf("a changed request: %s", s.err)
	}
	must(t, 2, dir, "licence", "exchange", "text.json", "x.json")
}
