package survey

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/steps"
)

// Licences looks for the licences in cards on the computer, without surveying the apps' data.
func Licences(ctx context.Context, l *Scanner, cards []*card.Card) (out []App, err error) {
	for _, c := range cards {
		a := App{App: c.Name, Title: c.Title, Items: []item.Inspection{}}
		if a.Places, err = l.Places(ctx, c); err == nil {
			if err = l.version(ctx, c, &a); err == nil {
				err = l.licences(ctx, c, &a, &steps.Facts{Pack: &steps.PackFacts{}})
			}
			a.Found = a.Found || slices.ContainsFunc(a.Places, func(p Place) bool { return p.Found })
			Close(a.Places)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

// AskDesks asks the licence desks for the state of the licences on this computer whose serial was found, and adds
// their answers to the apps. A desk that cannot be asked is a warning.
func AskDesks(ctx context.Context, c machine.Computer, apps []App) {
	for i := range apps {
		for j := range apps[i].Licences {
			l := &apps[i].Licences[j]
			d := l.Card.Desk
			if d == nil || l.Secrets.Serial == "" || l.Secrets.Code == "" {
				continue
			}
			a, err := licence.Change{
				Service: &licence.Desk{URL: d.URL, Key: d.Key.PublicKey, Pin: d.Pin}, Tries: 1,
				Request: licence.Request{Serial: l.Secrets.Serial, Code: l.Secrets.Code, Product: l.Card.Product, Computer: kit.ComputerOf(c).ID},
			}.Look(ctx)
			if err != nil {
				l.Warnings = append(l.Warnings, "the desk "+d.URL+" was not asked: "+err.Error())
				continue
			}
			l.Seen = append(l.Seen, fmt.Sprintf("the desk %s: %s on this computer, %d of %s taken, %s left", d.URL, a.State, a.Seated(), item.Plural(int64(a.Seats), "seat"), item.Plural(int64(a.Transfers), "transfer")))
		}
	}
}

// licences searches for each licence, and reads its secrets. If several users have different
// serials, each has a licence: the first has the name in the card, the others NAME@USER.
func (l *Scanner) licences(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	for i := range c.Licences {
		lic := &c.Licences[i]
		if strings.Contains(lic.Name, "@") {
			continue // it will be found again
		}
		if !lic.Method.Info().Sealed() {
			ls := Licence{Licence: lic.Name, Method: lic.Method, Card: lic}
			l.look(&ls, a.Places)
			a.Licences = append(a.Licences, ls)
			continue
		}
		all, err := l.secrets(ctx, lic)
		if err != nil {
			return err
		}
		for n, s := range all {
			ls := Licence{Licence: lic.Name, Method: lic.Method, Card: lic, Secrets: s.Secrets}
			if n > 0 {
				own := lic.Name + "@" + s.User
				ls.Licence, ls.Card = own, c.ForUsers([]string{own}).Licence(own)
			}
			l.look(&ls, a.Places)
			l.judge(&ls, s.how, f)
			a.Licences = append(a.Licences, ls)
		}
	}
	return nil
}

// judge checks whether a licence's serial and code were found and are plausible.
func (l *Scanner) judge(ls *Licence, how string, f *steps.Facts) {
	info, s := ls.Method.Info(), ls.Secrets
	if wrong := licence.FormOf(ls.Card).Problem(s.Serial); s.Serial != "" && wrong != "" {
		f.Pack.BadSerials = append(f.Pack.BadSerials, "the serial of the licence "+ls.Licence+" looks mistyped: "+wrong)
	}
	switch {
	case ls.Card.Whole(s.Serial, s.Code) && (ls.Card.Typed == "" || s.Code != ""):
		ls.Serial = licence.Mask(s.Serial)
		ls.Seen = append(ls.Seen, info.Serial+" "+ls.Serial+" in "+how)
	case ls.Card.Typed != "":
		ls.Typed = true
	default:
		f.Pack.Missing = append(f.Pack.Missing, "the "+info.Serial+" or "+info.Code+" of the licence "+ls.Licence)
	}
}

// secret is the serial and code of a licence, and where they were read.
type secret struct {
	licence.Secrets
	how string
}

// secrets reads a licence's serial and code: one pair for the computer, or one for each user who
// has different ones. The result has at least one entry, which may be empty.
func (l *Scanner) secrets(ctx context.Context, lic *card.Licence) (out []secret, err error) {
	users := []*machine.User{nil}
	if ofUsers(&lic.Serial) || ofUsers(&lic.Code) {
		users = machine.Profiles(l.Computer, map[bool]string{true: "%USERPROFILE%", false: "~"}[l.Computer.System() == machine.Windows])
	}
	for _, u := range users {
		serial, err := l.Prober().Read(ctx, &lic.Serial, u)
		if err != nil {
			return nil, err
		}
		code, err := l.Prober().Read(ctx, &lic.Code, u)
		if err != nil {
			return nil, err
		}
		s := secret{licence.Secrets{Serial: serial.Value, Code: code.Value}, serial.How}
		if u != nil && s.Serial+s.Code != "" {
			s.User = u.Name
			s.how += ", of " + u.Name
		}
		switch {
		case len(out) == 0 || out[0].Serial+out[0].Code == "":
			out = []secret{s}
		case s.Serial != "" && !slices.ContainsFunc(out, func(o secret) bool { return o.Serial == s.Serial }):
			out = append(out, s)
		}
	}
	if len(out) == 0 {
		out = []secret{{}} // nobody has a profile here
	}
	return out, nil
}

// ofUsers reports whether a source is in users' profiles.
func ofUsers(s *card.Source) bool {
	return slices.ContainsFunc(s.File.Texts(), machine.PerUser) || strings.HasPrefix(strings.ToUpper(s.Registry), "HKCU")
}

// maxLicenceFile limits the size of files that are searched for a certificate, in bytes.
const maxLicenceFile = 1 << 20

// look reports evidence of a licence: the app's activation, its token, its files.
func (l *Scanner) look(ls *Licence, places []Place) {
	lic := ls.Card
	if path := lic.Token.On(string(l.Computer.System())); path != "" {
		if real, err := l.Computer.Locate(path, machine.FindUser(l.Computer, ls.Secrets.User)); err == nil {
			if there, err := machine.Exists(real); err == nil && there {
				ls.Seen = append(ls.Seen, "the app's activation in "+machine.DisplayPath(l.Computer, real))
			}
		}
	}
	if lic.USB != "" {
		if there, err := machine.USB(l.Computer, lic.USB); err == nil && there {
			ls.Seen = append(ls.Seen, "the token "+lic.USB+", plugged in")
		}
	}
	var all []licence.Contents
	for _, p := range places {
		if !p.Found || !slices.Contains(lic.Items, p.Item.Name) {
			continue
		}
		seen := "the file " + machine.DisplayPath(l.Computer, p.Path)
		if info, err := os.Stat(p.Path); err == nil && info.Mode().IsRegular() && info.Size() <= maxLicenceFile {
			if data, err := os.ReadFile(p.Path); err == nil {
				held := licence.ReadContents(data, "")
				all = append(all, held)
				switch c, _ := licence.Leaf([]licence.Contents{held}); {
				case c != nil && c.Until.Before(time.Now()):
					ls.Warnings = append(ls.Warnings, fmt.Sprintf("the certificate of %s expired on %s", c.Subject, c.Until.Format(day)))
				case c != nil:
					seen += fmt.Sprintf(" (the certificate of %s, until %s)", c.Subject, c.Until.Format(day))
				case held.Locked:
					seen += " (encrypted; the pack asks for its passphrase)"
				}
			}
		}
		ls.Seen = append(ls.Seen, seen)
	}
	if _, fits := licence.Leaf(all); !fits {
		ls.Warnings = append(ls.Warnings, "no certificate among its files fits their private key, so it cannot be activated elsewhere")
	}
}

// day is the format of a day.
const day = "2 Jan 2006"

// inUse finds the app's running programs, and programs that have its files open.
func (l *Scanner) inUse(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	var err error
	if a.Running, err = l.Running(ctx, c); err != nil {
		return err
	}
	f.Use.Running = a.Running
	var paths []string
	for i, p := range a.Places {
		if a.Items[i].OnDisk {
			paths = append(paths, p.Path)
		}
	}
	if len(paths) == 0 {
		return nil
	}
	holders, err := l.Computer.OpenFiles(ctx, paths)
	if err != nil {
		return err
	}
	for i, p := range a.Places {
		is := &a.Items[i]
		if !is.OnDisk {
			continue
		}
		for _, h := range holders {
			if machine.Inside(h.Path, p.Path) || strings.HasPrefix(h.Path, p.Path+"-") {
				is.OpenBy = append(is.OpenBy, ProgramText(h.Program))
				if !is.InUse {
					f.Use.Open = append(f.Use.Open, fmt.Sprintf("%s has %s open", ProgramText(h.Program), h.Path))
				}
			}
		}
	}
	return nil
}

// Running returns the app's running programs, for display.
func (l *Scanner) Running(ctx context.Context, c *card.Card) (out []string, err error) {
	programs, err := l.Computer.Running(ctx, c.Programs)
	for _, p := range programs {
		out = append(out, ProgramText(p))
	}
	return out, err
}

// ProgramText describes a running program.
func ProgramText(p machine.Program) string {
	if p.Since.IsZero() {
		return fmt.Sprintf("%s (process %d)", p.Name, p.PID)
	}
	return fmt.Sprintf("%s (process %d, since %s)", p.Name, p.PID, steps.Moment(p.Since))
}

// Requires checks the app's requirements.
func (l *Scanner) Requires(c *card.Card) ([]Required, error) {
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

func (l *Scanner) required(r card.Require) (bool, error) {
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
