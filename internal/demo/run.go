package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"movekit/examples"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/tree"
	"movekit/internal/desk"
	"movekit/internal/table"
)

// Demo is one run of the example.
type Demo struct {
	Dir     string
	Program string // the movekit executable
	Fresh   bool   // remove an earlier example first
	Serve   bool   // keep its servers up until the context ends, without running commands
	Out     io.Writer
	Err     io.Writer
	Colour  bool
}

// parts are the example's files and folders.
var parts = []string{"old", "new", "kit", "cards", "desk", "handover", "passphrase.txt", "answers.yaml", "commands.txt", "watch-rota.yaml", lateLift, importedKeys}

// lateLift is a record that is added after the first pack.
const lateLift = "01-05-4801.rec"

// importedKeys is the new computer's registry after Chartroom's keys were imported by hand.
const importedKeys = "registry-imported.hive"

// command is one command of the example.
type command struct {
	about string
	args  []string
	copy  [2]string // instead of a command: a file that manual work leaves on a computer
}

func commands() []command {
	old, now := []string{"--root", "old"}, []string{"--root", "new"}
	on := func(where []string, words ...string) []string {
		return append(append(words, where...), "--kit", "kit", "--passphrase-file", "passphrase.txt")
	}
	return []command{
		{about: "On the old computer: create a kit on the stick", args: append([]string{"new", "kit", "--cards", "cards", "--to", newComputer.Name, "--passphrase-file", "passphrase.txt"}, old...)},
		{about: "Show what is on the computer", args: append([]string{"survey", "--kit", "kit"}, old...)},
		{about: "Show data that no card covers", args: append([]string{"survey", "--wide", "--kit", "kit"}, old...)},
		{about: "Draft a card for some of it", args: append([]string{"card", "draft", "watch-rota", "--title", "Watch Rota", "--from", `C:\ProgramData\WatchRota`, "--to", "watch-rota.yaml"}, old...)},
		{about: "Seal the data in the kit", args: on(old, "pack")},
		{about: "Work continues: one more lift is added to the diary", copy: [2]string{lateLift, "old/ProgramData/Hoistbook/Diary/2027/" + lateLift}},
		{about: "Show what changed since the pack", args: append([]string{"survey", "hoistbook", "--kit", "kit", "--passphrase-file", "passphrase.txt"}, old...)},
		{about: "Seal the changes", args: on(old, "pack")},
		{about: "Check that the kit is undamaged", args: []string{"inspect", "--kit", "kit"}},
		{about: "Deactivate the licences on the old computer", args: on(old, "deactivate", "--yes", "--answers", "answers.yaml")},
		{about: "Show the state of each licence", args: on(old, "status", "--check")},
		{about: "Check the new computer first", args: on(now, "ready", "--user", "maren=maren.holm")},
		{about: "On the new computer: unpack everything", args: on(now, "unpack", "--yes")},
		{about: "Manual step: the registry file is imported on the computer itself", copy: [2]string{importedKeys, "new/" + hivePath}},
		{about: "Tick off the exports that were imported by hand", args: on(now, "todo", "--tick", "1-4")},
		{about: "Activate the licences", args: on(now, "activate", "--yes", "--answers", "answers.yaml")},
		{about: "Verify that old and new are the same", args: on(now, "verify", "--answers", "answers.yaml")},
		{about: "On the old computer: set the old data aside", args: on(old, "retire")},
		{about: "Write the handover", args: []string{"report", "--kit", "kit", "--passphrase-file", "passphrase.txt", "--to", "handover"}},
		{about: "Empty the stick", args: []string{"close", "--yes", "--kit", "kit", "--passphrase-file", "passphrase.txt"}},
	}
}

// Run creates the example and runs its commands. It returns the worst exit code.
func (d *Demo) Run(ctx context.Context) (int, error) {
	if err := d.clear(); err != nil {
		return 0, err
	}
	dir, err := filepath.Abs(d.Dir)
	if err != nil {
		return 0, fault.Wrap(fault.Usage, err, "cannot use the folder %s", d.Dir)
	}
	d.Dir = dir
	fmt.Fprintf(d.Out, "Tern Quay harbour office replaces its front-desk computer %s with %s.\nCreating both, and a licence desk, in %s\n", oldComputer.Name, newComputer.Name, dir)
	if err := os.MkdirAll(filepath.Join(dir, "desk"), 0o755); err != nil {
		return 0, fault.Wrap(fault.CannotPlace, err, "cannot create the example")
	}
	for _, make := range []func() error{
		func() error { return makeOld(filepath.Join(dir, "old")) },
		func() error { return makeNew(filepath.Join(dir, "new")) },
		d.writePassphrase, d.writeAnswers,
	} {
		if err := make(); err != nil {
			return 0, fault.Wrap(fault.CannotPlace, err, "cannot create the example in %s", dir)
		}
	}
	ledger, err := d.openPontoon()
	if err != nil {
		return 0, err
	}
	defer ledger.stop()
	stop, err := d.openDesk(ctx, ledger)
	if err != nil {
		return 0, err
	}
	defer stop()
	if err := d.writeCommands(); err != nil {
		return 0, fault.Wrap(fault.CannotPlace, err, "cannot create the example in %s", dir)
	}
	if d.Serve {
		fmt.Fprintf(d.Out, "\nEverything stays up until you press Ctrl-C. In another window:\n  cd %s\n  sh commands.txt\n", dir)
		<-ctx.Done()
		return 0, nil
	}
	worst := 0
	for _, c := range commands() {
		code, err := d.show(ctx, c)
		if err != nil {
			return 0, err
		}
		worst = max(worst, code)
	}
	d.end(worst)
	return worst, nil
}

// clear makes sure that the folder can be used for the example.
func (d *Demo) clear() error {
	entries, err := os.ReadDir(d.Dir)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return fault.Wrap(fault.Usage, err, "cannot use the folder %s", d.Dir)
	}
	_, err = os.Stat(filepath.Join(d.Dir, "commands.txt"))
	switch {
	case err != nil:
		return fault.New(fault.Usage, "the folder %s contains something other than an example; choose another with --dir", d.Dir)
	case !d.Fresh:
		return fault.New(fault.Usage, "the folder %s already contains an example; add --fresh to remove it, or choose another with --dir", d.Dir)
	}
	for _, p := range parts {
		if err := tree.RemoveTree(filepath.Join(d.Dir, p)); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove the earlier example")
		}
	}
	return nil
}

func (d *Demo) writePassphrase() error {
	p, err := passphrase.Make()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(d.Dir, "passphrase.txt"), []byte(p+"\n"), 0o600)
}

// answers are the technician's answers to the manual steps.
const answers = `# Answers to the manual steps: app, licence, action, then one answer for each step.
steps:
  hoistbook:
    registration:
      deactivate: [done]
      activate: [done, Tern Quay harbour office]
  pontoon:
    seat:
      deactivate: [done, "2"]
      activate: [done, done, QUAY-DESK-2]
  tidewright:
    app:
      open: ["212"] # the number that the app shows when it is opened
`

func (d *Demo) writeAnswers() error {
	late := "lift: 4801\r\nboat: Sandpiper\r\nlength: 7.4 m\r\nweight: 2150 kg\r\nsling: 2\r\nnote: came in late\r\n"
	if err := os.WriteFile(filepath.Join(d.Dir, lateLift), []byte(late), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.Dir, importedKeys), []byte(newHive), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(d.Dir, "answers.yaml"), []byte(answers), 0o644)
}

// openDesk starts the licence desk on an unused port, activates the office's seat on the old
// computer, and writes the cards with the desk's address and key.
func (d *Demo) openDesk(ctx context.Context, ledger *pontoon) (stop func(), err error) {
	var url string
	store, err := desk.OpenStore(filepath.Join(d.Dir, "desk", "desk.db"))
	if err != nil {
		return nil, err
	}
	err = store.Add(ctx, []desk.Licence{{Serial: serial, Code: code, Product: "tidewright", Covers: "8", Seats: 1, Transfers: 2, Takeover: true, Expires: "2028-06-30"}})
	if err != nil {
		store.Close()
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		store.Close()
		return nil, fault.Wrap(fault.Usage, err, "no port is free for the licence desk")
	}
	addr := l.Addr().String()
	l.Close()
	ctx, cancel := context.WithCancel(ctx)
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- store.Serve(ctx, addr, nil, slog.New(slog.DiscardHandler), func(u string) { ready <- u })
	}()
	select {
	case url = <-ready:
	case err := <-ended:
		cancel()
		return nil, err
	}
	stop = func() {
		cancel()
		<-ended
		store.Close()
	}
	if err := d.settleDesk(ctx, store, url, ledger); err != nil {
		stop()
		return nil, err
	}
	return stop, nil
}

func (d *Demo) settleDesk(ctx context.Context, store *desk.Store, url string, ledger *pontoon) error {
	cards := filepath.Join(d.Dir, "cards")
	if err := os.MkdirAll(cards, 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot create the example")
	}
	entries, err := examples.Cards.ReadDir("cards")
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot read the example's cards")
	}
	for _, e := range entries {
		text, err := examples.Cards.ReadFile("cards/" + e.Name())
		if err != nil {
			return fault.Wrap(fault.Internal, err, "cannot read the example's cards")
		}
		c, err := card.Parse(e.Name(), text)
		if err != nil {
			return err
		}
		lines := strings.Replace(string(text), "# yaml-language-server: $schema=../../docs/card.schema.json\n", "", 1)
		if c.Name == "pontoon" {
			lines = ledger.card(lines)
		}
		for _, l := range c.Licences {
			if l.Desk == nil {
				continue
			}
			lines = strings.NewReplacer(l.Desk.URL, url, l.Desk.Key.String(), store.PublicKey()).Replace(lines)
		}
		if err := os.WriteFile(filepath.Join(cards, e.Name()), []byte(lines), 0o644); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot write the example's cards")
		}
	}
	old, err := machine.Open(filepath.Join(d.Dir, "old"))
	if err != nil {
		return err
	}
	c, err := card.Read(filepath.Join(cards, "tidewright.yaml"))
	if err != nil {
		return err
	}
	a, err := (&licence.Desk{URL: url, Key: c.Licences[0].Desk.Key.PublicKey}).Ask(ctx, licence.Activate, licence.Request{
		Serial: serial, Code: code, Product: "tidewright", Computer: machine.ID(old), Version: "8.2.1", Nonce: licence.Nonce(),
	}, "first-activation-of-the-office")
	if err != nil {
		return err
	}
	return write(filepath.Join(d.Dir, "old"), file{"ProgramData/Tidewright/activation.jws", a.Signed + "\n"}, day)
}

func (d *Demo) writeCommands() error {
	var b strings.Builder
	fmt.Fprintf(&b, "# All commands of the example, to run by hand in this folder. First start its licence desk\n# and database servers, in a fresh example. In another window:\n#\n#   %s\n\n", d.line([]string{"demo", "--dir", d.Dir, "--fresh", "--serve"}))
	for _, c := range commands() {
		text := line(append([]string{"cp"}, c.copy[:]...))
		if len(c.args) > 0 {
			text = d.line(c.args)
		}
		fmt.Fprintf(&b, "# %s\n%s\n\n", c.about, text)
	}
	return os.WriteFile(filepath.Join(d.Dir, "commands.txt"), []byte(b.String()), 0o644)
}

// line formats a command for a shell, with the program's real path.
func (d *Demo) line(args []string) string { return line(append([]string{d.Program}, args...)) }

// line formats a command for a shell.
func line(args []string) string {
	var out []string
	for _, a := range args {
		if strings.ContainsAny(a, " \\%'$&;()") {
			a = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
		out = append(out, a)
	}
	return strings.Join(out, " ")
}

// show prints one command and runs it.
func (d *Demo) show(ctx context.Context, c command) (int, error) {
	if len(c.args) == 0 {
		fmt.Fprintf(d.Out, "\n# %s\n%s\n", c.about, table.Paint("$ "+line(append([]string{"cp"}, c.copy[:]...)), table.Note, d.Colour))
		return 0, d.copyFile(c.copy)
	}
	fmt.Fprintf(d.Out, "\n# %s\n%s\n", c.about, table.Paint("$ "+line(append([]string{"movekit"}, c.args...)), table.Note, d.Colour))
	cmd := exec.CommandContext(ctx, d.Program, c.args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = d.Dir, d.Out, d.Err
	cmd.Env = append(os.Environ(), "MOVEKIT_KIT=", "MOVEKIT_PASSPHRASE=")
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode(), nil
	}
	if err != nil {
		return 0, fault.Wrap(fault.Internal, err, "cannot run %s", d.Program)
	}
	return 0, nil
}

func (d *Demo) copyFile(names [2]string) error {
	data, err := os.ReadFile(filepath.Join(d.Dir, names[0]))
	to := filepath.Join(d.Dir, filepath.FromSlash(names[1]))
	if err == nil {
		err = os.WriteFile(to, data, 0o644)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write into the example")
	}
	return nil
}

func (d *Demo) end(worst int) {
	fmt.Fprintf(d.Out, "\nThe example is complete; its worst exit code is %d. See:\n", worst)
	for _, l := range [][2]string{
		{filepath.Join("handover", "handover.html"), "the handover, in a browser"},
		{filepath.Join("kit", "journal.jsonl"), "what was done, line by line"},
		{filepath.Join("old", "ProgramData"), "the data set aside on the old computer, with notes"},
		{filepath.Join("new", "ProgramData"), "the data on the new computer, and data that was set aside"},
		{"commands.txt", "every command, to run again by hand"},
	} {
		fmt.Fprintf(d.Out, "  %-60s %s\n", filepath.Join(d.Dir, l[0]), l[1])
	}
}
