package cli

import (
	"bytes"
	_ "embed" // the sheet
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/run"
)

//go:embed plan.html
var planPage string

// plannedMove is a planned move on the sheet.
type plannedMove struct {
	kit.Planned
	Folder     string `json:"folder"`
	Passphrase string `json:"-"`
}

func (e *env) planCommand() *cobra.Command {
	var sheet, collection string
	c := &cobra.Command{
		Use:   "plan FILE.csv FOLDER",
		Short: "Plan many moves from a table",
		Long: `Prepare a kit for each line of a table: CSV with the columns old, new, office, technician,
apps and users, of which old and new are required. The kits are in one folder, on a stick
or a share. Each gets a passphrase; all of them are written to --sheet, to print. The
kits have no data yet: on each old computer, movekit run --plan FOLDER creates its kit
and packs it, and on the new one it goes on.

The folder gets one copy of this program and of the office's cards for all moves, and
later one of each installer. If cards run commands, you are asked once for all moves:
the answer is part of each kit, for exactly these cards.

Lines whose kits are in the folder already are left as they are.`,
		Example: "  movekit plan moves.csv /srv/moves --sheet passphrases.html",
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return fault.Wrap(fault.Usage, err, "cannot read the table")
			}
			defer f.Close()
			plans, err := kit.ReadPlans(args[0], f)
			if err != nil {
				return err
			}
			switch {
			case sheet == "":
				return fault.New(fault.Usage, "the passphrases need a place: name a file for them with --sheet, outside of %s", args[1])
			case inFolder(sheet, args[1]):
				return fault.New(fault.Usage, "%s is in the folder of the kits, and the passphrases must be kept apart from them", sheet)
			}
			if _, err := os.Lstat(sheet); err == nil {
				return fault.New(fault.Usage, "%s already exists", sheet)
			}
			if err := shareProgram(args[1]); err != nil {
				return err
			}
			list, err := shareCards(collection, args[1])
			if err != nil {
				return err
			}
			made, there := []plannedMove{}, 0
			for _, p := range plans {
				m := plannedMove{Planned: p, Folder: filepath.Join(args[1], strings.ToLower(item.FileName(p.Old+"-to-"+p.New)))}
				if kit.Taken(m.Folder) {
					there++
					continue
				}
				if m.Passphrase, err = passphrase.Make(); err != nil {
					return err
				}
				made = append(made, m)
			}
			if len(made) > 0 {
				if list, err = e.agreeForAll(list, len(made)); err != nil {
					return err
				}
				// Before the kits, because a kit whose passphrase nobody knows is of no use.
				if err := writePlan(sheet, args[1], made); err != nil {
					return err
				}
			}
			for _, m := range made {
				m.Agree(list)
				if err := m.Prepare(m.Folder, m.Passphrase); err != nil {
					return err
				}
			}
			if err := e.object(made); err != nil {
				return err
			}
			t := e.table("move", "folder")
			t.Paths = true
			for _, m := range made {
				t.Add(m.Old+" to "+m.New, m.Folder)
			}
			if t.Len() > 0 {
				e.printf("%s\nThe passphrases are in %s: print it, and keep it apart from the kits.\n", t, sheet)
			}
			e.printf("%s, %d planned before.\n", item.Plural(int64(len(made)), "new kit"), there)
			return nil
		},
	}
	c.Flags().StringVar(&collection, "cards", "", "`FOLDER` with the office's cards (default: the office's collection, as for new)")
	e.commandsFlag(c)
	c.Flags().StringVar(&sheet, "sheet", "", "new `FILE` (HTML) for the passphrases, to print")
	return c
}

// shareProgram copies this program and its builds for other systems into a folder, unless it runs there or has them.
func shareProgram(folder string) error {
	exe, err := os.Executable()
	if err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot find this program")
	}
	if inFolder(exe, folder) {
		return nil
	}
	for _, from := range append([]string{exe}, otherPrograms(exe)...) {
		if err := copyMissing(from, filepath.Join(folder, filepath.Base(from)), 0o755); err != nil {
			return err
		}
	}
	return nil
}

// shareCards copies the office's cards, with what is beside them, into the folder cards of a folder, unless it has one. It returns
// them and the built-in ones.
func shareCards(from, folder string) ([]*card.Card, error) {
	to := filepath.Join(folder, "cards")
	if info, err := os.Stat(to); err == nil && info.IsDir() {
		from = to
	}
	if from == "" {
		from = usualCards()
	}
	list, err := builtInCards()
	if err != nil || from == "" {
		return list, err
	}
	own, err := card.ReadDir(from) // before they are copied
	if err != nil {
		return nil, err
	}
	err = filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		rel, rerr := filepath.Rel(from, path)
		if err = errors.Join(err, rerr); err != nil || !e.Type().IsRegular() {
			return err
		}
		return copyMissing(path, filepath.Join(to, rel), 0o644)
	})
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot copy the cards to %s", to)
	}
	return append(own, list...), nil
}

// copyMissing copies a file, unless its destination exists.
func copyMissing(from, to string, perm os.FileMode) error {
	if _, err := os.Lstat(to); err == nil {
		return nil
	}
	data, err := os.ReadFile(from)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(to), 0o755)
	}
	if err == nil {
		err = journal.WriteFile(to, data, perm)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot copy %s to %s", from, to)
	}
	return nil
}

// agreeForAll shows the commands of cards and asks whether they may run in all moves. It returns the cards whose commands may run.
// Without an answer, each move asks.
func (e *env) agreeForAll(list []*card.Card, moves int) (agreed []*card.Card, err error) {
	var text strings.Builder
	for _, c := range list {
		if len(c.Commands()) == 0 {
			continue
		}
		agreed = append(agreed, c)
		fmt.Fprintf(&text, "%s:\n", c.Title)
		for _, args := range c.Commands() {
			fmt.Fprintf(&text, "  %s\n", run.CommandLine(args))
		}
	}
	if e.runCommands || len(agreed) == 0 {
		return agreed, nil
	}
	question := "These cards run commands:\n" + text.String() + "Allow them in " + item.Plural(int64(moves), "move") + "?"
	switch err := (&technician{env: e}).AgreeToRun(question); {
	case err == nil:
		return agreed, nil
	case errors.Is(err, errNo), run.IsNonInteractive(err):
		return nil, nil
	default:
		return nil, err
	}
}

// inFolder reports whether a file is in a folder.
func inFolder(file, folder string) bool {
	a, err := filepath.Abs(file)
	b, berr := filepath.Abs(folder)
	if err != nil || berr != nil {
		return true
	}
	rel, err := filepath.Rel(b, a)
	return err == nil && filepath.IsLocal(rel)
}

// writePlan writes the page with the passphrases, which only this user can read.
func writePlan(name, folder string, moves []plannedMove) error {
	page, err := template.New("sheet").Parse(planPage)
	if err != nil {
		return fault.Wrap(fault.Internal, err, "the sheet is not valid")
	}
	var b bytes.Buffer
	if err := page.Execute(&b, map[string]any{"At": time.Now().Format("2 January 2006"), "Moves": moves, "Folder": folder}); err != nil {
		return fault.Wrap(fault.Internal, err, "cannot make the sheet")
	}
	if err := writeOut(name, b.Bytes(), 0o600); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the passphrases")
	}
	return nil
}

// plannedFor returns the folder of the kit that is planned for a computer: below this folder, or beside the program; "" if there is
// none.
func plannedFor(computer string) string {
	places := []string{"."}
	if exe, err := os.Executable(); err == nil {
		places = append(places, filepath.Dir(exe))
	}
	for _, place := range places {
		dirs, toMake, err := plannedHere(place, computer)
		for _, dir := range dirs {
			if err == nil && toMake[dir] {
				return dir
			}
		}
	}
	return ""
}

// plannedHere returns the folders in a folder of planned moves that concern a computer, and whether a kit must be created first.
func plannedHere(folder, computer string) (out []string, toMake map[string]bool, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, nil, fault.Wrap(fault.Usage, err, "cannot read the folder of planned moves")
	}
	toMake = map[string]bool{}
	for _, entry := range entries {
		dir := filepath.Join(folder, entry.Name())
		if !entry.IsDir() {
			continue
		}
		p, err := kit.PlanIn(dir)
		if err != nil {
			return nil, nil, err
		}
		if p != nil {
			if strings.EqualFold(p.Old, computer) {
				out, toMake[dir] = append(out, dir), true
			}
			continue
		}
		if k, err := kit.Open(dir); err == nil {
			if strings.EqualFold(k.Manifest.Old.Name, computer) || strings.EqualFold(k.Manifest.New.Name, computer) {
				out = append(out, dir)
			}
			k.Close()
		}
	}
	return out, toMake, nil
}
