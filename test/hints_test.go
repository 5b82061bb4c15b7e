package test

import (
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
)

var (
	advised = regexp.MustCompile("`(movekit[^`]*)`")
	flag    = regexp.MustCompile(`(?:^|[ (])(--[a-z][a-z-]*)`)
)

// standsFor are what a person types in place of the words of a hint.
var standsFor = map[string]string{"{app}": "diary", "APP": "diary", "%s": "diary", "FILE": "card.yaml", "DIR": "another", "REASON": "burnt", "NAME": "found", "PATH": "old/srv/diary", "ANSWER": "AAAAA", "ANSWER.json": "answer.json"}

// TestHintsWork types every command that the program advises: it must be one that
// there is, with the flags and the arguments that it takes. Flags that are named
// alone must be some command's.
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
		cmd := command(t.Context(), dir, args...)
		cmd.Env = append(cmd.Env, "MOVEKIT_KIT=kit")
		if s := finish(t, cmd); strings.Contains(s.err, "see `movekit --help`") || strings.Contains(s.err, "the call is wrong") {
			t.Errorf("%q does not work as it stands: %s", hint, s.err)
		}
	}
	var help strings.Builder
	for _, c := range [][]string{{}, {"pack"}, {"unpack"}, {"deactivate"}, {"activate"}, {"verify"}, {"new"}, {"survey"}, {"report"}, {"licence", "letter"}, {"licence", "keep"}, {"licence", "request"}, {"licence", "accept"}, {"card", "draft"}, {"card", "list"}, {"demo"}, {"todo"}, {"retire"}, {"close"}, {"board"}, {"status"}, {"desk", "serve"}, {"version"}} {
		help.WriteString(must(t, 0, dir, append(c, "--help")...).out)
	}
	for f := range flags {
		if !strings.Contains(help.String(), f) {
			t.Errorf("%s is advised, and no command has it", f)
		}
	}
}
