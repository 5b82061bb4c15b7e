// Package exports moves files that an app itself wrote, which a person takes in
// one by one on the new computer.
package exports

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/files"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// New moves a folder of exports.
func New(o *item.One) item.Mover { return files.FolderOf(o, taken{}) }

type taken struct{}

// Look has nothing to add: how many there must be, other items may tell.
func (taken) Look(*item.One, *item.Look) error { return nil }

// Compare adds how many a person has taken in.
func (taken) Compare(o *item.One, out *steps.Checked) {
	have, want := int64(len(o.Known.Ticked)), o.Known.Sealed.Files
	r := item.Row("taken in by hand", want, have)
	out.Rows = append(out.Rows, r)
	if !r.Same {
		out.Equal = false
		out.Count++
		out.Diffs = append(out.Diffs, fmt.Sprintf("%d exports are not taken in by hand yet", want-have))
	}
}

// makeTime is how long an app may take to make its exports.
const makeTime = 30 * time.Minute

// Make has an app make its exports, where its card names a command for that and
// a person has agreed.
func Make(ctx context.Context, h *run.Here, c *card.Card) error {
	for i := range c.Items {
		e := c.Items[i].Exports
		if e == nil || len(e.Make) == 0 || h.Computer.Root() != "" || !h.Commands {
			continue
		}
		h.Begin(steps.Key{App: c.Name, Item: c.Items[i].Name}, "making exports", 0)
		p := h.Prober()
		p.Time = makeTime
		if _, err := p.Run(ctx, e.Make, nil); err != nil {
			return fault.Wrap(fault.Unreadable, err, "the exports of %s cannot be made by %s", c.Title, strings.Join(e.Make, " "))
		}
	}
	return nil
}

// Files are the files of a sealed item, in the order of names.
func Files(o *item.One) ([]string, error) {
	list, closer, err := o.List()
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
