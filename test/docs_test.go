package test

import (
	"context"
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"movekit/internal/about"
	"movekit/internal/core/card"
	"movekit/test/fatal"
)

// TestCardsAreDescribed checks that docs/cards.md has a row for every kind and method, with its
// fields.
func TestCardsAreDescribed(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/cards.md")
	fatal.If(t, err)
	row := func(name, about string, fields []string) {
		t.Helper()
		want := "| `" + name + "` | " + about + " | " + strings.Join(fields, ", ") + " |"
		if !strings.Contains(string(text), "\n"+want+"\n") {
			t.Errorf("docs/cards.md lacks the row\n%s", want)
		}
	}
	for _, k := range card.Kinds {
		row(string(k.Kind), k.About, k.Fields)
	}
	for _, m := range card.Methods {
		row(string(m.Method), m.About, m.Fields)
	}
}

// TestCardsAsWritten checks that cards are printed as JSON with the fields in their files.
func TestCardsAsWritten(t *testing.T) {
	t.Parallel()
	files, _ := filepath.Glob("../examples/cards/*.yaml")
	if len(files) < 4 {
		t.Fatal(files)
	}
	for _, name := range files {
		written, err := os.ReadFile(name)
		fatal.If(t, err)
		whole, _ := filepath.Abs(name)
		shown := must(t, 0, t.TempDir(), "card", "show", strings.TrimSuffix(filepath.Base(name), ".yaml"), "--cards", whole, "--json").out
		var want, got any
		fatal.If(t, errors.Join(yaml.Unmarshal(written, &want), yaml.Unmarshal([]byte(shown), &got)))
		if a, b := fmt.Sprint(want), fmt.Sprint(got); a != b {
			t.Errorf("%s is\n%s\nand comes out as\n%s", name, a, b)
		}
	}
}

// TestVersion checks that the program and a kit report the program's build, and list every module
// with its licence.
func TestVersion(t *testing.T) {
	t.Parallel()
	dir := office(t)
	var b about.Build
	if err := json.Unmarshal([]byte(must(t, 0, dir, "version", "--json").out), &b); err != nil || b.Version == "" || b.Go == "" || b.System == "" {
		t.Errorf("%+v %v", b, err)
	}
	if said := must(t, 0, dir, "version").out; !strings.Contains(said, b.String()) {
		t.Errorf("%q does not tell %q", said, b)
	}
	made(t, dir)
	if manifest, err := os.ReadFile(filepath.Join(dir, "kit", "kit.yaml")); err != nil || !strings.Contains(string(manifest), b.String()) {
		t.Errorf("the kit does not tell %q (%v):\n%s", b, err, manifest)
	}
	notices := must(t, 0, dir, "version", "--notices").out
	if there, err := os.ReadFile(filepath.Join(dir, "kit", "NOTICES.txt")); err != nil || !strings.HasSuffix(notices, string(there)) {
		t.Errorf("the kit has other notices: %v", err)
	}
	info, err := buildinfo.ReadFile(program)
	if err != nil || len(info.Deps) < 20 {
		t.Fatal(info, err)
	}
	for _, m := range info.Deps {
		_, text, found := strings.Cut(notices, "\n==== "+m.Path+" "+m.Version+"\n")
		text, _, _ = strings.Cut(text, "\n==== ")
		if !found || len(text) < 300 {
			t.Errorf("the notices lack %s %s: run make notices", m.Path, m.Version)
		}
	}
}

var (
	advised = regexp.MustCompile("`(movekit[^`]*)`")
	flag    = regexp.MustCompile(`(?:^|[ (])(--[a-z][a-z-]*)`)
)

// standsFor has values for the placeholders in hints.
var standsFor = map[string]string{"{app}": "diary", "APP": "diary", "%s": "diary", "FILE": "card.yaml", "DIR": "another", "REASON": "burnt", "NAME": "found", "PATH": "old/srv/diary", "ANSWER": "AAAAA", "ANSWER.json": "answer.json"}

// TestHintsWork checks every command in the program's messages: it must exist, with its flags and
// arguments. A flag that is named alone must exist in some command.
func TestHintsWork(t *testing.T) {
	t.Parallel()
	hints, flags := map[string]bool{}, map[string]bool{}
	collect := func(text string) {
		for _, m := range advised.FindAllStringSubmatch(text, -1) {
			hints[m[1]] = true
		}
		for _, m := range flag.FindAllStringSubmatch(advised.ReplaceAllString(text, ""), -1) {
			flags[m[1]] = true
		}
	}
	for _, dir := range []string{"../internal/cli", "../internal/report"} {
		eachFile(t, dir, func(_ string, f *ast.File) {
			ast.Inspect(f, func(n ast.Node) bool {
				if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
					if text, err := strconv.Unquote(lit.Value); err == nil {
						collect(text)
					}
				}
				return true
			})
		})
	}
	for _, step := range []string{"pack", "deactivate", "unpack", "activate", "verify", "todo", "report", "inspect", "retire", "close"} {
		hints["movekit "+step] = true // what next and status advise
	}
	if len(hints) < 20 || len(flags) < 10 {
		t.Fatalf("only %d hints and %d flags were found", len(hints), len(flags))
	}
	dir := office(t)
	made(t, dir)
	os.Rename(filepath.Join(dir, "diary.yaml"), filepath.Join(dir, "card.yaml"))
	for _, hint := range slices.Sorted(maps.Keys(hints)) {
		var args []string
		for _, word := range strings.Fields(hint)[1:] {
			if typed, ok := standsFor[word]; ok {
				word = typed
			}
			args = append(args, word)
		}
		if strings.Contains(strings.Join(args, " "), "%") || slices.ContainsFunc(args, func(a string) bool { return strings.ToUpper(a) == a && strings.ToLower(a) != a && a != "AAAAA" }) {
			t.Errorf("%q: nobody knows what to type in it", hint)
			continue
		}
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second) // share waits for the other computer
		cmd := command(ctx, dir, args...)
		cmd.Env = append(cmd.Env, "MOVEKIT_KIT=kit")
		s := finish(t, cmd)
		cancel()
		if strings.Contains(s.err, "see `movekit --help`") || strings.Contains(s.err, "the command line is not valid") {
			t.Errorf("%q does not work as it stands: %s", hint, s.err)
		}
	}
	var help strings.Builder
	for _, c := range [][]string{{}, {"pack"}, {"unpack"}, {"deactivate"}, {"activate"}, {"verify"}, {"new"}, {"survey"}, {"report"}, {"licence", "letter"}, {"licence", "keep"}, {"licence", "request"}, {"licence", "accept"}, {"card", "draft"}, {"card", "list"}, {"demo"}, {"todo"}, {"retire"}, {"close"}, {"board"}, {"status"}, {"plan"}, {"run"}, {"desk", "serve"}, {"version"}} {
		help.WriteString(must(t, 0, dir, append(c, "--help")...).out)
	}
	for f := range flags {
		if !strings.Contains(help.String(), f) {
			t.Errorf("%s is advised, and no command has it", f)
		}
	}
}
