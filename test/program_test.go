// Package test tests the built program on files in temporary folders, and the rules of the core
// with a model.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"movekit/internal/core/digest"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// program is the path of the built movekit.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "movekit-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "movekit")
	if err := build(program, "linux"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func build(to, system string) error {
	args := []string{"build", "-trimpath", "-ldflags", "-s -w -X movekit/internal/core/passphrase.testWork=1", "-o", to}
	if os.Getenv("GOCOVERDIR") != "" {
		args = append(args, "-cover", "-coverpkg=../internal/core/...")
	}
	cmd := exec.Command("go", append(args, "../cmd/movekit")...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("cannot build for %s: %w\n%s", system, err, out)
	}
	return nil
}

// need skips a test if a program is not installed. With CI=true the test fails.
func need(t *testing.T, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			if os.Getenv("CI") == "true" {
				t.Fatalf("%s is not installed, and is needed with CI=true", p)
			}
			t.Skipf("%s is not installed", p)
		}
	}
}

// said is the output and the exit code of a command.
type said struct {
	out, err string
	code     int
}

// passphrase has the form of a generated one.
const passphrase = "agency-balcony-cabana-dagger-eagle-fable"

func command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "MOVEKIT_PASSPHRASE="+passphrase, "MOVEKIT_KIT=", "NO_COLOR=", "XDG_CACHE_HOME="+filepath.Join(dir, "cache"))
	return cmd
}

// run runs the program in a folder.
func run(t *testing.T, dir string, args ...string) said {
	t.Helper()
	const most = 10 * time.Minute // the example takes long on a slow and busy computer
	ctx, cancel := context.WithTimeout(t.Context(), most)
	defer cancel()
	s := finish(t, command(ctx, dir, args...))
	if ctx.Err() != nil && t.Context().Err() == nil {
		t.Fatalf("%v did not end within %s:\n%s%s", args, most, s.out, s.err)
	}
	return s
}

func finish(t *testing.T, cmd *exec.Cmd) said {
	t.Helper()
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	s := said{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
	if strings.Contains(s.err, "panic") || strings.Contains(s.err, "goroutine ") {
		t.Fatalf("%v panicked:\n%s", cmd.Args, s.err)
	}
	if ours := regexp.MustCompile(`\\n  ?[a-z/-]`); ours.MatchString(s.out+s.err) && !slices.Contains(cmd.Args, "--json") {
		t.Errorf("%v: a line of our own is written as an escape:\n%s%s", cmd.Args, s.out, s.err)
	}
	return s
}

// must runs the program and expects an exit code.
func must(t *testing.T, code int, dir string, args ...string) said {
	t.Helper()
	s := run(t, dir, args...)
	if s.code != code {
		t.Fatalf("movekit %s: exit %d, want %d\n%s\n%s", strings.Join(args, " "), s.code, code, s.out, s.err)
	}
	return s
}

// tells expects the parts of an error: what happened, what to do next, and that nothing was lost.
func (s said) tells(t *testing.T, what string) {
	t.Helper()
	for _, part := range []string{what, "  next: ", "  safe: "} {
		if !strings.Contains(s.err, part) {
			t.Errorf("the error does not say %q:\n%s", part, s.err)
		}
	}
}

// office creates two Linux computers and a card for a folder, in a new folder.
func office(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/srv/diary/2025/a.rec": "one", "old/srv/diary/2025/b.rec": "two", "old/srv/diary/.hidden": "x", "old/srv/diary/empty.rec": "",
		"old/opt/app/version": "v3.4.0", "new/opt/app/version": "3.4.9", "new/srv/.keep": "",
		"diary.yaml": `card: 1
name: diary
title: Hoistbook
version: {file: /opt/app/version, rule: same-minor}
programs: [hoistbook]
items:
  - {name: diary, kind: folder, path: /srv/diary, counts: [{name: records, files: '**/*.rec'}]}
`,
	})
	os.MkdirAll(filepath.Join(dir, "old/srv/diary/2026"), 0o755)
	os.Symlink("2025/a.rec", filepath.Join(dir, "old/srv/diary/newest"))
	return dir
}

// made creates the kit of an office.
func made(t *testing.T, dir string, more ...string) {
	t.Helper()
	must(t, 0, dir, append([]string{"new", "kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW"}, more...)...)
}

// step runs a step on one of the computers.
func step(t *testing.T, code int, dir, side, name string, more ...string) said {
	t.Helper()
	return must(t, code, dir, append([]string{name, "--kit", "kit", "--root", side}, more...)...)
}

// picture describes a tree: every name with its type, mode, time and content.
func picture(t *testing.T, root string, skip ...string) string {
	t.Helper()
	var b strings.Builder
	filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		fatal.If(t, err)
		rel, _ := filepath.Rel(root, path)
		for _, s := range skip {
			if rel == s {
				return fs.SkipDir
			}
		}
		info, err := e.Info()
		fatal.If(t, err)
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			target, _ := os.Readlink(path)
			fmt.Fprintf(&b, "%q -> %s\n", rel, target)
		case info.IsDir():
			fmt.Fprintf(&b, "%q %v\n", rel, info.Mode())
		default:
			data, err := os.ReadFile(path)
			fatal.If(t, err)
			fmt.Fprintf(&b, "%q %v %d %s %s\n", rel, info.Mode(), info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano), digest.Of(data))
		}
		return nil
	})
	return b.String()
}

// noise is data that does not compress.
func noise(n int) []byte {
	out := make([]byte, n)
	for i, h := 0, digest.Of(nil); i < n; i += 32 {
		h = digest.Of(h[:])
		copy(out[i:], h[:])
	}
	return out
}

// same expects two equal trees.
func same(t *testing.T, a, b string) {
	t.Helper()
	if x, y := picture(t, a), picture(t, b); x != y {
		t.Errorf("%s and %s differ:\n%s\n%s", a, b, x, y)
	}
}

func TestDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "office")
	// A second time in one folder only on request, and never over other content.
	lay.Out(t, dir, map[string]string{"commands.txt": "", "kit/journal.jsonl": "an earlier one"})
	must(t, 2, t.TempDir(), "demo", "--dir", dir).tells(t, "--fresh")
	other := t.TempDir()
	lay.Out(t, other, map[string]string{"thesis.txt": "x"})
	must(t, 2, t.TempDir(), "demo", "--dir", other, "--fresh").tells(t, "something other than an example")
	if _, err := os.Stat(filepath.Join(other, "thesis.txt")); err != nil {
		t.Error(err)
	}
	s := must(t, 0, t.TempDir(), "demo", "--dir", dir, "--fresh")
	for _, command := range []string{"new", "survey", "pack", "inspect", "card draft", "deactivate", "ready", "unpack", "todo --tick", "activate", "verify", "retire", "report", "close"} {
		if !strings.Contains(s.out, "$ movekit "+command) {
			t.Errorf("%s was not shown", command)
		}
	}
	for _, fact := range []string{"38,400 bookings", "opened: Tidewright on QUAY-DESK-2: the technician saw 212", "QUAY-DESK-2 and identical (15 items)", "4 licences", "worst exit code is 0"} {
		if !strings.Contains(s.out, fact) {
			t.Errorf("the example does not say %q", fact)
		}
	}
	retired, _ := filepath.Glob(filepath.Join(dir, "old/ProgramData/Hoistbook/Diary/*.set-aside-*"))
	if len(retired) != 5 {
		t.Fatalf("the old diary was not set aside: %v", retired)
	}
	for _, year := range retired {
		name, _, _ := strings.Cut(filepath.Base(year), ".set-aside-")
		same(t, year, filepath.Join(dir, "new/ProgramData/Hoistbook/Diary", name))
	}
	for _, name := range []string{"old", "new", "kit", "passphrase.txt", "commands.txt", "handover/handover.html"} {
		if _, err := os.Stat(filepath.Join(dir, name)); err != nil {
			t.Error(err)
		}
	}
	aside, _ := filepath.Glob(filepath.Join(dir, "new/Users/maren.holm/AppData/Roaming/Tidewright.set-aside-*/settings.ini"))
	if len(aside) != 1 {
		t.Errorf("the fresh profile was not set aside: %v", aside)
	}
	for _, u := range []string{"maren.holm", "tobias"} {
		if _, err := os.Stat(filepath.Join(dir, "new/Users", u, "AppData/Roaming/Tidewright/.recent")); err != nil {
			t.Error(err)
		}
	}
	noSecrets(t, dir, s.out+s.err)
}

// noSecrets searches for the example's secrets in all unencrypted output.
func noSecrets(t *testing.T, dir, screen string) {
	t.Helper()
	pass, _ := os.ReadFile(filepath.Join(dir, "passphrase.txt"))
	secrets := []string{"TW8-QUAY-7731", "ebb-41-flow-77-mud", strings.TrimSpace(string(pass)), "AGE-SECRET-KEY"}
	look := func(where, text string) {
		for _, s := range secrets {
			if strings.Contains(text, s) {
				t.Errorf("%s tells the secret %s", where, s)
			}
		}
	}
	look("the screen", screen)
	for _, top := range []string{"kit", "handover", "commands.txt"} {
		filepath.WalkDir(filepath.Join(dir, top), func(path string, e fs.DirEntry, _ error) error {
			if !e.IsDir() {
				data, _ := os.ReadFile(path)
				if filepath.Base(path) == "movekit" {
					return nil // the program holds the example's words itself
				}
				look(path, string(data))
			}
			return nil
		})
	}
}

// TestStandardToolsOpenTheKit follows the kit's README.txt with the real age, zstd, tar and b3sum.
func TestStandardToolsOpenTheKit(t *testing.T) {
	t.Parallel()
	need(t, "age", "zstd", "tar", "b3sum", "script")
	dir := office(t)
	os.WriteFile(filepath.Join(dir, "old/srv/diary/big"), noise(3<<20), 0o600)
	os.Symlink(strings.Repeat("x", 90), filepath.Join(dir, "old/srv/diary/long link"))
	os.WriteFile(filepath.Join(dir, "old/srv/diary", strings.Repeat("日誌", 40)), []byte("x"), 0o600)
	made(t, dir)
	step(t, 0, dir, "old", "pack", "--part-size", "70000")
	parts, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/diary/diary.tar.zst.age.*"))
	if len(parts) < 2 {
		t.Fatalf("parts: %v", parts)
	}
	readme, _ := os.ReadFile(filepath.Join(dir, "kit/README.txt"))
	shell := func(line string) {
		t.Helper()
		if !strings.Contains(string(readme), strings.NewReplacer("diary/diary", "APP/ITEM").Replace(line)) {
			t.Errorf("README.txt does not give the line %q", line)
		}
		cmd := exec.Command("bash", "-o", "pipefail", "-c", line)
		cmd.Dir = filepath.Join(dir, "kit")
		if line == "age -d -o identity.txt key.age" {
			// age asks for the passphrase in a terminal.
			cmd = exec.Command("script", "-qec", line, "/dev/null")
			cmd.Dir, cmd.Stdin = filepath.Join(dir, "kit"), strings.NewReader(passphrase+"\n")
		}
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", line, err, out)
		}
	}
	os.Mkdir(filepath.Join(dir, "kit/out"), 0o755)
	shell("b3sum -c CHECKSUMS.b3")
	shell("age -d -o identity.txt key.age")
	shell("cat sealed/diary/diary.tar.zst.age.[0-9]* | age -d -i identity.txt | zstd -d | tar -x -C out")
	shell("age -d -i identity.txt sealed/diary/diary.list.zst.age | zstd -d")
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "kit/out"))
}

func TestWholeMoveByJSON(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	facts := func(s said) (v struct {
		Exit int
		Apps []struct {
			Items []struct {
				Did, To string
				Equal   bool
				Rows    []struct{ What, Old, New string }
			}
		}
	}) {
		t.Helper()
		if err := json.Unmarshal([]byte(s.out), &v); err != nil {
			t.Fatalf("%v\n%s", err, s.out)
		}
		return v
	}
	if v := facts(step(t, 0, dir, "old", "pack", "--json")); v.Apps[0].Items[0].Did != "sealed" {
		t.Errorf("%+v", v)
	}
	if v := facts(step(t, 0, dir, "old", "pack", "--json")); v.Apps[0].Items[0].Did != "kept" {
		t.Errorf("packed twice: %+v", v)
	}
	lay.Out(t, dir, map[string]string{"old/srv/diary/2026/c.rec": "three"})
	if v := facts(step(t, 0, dir, "old", "pack", "--json")); v.Apps[0].Items[0].Did != "sealed" {
		t.Errorf("packed after a change: %+v", v)
	}
	step(t, 0, dir, "old", "deactivate", "--yes")
	if v := facts(step(t, 0, dir, "new", "unpack", "--json")); v.Apps[0].Items[0].Did != "placed" {
		t.Errorf("%+v", v)
	}
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "new/srv/diary"))
	if v := facts(step(t, 0, dir, "new", "unpack", "--json")); v.Apps[0].Items[0].Did != "same" {
		t.Errorf("unpacked twice: %+v", v)
	}
	v := facts(step(t, 0, dir, "new", "verify", "--json"))
	if i := v.Apps[0].Items[0]; !i.Equal || fmt.Sprint(i.Rows) != "[{files 5 5} {bytes 12 12} {records 4 4} {content 5 hashes all equal}]" {
		t.Errorf("%+v", i)
	}
	for _, c := range []string{"status", "inspect", "report", "survey"} {
		s := must(t, 0, dir, c, "--kit", "kit", "--root", "old", "--json")
		if !json.Valid([]byte(s.out)) {
			t.Errorf("%s --json: %s", c, s.out)
		}
	}
	// A changed file is a difference, with exit code 3, and stays one in the report.
	lay.Out(t, dir, map[string]string{"new/srv/diary/2025/a.rec": "ONE", "new/srv/diary/more.rec": ""})
	s := step(t, 3, dir, "new", "verify")
	for _, w := range []string{"2025/a.rec has other content", "more.rec was not in the sealed data", "DIFFERS", "There are differences"} {
		if !strings.Contains(s.out, w) {
			t.Errorf("verify does not say %q:\n%s", w, s.out)
		}
	}
	if s := must(t, 0, dir, "report", "--kit", "kit"); !strings.Contains(s.out, "There are differences") {
		t.Error("the report does not tell of the difference")
	}
	if s := must(t, 0, dir, "status", "--kit", "kit"); !strings.Contains(s.out, "DIFFERS") || !strings.Contains(s.out, "next: movekit verify") {
		t.Errorf("status: %s", s.out)
	}
	if s := must(t, 0, dir, "status", "--kit", "kit"); strings.Contains(s.out+s.err, "\x1b[") {
		t.Error("colour where the output is no terminal")
	}
}

// TestErrorsAndGates causes each failure that a user can cause.
func TestErrorsAndGates(t *testing.T) {
	t.Parallel()
	type c struct {
		name string
		prep func(dir string)
		args []string
		code int
		what string
	}
	on := func(side string, args ...string) []string { return append(args, "--kit", "kit", "--root", side) }
	edit := func(name, old, new string) func(string) {
		return func(dir string) {
			p := filepath.Join(dir, name)
			data, _ := os.ReadFile(p)
			os.WriteFile(p, bytes.Replace(data, []byte(old), []byte(new), 1), 0o644)
		}
	}
	write := func(name, text string) func(string) {
		return func(dir string) { lay.Out(t, dir, map[string]string{name: text}) }
	}
	remove := func(name string) func(string) { return func(dir string) { os.RemoveAll(filepath.Join(dir, name)) } }
	for _, c := range []c{
		{"unknown command", nil, []string{"frobnicate"}, 2, "unknown command"},
		{"unknown flag", nil, []string{"pack", "--frobnicate"}, 2, "frobnicate"},
		{"unknown app", nil, on("old", "pack", "ledger"), 2, `no app "ledger"`},
		{"no kit", nil, []string{"pack", "--kit", "nowhere"}, 1, "no kit"},
		{"wrong passphrase", write("p", "another-one-entirely\n"), on("old", "pack", "--passphrase-file", "p"), 1, "the passphrase is wrong"},
		{"newer format", write("kit/kit.yaml", "format: 9\n"), on("old", "pack"), 1, "format 9"},
		{"kit.yaml damaged", write("kit/kit.yaml", "form\x00"), on("old", "pack"), 1, "damaged"},
		{"card forged", edit("kit/cards/diary.yaml", "/srv/diary", "/etc"), on("new", "unpack"), 1, "not the file this kit was created with"},
		{"journal forged", edit("kit/journal.jsonl", `"packed"`, `"locked"`), on("new", "unpack"), 1, "was changed"},
		{"sealed file changed", edit("kit/sealed/diary/diary.tar.zst.age", "age", "aga"), on("new", "unpack"), 4, "was changed"},
		{"sealed file missing", remove("kit/sealed/diary/diary.tar.zst.age"), on("old", "deactivate", "--yes"), 4, "damaged in the kit"},
		{"unpack on the old computer", nil, on("old", "unpack"), 4, "the old computer OLD itself"},
		{"pack on the new computer", nil, on("new", "pack"), 4, "not the old computer OLD"},
		{"item missing", remove("old/srv/diary"), on("old", "pack"), 4, "not on this computer: diary"},
		{"app running", edit("old/computer.yaml", "system", "running: [{name: HOISTBOOK.exe, pid: 77}]\nsystem"), on("old", "pack"), 4, "HOISTBOOK.exe (process 77)"},
		{"version not covered by the rule", write("new/opt/app/version", "3.5"), on("new", "unpack"), 4, "version 3.5 is here; the rule is same-minor"},
		{"app not installed", remove("new/opt"), on("new", "unpack"), 4, "not installed here; version v3.4.0 is needed"},
		{"no such disk", nil, on("nowhere", "pack"), 1, "no disk at nowhere"},
		{"override without reason", nil, on("old", "pack", "--override", "app-closed"), 2, "needs a reason: --because REASON"},
		{"reason for nothing", nil, on("old", "pack", "--because", "x"), 2, "none of them was given"},
		{"override of a firm gate", nil, on("old", "deactivate", "--override", "sealed", "--because", "x"), 2, "cannot be overridden"},
		{"override of nothing", nil, on("old", "pack", "--override", "luck", "--because", "x"), 2, `there is no gate "luck"`},
		{"unknown policy", nil, on("new", "unpack", "--existing", "burn"), 2, "set-aside, keep-both"},
		{"kit over a kit", nil, []string{"new", "kit", "--root", "old", "--cards", "diary.yaml"}, 2, "not empty"},
		{"broken card", write("bad.yaml", "card: 1\nname: x\ntitel: y\n"), []string{"card", "check", "bad.yaml"}, 1, "bad.yaml:3:1"},
		{"no question without a person", nil, on("old", "deactivate"), 2, "--yes"},
	} {
		dir := office(t)
		made(t, dir)
		step(t, 0, dir, "old", "pack")
		if c.prep != nil {
			c.prep(dir)
		}
		before := picture(t, filepath.Join(dir, "new"))
		s := run(t, dir, c.args...)
		if s.code != c.code {
			t.Errorf("%s: exit %d, want %d\n%s%s", c.name, s.code, c.code, s.out, s.err)
		}
		if !strings.Contains(s.err, c.what) || !strings.Contains(s.err, "next: ") {
			t.Errorf("%s: does not say %q and what is next:\n%s", c.name, c.what, s.err)
		}
		if after := picture(t, filepath.Join(dir, "new")); after != before {
			t.Errorf("%s: the new computer was changed", c.name)
		}
	}
}

func TestOverrideInHandover(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\nrunning: [{name: hoistbook, pid: 5}]\n"})
	made(t, dir)
	step(t, 4, dir, "old", "pack")
	s := step(t, 0, dir, "old", "pack", "--override", "app-closed", "--because", "the lift is in use until noon")
	if !strings.Contains(s.err, "overridden") {
		t.Error(s.err)
	}
	r := must(t, 0, dir, "report", "--kit", "kit")
	html, _ := os.ReadFile(filepath.Join(dir, "kit/report/handover.html"))
	journal, _ := os.ReadFile(filepath.Join(dir, "kit/journal.jsonl"))
	for where, text := range map[string]string{"report": r.out, "page": string(html), "journal": string(journal)} {
		if !strings.Contains(text, "the lift is in use until noon") {
			t.Errorf("the %s does not give the reason", where)
		}
	}
}

// TestFullAndReadOnlyStick packs onto a small file system that gets full, and onto a read-only one.
func TestFullAndReadOnlyStick(t *testing.T) {
	t.Parallel()
	dir := office(t)
	stick := filepath.Join(dir, "stick")
	os.Mkdir(stick, 0o755)
	info, _ := os.Stat(program)
	size := info.Size() + 3<<20
	if err := syscall.Mount("tmpfs", stick, "tmpfs", 0, fmt.Sprintf("size=%d", size)); err != nil {
		t.Skipf("cannot mount a small file system here: %v", err)
	}
	defer syscall.Unmount(stick, syscall.MNT_DETACH)
	big := filepath.Join(dir, "old/srv/diary/big")
	os.WriteFile(big, noise(8<<20), 0o600)
	must(t, 0, dir, "new", "stick/kit", "--root", "old", "--cards", "diary.yaml")
	pack := []string{"pack", "--kit", "stick/kit", "--root", "old"}
	if s := must(t, 4, dir, pack...); !strings.Contains(s.err, "gate fits") || !strings.Contains(s.err, "8.4 MB needed") {
		t.Error(s.err)
	}
	must(t, 1, dir, append(pack, "--override", "fits", "--because", "it compresses well")...).tells(t, "no space left")
	if left, _ := filepath.Glob(filepath.Join(stick, "kit/sealed/*/*")); len(left) > 0 {
		t.Errorf("left on the full stick: %v", left)
	}
	must(t, 0, dir, "inspect", "--kit", "stick/kit")
	os.WriteFile(big, noise(96), 0o600)
	must(t, 0, dir, pack...)
	fatal.If(t, syscall.Mount("", stick, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	must(t, 1, dir, pack...).tells(t, "read-only")
	must(t, 0, dir, "inspect", "--kit", "stick/kit")
}

func TestCompletionOffersApps(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	if s := must(t, 0, dir, "__complete", "--kit", "kit", "pack", ""); !strings.Contains(s.out, "diary") {
		t.Errorf("apps: %q", s.out)
	}
	if s := must(t, 0, dir, "__complete", "unpack", "--existing", ""); !strings.Contains(s.out, "keep-both") {
		t.Errorf("policies: %q", s.out)
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		must(t, 0, dir, "completion", shell)
	}
	if a, b := must(t, 0, dir, "card", "list", "--kit", "kit"), must(t, 0, dir, "card", "show", "diary", "--kit", "kit"); !strings.Contains(a.out, "Hoistbook") || !strings.Contains(b.out, "kind: folder") {
		t.Errorf("%s %s", a.out, b.out)
	}
}
