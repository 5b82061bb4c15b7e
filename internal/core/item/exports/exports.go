// Package exports moves files that an app exported. They are imported by hand, one by one, on the
// new computer.
package exports

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/files"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// New returns the parts for a folder of exports.
func New(o *item.Instance) item.Parts { return files.FolderOf(o, taken{}) }

type taken struct{}

// Look adds nothing: the survey checks the number of exports, which may come from another item.
func (taken) Look(*item.Instance, *item.Inspection) error { return nil }

// Compare adds how many were imported.
func (taken) Compare(o *item.Instance, out *steps.Checked) {
	have, want := int64(len(o.InKit.Ticked)), o.InKit.Sealed.Files
	out.Add(item.Row("imported by hand", want, have), item.Plural(want-have, "export")+" still to be imported by hand")
}

// makeTime limits how long an app may take to make its exports.
const makeTime = 30 * time.Minute

// Make runs the command that makes an app's exports, if its card has one and the user has agreed.
func Make(ctx context.Context, h *run.Host, c *card.Card) error {
	for i := range c.Items {
		e := c.Items[i].Exports
		if e == nil || len(e.Make) == 0 || h.Computer.Root() != "" || !h.Commands {
			continue
		}
		h.Begin(steps.Key{App: c.Name, Item: c.Items[i].Name}, "making exports", 0)
		p := h.Prober()
		p.Time = makeTime
		if _, err := p.Run(ctx, e.Make, nil); err != nil {
			return fault.Wrap(fault.Unreadable, err, "%[2]s could not make the exports of %[1]s", c.Title, strings.Join(e.Make, " "))
		}
	}
	return nil
}

// Load runs the command that imports one export, whose path is file.
func Load(ctx context.Context, h *run.Host, it *card.Item, user *machine.User, file string) error {
	var args card.Command
	for _, a := range it.Exports.Load {
		args = append(args, strings.ReplaceAll(a, "{file}", file))
	}
	p := h.Prober()
	p.Time = makeTime
	if _, err := p.Run(ctx, args, user); err != nil {
		return fault.Wrap(fault.ServerRefused, err, "%s did not import %s", args[0], file)
	}
	return nil
}

// Files returns the files of a sealed item, by name.
func Files(o *item.Instance) ([]string, error) {
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

// Queried is a database that can be queried for the number of records in an export.
type Queried interface {
	Query(ctx context.Context, query string) (int64, error)
}

// Counted returns the number of records of each sealed export on the old computer.
func Counted(ctx context.Context, o *item.Instance, s kit.Sealed, db Queried) (out []kit.Table, err error) {
	sealed := *o
	sealed.InKit = &steps.Item{Key: o.Key, Sealed: s}
	names, err := Files(&sealed)
	if err != nil {
		return nil, err
	}
	for _, f := range names {
		n, err := ask(ctx, o, db, called(f, ""))
		if err != nil {
			return nil, err
		}
		out = append(out, kit.Table{Name: f, Records: n})
	}
	return out, nil
}

// called returns the name of an export in the app. The default is its file name.
func called(file, as string) string {
	name := path.Base(file)
	return cmp.Or(as, strings.TrimSuffix(name, path.Ext(name)))
}

// ask queries the number of records of an export. It rejects a name with a backslash, because some
// servers treat a backslash as an escape.
func ask(ctx context.Context, o *item.Instance, db Queried, name string) (int64, error) {
	if strings.ContainsAny(name, "\\\x00") {
		return 0, fault.New(fault.BadCard, "the records of the export %q cannot be counted: its name has a backslash", name)
	}
	return db.Query(ctx, o.Item.Exports.Of(name))
}

// Compare compares the records of the imported exports with those on the old computer.
func Compare(ctx context.Context, o *item.Instance, db Queried, out *steps.Checked) error {
	for _, t := range o.InKit.Sealed.Tables {
		as, done := o.InKit.Ticked[t.Name]
		if !done {
			continue
		}
		n, err := ask(ctx, o, db, called(t.Name, as))
		if err != nil {
			return err
		}
		out.Add(item.Row("records of "+called(t.Name, as), t.Records, n), fmt.Sprintf("%s was imported as %s: %s then, %d now", t.Name, called(t.Name, as), item.Plural(t.Records, "record"), n))
	}
	return nil
}
