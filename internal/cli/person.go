package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/table"
)

// answer is what a person saw of one step, in a file of answers: a text, or a
// text with the file that proves it.
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
	if err := yaml.UnmarshalWithOptions(data, &form, yaml.Strict()); err == nil {
		a.Text, a.Evidence = form.Answer, form.Evidence
		return nil
	}
	return yaml.Unmarshal(data, &a.Text)
}

// answered takes steps from a file of answers: by app, licence and action
// (deactivate, activate, or type for what is on a label).
type answered struct {
	dir string
	all map[string]map[string]map[string][]answer
}

func readAnswers(name string) (*answered, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "cannot read the answers")
	}
	a := &answered{dir: filepath.Dir(name)}
	if err := yaml.Unmarshal(data, &a.all); err != nil {
		return nil, fault.New(fault.Usage, "the answers in %s cannot be read: they are lists under app, licence and deactivate, activate or type", name)
	}
	return a, nil
}

// Guide gives the answer to a step.
func (a *answered) Guide(_ context.Context, g move.Guided) (move.Reply, error) {
	list := a.all[g.Key.App][g.Key.Item][string(g.Action)]
	if g.Step > len(list) {
		return move.Reply{}, fault.New(fault.Waits, "the file of answers has none to step %d of %d (%s, licence %s, %s)", g.Step, g.Of, g.App, g.Key.Item, g.Action)
	}
	r := move.Reply{Answer: list[g.Step-1].Text, Evidence: list[g.Step-1].Evidence}
	if r.Evidence != "" && !filepath.IsAbs(r.Evidence) {
		r.Evidence = filepath.Join(a.dir, r.Evidence)
	}
	return r, nil
}

// asked has a person at the terminal take the steps.
type asked struct {
	*ui
	lines *bufio.Reader
}

// Guide shows a step and waits for the person.
func (p *asked) Guide(_ context.Context, g move.Guided) (r move.Reply, err error) {
	p.clear()
	fmt.Fprintf(p.err, "\n%s %s, licence %s: %s, step %d of %d\n  %s\n", p.paint("do:", table.Note), g.App, g.Key.Item, g.Action, g.Step, g.Of, g.Do)
	question := "Enter when it is done"
	if g.Ask != "" {
		question = g.Ask
	}
	question += " (stop: go on later): "
	if g.Secret {
		r.Answer, err = p.secret("  " + question)
		if strings.EqualFold(r.Answer, "stop") {
			err = errLater
		}
		return r, err
	}
	if r.Answer, err = p.line(question); err != nil {
		return r, err
	}
	if g.Evidence {
		r.Evidence, err = p.line("A file that shows it, such as a picture (stop: go on later): ")
	}
	return r, err
}

func (p *asked) line(question string) (string, error) {
	fmt.Fprint(p.err, "  "+question)
	text, err := p.lines.ReadString('\n')
	text = strings.TrimSpace(text)
	if err != nil && text == "" || strings.EqualFold(text, "stop") {
		return "", errLater
	}
	return text, nil
}

var errLater = fault.New(fault.Waits, "the step was left for later")

// person says who takes the steps of licences: a file of answers, somebody at
// the terminal, or nobody.
func (e *env) person(j *move.Job, answers string) error {
	if answers != "" {
		a, err := readAnswers(answers)
		if err != nil {
			return err
		}
		j.Person = a
	} else if isTerminal(e.in) {
		j.Person = &asked{&e.ui, bufio.NewReader(e.in)}
	}
	if isTerminal(e.in) && !e.yes {
		j.Asks = e.agree // --yes alone agrees to no program
	}
	return nil
}

func (e *env) answersFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "answers", "", "YAML file with what was seen, for steps that a person takes")
}
