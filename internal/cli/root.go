// Package cli is Move Kit's command line: one file per command, and all text for the user.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"movekit/internal/about"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/private"
	"movekit/internal/core/remote"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// env is the environment of every command.
type env struct {
	ui
	kitDir, root   string
	drives         []string
	moved          map[string]string // folder with the content of a drive of the old computer, by letter (--drive)
	passphraseFile string
	noColour       bool
	logFile        string
	answersFile    string
	answers        *answers // nil if no file of answers is given
	overrides      []string
	because        string
	runCommands    bool
	technician     string   // name of who does the work (--technician)
	packs          bool     // the command seals data, for which the kit may need another medium
	media          []string // folders on other media on which the kit continues (--medium)
	log            *slog.Logger
	private        private.Folder
	kit            *kit.Kit       // the kit that a step uses
	mirror         *remote.Mirror // the copy of a kit on another computer; nil if the kit is here
}

// softLimit is the memory that the garbage collector tries to stay below, in bytes. Few commands come near it.
const softLimit = 160 << 20

// Main runs the program and returns its exit code.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	noDumps()
	debug.SetMemoryLimit(softLimit)
	e := &env{ui: ui{ctx: ctx, in: in, out: out, err: errOut}, log: slog.New(slog.DiscardHandler)}
	root := e.command()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	e.private.Sweep()
	defer func() {
		if ownWindow() && isTerminal(in) {
			fmt.Fprint(errOut, "\nPress Enter to close this window. ")
			e.ctx = context.Background()
			e.read("", false) //nolint:errcheck // any answer will do
		}
	}()
	err := checkArguments(args)
	if err == nil {
		err = root.ExecuteContext(ctx)
	}
	e.done()
	if cerr := e.disconnect(); err == nil {
		err = cerr
	}
	e.private.Drop() //nolint:errcheck // the next run removes what is left
	if err == nil {
		return exitDone
	}
	e.log.Error("ended", "error", err)
	return printError(fold(errOut), err, e.colour && isTerminal(errOut))
}

// checkArguments detects arguments that a backslash before a quote has joined, as the Windows
// prompt does: --root "E:\" --kit K.
func checkArguments(args []string) error {
	for _, a := range args {
		if before, _, is := strings.Cut(a, `" `); is && len(before) > 1 && before[1] == ':' {
			return fault.New(fault.Usage, `a backslash before a quote joined several arguments (%s). Leave out the last backslash of the folder: "%s"`, a, strings.TrimRight(before, `\`))
		}
	}
	return nil
}

func (e *env) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "movekit",
		Short: "Move applications, their data and their licences to a new computer",
		Long: `Move Kit moves line-of-business applications from an old computer to a new one: their
databases, their folders and their licences. It packs everything into a kit (a folder
on a stick or share), deactivates the licences on the old computer, unpacks the data
and activates the licences on the new one, and verifies that both are the same.

On the old computer:   movekit new DIR, survey, pack, deactivate; at the end retire
On the new computer:   movekit ready, unpack, activate, verify, report
At any time:           movekit status; at the end close

In a terminal, movekit without a command guides you through all of it.`,
		Version:           about.This().String(),
		SilenceErrors:     true,
		SilenceUsage:      true,
		Args:              cobra.NoArgs,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error { return errors.Join(reasonUsed(c), e.start()) },
		RunE: func(cmd *cobra.Command, _ []string) error {
			if e.json || !e.scripted && (!isTerminal(e.in) || !isTerminal(e.err)) {
				return cmd.Help()
			}
			return e.guided(cmd.Context())
		},
	}
	cobra.MousetrapHelpText = "" // after a double click, the guide answers
	f := root.PersistentFlags()
	f.StringVar(&e.kitDir, "kit", "", "`FOLDER` of the kit (default: $MOVEKIT_KIT, this folder, or the program's folder)")
	f.StringArrayVar(&e.media, "medium", nil, "`FOLDER` on another medium, on which the kit continues if its own is full")
	f.StringVar(&e.root, "root", "", "use the computer whose disk is in this `FOLDER`")
	f.StringArrayVar(&e.drives, "drive", nil, "`D=FOLDER`: the folder has the content of drive D, of the disk or of the old computer; also for a mount point (/data=FOLDER)")
	f.StringVar(&e.passphraseFile, "passphrase-file", "", "`FILE` with the kit's passphrase (default: $MOVEKIT_PASSPHRASE, or a prompt)")
	f.StringVar(&e.technician, "technician", "", "`NAME` of who does the work, for the journal and the board (default: $MOVEKIT_TECHNICIAN)")
	f.BoolVar(&e.json, "json", false, "print results as JSON")
	f.BoolVarP(&e.yes, "yes", "y", false, "answer yes to every yes-or-no question")
	f.StringVar(&e.answersFile, "answers", "", "YAML `FILE` with answers to prompts and manual steps")
	f.BoolVarP(&e.quiet, "quiet", "q", false, "print no progress and no hints")
	f.BoolVar(&e.noColour, "no-color", false, "print no colours (also $NO_COLOR)")
	f.BoolVarP(&e.verbose, "verbose", "v", false, "print all details")
	f.StringVar(&e.logFile, "log-file", "", "append details to this `FILE`")
	root.AddGroup(
		&cobra.Group{ID: "old", Title: "On the old computer:"},
		&cobra.Group{ID: "new", Title: "On the new computer:"},
		&cobra.Group{ID: "any", Title: "At any time:"},
		&cobra.Group{ID: "more", Title: "More:"})
	cobra.EnableCommandSorting = false // in order of the work
	for group, commands := range map[string][]*cobra.Command{
		"old":  {e.newCommand(), e.surveyCommand(), e.packCommand(), e.deactivateCommand(), e.shareCommand(), e.retireCommand()},
		"new":  {e.readyCommand(), e.unpackCommand(), e.undoCommand(), e.todoCommand(), e.activateCommand(), e.verifyCommand()},
		"any":  {e.runCommand(), e.planCommand(), e.statusCommand(), e.licenceCommand(), e.inspectCommand(), e.reportCommand(), e.closeCommand(), e.boardCommand()},
		"more": {e.cardCommand(), e.deskCommand(), e.demoCommand(), e.versionCommand()},
	} {
		for _, c := range commands {
			c.GroupID = group
			c.Hidden = slices.Contains([]string{"desk", "demo"}, c.Name()) // an office never needs them
			root.AddCommand(c)
		}
	}
	root.SetHelpCommand(e.helpCommand(root))
	root.SetHelpCommandGroupID("more")
	root.SetCompletionCommandGroupID("more")
	e.fitHelp(root)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error {
		return fault.Wrap(fault.Usage, err, "the command line is not valid")
	})
	explainArguments(root)
	return root
}

// explainArguments lets commands say how they are used when they get the wrong number of arguments.
func explainArguments(c *cobra.Command) {
	for _, sub := range c.Commands() {
		explainArguments(sub)
		if check := sub.Args; check != nil {
			sub.Args = func(c *cobra.Command, args []string) error {
				if check(c, args) == nil {
					return nil
				}
				return fault.New(fault.Usage, "wrong number of arguments (%d). Usage: %s", len(args), c.UseLine())
			}
		}
	}
}

// fitHelp wraps the help of every command to the terminal width.
func (e *env) fitHelp(root *cobra.Command) {
	width := widthOf(e.out)
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), ".FlagUsages", fmt.Sprintf(".FlagUsagesWrapped %d", width)))
	help := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		var b strings.Builder
		c.Long = table.Flow(c.Long, width)
		c.SetOut(&b)
		help(c, args)
		c.SetOut(nil)
		io.WriteString(e.out, table.Within(b.String(), width))
	})
}

// start applies the common flags.
func (e *env) start() error {
	e.packs = false
	e.setUp(e.noColour)
	e.takePassphrase()
	var to []io.Writer
	if e.verbose {
		to = append(to, e.err)
	}
	if e.logFile != "" {
		f, err := os.OpenFile(e.logFile, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return fault.Wrap(fault.Usage, err, "cannot write the log file")
		}
		to = append(to, f)
	}
	if len(to) > 0 {
		e.log = slog.New(slog.NewTextHandler(io.MultiWriter(to...), nil))
		e.log.Info("started", "version", about.This().String(), "arguments", os.Args[1:])
	}
	return e.readAnswers()
}

// findKit returns the folder of the kit.
func (e *env) findKit() (string, error) {
	if dir := cmp.Or(e.kitDir, os.Getenv("MOVEKIT_KIT")); strings.HasPrefix(dir, remote.Scheme) {
		return e.mirrorOf(dir)
	} else if dir != "" {
		return dir, nil
	}
	tries := []string{"."}
	if exe, err := os.Executable(); err == nil {
		tries = append(tries, filepath.Dir(exe))
	}
	for _, dir := range tries {
		if _, err := os.Stat(filepath.Join(dir, kit.ManifestFile)); err == nil {
			return dir, nil
		}
	}
	return "", fault.New(fault.NotAKit, "no kit was given, and there is none in this folder")
}

// openKit opens the kit without its passphrase.
func (e *env) openKit() (*kit.Kit, error) {
	dir, err := e.findKit()
	if err != nil {
		return nil, err
	}
	k, err := kit.Open(dir)
	if err == nil && e.mirror != nil && dir == e.mirror.Dir {
		k.Log.Sent = func() error { return e.mirror.Send(e.ctx) }
	}
	return k, err
}

// computer returns this computer, or the one of --root.
func (e *env) computer() (machine.Computer, error) {
	c, err := machine.Open(e.root)
	if err != nil {
		return nil, err
	}
	given, err := pairs("drive", e.drives)
	if err != nil {
		return nil, err
	}
	e.moved = map[string]string{}
	for letter, folder := range given {
		moved, err := c.SetDrive(letter, folder)
		if err != nil {
			return nil, err
		}
		if moved && strings.HasPrefix(letter, "/") {
			e.moved[path.Clean(letter)] = folder
		} else if moved {
			e.moved[strings.ToUpper(letter)] = folder
		}
	}
	return c, nil
}

// here returns the host for this computer.
func (e *env) here() (*run.Host, error) {
	c, err := e.computer()
	if err != nil {
		return nil, err
	}
	h := run.NewHost(c)
	h.Commands, h.Notify, h.Private = e.runCommands, e.event, &e.private
	h.Technician = &technician{env: e}
	return h, nil
}

// event shows and logs progress.
func (e *env) event(ev run.Event) {
	switch {
	case ev.Detail != "":
		e.log.Info(ev.Detail, "app", ev.App, "item", ev.Item, "user", ev.User)
		return
	case ev.What != "":
		e.log.Info(ev.What, "app", ev.App, "item", ev.Item, "user", ev.User, "bytes", ev.Total)
	}
	e.notify(ev)
}

// job opens the kit, the computer and the key for a step.
func (e *env) job(apps []string, unlock bool) (*move.Move, func(), error) {
	k, err := e.openKit()
	if err != nil {
		return nil, nil, err
	}
	overrides, err := e.reasons()
	if err != nil {
		return nil, nil, err
	}
	h, err := e.here()
	if err != nil {
		return nil, nil, err
	}
	if unlock {
		if err := k.Lock(); err != nil {
			return nil, nil, err
		}
		if err := e.unlock(e.passphraseFile, k.Unlock); err != nil {
			k.Close()
			return nil, nil, err
		}
	}
	if err := e.connectMedia(k, e.packs); err != nil {
		k.Close()
		return nil, nil, err
	}
	k.By = e.technicianName()
	e.kit = k
	r := run.New(k, h)
	r.Distant = e.mirror != nil
	r.MoreMedia = e.packs && (k.Media.Next != nil || len(k.Dirs()) > 1)
	r.Overrides = overrides
	for _, address := range apps {
		app, name, ofItem := strings.Cut(address, "/")
		if c := r.Card(app); ofItem && c != nil && c.Item(name) == nil {
			return nil, nil, fault.New(fault.Usage, "the app %s has no item %q", app, name)
		}
		if r.Apps = append(r.Apps, app); ofItem && !slices.Contains(apps, app) {
			r.Items = append(r.Items, address)
		}
	}
	m := move.New(r)
	m.Choices.Drives = e.moved
	return m, func() { e.done(); k.Close() }, m.Redirect()
}

// commandsFlag adds the flag that agrees to a card's commands.
func (e *env) commandsFlag(c *cobra.Command) {
	c.Flags().BoolVar(&e.runCommands, "run-commands", false, "agree to run the cards' commands (movekit card show APP shows them)")
}

// overrideFlags adds the flags that override gates.
func (e *env) overrideFlags(c *cobra.Command) {
	c.Flags().StringArrayVar(&e.overrides, "override", nil, "continue although this `GATE` stops the step; needs --because")
	e.becauseFlag(c)
	c.RegisterFlagCompletionFunc("override", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		var names []string
		for _, g := range steps.Gates {
			if g.Overridable() {
				names = append(names, g.Name+"\t"+g.About)
			}
		}
		return names, cobra.ShellCompDirectiveNoFileComp
	})
}

// becauseFlag adds the flag for the reason of overrides and switches.
func (e *env) becauseFlag(c *cobra.Command) {
	if c.Flags().Lookup("because") == nil {
		c.Flags().StringVar(&e.because, "because", "", "`REASON` for an exception; it is kept in the journal and the report")
	}
}

// exceptionFlag adds a switch that needs --because.
func (e *env) exceptionFlag(c *cobra.Command, name, usage string) {
	e.becauseFlag(c)
	c.Flags().Bool(name, false, usage+"; needs --because")
	c.Flags().SetAnnotation(name, needsReason, nil) //nolint:errcheck // the flag was just defined
}

// needsReason marks the switches that need --because.
const needsReason = "needs-reason"

// reasonUsed returns an error if --because is given without an exception that it explains.
func reasonUsed(c *cobra.Command) error {
	if !c.Flags().Changed("because") || c.Flags().Changed("override") {
		return nil
	}
	var names []string
	used := false
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if _, is := f.Annotations[needsReason]; is {
			names, used = append(names, "--"+f.Name), used || f.Changed
		}
	})
	if used {
		return nil
	}
	return fault.New(fault.Usage, "--because gives the reason for %s; none of them was given", strings.Join(append(names, "--override"), ", "))
}

// exception returns the reason if a switch is given, and "" if it is not.
func (e *env) exception(c *cobra.Command, name string) (string, error) {
	if given, err := c.Flags().GetBool(name); err != nil || !given {
		return "", err
	}
	if e.because = strings.TrimSpace(e.because); e.because == "" {
		return "", fault.New(fault.Usage, "--%s needs a reason: --because REASON", name)
	}
	return e.because, nil
}

// reasons returns the reason for each gate that --override names.
func (e *env) reasons() (map[string]string, error) {
	out := map[string]string{}
	for _, name := range e.overrides {
		g := steps.Find(name)
		switch {
		case g == nil:
			return nil, fault.New(fault.Usage, "there is no gate %q", name)
		case !g.Overridable():
			return nil, fault.New(fault.Usage, "the gate %s cannot be overridden", name)
		case strings.TrimSpace(e.because) == "":
			return nil, fault.New(fault.Usage, "--override %s needs a reason: --because REASON", name)
		}
		out[name] = strings.TrimSpace(e.because)
	}
	return out, nil
}

// completeApps completes the names of apps in the kit.
func (e *env) completeApps(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	k, err := e.openKit()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return k.Manifest.Apps, cobra.ShellCompDirectiveNoFileComp
}

// Command returns the root command, for generating documentation. Its hidden commands are shown.
func Command() *cobra.Command {
	root := (&env{}).command()
	for _, c := range root.Commands() {
		c.Hidden = false
	}
	return root
}
