package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// ruledSeat is an office with a packed app whose seat at a running desk has rules. more are options
// of the desk.
func ruledSeat(t *testing.T, rules string, more ...string) (string, runningDesk) {
	t.Helper()
	dir := office(t)
	addLicence(t, dir, strings.NewReplacer("OLD-ID", oldID(t, dir), "transfers: 1", "transfers: 2, "+rules).Replace(oneSeat))
	d := startDesk(t, dir, "127.0.0.1:0", more...)
	seat(t, dir, d, d.url)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	return dir, d
}

// TestTakeoverAtTheDesk takes over a seat that is active on the old computer, and waits at a desk
// whose clock is set.
func TestTakeoverAtTheDesk(t *testing.T) {
	t.Parallel()
	dir, _ := ruledSeat(t, "takeover: true, wait: 24h, expires: 2099-12-31")
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 4, dir, "new", "activate", "--yes"); !strings.Contains(s.err, "activate --takeover --because REASON") {
		t.Errorf("active on the old one: %s", s.err)
	}
	step(t, 2, dir, "new", "activate", "--yes", "--takeover", "--because", " ")
	if s := step(t, 2, dir, "new", "activate", "--takeover", "--because", "burnt"); !strings.Contains(s.err, "--yes") {
		t.Errorf("nobody agreed: %s", s.err)
	}
	s := step(t, 0, dir, "new", "activate", "--yes", "--takeover", "--because", "burnt")
	if !strings.Contains(s.err, "1 of the 2 remaining transfers.") || !strings.Contains(s.out, "taken over from OLD") || !strings.Contains(s.err, "because: burnt") {
		t.Errorf("out: %s\nerr: %s", s.out, s.err)
	}
	if active, left := atDesk(t, dir); len(active) != 1 || left != 1 {
		t.Errorf("active on %v, %d left", active, left)
	}
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "verify")
	s = step(t, 0, dir, "new", "status", "--check")
	if !strings.Contains(s.out, "deactivated") || !strings.Contains(s.out, "expires after") || !strings.Contains(s.out, "nothing") {
		t.Errorf("status: %s", s.out)
	}
	step(t, 0, dir, "new", "report")
	if text, _ := os.ReadFile(filepath.Join(dir, "kit/report/handover.txt")); !strings.Contains(string(text), "Reason given: burnt") {
		t.Errorf("the handover: %s", text)
	}
	// If the rule forbids it, and before the waiting time is over.
	dir, _ = ruledSeat(t, "wait: 24h")
	if s := step(t, 4, dir, "new", "activate", "--yes", "--takeover", "--because", "burnt"); !strings.Contains(s.err, "cannot be taken over") {
		t.Errorf("no takeover: %s", s.err)
	}
	step(t, 0, dir, "old", "deactivate", "--yes")
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 4, dir, "new", "activate", "--yes"); !strings.Contains(s.err, "can be activated again from") {
		t.Errorf("too early: %s", s.err)
	}
	if s := must(t, 0, dir, "desk", "clock", "+25h"); !strings.Contains(s.out, "clock shows") {
		t.Error(s.out)
	}
	must(t, 2, dir, "desk", "clock", "tomorrow")
	step(t, 0, dir, "new", "activate", "--yes")
	must(t, 0, dir, "desk", "clock", "real")
	if s := must(t, 0, dir, "desk", "show", "TERN"); !strings.Contains(s.out, "activate") || !strings.Contains(s.out, "can move once every 24h") || strings.Contains(s.out, "SN-0042") {
		t.Errorf("show: %s", s.out)
	}
	must(t, 2, dir, "desk", "show", "none")
}

// TestLostComputerFromTheNewOne deactivates a seat on behalf of a lost computer, and writes letters
// to vendors.
func TestLostComputerFromTheNewOne(t *testing.T) {
	t.Parallel()
	dir, _ := ruledSeat(t, "takeover: false")
	os.RemoveAll(filepath.Join(dir, "old"))
	if s := step(t, 0, dir, "new", "licence", "letter"); !strings.Contains(s.out, "Please deactivate it") || !strings.Contains(s.out, "••••TERN") || strings.Contains(s.out, "lamp-7") {
		t.Errorf("letter: %s", s.out)
	}
	step(t, 2, dir, "new", "licence", "letter", "--with-serial")
	step(t, 0, dir, "new", "licence", "letter", "--with-serial", "--to", "letter.txt")
	text, err := os.ReadFile(filepath.Join(dir, "letter.txt"))
	if err != nil || !strings.Contains(string(text), "SN-0042-TERN") || !strings.Contains(string(text), "lamp-7") {
		t.Errorf("%s %v", text, err)
	}
	step(t, 4, dir, "new", "deactivate", "--yes")
	s := step(t, 0, dir, "new", "deactivate", "--yes", "--lost", "--because", "the disk is dead")
	if !strings.Contains(s.out, "deactivated") || !strings.Contains(s.err, "because: the disk is dead") {
		t.Errorf("%s %s", s.out, s.err)
	}
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "activate", "--yes")
	step(t, 0, dir, "new", "verify")
	if active, left := atDesk(t, dir); len(active) != 1 || left != 1 {
		t.Errorf("active on %v, %d left", active, left)
	}
	var letters []struct{ Please, Lost string }
	j := step(t, 0, dir, "new", "licence", "letter", "--json")
	if err := json.Unmarshal([]byte(j.out), &letters); err != nil || len(letters) != 1 || letters[0].Please != "correct" || letters[0].Lost != "the disk is dead" {
		t.Errorf("%v %s", err, j.out)
	}
}

// TestTakeoverByFile takes over a seat, and deactivates one of a lost computer, with requests in
// files.
func TestTakeoverByFile(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ rule, flag, state string }{{"takeover: true", "--takeover", "taken over from OLD"}, {"takeover: false", "--lost", "deactivated"}} {
		dir, d := ruledSeat(t, c.rule)
		listen := strings.TrimPrefix(d.url, "http://")
		d.stop()
		step(t, 0, dir, "new", "unpack")
		step(t, 2, dir, "new", "licence", "request", c.flag)
		step(t, 0, dir, "new", "licence", "request", c.flag, "--because", "burnt", "--yes", "--to", "ask.json")
		up := startDesk(t, dir, listen)
		must(t, 0, dir, "licence", "exchange", "ask.json", "answer.json")
		up.stop()
		if s := step(t, 0, dir, "new", "licence", "accept", "answer.json"); !strings.Contains(s.out, c.state) {
			t.Errorf("%s: %s", c.flag, s.out)
		}
		want := map[string]int{"--takeover": 1, "--lost": 0}[c.flag]
		if active, _ := atDesk(t, dir); len(active) != want {
			t.Errorf("%s: active on %v", c.flag, active)
		}
	}
	// A takeover cannot be requested by telephone.
	dir, _ := ruledSeat(t, "takeover: true")
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 0, dir, "new", "licence", "request", "--phone", "--takeover", "--because", "burnt", "--yes"); !strings.Contains(s.out, "cannot be requested by telephone") {
		t.Errorf("%s", s.out)
	}
}

// TestByTelephone moves a seat over the telephone.
func TestByTelephone(t *testing.T) {
	t.Parallel()
	dir, d := ruledSeat(t, "takeover: false")
	d.stop()
	step(t, 0, dir, "new", "unpack")
	groups := func(s said) (out []string) {
		words := bufio.NewScanner(strings.NewReader(s.out))
		words.Split(bufio.ScanWords)
		for words.Scan() {
			if w := words.Text(); len(w) == 5 && strings.ToUpper(w) == w {
				out = append(out, w)
			}
		}
		return out
	}
	for _, c := range []struct{ side, done string }{{"old", "deactivated"}, {"new", "activated"}} {
		spoken := groups(step(t, 0, dir, c.side, "licence", "request", "--phone"))
		if len(spoken) != 12 {
			t.Fatalf("%q", spoken)
		}
		wrong := append([]string{}, spoken...)
		wrong[3] = wrong[3][1:] + wrong[3][:1]
		if s := must(t, 1, dir, append([]string{"desk", "phone"}, wrong...)...); !strings.Contains(s.err, "typing error in group 4") {
			t.Errorf("mistyped: %s", s.err)
		}
		s := must(t, 0, dir, "desk", "phone", strings.ToLower(strings.Join(spoken, " ")))
		answer := strings.TrimSpace(strings.TrimPrefix(s.out, "Answer: "))
		bad := answer[1:2] + answer[:1] + answer[2:]
		if bad != answer {
			if s := step(t, 2, dir, c.side, "licence", "accept", "--phone", bad); !strings.Contains(s.err, "typing error in group 1") {
				t.Errorf("mistyped: %s", s.err)
			}
		}
		if s := step(t, 0, dir, c.side, "licence", "accept", "--phone", answer); !strings.Contains(s.out, c.done) {
			t.Errorf("accept: %s", s.out)
		}
		if s := step(t, 1, dir, c.side, "licence", "accept", "--phone", answer); !strings.Contains(s.err, "was accepted already") {
			t.Errorf("twice: %s", s.err)
		}
	}
	if active, left := atDesk(t, dir); len(active) != 1 || left != 1 {
		t.Errorf("active on %v, %d left", active, left)
	}
	// The wrong computer for the step.
	var r struct{ Step string }
	s := step(t, 0, dir, "old", "licence", "request", "--phone", "--json")
	if err := json.Unmarshal([]byte(s.out), &r); err != nil || r.Step != "deactivate" {
		t.Errorf("%v %s", err, s.out)
	}
	// Once there is network, the app gets its signed activation.
	again := startDesk(t, dir, strings.TrimPrefix(d.url, "http://"))
	defer again.stop()
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "activate", "--yes")
	if _, err := os.Stat(filepath.Join(dir, "new/srv/activation.jws")); err != nil {
		t.Error(err)
	}
	step(t, 0, dir, "new", "verify")
}

// TestDeskWithTLSAndFaults moves a seat over TLS with a pinned certificate, while the desk loses
// answers, fails and restarts.
func TestDeskWithTLSAndFaults(t *testing.T) {
	t.Parallel()
	dir, d := ruledSeat(t, "takeover: false", "--tls")
	if !strings.HasPrefix(d.url, "https://") || len(d.pin) != 43 {
		t.Fatalf("%+v", d)
	}
	must(t, 0, dir, "desk", "faults", "--lost-answers", "20", "--errors", "20", "--restarts", "10", "--delay", "10ms")
	if s := must(t, 0, dir, "desk", "faults"); !strings.Contains(s.out, "20%") {
		t.Error(s.out)
	}
	must(t, 2, dir, "desk", "faults", "--errors", "200")
	must(t, 0, dir, "desk", "faults", "--lost-requests", "15", "--wrong-signature", "10")
	if s := must(t, 0, dir, "desk", "faults"); !strings.Contains(strings.Join(strings.Fields(s.out), " "), "requests lost 15%") || !strings.Contains(strings.Join(strings.Fields(s.out), " "), "wrong signature 10%") {
		t.Error(s.out)
	}
	must(t, 0, dir, "desk", "faults", "--wrong-signature", "0")
	through := func(args ...string) {
		t.Helper()
		for try := 0; ; try++ {
			if s := run(t, dir, args...); s.code == 0 {
				return
			} else if try == 15 {
				t.Fatalf("%v never came to its end: %s", args, s.err)
			}
		}
	}
	through("deactivate", "--yes", "--kit", "kit", "--root", "old")
	step(t, 0, dir, "new", "unpack")
	through("activate", "--yes", "--kit", "kit", "--root", "new")
	if active, left := atDesk(t, dir); len(active) != 1 || left != 1 {
		t.Errorf("active on %v, %d left", active, left)
	}
	must(t, 0, dir, "desk", "faults", "--off")
	step(t, 0, dir, "new", "verify")
	// A desk with another certificate is refused.
	d.stop()
	foreign := t.TempDir()
	cert, key := filepath.Join(foreign, "c.pem"), filepath.Join(foreign, "k.pem")
	need(t, "openssl")
	if out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ed25519", "-nodes", "-subj", "/CN=localhost", "-keyout", key, "-out", cert, "-days", "1").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	other := startDesk(t, dir, strings.TrimPrefix(d.url, "https://"), "--tls-cert", cert, "--tls-key", key)
	defer other.stop()
	step(t, 1, dir, "new", "verify").tells(t, "is not the one in the card")
	must(t, 2, dir, "desk", "serve", "--tls-cert", cert)
	must(t, 2, dir, "desk", "serve", "--listen", "0.0.0.0:0")
}

// TestSafetyCopy opens a safety copy with standard tools.
func TestSafetyCopy(t *testing.T) {
	t.Parallel()
	need(t, "age", "script")
	dir, _ := ruledSeat(t, "takeover: false")
	lay.Out(t, dir, map[string]string{"k": "buoy-lamp-crane-winch\n", "short": "short\n"})
	step(t, 2, dir, "old", "licence", "keep", "--keep-passphrase-file", "short")
	s := step(t, 0, dir, "old", "licence", "keep", "--to", "copy.age", "--keep-passphrase-file", "k")
	if !strings.Contains(s.out, "wrote and verified") {
		t.Error(s.out)
	}
	step(t, 2, dir, "old", "licence", "keep", "--to", "copy.age", "--keep-passphrase-file", "k").tells(t, "not overwritten")
	cmd := exec.Command("script", "-qec", "age -d -o copy.tar copy.age", "/dev/null")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader("buoy-lamp-crane-winch\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("age: %v %s", err, out)
	}
	out, err := exec.Command("tar", "-xOf", filepath.Join(dir, "copy.tar"), "diary/seat/licence.json").Output()
	if err != nil || !strings.Contains(string(out), "SN-0042-TERN") {
		t.Errorf("%s %v", out, err)
	}
	s = step(t, 0, dir, "old", "licence", "keep", "--to", "made.age")
	if _, rest, _ := strings.Cut(s.err, "apart from the safety copy:"); strings.Count(strings.Fields(rest)[0], "-") != 5 {
		t.Errorf("no passphrase is shown: %s", s.err)
	}
}

// TestCopiesOfOneKit stops a step on an outdated copy of the kit.
func TestCopiesOfOneKit(t *testing.T) {
	t.Parallel()
	dir, _ := ruledSeat(t, "takeover: false")
	if err := os.CopyFS(filepath.Join(dir, "copy"), os.DirFS(filepath.Join(dir, "kit"))); err != nil {
		t.Fatal(err)
	}
	step(t, 0, dir, "old", "deactivate", "--yes")
	s := must(t, 4, dir, "deactivate", "--yes", "--kit", "copy", "--root", "old")
	s.tells(t, "another copy of this kit was used here")
	must(t, 0, dir, "deactivate", "--yes", "--kit", "copy", "--root", "old", "--override", "newest-copy", "--because", "the stick is lost")
	if active, left := atDesk(t, dir); len(active) != 0 || left != 2 {
		t.Errorf("active on %v, %d left", active, left)
	}
}

// TestSecretsAreWrittenNowhere searches everything that a whole move writes and shows, and the
// arguments and environment of its processes.
func TestSecretsAreWrittenNowhere(t *testing.T) {
	t.Parallel()
	dir, d := ruledSeat(t, "takeover: true")
	var told bytes.Buffer
	all := func(code int, args ...string) {
		t.Helper()
		s := must(t, code, dir, append(args, "--kit", "kit", "-v", "--log-file", "log.txt")...)
		told.WriteString(s.out + s.err)
	}
	all(0, "survey", "--root", "old")
	all(0, "status", "--check", "--root", "old")
	all(0, "licence", "request", "--root", "old", "--to", "request.json")
	all(0, "licence", "request", "--root", "old", "--phone")
	all(0, "deactivate", "--root", "old", "--yes")
	all(0, "unpack", "--root", "new")
	all(0, "activate", "--root", "new", "--yes", "--json")
	all(0, "verify", "--root", "new")
	all(0, "licence", "letter", "--root", "new")
	all(0, "report", "--root", "new")
	d.stop()
	all(1, "verify", "--root", "new")
	secrets := []string{"SN-0042-TERN", "lamp-7", passphrase}
	for _, secret := range secrets {
		if strings.Contains(told.String(), secret) {
			t.Errorf("%s is shown", secret)
		}
	}
	filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		name, _ := filepath.Rel(dir, path)
		if err != nil || e.IsDir() || strings.HasPrefix(name, "old") || strings.HasPrefix(name, "desk.db") || name == "licences.yaml" {
			return err // where they come from
		}
		data, _ := os.ReadFile(path)
		for _, secret := range secrets {
			if bytes.Contains(data, []byte(secret)) {
				t.Errorf("%s tells %s", name, secret)
			}
		}
		return nil
	})
}
