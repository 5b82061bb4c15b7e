package move

import (
	"cmp"
	"context"
	"maps"
	"path/filepath"
	"slices"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/exports"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// Todo is one manual task on the new computer, and whether it is done.
type Todo struct {
	Number int    `json:"number"`
	App    string `json:"app"`
	Title  string `json:"title"`
	Item   string `json:"item"`
	User   string `json:"user,omitempty"`
	File   string `json:"file"`
	Do     string `json:"do"`
	Done   bool   `json:"done"`
	As     string `json:"as,omitempty"` // its name in the app; "" means the file name
}

// Todos returns the exports of the selected apps to import by hand. Their numbers never change.
func (m *Move) Todos() ([]Todo, error) {
	cards, err := m.SelectedCards()
	if err != nil {
		return nil, err
	}
	var out []Todo
	n := 0
	for _, c := range m.Cards {
		for _, it := range m.State.AppItems(c.Name) {
			ci := c.Item(it.Key.Item)
			if ci == nil || ci.Exports == nil {
				continue
			}
			files, err := exports.Files(&item.Instance{Host: m.Host, Run: m.Run, Key: it.Key, Item: ci, InKit: it})
			if err != nil {
				return nil, err
			}
			for _, f := range files {
				n++
				if slices.Contains(cards, c) {
					as, done := it.Ticked[f]
					out = append(out, Todo{n, c.Name, c.Title, it.Key.Item, it.Key.User, f, ci.Exports.Import, done, as})
				}
			}
		}
	}
	return out, nil
}

// Tick records that the tasks with these numbers are done. Each has the name in the app, or "" for
// the file name.
func (m *Move) Tick(numbers map[int]string) ([]Todo, error) {
	switch side := m.Side(); {
	case m.Manifest.Keep: // a safety copy is unpacked on the same computer
	case side == steps.OldSide:
		return nil, fault.New(fault.Usage, "this is the old computer %s itself; exports are imported on the new one", m.Computer.Name())
	case side == steps.ThirdSide:
		return nil, fault.New(fault.Usage, "this is %s; exports are imported on the new computer, %s", m.Computer.Name(), m.State.New.Name)
	}
	all, err := m.Todos()
	if err != nil {
		return nil, err
	}
	ticked := map[steps.Key]*steps.Ticked{}
	for _, n := range slices.Sorted(maps.Keys(numbers)) {
		i := slices.IndexFunc(all, func(t Todo) bool { return t.Number == n })
		if i < 0 {
			return nil, fault.New(fault.Usage, "there is no task with the number %d", n)
		}
		key := steps.Key{App: all[i].App, Item: all[i].Item, User: all[i].User}
		if m.State.Items[key].Placed == nil {
			return nil, fault.New(fault.Usage, "%s is not unpacked yet", item.Label(key))
		}
		if as := numbers[n]; !all[i].Done || as != "" && as != all[i].As {
			if ticked[key] == nil {
				ticked[key] = &steps.Ticked{As: map[string]string{}}
			}
			t := ticked[key]
			t.Files = append(t.Files, all[i].File)
			if as != "" {
				t.As[all[i].File] = as
			}
			all[i].Done, all[i].As = true, as
		}
	}
	for key, t := range ticked {
		if err := m.Record(journal.EventTicked, key, t); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Load imports the exports that are not imported yet and whose card names a program for that. Each is recorded at once. It
// stops at the first that the program does not import.
func (m *Move) Load(ctx context.Context) ([]Todo, error) {
	all, err := m.Todos()
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		key := steps.Key{App: t.App, Item: t.Item, User: t.User}
		c, placed := m.Card(t.App), m.State.Items[key].Placed
		it := c.Item(t.Item)
		if t.Done || len(it.Exports.Load) == 0 || placed == nil {
			continue
		}
		if !m.ForApp(c).Commands {
			if err := m.AgreeToCommands(c); err != nil {
				return nil, cmp.Or(ctx.Err(), error(fault.New(fault.NotAgreed, "nobody has agreed to run the programs of %s", c.Title)))
			}
			m.State.Agreed[c.Name] = true
		}
		m.Begin(key, "importing "+t.File, 0)
		if err := exports.Load(ctx, m.ForApp(c), it, machine.FindUser(m.Computer, t.User), filepath.Join(placed.To, filepath.FromSlash(t.File))); err != nil {
			return nil, err
		}
		if _, err := m.Tick(map[int]string{t.Number: ""}); err != nil {
			return nil, err
		}
	}
	return m.Todos()
}
