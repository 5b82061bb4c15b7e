package survey

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/desktop"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/steps"
)

// licences reads each licence's serial and code.
func (l *Looker) licences(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	for i := range c.Licences {
		lic := &c.Licences[i]
		if !lic.Method.Sealed() {
			a.Licences = append(a.Licences, Licence{Licence: lic.Name, Method: lic.Method})
			continue
		}
		serial, err := l.Prober().Read(ctx, &lic.Serial, nil)
		if err != nil {
			return err
		}
		code, err := l.Prober().Read(ctx, &lic.Code, nil)
		if err != nil {
			return err
		}
		ls := Licence{Licence: lic.Name, Method: lic.Method, Secrets: licence.Secrets{Serial: serial.Value, Code: code.Value}}
		if wrong := licence.FormOf(lic).Wrong(serial.Value); serial.Value != "" && wrong != "" {
			f.BadSerials = append(f.BadSerials, "the serial of the licence "+lic.Name+" looks mistyped: "+wrong)
		}
		if ls.Typed = lic.Typed != "" && (serial.Value == "" || code.Value == ""); ls.Typed {
			a.Licences = append(a.Licences, ls)
			continue
		}
		if serial.Value == "" || code.Value == "" {
			f.Missing = append(f.Missing, map[bool]string{true: "the key or registered name", false: "the serial or code"}[lic.Method == card.MethodKey]+" of the licence "+lic.Name)
		} else {
			ls.Serial = licence.Mask(serial.Value)
		}
		a.Licences = append(a.Licences, ls)
	}
	return nil
}

// inUse finds the app's running programs, and the programs that have its files
// open.
func (l *Looker) inUse(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	var err error
	if a.Running, err = l.Running(ctx, c); err != nil {
		return err
	}
	f.Running = a.Running
	var paths []string
	for i, p := range a.Places {
		if p.Item.Kind.Served() && !p.Item.Kind.Consistent() {
			for _, who := range a.Items[i].OpenBy {
				f.Open = append(f.Open, fmt.Sprintf("%s is connected to %s", who, p.Path))
			}
		}
		if p.Found && !p.Item.Kind.Served() {
			paths = append(paths, p.Path)
		}
	}
	if len(paths) == 0 {
		return nil
	}
	holders, err := l.Computer.Holding(ctx, paths)
	if err != nil {
		return err
	}
	for i, p := range a.Places {
		if !p.Found || p.Item.Kind.Served() {
			continue
		}
		for _, h := range holders {
			if Inside(h.Path, p.Path) || strings.HasPrefix(h.Path, p.Path+"-") {
				a.Items[i].OpenBy = append(a.Items[i].OpenBy, programText(h.Program))
				if !p.Item.Kind.Consistent() || p.AsFile {
					f.Open = append(f.Open, fmt.Sprintf("%s has %s open", programText(h.Program), h.Path))
				}
			}
		}
	}
	return nil
}

// Running returns the app's programs that run, for a person.
func (l *Looker) Running(ctx context.Context, c *card.Card) (out []string, err error) {
	programs, err := l.Computer.Running(ctx, c.Programs)
	for _, p := range programs {
		out = append(out, programText(p))
	}
	return out, err
}

func programText(p machine.Program) string { return fmt.Sprintf("%s (process %d)", p.Name, p.PID) }

// Requires looks for what the app cannot work without.
func (l *Looker) Requires(c *card.Card) ([]Required, error) {
	var out []Required
	for _, r := range c.Requires {
		here, err := l.required(r)
		if err != nil {
			return nil, err
		}
		out = append(out, Required{r.Name, here})
	}
	return out, nil
}

func (l *Looker) required(r card.Require) (bool, error) {
	if path := r.Path.On(string(l.Computer.System())); path != "" {
		for _, u := range machine.Profiles(l.Computer, path) {
			real, err := l.Computer.Locate(path, u)
			if err != nil {
				return false, err
			}
			if there, err := machine.Exists(real); err != nil || there {
				return there, err
			}
		}
	}
	if r.Registry != "" && l.Computer.System() == machine.Windows {
		for _, u := range append([]machine.User{{}}, l.Computer.Users()...) {
			if k, err := l.Computer.Registry(r.Registry, &u); err == nil {
				k.Close()
				return true, nil
			}
		}
	}
	if r.Package != "" && l.Computer.System() == machine.Linux {
		v, err := probe.PackageVersion(l.Computer, r.Package)
		return v != "", ignoreMissing(err)
	}
	return false, nil
}

func ignoreMissing(err error) error {
	if os.IsNotExist(err) {
		return nil
	}
	return err
}

// countTables tells how many tables and records there are.
func (is *Item) countTables() {
	var records int64
	for _, t := range is.Tables {
		records += t.Records
	}
	is.Details = append(is.Details, fmt.Sprintf("%s, %s", plural(int64(len(is.Tables)), "table"), plural(records, "record")))
}

// desktopFiles looks into the databases of desktop programs: their tables, and
// whether a set of files is whole and closed.
func desktopFiles(p *Place, is *Item) (err error) {
	switch p.Item.Kind {
	case card.DBase:
		if is.Tables, is.Lacks, err = desktop.Tables(p.Path); err != nil {
			return err
		}
		is.countTables()
	case card.Jet:
		jet, err := desktop.IsJet(p.Path)
		if err != nil {
			return err
		}
		if !jet {
			return fault.New(fault.BadDatabase, "%s is no Jet or ACE database, or it is encrypted", p.Path)
		}
		// It moves as a file, whether its records can be counted or not.
		switch is.Tables, err = desktop.JetTables(p.Path); {
		case err != nil:
			is.Details = append(is.Details, "its records cannot be counted: "+err.Error())
		case is.Tables == nil:
			is.Details = append(is.Details, "encrypted: its records are not counted")
		default:
			is.countTables()
		}
		if lock, who := desktop.LockedBy(p.Path); lock != "" {
			is.Locked = fmt.Sprintf("%s is open, or was not closed: its lock file %s names %s", p.Label(), filepath.Base(lock), orNobody(who))
		}
	}
	return nil
}

func orNobody(who []string) string {
	if len(who) == 0 {
		return "nobody"
	}
	return strings.Join(who, ", ")
}
