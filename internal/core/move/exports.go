package move

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/probe"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// makeTime is how long an app may take to make its exports.
const makeTime = 30 * time.Minute

// makeExports has the app make its exports, where its card names a command for
// that and a person has agreed.
func (j *Job) makeExports(ctx context.Context, c *card.Card) error {
	for i := range c.Items {
		e := c.Items[i].Exports
		if e == nil || len(e.Make) == 0 || j.Computer.Root() != "" || !j.lookerFor(c, false).Commands {
			continue
		}
		j.begin(steps.Key{App: c.Name, Item: c.Items[i].Name}, "making exports", 0)
		p := probe.Prober{Computer: j.Computer, Commands: true, Time: makeTime}
		if _, err := p.Run(ctx, e.Make, nil); err != nil {
			return fault.Wrap(fault.Unreadable, err, "the exports of %s cannot be made by %s", c.Title, strings.Join(e.Make, " "))
		}
	}
	return nil
}

// Todo is one thing that a person has to do on the new computer, and whether
// they have.
type Todo struct {
	Number int    `json:"number"`
	App    string `json:"app"`
	Title  string `json:"title"`
	Item   string `json:"item"`
	User   string `json:"user,omitempty"`
	File   string `json:"file"`
	Do     string `json:"do"`
	Done   bool   `json:"done"`
}

// Todos returns the exports of the chosen apps that a person takes in, in the
// order of their numbers, which stay the same.
func (j *Job) Todos() ([]Todo, error) {
	cards, err := j.cards()
	if err != nil {
		return nil, err
	}
	var out []Todo
	n := 0
	for _, c := range j.Kit.Cards {
		for _, it := range j.State().AppItems(c.Name) {
			ci := c.Item(it.Key.Item)
			if ci == nil || ci.Exports == nil {
				continue
			}
			files, err := j.exported(it)
			if err != nil {
				return nil, err
			}
			for _, f := range files {
				n++
				if slices.Contains(cards, c) {
					out = append(out, Todo{n, c.Name, c.Title, it.Key.Item, it.Key.User, f, ci.Exports.Import, it.Ticked[f]})
				}
			}
		}
	}
	return out, nil
}

// exported are the files of an item, in the order of names.
func (j *Job) exported(it *steps.Item) ([]string, error) {
	list, closer, err := j.list(it)
	if err != nil {
		return nil, err
	}
	defer closer.Close()
	var out []string
	for {
		e, err := list.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if e.Type == tree.File {
			out = append(out, e.Path)
		}
	}
}

// Tick records that a person has done the to-dos of these numbers.
func (j *Job) Tick(numbers []int) ([]Todo, error) {
	if j.Side() == steps.OldSide {
		return nil, fault.New(fault.Usage, "this is the old computer %s itself; exports are taken in on the new one", j.Computer.Name())
	}
	all, err := j.Todos()
	if err != nil {
		return nil, err
	}
	ticked := map[steps.Key][]string{}
	for _, n := range numbers {
		i := slices.IndexFunc(all, func(t Todo) bool { return t.Number == n })
		if i < 0 {
			return nil, fault.New(fault.Usage, "there is no to-do of the number %d", n)
		}
		key := steps.Key{App: all[i].App, Item: all[i].Item, User: all[i].User}
		if j.State().Items[key].Placed == nil {
			return nil, fault.New(fault.Usage, "%s is not unpacked yet", itemLabel(key))
		}
		if !all[i].Done {
			ticked[key] = append(ticked[key], all[i].File)
			all[i].Done = true
		}
	}
	for key, files := range ticked {
		if err := j.Kit.Record(j.line(steps.EventTicked, key), steps.Ticked{Files: files}); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// addTicked adds how many of an item's exports a person has taken in.
func (j *Job) addTicked(out *steps.Checked, t target) {
	have, want := int64(len(t.item.Ticked)), t.item.Sealed.Files
	r := row("taken in by hand", want, have)
	out.Rows = append(out.Rows, r)
	if !r.Same {
		out.Equal = false
		out.Count++
		out.Diffs = append(out.Diffs, fmt.Sprintf("%d exports are not taken in yet; `movekit todo` lists them", want-have))
	}
}
