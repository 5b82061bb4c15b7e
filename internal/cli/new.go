package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/about"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
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
			h, err := e.here()
			if err != nil {
				return err
			}
			list, err := e.chosenCards(cmd.Context(), h, cards, apps)
			if err != nil {
				return err
			}
			old := h.Computer
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
	f.StringArrayVar(&cards, "cards", nil, "app card or folder of cards at `PATH` (default: cards of the apps that are here, from the office's collection (the folder cards here, beside the program, or movekit/cards in your configuration) and the built-in one)")
	f.StringArrayVar(&apps, "app", nil, "use only the card of this `APP`")
	f.StringVar(&to, "to", "", "`NAME` of the new computer")
	f.StringVar(&office, "office", "", "`NAME` of the office, for the board and the handover")
	f.BoolVar(&keep, "keep", false, "create a safety copy: pack it again from time to time; licences are not changed")
	f.StringVar(&toSystem, "to-system", "", "`SYSTEM` of the new computer: windows, linux or macos (default: the same as here)")
	f.StringArrayVar(&also, "also", nil, "add this `FILE`, a build of this program for another system, to the kit")
	f.BoolVar(&typed, "type-passphrase", false, "choose the passphrase yourself")
	return c
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
