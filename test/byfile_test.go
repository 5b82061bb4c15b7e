package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestLicenceByFile moves a seat between computers without network: requests and
// answers travel as files, the desk is up only while they are exchanged.
func TestLicenceByFile(t *testing.T) {
	t.Parallel()
	dir := office(t)
	addLicence(t, dir, strings.Replace(oneSeat, "OLD-ID", oldID(t, dir), 1))
	d := startDesk(t, dir, "127.0.0.1:0")
	seat(t, dir, d, d.url)
	made(t, dir, "--to", "NEW")
	listen := strings.TrimPrefix(d.url, "http://")
	exchange := func(code int, request, answer string) said {
		t.Helper()
		up := startDesk(t, dir, listen)
		defer up.stop()
		return must(t, code, dir, "licence", "exchange", request, answer)
	}
	d.stop()
	step(t, 0, dir, "old", "pack")
	if s := step(t, 4, dir, "new", "licence", "request", "--to", "early.json"); !strings.Contains(s.err, "old-deactivated") {
		t.Errorf("taken up before it was freed: %s", s.err)
	}
	s := step(t, 0, dir, "old", "licence", "request", "--to", "out.json")
	if !strings.Contains(s.out, "asks to deactivate") {
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
		"an answer taken in already": func(s string) string { return s },
		"an answer of another kit":   func(s string) string { return strings.Replace(s, `"kit": "`, `"kit": "0`, 1) },
		"a changed answer":           func(s string) string { return strings.Replace(s, ".", "x.", 1) },
		"no answers":                 func(string) string { return "<html>sign in</html>" },
	} {
		text, err := os.ReadFile(filepath.Join(dir, "in.json"))
		if err != nil {
			t.Fatal(err)
		}
		lay.Out(t, dir, map[string]string{"bad.json": change(string(text))})
		if s := run(t, dir, "licence", "accept", "bad.json", "--kit", "kit", "--root", "old"); s.code != 1 && s.code != 2 {
			t.Errorf("%s: %d %s", name, s.code, s.err)
		}
	}
	// An older request: its answer is not that of the newest.
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "licence", "request", "--to", "first.json")
	step(t, 0, dir, "new", "licence", "request", "--to", "second.json")
	exchange(0, "first.json", "first-answer.json")
	if s := step(t, 1, dir, "new", "licence", "accept", "first-answer.json"); !strings.Contains(s.err, "belongs to another request") {
		t.Errorf("an older request: %s", s.err)
	}
	exchange(0, "second.json", "second-answer.json")
	step(t, 0, dir, "new", "unpack")
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
	step(t, 0, dir, "new", "verify")
	// A request that somebody changed on the way is not carried out.
	var f map[string]any
	data, _ := os.ReadFile(filepath.Join(dir, "second.json"))
	if err := json.Unmarshal(data, &f); err != nil {
		t.Fatal(err)
	}
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
