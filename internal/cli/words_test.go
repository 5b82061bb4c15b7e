package cli

import (
	"bytes"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// faults reads the kinds of failure from the source, so that none is missed.
func faults(t *testing.T) []fault.Kind {
	t.Helper()
	f, err := parser.ParseFile(token.NewFileSet(), "../core/fault/fault.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	var out []fault.Kind
	ast.Inspect(f, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok || len(spec.Values) != 1 {
			return true
		}
		if typ, ok := spec.Type.(*ast.Ident); ok && typ.Name == "Kind" {
			text, _ := strconv.Unquote(spec.Values[0].(*ast.BasicLit).Value)
			out = append(out, fault.Kind(text))
		}
		return true
	})
	return out
}

func TestEveryFailureHasAdvice(t *testing.T) {
	all := faults(t)
	if len(all) < 20 {
		t.Fatalf("only %d kinds of failure were found", len(all))
	}
	for _, k := range all {
		var b bytes.Buffer
		code := printError(&b, fault.Wrap(k, errors.New("the cause"), "something happened to X"), false)
		for _, part := range []string{"error: something happened to X: the cause\n", "\n  next: ", "\n  safe: "} {
			if !strings.Contains(b.String(), part) {
				t.Errorf("%s: %q is missing in %q", k, part, b.String())
			}
		}
		if a := adviceByKind[k]; a.next == "" || a.safe == "" || code != a.code || code != exitFailed && code != exitUsage && code != exitPerson {
			t.Errorf("%s: %+v, exit %d", k, a, code)
		}
	}
	// Every help topic in an advice exists, and every topic is used.
	pointed := map[string]bool{}
	for k, a := range adviceByKind {
		pointed[a.more] = true
		if k != fault.Usage && len(explained(a.more)) < 100 {
			t.Errorf("%s: the section %q says %q", k, a.more, explained(a.more))
		}
	}
	for _, topic := range topics() {
		if !pointed[topic.name] || steps.Find(topic.name) != nil {
			t.Errorf("no error points to the section %q, or a gate has that name", topic.name)
		}
	}
	var b bytes.Buffer
	printError(&b, &fault.Error{Kind: fault.CannotPlace, What: "it burnt", Lost: "one cake"}, false)
	if !strings.Contains(b.String(), "Lost: one cake") {
		t.Errorf("what was lost is not said: %s", b.String())
	}
}

func TestEveryGateHasAdvice(t *testing.T) {
	for _, g := range steps.Gates {
		used := false
		for _, s := range g.Steps {
			used = used || s != steps.Retire && s != steps.Close
		}
		if used && gateAdvice[g.Name] == "" {
			t.Errorf("the gate %s has no advice", g.Name)
		}
	}
}

func TestWorstExitCode(t *testing.T) {
	ok, stopped, failed := &run.Outcome{}, &run.Outcome{Blocks: []steps.Block{{}}}, &run.Outcome{Err: errors.New("x")}
	differs := &run.Outcome{Items: []run.ItemOutcome{{Equal: false}}}
	for _, c := range []struct {
		step steps.Step
		out  []*run.Outcome
		want int
	}{
		{steps.Pack, []*run.Outcome{ok}, exitDone}, {steps.Verify, []*run.Outcome{ok, differs}, exitDifferent},
		{steps.Pack, []*run.Outcome{differs}, exitDone}, {steps.Verify, []*run.Outcome{differs, stopped}, exitDifferent},
		{steps.Verify, []*run.Outcome{stopped, differs}, exitDifferent}, {steps.Verify, []*run.Outcome{stopped, failed, differs}, exitFailed},
	} {
		if got := worst(c.step, c.out); got != c.want {
			t.Errorf("%s: %d, want %d", c.step, got, c.want)
		}
	}
}

func TestPairs(t *testing.T) {
	if m, err := pairs("user", []string{"a=b", "c=d e"}); err != nil || m["a"] != "b" || m["c"] != "d e" {
		t.Errorf("%v %v", m, err)
	}
	for _, bad := range []string{"a", "=b", "a=", ""} {
		if _, err := pairs("place", []string{bad}); fault.KindOf(err) != fault.Usage {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

// TestEveryReasonCanBeGiven checks that every overridable gate can be overridden with a reason.
func TestEveryReasonCanBeGiven(t *testing.T) {
	called := map[steps.Step]string{steps.Return: "retire", steps.Remove: "retire", steps.DeactivateBack: "deactivate", steps.ActivateBack: "activate"}
	root := (&env{}).command()
	for _, g := range steps.Gates {
		for _, s := range g.Steps {
			name := called[s]
			if name == "" {
				name = string(s)
			}
			c, _, err := root.Find([]string{name})
			if err != nil || c.Name() != name {
				t.Errorf("%s has a gate and no command: %v", s, err)
			} else if g.Overridable() && c.Flags().Lookup("override") == nil {
				t.Errorf("a reason goes past the gate %s, and %s takes none", g.Name, name)
			}
		}
	}
}

// TestJoinedArguments detects arguments that the Windows prompt joined after a folder that ends in a
// backslash.
func TestJoinedArguments(t *testing.T) {
	for arg, bad := range map[string]bool{`E:" --kit K`: true, `C:\pulled disk" --json`: true, `it's "quoted" text`: false, `C:\Data`: false, `see "E: x"`: false} {
		if err := checkArguments([]string{"survey", arg}); (err != nil) != bad || bad && fault.KindOf(err) != fault.Usage {
			t.Errorf("%s: %v", arg, err)
		}
	}
}

// TestAround shortens a long line of a card around a mistake: the mark is below the mistake.
func TestAround(t *testing.T) {
	long := strings.Repeat("ä: x, ", 40)
	for column, want := range map[int]string{1: "ä", len(long) - 2: "x", 120: string([]rune(long)[len([]rune(long[:119]))])} {
		out, at := around(long, column)
		if n := len([]rune(out)); n > maxSource+2 || !strings.HasPrefix(out[at-1:], want) {
			t.Errorf("%d: %q at %d", column, out, at)
		}
	}
	if out, at := around("title: x", 8); out != "title: x" || at != 8 {
		t.Errorf("%q %d", out, at)
	}
	around("", 3)
	around(long, 9999)
	around(long, -1)
}
