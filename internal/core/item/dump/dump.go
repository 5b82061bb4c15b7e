// Package dump moves databases that only their own programs can save and load. The card names the programs. What they save is
// sealed as files, and compared by the numbers that a program prints. A set-aside database is a saved one: it was saved to a
// folder, and then removed by the program.
package dump

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/files"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// usualLimit is the default time limit of a program.
const usualLimit = 30 * time.Minute

// Suffixes of a folder beside a saved database that marks unfinished work.
const (
	saving  = ".saving"  // what is saved may be incomplete; the database is complete
	partial = ".partial" // the database may be incomplete, because it is being removed or loaded; what is saved is complete
	loaded  = ".loaded"  // what is saved was loaded, and is being deleted
)

// mover moves one database. Its home is a name in the folder of the item's path, which no file has. Its spares are folders there.
type mover struct {
	item.Mover // of the folder with the saved files
	item.Names
	o *item.Instance
}

// New returns the parts for one database.
func New(o *item.Instance) item.Parts {
	inner := files.Folder(o)
	m := mover{inner.Mover, inner.Names, o}
	return item.Parts{Inspector: m, Mover: m, Names: m}
}

// Close does nothing.
func (mover) Close() {}

// Locate finds the folder for saved files.
func (m mover) Locate(ctx context.Context) error {
	if err := m.o.LocateOnDisk(ctx); err != nil {
		return err
	}
	m.o.Path = filepath.Join(m.o.Path, m.o.Key.App+"-"+m.o.Item.Name)
	return nil
}

// run runs a program of the card with the files in a folder. failed is nil if its exit code is 0.
func (m mover) run(ctx context.Context, args card.Command, folder string) (said string, failed, err error) {
	p := m.o.Prober()
	p.Time = usualLimit
	if limit := m.o.Item.Dump.Limit; limit.Duration > 0 {
		p.Time = limit.Duration
	}
	to := strings.NewReplacer("{file}", filepath.Join(folder, "saved"), "{folder}", filepath.Join(folder, "saved"))
	var typed card.Command
	for _, a := range args {
		typed = append(typed, to.Replace(a))
	}
	said, code, err := p.RunCode(ctx, typed, m.o.User)
	switch {
	case ctx.Err() != nil:
		return "", nil, fault.Wrap(fault.Stopped, ctx.Err(), "the work on %s was stopped", m.o.Label())
	case probe.IsWithheld(err):
		return "", nil, fault.New(fault.NotAgreed, "nobody has agreed to run the programs of %s", m.o.Label())
	case err != nil:
		return "", nil, fault.Wrap(fault.Unreadable, err, "the program %s of %s cannot be run", args[0], m.o.Label())
	}
	return said, probe.Failure(said, code), nil
}

// must runs a program that must succeed.
func (m mover) must(ctx context.Context, what string, args card.Command, folder string) error {
	_, failed, err := m.run(ctx, args, folder)
	if err == nil && failed != nil {
		err = fault.Wrap(fault.ServerRefused, failed, "%s could not be %s by %s", m.o.Label(), what, args[0])
	}
	return err
}

func (m mover) exists(ctx context.Context) (bool, error) {
	_, failed, err := m.run(ctx, m.o.Item.Dump.Exists, "")
	return err == nil && failed == nil, err
}

var number = regexp.MustCompile(`-?\d+`)

// figures returns the numbers that the programs print.
func (m mover) figures(ctx context.Context) (out []kit.Table, err error) {
	for _, f := range m.o.Item.Dump.Figures {
		said, failed, err := m.run(ctx, f.Run, "")
		if err != nil {
			return nil, err
		}
		text := number.FindString(said)
		if !f.Pattern.IsZero() {
			text, _ = f.Pattern.First(said)
		}
		n, nerr := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		if failed != nil || nerr != nil {
			return nil, fault.New(fault.BadCard, "the program %s does not print the number of %s", f.Run[0], f.Name)
		}
		out = append(out, kit.Table{Name: f.Name, Records: n})
	}
	return out, nil
}

// Inspect reports whether the database is there, and its numbers.
func (m mover) Inspect(ctx context.Context, _ item.Options) (*item.Inspection, error) {
	is := m.o.Blank()
	there, err := m.exists(ctx)
	if err == nil && there {
		is.State, is.Files = item.IsHere, 1
		is.Stamp = time.Now().UTC().Format(time.RFC3339Nano) // its content is not known before it is saved
		is.Tables, err = m.figures(ctx)
		for _, t := range is.Tables {
			is.Details = append(is.Details, fmt.Sprintf("%s: %d", t.Name, t.Records))
		}
	}
	if fault.KindOf(err) == fault.Stopped {
		return nil, err
	}
	if err != nil {
		is.State, is.Unreadable, is.Why = item.NotReached, []string{err.Error()}, err.Error()
	}
	return is, nil
}

// saved is where the pack saves a database.
func (m mover) saved() string { return m.o.StageName(m.o.Path) + ".pack" }

// save saves the database to a new folder.
func (m mover) save(ctx context.Context, folder string) error {
	err := errors.Join(os.RemoveAll(folder), os.MkdirAll(folder, 0o700))
	if err == nil {
		if err = m.must(ctx, "saved", m.o.Item.Dump.Save, folder); err != nil {
			return err
		}
		var there bool
		if there, err = machine.Exists(filepath.Join(folder, "saved")); err == nil && !there {
			return fault.New(fault.ServerRefused, "%s was not saved: %s ended, and wrote nothing to its file or folder", m.o.Label(), m.o.Item.Dump.Save[0])
		}
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the saved database to %s", folder)
	}
	return nil
}

// Seal saves the database and seals the files. Its numbers must be the same before and after.
func (m mover) Seal(ctx context.Context, is *item.Inspection) (*kit.Sealed, error) {
	folder := m.saved()
	defer os.RemoveAll(folder)
	before, err := m.figures(ctx)
	if err != nil {
		return nil, err
	}
	if err := m.save(ctx, folder); err != nil {
		return nil, err
	}
	after, err := m.figures(ctx)
	if err != nil {
		return nil, err
	}
	if fmt.Sprint(before) != fmt.Sprint(after) {
		return nil, fault.New(fault.Changed, "%s changed while it was saved: close the app", m.o.Label())
	}
	inner := files.Folder(m.o.At(folder))
	found, err := inner.Inspect(ctx, item.Options{Again: true})
	if err != nil {
		return nil, err
	}
	out, err := inner.Mover.Seal(ctx, found)
	if err == nil {
		out.Tables, out.Stamp, out.Parents = after, is.Stamp, nil
	}
	return out, err
}

// Where returns the folder of the saved files.
func (m mover) Where() (spoken, disk string) { return m.o.Path, filepath.Dir(m.o.Path) }

// Lacks reports missing programs.
func (m mover) Lacks(context.Context) (out item.Lacks, err error) {
	if m.o.Computer.Root() != "" {
		return item.Lacks{Reasons: []string{"its own programs must load it: run Move Kit on the computer itself"}}, nil
	}
	for _, c := range []card.Command{m.o.Item.Dump.Load, m.o.Item.Dump.Exists} {
		if name, err := m.o.Computer.Locate(c[0], m.o.User); err == nil {
			if there, err := machine.Exists(name); err == nil && !there {
				out.Reasons = append(out.Reasons, "the program "+c[0]+" is not installed here")
			}
		}
	}
	reasons, err := m.o.LacksOnDisk()
	out.Reasons = append(out.Reasons, reasons...)
	return out, err
}

// Same compares a saved database by its files. The one in use is saved for that. Some programs never write the same bytes twice: on
// the new computer, a database that an unpack put there is also the same if its numbers are.
func (m mover) Same(ctx context.Context, at string) (bool, error) {
	if at != m.o.Path {
		return m.Mover.Same(ctx, at)
	}
	there, err := m.exists(ctx)
	if err != nil || !there || m.o.InKit == nil || len(m.o.InKit.Sealed.List) == 0 {
		return false, err
	}
	folder := m.o.StageName(m.o.Path) + ".look"
	defer os.RemoveAll(folder)
	if err := m.save(ctx, folder); err != nil {
		return false, err
	}
	if same, err := m.holds(folder); err != nil || same {
		return same, err
	}
	if m.o.InKit.Placed == nil || m.o.Run.Manifest.Old.ID == machine.ID(m.o.Computer) {
		return false, nil
	}
	now, err := m.figures(ctx)
	return err == nil && fmt.Sprint(now) == fmt.Sprint(m.o.InKit.Sealed.Tables), err
}

// holds reports whether a folder has the sealed files.
func (m mover) holds(folder string) (bool, error) {
	list, closer, err := m.o.List()
	if err != nil {
		return false, err
	}
	defer closer.Close()
	for {
		e, err := list.Next()
		if err == io.EOF {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		if e.Type != tree.File {
			continue
		}
		f, err := os.Open(filepath.Join(folder, filepath.FromSlash(e.Path)))
		if err != nil {
			return false, nil // a missing file differs
		}
		sum, _, err := digest.Reader(f)
		f.Close()
		if err != nil || sum != e.Hash {
			return false, err
		}
	}
}

// RecordPlaced removes the marks of an interrupted run whose database was complete.
func (m mover) RecordPlaced(context.Context, string, *steps.Placed) error {
	stage := m.o.StageName(m.o.Path)
	return done(stage+saving, stage+partial, stage+loaded)
}

// Unedited reports that the database may have been edited, so it is saved before it is removed.
func (mover) Unedited(context.Context, string, string) (bool, error) { return false, nil }

// Compare compares the numbers.
func (m mover) Compare(ctx context.Context) (*steps.Checked, error) {
	there, err := m.exists(ctx)
	if err != nil {
		return nil, err
	}
	out := &steps.Checked{Equal: true}
	if !there {
		out.Differs("the database is missing")
		return out, nil
	}
	now, err := m.figures(ctx)
	for i, f := range now {
		if i < len(m.o.InKit.Sealed.Tables) {
			was := m.o.InKit.Sealed.Tables[i].Records
			out.Add(item.Row(f.Name, was, f.Records), fmt.Sprintf("%s: %d, and %d on the old computer", f.Name, f.Records, was))
		}
	}
	return out, err
}

// State reports whether the database is there, and whether it is saved at spare.
func (m mover) State(ctx context.Context, home, spare string, _ bool) (item.Presence, error) {
	if home != m.o.Path { // a saved one
		return item.PairOnDisk(home, spare)
	}
	h, err := m.exists(ctx)
	if err != nil {
		return "", err
	}
	for _, mark := range []string{saving, partial, loaded} {
		if there, err := item.OnDisk(with(spare, mark)); err != nil || there {
			return item.Between, err
		}
	}
	s, err := item.OnDisk(spare)
	return item.PresenceOf(h, s), err
}

func with(path, ending string) string {
	if path == "" {
		return ""
	}
	return path + ending
}

// mark marks a saved database while work on it is unfinished.
func mark(path string) error {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write to %s", filepath.Dir(path))
	}
	return nil
}

// MoveOut saves the database to spare, and removes it.
func (m mover) MoveOut(ctx context.Context, home, spare string, _ bool) error {
	if len(m.o.Item.Dump.Remove) == 0 {
		return fault.New(fault.ServerRefused, "there is a database %s already, and the card names no program that removes it, so somebody must remove it", m.o.Label())
	}
	there, err := m.exists(ctx)
	if err != nil {
		return err
	}
	complete, err := item.OnDisk(spare + partial)
	if err != nil {
		return err
	}
	if there && !complete {
		if err := mark(spare + saving); err != nil {
			return err
		}
		if err := m.save(ctx, spare); err != nil {
			return err
		}
		if err := mark(spare + partial); err != nil {
			return err
		}
	}
	if there {
		if err := m.must(ctx, "removed", m.o.Item.Dump.Remove, spare); err != nil {
			return err
		}
		if left, err := m.exists(ctx); err != nil || left {
			return cmp.Or(err, error(fault.New(fault.ServerRefused, "%s is still there after %s: it is saved in %s", m.o.Label(), m.o.Item.Dump.Remove[0], spare)))
		}
	}
	return done(spare+saving, spare+partial)
}

// MoveIn loads the database from spare.
func (m mover) MoveIn(ctx context.Context, spare, home string, _ bool) error {
	if there, err := item.OnDisk(spare); err != nil {
		return err
	} else if !there { // it was loaded
		return done(spare+saving, spare+partial, spare+loaded)
	}
	again, err := item.OnDisk(spare + partial)
	if err != nil {
		return err
	}
	there, err := m.exists(ctx)
	switch {
	case err != nil:
		return err
	case there && !again:
		return fault.New(fault.Changed, "there is a database %s already", m.o.Label())
	case there && len(m.o.Item.Dump.Remove) == 0:
		return fault.New(fault.ServerRefused, "loading %s was interrupted, and the card names no program that removes it, so somebody must remove it", m.o.Label())
	case there:
		if err := m.must(ctx, "removed", m.o.Item.Dump.Remove, spare); err != nil {
			return err
		}
	}
	if err := mark(spare + partial); err != nil {
		return err
	}
	if err := m.must(ctx, "loaded", m.o.Item.Dump.Load, spare); err != nil {
		return err
	}
	if there, err := m.exists(ctx); err != nil || !there {
		return cmp.Or(err, error(fault.New(fault.ServerRefused, "%s is not there after %s: it is saved in %s", m.o.Label(), m.o.Item.Dump.Load[0], spare)))
	}
	if err := os.Rename(spare, spare+loaded); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", spare)
	}
	return done(spare+saving, spare+partial, spare+loaded)
}

// done removes marks and what is not needed any more.
func done(paths ...string) error {
	for _, p := range paths {
		if err := os.RemoveAll(p); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", p)
		}
	}
	return nil
}
