package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/core/yamltext"
	"movekit/internal/report"
	"movekit/internal/table"
)

// answer is an answer to a manual step: a text, or a text with the file that proves it.
type answer struct {
	Text     string
	Evidence string
}

// UnmarshalYAML reads both forms.
func (a *answer) UnmarshalYAML(data []byte) error {
	var form struct {
		Answer   string `yaml:"answer"`
		Evidence string `yaml:"evidence"`
	}
	if err := yamltext.Decode(data, &form, yaml.Strict()); err == nil {
		a.Text, a.Evidence = form.Answer, form.Evidence
		return nil
	}
	return yamltext.Decode(data, &a.Text)
}

// answers is a file of answers.
type answers struct {
	// Prompts answers prompts, one after the other.
	Prompts []string `yaml:"prompts"`
	// Steps answers manual steps: by app, licence (or app) and action (such as deactivate, activate, type).
	Steps map[string]map[string]map[string][]answer `yaml:"steps"`
	dir   string
}

// readAnswers reads the file of answers, if one is given.
func (e *env) readAnswers() error {
	if e.answersFile == "" || e.answers != nil {
		return nil
	}
	data, err := os.ReadFile(e.answersFile)
	if err != nil {
		return fault.Wrap(fault.Usage, err, "cannot read the answers")
	}
	a := &answers{dir: filepath.Dir(e.answersFile)}
	if err := yamltext.Decode(data, a, yaml.Strict()); err != nil {
		return fault.Wrap(fault.Usage, err, "the answers in %s are not valid: prompts is a list, steps has lists below app, licence and action", e.answersFile)
	}
	e.answers, e.script, e.scripted = a, a.Prompts, a.Prompts != nil
	return nil
}

// step returns the answer to a manual step.
func (a *answers) step(g run.ManualStep) (run.Reply, error) {
	list := a.Steps[g.Key.App][g.Key.Item][string(g.Action)]
	if g.Step > len(list) {
		return run.Reply{}, fault.New(fault.ManualStep, "the file of answers has none to step %d of %d (%s, licence %s, %s)", g.Step, g.Of, g.App, g.Key.Item, g.Action)
	}
	r := run.Reply{Answer: list[g.Step-1].Text, Evidence: list[g.Step-1].Evidence}
	if g.Ask == "" && !slices.Contains(doneWords, strings.ToLower(r.Answer)) {
		return run.Reply{}, fault.New(fault.ManualStep, "the file of answers has %q for step %d of %d (%s, licence %s, %s), and not done", r.Answer, g.Step, g.Of, g.App, g.Key.Item, g.Action)
	}
	if r.Evidence != "" && !filepath.IsAbs(r.Evidence) {
		r.Evidence = filepath.Join(a.dir, r.Evidence)
	}
	return r, nil
}

// technician asks the technician at the terminal, or reads the file of answers.
type technician struct {
	*env
	updatesAll bool // paths in settings, without further questions
}

// Password asks for the password of a database server.
func (p *technician) Password(prompt string) (string, error) { return p.askPassword(prompt) }

// Agree asks before something irreversible.
func (p *technician) Agree(question string) error { return p.agree(question) }

// AgreeToRun shows programs and asks whether to run them. --yes does not agree.
func (p *technician) AgreeToRun(question string) error {
	if p.yes || !p.canAsk() {
		return run.NonInteractive{}.AgreeToRun(question)
	}
	return p.agree(question)
}

// maxLines limits the lines of a difference that are shown per file.
const maxLines = 20

// Change shows the changed paths, as a unified diff without context (one "-" and one "+" per line),
// and asks.
func (p *technician) Change(title string, key steps.Key, lines []pathmap.Line) (bool, error) {
	if !p.yes && !p.canAsk() {
		return run.NonInteractive{}.Change(title, key, lines)
	}
	p.done()
	table.Fprintf(fold(p.err), "\n%s, %s: these settings contain old paths. New paths:\n", title, report.Whose(key.Item, key.User))
	in, shown := "", 0
	for i, l := range lines {
		if l.In != in {
			in, shown = l.In, 0
			table.Fprintf(p.err, "  %s\n", in)
		}
		if shown++; shown > maxLines/2 && !p.verbose {
			if i+1 == len(lines) || lines[i+1].In != in {
				table.Fprintf(p.err, "  and %d more (--verbose shows all)\n", shown-maxLines/2)
			}
			continue
		}
		table.Fprintf(p.err, "  @@ %s @@\n  %s\n  %s\n", l.Where, p.paint("-"+l.Old, table.Bad), p.paint("+"+l.New, table.Good))
	}
	if p.yes || p.updatesAll {
		return true, nil
	}
	for {
		line, err := p.read("Update them? (no: keep the old paths; all: update all) [Y/n/all] ", false)
		switch a := strings.ToLower(line); {
		case fault.KindOf(err) == fault.Stopped:
			return false, err
		case err != nil, a == "n", a == "no":
			return false, nil
		case a == "" || a == "y" || a == "yes" || a == "all":
			p.updatesAll = a == "all"
			return true, nil
		}
		fmt.Fprintln(p.err, "Please enter y, n or all.")
	}
}

// ways maps answers to policies for existing data.
var ways = map[string]tree.Policy{"": tree.SetAside, "a": tree.SetAside, "aside": tree.SetAside, "b": tree.KeepBoth, "both": tree.KeepBoth, "l": tree.Skip, "leave": tree.Skip, "o": tree.Replace, "over": tree.Replace}

// Resolve shows the existing and the sealed data, and asks for the policy.
func (p *technician) Resolve(w run.Conflict) (string, error) {
	if p.yes || !p.canAsk() {
		return "", nil
	}
	p.done()
	there := fmt.Sprintf("%s, %s", item.Plural(w.Files, "file"), bytesText(w.Bytes))
	if !w.Newest.IsZero() {
		there += ", changed at " + steps.Moment(w.Newest)
	}
	if w.Started {
		there += "; " + w.Title + " created it when it was started here"
	}
	if w.Another {
		there += "; it is a different profile from the one in the kit"
	}
	table.Fprintf(p.err, "\n%s %s, %s: %s\n  here:         %s\n  from the kit: %s, %s, sealed at %s\n", p.paint("existing data:", table.Note), w.Title, report.Whose(w.Key.Item, w.Key.User), w.Where,
		there, item.Plural(w.Coming.Sealed.Files, "file"), bytesText(w.Coming.Sealed.Bytes), steps.Moment(w.Coming.SealedAt))
	fmt.Fprint(p.err, "  Enter or aside  set the existing data aside; undo moves it back\n  both            keep both: files in one folder, with a number if names are equal; undo separates them\n  leave           keep the existing data, and add only missing files; cannot be undone\n  over            overwrite the existing data; cannot be undone\n")
	for {
		line, err := p.read("What do you want to do with the existing data? ", false)
		if err != nil {
			return "", err
		}
		if policy, is := ways[strings.ToLower(line)]; is {
			if policy == tree.Replace {
				err = p.ask("This permanently overwrites the existing data. Continue?")
				if errors.Is(err, errNo) {
					continue
				}
			}
			return string(policy), err
		}
		fmt.Fprintln(p.err, "Please press Enter, or type both, leave or over.")
	}
}

// DoStep shows a step and waits for the technician.
func (p *technician) DoStep(ctx context.Context, g run.ManualStep) (r run.Reply, err error) {
	switch {
	case p.answers != nil && (!p.scripted || p.answers.Steps[g.Key.App] != nil):
		return p.answers.step(g)
	case !p.canAsk():
		return run.NonInteractive{}.DoStep(ctx, g)
	}
	p.clear()
	switch g.Action {
	case run.ActionOpen:
		table.Fprintf(fold(p.err), "\n%s %s\n  %s\n", p.paint("check:", table.Note), g.App, g.Do)
		r.Answer, err = p.text(g.Ask)
		return r, err
	case run.ActionSync:
		table.Fprintf(fold(p.err), "\n%s %s\n  %s\n", p.paint("do:", table.Note), g.App, g.Do)
		return r, p.askDone()
	}
	table.Fprintf(p.err, "\n%s %s, licence %s: %s, step %d of %d\n  %s\n", p.paint("do:", table.Note), g.App, g.Key.Item, g.Action, g.Step, g.Of, g.Do)
	if g.Letter {
		table.Fprintf(p.err, "  `movekit licence letter %s` writes what the vendor will ask for.\n", g.Key.App)
	}
	switch {
	case g.Ask == "":
		err = p.askDone()
	case g.Secret:
		r.Answer, err = p.hiddenText(g.Ask)
	default:
		r.Answer, err = p.text(g.Ask)
	}
	if err == nil && g.Evidence {
		r.Evidence, err = p.text("A file that proves it, such as a screenshot")
	}
	return r, err
}
