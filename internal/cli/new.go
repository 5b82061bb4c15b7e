package cli

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/about"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

func (e *env) newCommand() *cobra.Command {
	var cards, apps, also []string
	var to, toSystem, office, back string
	var typed, keep bool
	c := &cobra.Command{
		Use:   "new DIR",
		Short: "Create a kit on a stick or share",
		Long: `Create a kit: the folder that carries one move. Run this on the old computer, whose name
is written into it. The kit gets a copy of the cards and of this program.

Without --passphrase-file or $MOVEKIT_PASSPHRASE, a passphrase of six words is made and
shown once. With --type-passphrase you choose one yourself.

--back takes an earlier move back: run it on the computer that the move went to. The new
kit has the same cards, and moves the apps with their licences to the computer that they
came from. Give it the earlier kit, or its record if the kit is closed.`,
		Example: "  movekit new /media/stick/move --cards cards/ --to QUAY-DESK-2\n  movekit new /media/stick/back --back /media/stick/move",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := e.here()
			if err != nil {
				return err
			}
			plan, err := kit.PlanIn(args[0])
			if err != nil {
				return err
			}
			if plan != nil {
				switch {
				case !strings.EqualFold(plan.Old, h.Computer.Name()):
					return fault.New(fault.Usage, "this is %s, and the kit in %s is planned for %s", h.Computer.Name(), args[0], plan.Old)
				case to != "" || keep || back != "" || typed:
					return fault.New(fault.Usage, "the kit in %s is planned: leave out --to, --keep, --back and --type-passphrase", args[0])
				}
				to, office, apps = plan.New, cmp.Or(office, plan.Office), append(apps, plan.Apps...)
			}
			who, assigned := "", ""
			if plan != nil {
				assigned = plan.Technician
			}
			if who, err = e.askTechnician(assigned); err != nil {
				return err
			}
			n := kit.New{Plan: plan, By: who, Tool: about.This().String(), Notices: about.Notices, Old: kit.ComputerOf(h.Computer), Keep: keep, Office: office, Technician: cmp.Or(assigned, who)}
			var first *taken
			if back != "" {
				if first, err = e.takeBack(back, h, cards, apps, to, keep); err != nil {
					return err
				}
				defer first.kit.Close()
				to, n.Back = first.kit.Manifest.Old.Name, first.kit.Manifest.ID
				toSystem, n.Office = string(first.kit.Manifest.Old.System), cmp.Or(office, first.kit.Manifest.Office)
				n.Cards = first.cards
			} else if n.Cards, err = e.chosenCards(cmd.Context(), h, cards, apps); err != nil {
				return err
			}
			switch {
			case keep && to != "":
				return fault.New(fault.Usage, "a safety copy has no new computer: use either --keep or --to")
			case !keep && to == "":
				to = kit.Unnamed
			}
			target := machine.System(toSystem)
			if target == "" {
				target = h.Computer.System()
			}
			if !slices.Contains(machine.Systems, target) {
				return fault.New(fault.Usage, "--to-system must be windows, linux or macos, not %q", toSystem)
			}
			exe, err := os.Executable()
			if err != nil {
				return fault.Wrap(fault.Unreadable, err, "cannot find this program")
			}
			for _, beside := range otherPrograms(exe) {
				if !slices.Contains(also, beside) {
					also = append(also, beside)
				}
			}
			if plan != nil {
				err = e.unlock(e.passphraseFile, func(p string) error { n.Passphrase = p; return plan.Try(args[0], p) })
			} else {
				n.Passphrase, err = e.newPassphrase(e.passphraseFile, typed, passphrase.Check, passphrase.Make)
			}
			if err != nil {
				return err
			}
			if first == nil { // the computer that it goes back to has the apps
				if n.Installers, err = installersOf(h, n.Cards); err != nil {
					return err
				}
			}
			n.New = kit.Computer{Name: to, System: target}
			if n.Shared = plan != nil && inFolder(exe, filepath.Dir(args[0])); !n.Shared {
				n.Programs = append([]string{exe}, also...)
			}
			k, err := kit.Create(args[0], n)
			if err != nil {
				return err
			}
			if first != nil {
				if err := e.recordBack(first, k); err != nil {
					return err
				}
			}
			if plan != nil && len(plan.Users) > 0 {
				if _, err := k.Record(journal.Line{Event: journal.EventChosen, Computer: k.Manifest.Old.Name}, steps.Chosen{Users: plan.Users}); err != nil {
					return err
				}
			}
			m := k.Manifest
			goes := fmt.Sprintf("to    %s (%s)", m.New.Name, m.New.System)
			if keep {
				goes = "kept  as a safety copy"
			}
			e.printf("Created the kit %s in %s\n  from  %s (%s)\n  %s\n  apps  %s\n", m.ID, args[0], m.Old.Name, m.Old.System, goes, strings.Join(m.Apps, ", "))
			for name, hash := range k.Programs() {
				e.printf("  contains %s with the BLAKE3 hash\n        %s\n", name, hash)
			}
			if err := e.object(k.Manifest); err != nil {
				return err
			}
			return e.unplug(cmd.Context(), k, true)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&cards, "cards", nil, "app card or folder of cards at `PATH` (default: cards of the apps that are here, from the office's collection (the folder cards here, beside the program, or movekit/cards in your configuration) and the built-in one)")
	f.StringArrayVar(&apps, "app", nil, "use only the card of this `APP`")
	f.StringVar(&to, "to", "", "`NAME` of the new computer")
	f.StringVar(&office, "office", "", "`NAME` of the office, for the board and the handover")
	f.BoolVar(&keep, "keep", false, "create a safety copy: pack it again from time to time; licences are not changed")
	f.StringVar(&toSystem, "to-system", "", "`SYSTEM` of the new computer: windows, linux or macos (default: the same as here)")
	f.StringArrayVar(&also, "also", nil, "add this `FILE`, a build of this program for another system, to the kit")
	f.StringVar(&back, "back", "", "take the move of this `KIT` back: to the computer that it came from")
	f.BoolVar(&typed, "type-passphrase", false, "choose the passphrase yourself")
	return c
}

// installersOf returns the installers of cards, by app: on this computer, or beside the card.
func installersOf(h *run.Host, cards []*card.Card) (map[string]string, error) {
	out := map[string]string{}
	for _, c := range cards {
		switch i := c.Installer; {
		case i == nil:
		case i.Beside != "" && c.Source != "":
			out[c.Name] = filepath.Join(filepath.Dir(c.Source), filepath.FromSlash(i.Beside))
		default:
			path := i.Path.On(string(h.Computer.System()))
			if path == "" {
				continue // this system has none
			}
			real, err := h.Computer.Locate(path, nil)
			if err != nil {
				return nil, err
			}
			out[c.Name] = real
		}
	}
	return out, nil
}

// taken is an earlier move, whose apps go back to the computer that they came from.
type taken struct {
	kit   *kit.Kit
	state *steps.State
	cards []*card.Card
}

// takeBack reads the kit of the earlier move, and checks that it went to this computer.
func (e *env) takeBack(dir string, h *run.Host, cards, apps []string, to string, keep bool) (*taken, error) {
	if len(cards) > 0 || to != "" || keep {
		return nil, fault.New(fault.Usage, "--back takes the cards and the computer from the earlier kit: leave out --cards, --to and --keep")
	}
	k, err := kit.Open(dir)
	if err != nil {
		return nil, err
	}
	t := &taken{kit: k, state: steps.Fold(k.Manifest, k.Log.Lines)}
	for _, c := range k.Cards {
		if len(apps) == 0 || slices.Contains(apps, c.Name) {
			t.cards = append(t.cards, c)
		}
	}
	switch here := kit.ComputerOf(h.Computer); {
	case k.Manifest.Keep:
		err = fault.New(fault.Usage, "the kit in %s is a safety copy, which moved nothing", dir)
	case t.state.New.ID == "":
		err = fault.New(fault.Usage, "nothing was moved with the kit in %s yet", dir)
	case !here.Is(t.state.New):
		err = fault.New(fault.Usage, "this is %s, and the move in %s went to %s", here.Name, dir, t.state.New.Name)
	case t.state.Back != nil:
		err = fault.New(fault.Usage, "the move in %s is already taken back, by the kit %s", dir, t.state.Back.Kit)
	case len(t.cards) == 0:
		err = fault.New(fault.Usage, "the kit in %s has no app %s", dir, strings.Join(apps, ", "))
	}
	if err == nil {
		err = e.agreeToQueries([]string{filepath.Join(dir, kit.CardsDir)}, t.cards) // the kit could be a forged one
	}
	if err != nil {
		k.Close()
		return nil, err
	}
	return t, nil
}

// recordBack records the mapping of users in the new kit, and the new kit in the earlier one.
func (e *env) recordBack(first *taken, k *kit.Kit) error {
	users := map[string]string{}
	for old, now := range first.state.Chosen.Users {
		if old != now {
			users[now] = old
		}
	}
	if len(users) > 0 {
		if _, err := k.Record(journal.Line{Event: journal.EventChosen, Computer: k.Manifest.Old.Name}, steps.Chosen{Users: users}); err != nil {
			return err
		}
	}
	for key, path := range first.state.Chosen.Places {
		e.say("%s was put at %s: if its app does not say so itself, give its card that path.\n", key, path)
	}
	if first.state.Closed != nil {
		return nil
	}
	err := e.unlock(e.passphraseFile, first.kit.Unlock)
	if err == nil {
		if err = first.kit.Lock(); err == nil {
			_, err = first.kit.Record(journal.Line{Event: journal.EventTakenBack, Computer: k.Manifest.Old.Name}, steps.TakenBack{Kit: k.Manifest.ID})
		}
	}
	if err != nil {
		e.say("The earlier kit in %s does not say that its move is taken back: %v\n", first.kit.Dir, err)
	}
	return nil
}

// programs are the names of this program's builds on the stick.
var programs = []string{"movekit", "movekit.exe", "movekit-32bit.exe", "movekit-macos-arm64", "movekit-macos-amd64"}

// otherPrograms returns this program's builds for other systems in the same folder: with the same
// name and another suffix, or with the usual names.
func otherPrograms(exe string) (out []string) {
	other, windows := strings.CutSuffix(exe, ".exe")
	if !windows {
		other = exe + ".exe"
	}
	all := []string{other}
	for _, name := range programs {
		all = append(all, filepath.Join(filepath.Dir(exe), name))
	}
	for _, name := range all {
		if info, err := os.Stat(name); err == nil && info.Mode().IsRegular() && name != exe && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}
