package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/about"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
	"movekit/internal/table"
)

func (e *env) newCommand() *cobra.Command {
	var cards, apps, also []string
	var to, toSystem, office string
	var typed, keep bool
	c := &cobra.Command{
		Use:   "new DIR",
		Short: "Create a kit on a stick or share",
		Long: `Create a kit: the folder that carries one move. Run this on the old computer, whose name
is written into it. The kit gets a copy of the cards and of this program.

Without --passphrase-file or $MOVEKIT_PASSPHRASE, a passphrase of six words is made and
shown once. With --type-passphrase you choose one yourself.`,
		Example: "  movekit new /media/stick/move --cards cards/ --to QUAY-DESK-2",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := readCards(cards, apps)
			if err != nil {
				return err
			}
			if err := e.agreeToQueries(cards, list); err != nil {
				return err
			}
			h, err := e.here()
			if err != nil {
				return err
			}
			old := h.Computer
			if len(cards) == 0 && len(apps) == 0 {
				if list, err = e.present(cmd.Context(), h, list); err != nil {
					return err
				}
			}
			switch {
			case keep && to != "":
				return fault.New(fault.Usage, "a safety copy has no new computer: use either --keep or --to")
			case !keep && to == "":
				to = kit.Unnamed
			}
			target := machine.System(toSystem)
			if target == "" {
				target = old.System()
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
			pass, err := e.newPassphrase(e.passphraseFile, typed, kit.CheckPassphrase, kit.MakePassphrase)
			if err != nil {
				return err
			}
			k, err := kit.Create(args[0], kit.New{
				Tool: about.This().String(), Notices: about.Notices, Cards: list, Programs: append([]string{exe}, also...), Passphrase: pass,
				Old: kit.ComputerOf(old),
				New: kit.Computer{Name: to, System: target}, Keep: keep, Office: office,
			})
			if err != nil {
				return err
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
	f.StringArrayVar(&cards, "cards", nil, "app card or folder of cards at `PATH` (default: cards of installed apps from the office's collection: the folder cards here, beside the program, or movekit/cards in your configuration)")
	f.StringArrayVar(&apps, "app", nil, "use only the card of this `APP`")
	f.StringVar(&to, "to", "", "`NAME` of the new computer")
	f.StringVar(&office, "office", "", "`NAME` of the office, for the board and the handover")
	f.BoolVar(&keep, "keep", false, "create a safety copy: pack it again from time to time; licences are not changed")
	f.StringVar(&toSystem, "to-system", "", "`SYSTEM` of the new computer: windows, linux or macos (default: the same as here)")
	f.StringArrayVar(&also, "also", nil, "add this `FILE`, a build of this program for another system, to the kit")
	f.BoolVar(&typed, "type-passphrase", false, "choose the passphrase yourself")
	return c
}

// present returns the cards of the office's collection whose apps are on a computer, and reports
// the others.
func (e *env) present(ctx context.Context, h *run.Host, all []*card.Card) ([]*card.Card, error) {
	var here []*card.Card
	var none []string
	for _, c := range all {
		_, is, err := survey.Present(ctx, &survey.Scanner{Host: h, Kinds: kinds.All}, c)
		if err != nil {
			return nil, err
		}
		if is {
			here = append(here, c)
		} else {
			none = append(none, c.Name)
		}
	}
	if len(here) == 0 {
		return nil, fault.New(fault.Usage, "none of the cards' apps is on %s (%s); select apps with --app", h.Computer.Name(), strings.Join(none, ", "))
	}
	if len(none) > 0 {
		e.say("Left out, because not on %s: %s. Add one with --app NAME.\n", h.Computer.Name(), strings.Join(none, ", "))
	}
	return here, nil
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

// readCards reads the given cards, or those in the usual folders.
func readCards(from, apps []string) ([]*card.Card, error) {
	if usual := usualCards(); len(from) == 0 && usual != "" {
		from = []string{usual}
	}
	var list []*card.Card
	for _, name := range from {
		info, err := os.Stat(name)
		if err != nil {
			return nil, fault.Wrap(fault.BadCard, err, "cannot read the cards")
		}
		if info.IsDir() {
			more, err := card.ReadDir(name)
			if err != nil {
				return nil, err
			}
			list = append(list, more...)
			continue
		}
		one, err := card.Read(name)
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	if len(apps) > 0 {
		for _, a := range apps {
			if !slices.ContainsFunc(list, func(c *card.Card) bool { return c.Name == a }) {
				return nil, fault.New(fault.Usage, "there is no card %q", a)
			}
		}
		list = slices.DeleteFunc(list, func(c *card.Card) bool { return !slices.Contains(apps, c.Name) })
	}
	seen := map[string]string{}
	for _, c := range list {
		if other := seen[c.Name]; other != "" {
			return nil, fault.New(fault.BadCard, "two cards have the name %q: %s and %s", c.Name, other, c.Source)
		}
		seen[c.Name] = c.Source
	}
	if len(list) == 0 {
		return nil, fault.New(fault.Usage, "no cards were given, and there is no folder cards here, beside the program or in your configuration")
	}
	return list, nil
}

// usualCards returns the folder of the office's collection: the first existing one of cards here,
// cards beside the program, and movekit/cards in the user's configuration.
func usualCards() string {
	tries := []string{"cards"}
	if exe, err := os.Executable(); err == nil {
		tries = append(tries, filepath.Join(filepath.Dir(exe), "cards"))
	}
	if dir, err := os.UserConfigDir(); err == nil {
		tries = append(tries, filepath.Join(dir, "movekit", "cards"))
	}
	for _, dir := range tries {
		if info, err := os.Stat(dir); err == nil && info.IsDir() {
			return dir
		}
	}
	return ""
}

// agreeToQueries shows the database queries of cards that are not from the office's collection, and
// asks for consent. The kit keeps the cards, so it asks once.
func (e *env) agreeToQueries(named []string, list []*card.Card) error {
	if len(named) == 0 {
		return nil
	}
	var office [][]byte
	if dir := usualCards(); dir != "" {
		own, _ := card.ReadDir(dir) // empty if one of them has a mistake
		for _, c := range own {
			if text, err := os.ReadFile(c.Source); err == nil {
				office = append(office, text)
			}
		}
	}
	asks := false
	for _, c := range list {
		queries := c.Queries()
		text, err := os.ReadFile(c.Source)
		if err != nil {
			return fault.Wrap(fault.BadCard, err, "cannot read the card")
		}
		if len(queries) == 0 || slices.ContainsFunc(office, func(o []byte) bool { return bytes.Equal(o, text) }) {
			continue
		}
		asks = true
		table.Fprintf(fold(e.err), "%s is not from the office's collection. It runs these read-only queries on databases:\n", c.Source)
		for _, q := range queries {
			table.Fprintf(fold(e.err), "  %s\n", strings.Join(strings.Fields(q), " "))
		}
	}
	if !asks {
		return nil
	}
	return e.ask("Allow these queries?")
}
