package kit

import (
	"encoding/csv"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"github.com/goccy/go-yaml"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/yamltext"
)

// PlanFile is in the folder of a planned kit until the kit is created on the old computer.
const PlanFile = "planned.yaml"

// Planned is a move that is planned and not begun: a row of a table.
type Planned struct {
	Old        string            `yaml:"old"`
	New        string            `yaml:"new"`
	Office     string            `yaml:"office,omitempty"`
	Technician string            `yaml:"technician,omitempty"`
	Apps       []string          `yaml:"apps,omitempty"`  // empty means all that are there
	Users      map[string]string `yaml:"users,omitempty"` // user on the new computer, by user on the old one
	// Agreed has the hashes of cards whose commands the planner agreed to run, by app.
	Agreed map[string]string `yaml:"agreed,omitempty"`
	// MAC shows that somebody who knows the passphrase wrote the plan.
	MAC string `yaml:"mac"`
}

// Agree records that the commands of cards may run in this move.
func (p *Planned) Agree(cards []*card.Card) {
	p.Agreed = map[string]string{}
	for _, c := range cards {
		p.Agreed[c.Name] = digest.Of(c.Text).String()
	}
}

// agreed reports whether the planner agreed to the commands of exactly this card.
func (p *Planned) agreed(c *card.Card) bool {
	return len(c.Commands()) > 0 && p.Agreed[c.Name] == digest.Of(c.Text).String()
}

// mac returns the code of the plan for the kit's key.
func (p Planned) mac(id *age.X25519Identity) (string, error) {
	p.MAC = ""
	text, err := yaml.Marshal(p)
	if err != nil {
		return "", fault.Wrap(fault.Internal, err, "cannot write a plan")
	}
	h := digest.Keyed(digest.Derive("movekit kit v1 plan authenticity", []byte(id.String())))
	h.Write(text)
	return h.Sum().String(), nil
}

// columns of a table of moves. The first two are required.
var columns = []string{"old", "new", "office", "technician", "apps", "users"}

// maxTable limits a table, in bytes.
const maxTable = 4 << 20

// ReadPlans reads a table of moves: CSV (RFC 4180) with commas or semicolons, as spreadsheets write it, with a line of headings.
// Apps and users are separated by spaces; a user is OLD=NEW.
func ReadPlans(name string, r io.Reader) ([]Planned, error) {
	data, err := io.ReadAll(io.LimitReader(r, maxTable))
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read %s", name)
	}
	text := strings.TrimPrefix(string(data), "\ufeff")
	table := csv.NewReader(strings.NewReader(text))
	if first, _, _ := strings.Cut(text, "\n"); strings.Count(first, ";") > strings.Count(first, ",") {
		table.Comma = ';'
	}
	table.TrimLeadingSpace = true
	rows, err := table.ReadAll()
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "%s is not a table in CSV", name)
	}
	if len(rows) < 2 {
		return nil, fault.New(fault.Usage, "%s has no moves: it needs a line of headings (%s) and a line for each move", name, strings.Join(columns, ", "))
	}
	at := map[string]int{}
	for i, heading := range rows[0] {
		heading = strings.ToLower(strings.TrimSpace(heading))
		if !slices.Contains(columns, heading) {
			return nil, fault.New(fault.Usage, "%s has a column %q; the columns are %s", name, heading, strings.Join(columns, ", "))
		}
		at[heading] = i
	}
	for _, must := range columns[:2] {
		if _, there := at[must]; !there {
			return nil, fault.New(fault.Usage, "%s has no column %q", name, must)
		}
	}
	var out []Planned
	seen := map[string]int{}
	for n, row := range rows[1:] {
		cell := func(column string) string {
			if i, there := at[column]; there {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		p := Planned{Old: cell("old"), New: cell("new"), Office: cell("office"), Technician: cell("technician"), Apps: strings.Fields(cell("apps")), Users: map[string]string{}}
		for _, pair := range strings.Fields(cell("users")) {
			old, now, ok := strings.Cut(pair, "=")
			if !ok || old == "" || now == "" {
				return nil, fault.New(fault.Usage, "%s, line %d: %q is not OLD=NEW", name, n+2, pair)
			}
			p.Users[old] = now
		}
		m := Manifest{ID: strings.Repeat("0", 16), Old: Computer{Name: p.Old}, New: Computer{Name: p.New}, Office: p.Office}
		switch before, twice := seen[strings.ToLower(p.Old)]; {
		case p.Old == "" && p.New == "":
			continue // an empty line of a spreadsheet
		case p.Old == "" || p.New == "" || !m.usable():
			return nil, fault.New(fault.Usage, "%s, line %d: the names of the computers are not valid", name, n+2)
		case twice:
			return nil, fault.New(fault.Usage, "%s, line %d: %s is in line %d too", name, n+2, p.Old, before)
		}
		seen[strings.ToLower(p.Old)] = n + 2
		out = append(out, p)
	}
	return out, nil
}

// Taken reports whether a folder has a kit or a plan already.
func Taken(dir string) bool {
	for _, name := range []string{ManifestFile, PlanFile} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return true
		}
	}
	return false
}

// Prepare makes the folder of a planned kit, with the key that the passphrase opens.
func (p Planned) Prepare(dir, pass string) error {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot make the kit's key")
	}
	wrapped, err := passphrase.Wrap(id, pass, 0)
	if err != nil {
		return err
	}
	if p.MAC, err = p.mac(id); err != nil {
		return err
	}
	text, err := yaml.Marshal(p)
	if err == nil {
		err = os.MkdirAll(dir, 0o755)
	}
	for _, f := range []struct {
		name string
		data []byte
	}{{KeyFile, wrapped}, {PlanFile, text}} { // the plan last: with it the folder is complete
		if err == nil {
			err = journal.WriteFile(filepath.Join(dir, f.name), f.data, 0o644)
		}
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the plan to %s", dir)
	}
	return nil
}

// PlanIn returns the plan in a folder, or nil if it has none or its kit is complete.
func PlanIn(dir string) (*Planned, error) {
	data, err := journal.ReadFile(filepath.Join(dir, PlanFile), maxSmall)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if log, lerr := journal.Read(dir); err == nil && lerr == nil && len(log.Lines) > 0 {
		return nil, nil // the run that created the kit ended before it removed the plan
	}
	var p Planned
	if err == nil {
		err = yamltext.Decode(data, &p)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Damaged, err, "the plan in %s cannot be read", dir)
	}
	return &p, nil
}

// Try returns an error if a passphrase does not open the key of the planned kit, or if the plan was changed without it.
func (p *Planned) Try(dir, pass string) error {
	_, err := p.key(dir, pass)
	return err
}

func (p *Planned) key(dir, pass string) (*age.X25519Identity, error) {
	wrapped, err := journal.ReadFile(filepath.Join(dir, KeyFile), maxSmall)
	if err != nil {
		return nil, fault.Wrap(fault.Damaged, err, "the plan in %s has no key", dir)
	}
	id, err := passphrase.Unwrap(KeyFile, wrapped, pass)
	if err != nil {
		return nil, err
	}
	if mac, err := p.mac(id); err != nil || mac != p.MAC {
		return nil, fault.Wrap(fault.Forged, err, "the plan in %s was changed without its passphrase", dir)
	}
	return id, nil
}
