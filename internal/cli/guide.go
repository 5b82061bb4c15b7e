package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/ready"
	"movekit/internal/core/remote"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/volume"
	"movekit/internal/table"
)

// guide leads the user through a move. It runs the same commands that can be typed, and shows each
// first.
type guide struct {
	*env
	where   []string   // the flags that select this computer
	onMedia []string   // folders on other media on which the kit continues
	kit     string     // folder of the kit
	only    []string   // selected apps and items; empty means all
	given   string     // the passphrase of --passphrase-file; "" if none was given
	looked  bool       // this computer was surveyed in this session
	failed  fault.Kind // of the last command; "" if it succeeded
}

// errLeave means that the user leaves the guide, and errBack that the user goes back one question.
var (
	errLeave = errors.New("left")
	errBack  = errors.New("back")
)

// inOrder asks questions one after the other. If the user goes back, it asks the question before again; before the first one
// it returns errBack.
func inOrder(questions ...func() error) error {
	for i := 0; i < len(questions); {
		err := questions[i]()
		switch {
		case errors.Is(err, errBack) && i > 0:
			i--
		case err != nil:
			return err
		default:
			i++
		}
	}
	return nil
}

// guided starts the guide.
func (e *env) guided(ctx context.Context) error {
	g := &guide{env: e}
	if e.passphraseFile != "" {
		var err error
		if g.given, err = readPassphraseFile(e.passphraseFile); err != nil {
			return err
		}
		e.passphrase = g.given
	}
	if e.root != "" {
		g.where = append(g.where, "--root", e.root)
	}
	for _, d := range e.drives {
		g.where = append(g.where, "--drive", d)
	}
	g.onMedia = e.media
	err := g.begin(ctx, e.kitDir)
	if errors.Is(err, errLeave) {
		e.say("\nNothing is lost: start movekit again to continue.\n")
		return nil
	}
	return err
}

// begin chooses the kit.
func (g *guide) begin(ctx context.Context, named string) error {
	for {
		if g.kit = named; named == "" {
			var err error
			if g.kit, err = g.choose(ctx); err != nil {
				return err
			}
		}
		named = ""
		if g.kit != "" {
			if err := g.move(ctx); err != nil {
				return err
			}
		}
	}
}

// key asks for one of several answers, and shows what each does. The first is the default, if it
// has a text.
func (g *guide) key(question string, options ...[2]string) (string, error) {
	g.done()
	for _, o := range options {
		if o[1] != "" {
			fmt.Fprintf(g.err, "  %-6s %s\n", map[bool]string{true: "Enter", false: o[0]}[o[0] == ""], table.Visible(o[1]))
		}
	}
	for {
		line, err := g.read(question+" ", false)
		if fault.KindOf(err) == fault.Stopped {
			return "", err
		}
		line = strings.ToLower(strings.TrimSpace(line))
		if err != nil || line == "q" || line == "quit" || line == "exit" {
			return "", errLeave
		}
		for _, o := range options {
			if line == o[0] {
				return line, nil
			}
		}
		if line == "b" || line == "back" {
			return "", errBack
		}
		fmt.Fprintln(g.err, "Please enter one of the words on the left. q leaves, b goes back.")
	}
}

// line asks for a text; Enter means the default.
func (g *guide) line(question, usual string) (string, error) {
	return g.checked(question, usual, "", func(string) string { return "" })
}

// checked asks for a text until nothing is wrong with it. Enter means the default, ? shows an explanation, b goes back, and q
// leaves. wrong returns what is wrong with a text, or "".
func (g *guide) checked(question, usual, about string, wrong func(string) string) (string, error) {
	return g.several(question, usual, about, func(text string) string {
		if strings.Contains(text, "\n") {
			return "This question has one answer, and several lines were pasted. Please enter one line."
		}
		return wrong(text)
	})
}

// several asks like checked, and also accepts several pasted lines.
func (g *guide) several(question, usual, about string, wrong func(string) string) (string, error) {
	if usual != "" {
		question += " [" + usual + "]"
	}
	for {
		text, err := g.read(table.Visible(question)+": ", false)
		if fault.KindOf(err) == fault.Stopped {
			return "", err
		}
		switch {
		case err != nil || strings.EqualFold(text, "q"):
			return "", errLeave
		case strings.EqualFold(text, "b"):
			return "", errBack
		case text == "?":
			said := "q leaves, b goes back one question."
			if usual != "" {
				said = "Enter means " + usual + "; " + said
			}
			fmt.Fprintf(g.err, "%s\n", table.Within(table.Visible(strings.TrimSpace(about+" "+said)), widthOf(g.err)))
			continue
		case text == "":
			text = usual
		}
		why := wrong(text)
		if why == "" {
			return text, nil
		}
		fmt.Fprintf(g.err, "%s\n", table.Within(table.Visible(why), widthOf(g.err)))
	}
}

// do shows a command and runs it. The command prints its own messages.
func (g *guide) do(ctx context.Context, args ...string) (code int, err error) {
	if g.kit != "" && args[0] != "new" && args[0] != "card" {
		args = append(args, "--kit", g.kit)
		for _, dir := range g.onMedia {
			args = append(args, "--medium", dir)
		}
	}
	if !slices.Contains([]string{"report", "close", "status", "inspect"}, args[0]) {
		args = append(args, g.where...)
	}
	table.Fprintf(g.err, "\n%s\n", g.paint("$ movekit "+shellWords(args), table.Note))
	root := g.command()
	root.SetArgs(args)
	root.SetIn(g.in)
	root.SetOut(g.out)
	root.SetErr(g.err)
	err = root.ExecuteContext(ctx)
	g.done()
	if g.failed = ""; err != nil {
		g.failed = fault.KindOf(err)
	}
	g.log.Info("the guide ran a command", "arguments", args, "error", err)
	if err == nil {
		return exitDone, nil
	}
	code = printError(fold(g.err), err, g.colour && isTerminal(g.err))
	if ctx.Err() != nil {
		return code, exit{code} // the user ended the program
	}
	return code, nil
}

// shellWords formats arguments so that they can be typed.
func shellWords(args []string) string {
	out := make([]string, len(args))
	for i, a := range args {
		if out[i] = a; a == "" || strings.ContainsAny(a, " '\"$&;()\\%*?") {
			out[i] = `"` + a + `"`
		}
	}
	return strings.Join(out, " ")
}

// kits returns the kits in this folder, beside the program, and in their subfolders.
func kits() (out []string) {
	var tries []string
	if dir := os.Getenv("MOVEKIT_KIT"); dir != "" {
		tries = append(tries, dir)
	}
	places := []string{"."}
	if exe, err := os.Executable(); err == nil {
		places = append(places, filepath.Dir(exe), filepath.Dir(filepath.Dir(exe)))
	}
	for _, p := range places {
		tries = append(tries, p)
		below, _ := filepath.Glob(filepath.Join(p, "*", kit.ManifestFile))
		for _, manifest := range below {
			tries = append(tries, filepath.Dir(manifest))
		}
	}
	seen := map[string]bool{}
	for _, dir := range tries {
		abs, err := filepath.Abs(dir)
		if _, serr := os.Stat(filepath.Join(dir, kit.ManifestFile)); err == nil && serr == nil && !seen[abs] {
			seen[abs] = true
			out = append(out, dir)
		}
	}
	return out
}

// choose asks for a kit, or creates one. It returns "" for no kit.
func (g *guide) choose(ctx context.Context) (string, error) {
	c, err := g.computer()
	if err != nil {
		return "", err
	}
	fmt.Fprintf(g.err, "\nMove Kit moves applications, their data and their licences to a new computer.\nThis is %s.\n\n", table.Visible(c.Name()))
	g.known(ctx)
	var options [][2]string
	found := kits()
	for i, dir := range found {
		about := "a kit that cannot be read"
		if k, err := kit.Open(dir); err == nil {
			about = fmt.Sprintf("the move from %s to %s", k.Manifest.Old.Name, statusName(k))
			if k.Manifest.Keep {
				about = "the safety copy of " + k.Manifest.Old.Name
			}
		}
		options = append(options, [2]string{fmt.Sprint(i + 1), fmt.Sprintf("continue %s, in %s", about, dir)})
	}
	if len(found) == 1 {
		options[0][0] = ""
	}
	planned := plannedFor(c.Name())
	if planned != "" {
		options = append(options, [2]string{"plan", "create the kit that is planned for " + c.Name() + ", in " + planned})
	}
	if len(found) == 0 {
		options = append(options, [2]string{"again", "look for kits again, such as on a stick that you just plugged in"})
	}
	options = append(options, [2]string{"new", "create a kit: another computer replaces " + c.Name()}, [2]string{"keep", "create a safety copy of " + c.Name()},
		[2]string{"look", "show what is on " + c.Name() + " that could be moved"}, [2]string{"card", "create a card for an app on " + c.Name()},
		[2]string{"net", "use the kit that another computer shares over the network (movekit share)"}, [2]string{"q", "quit"})
	answer, err := g.key("What do you want to do?", options...)
	if errors.Is(err, errBack) || answer == "again" {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	switch answer {
	case "plan":
		code, err := g.do(ctx, "new", planned)
		if code != exitDone {
			planned = ""
		}
		return planned, err
	case "new", "keep":
		return g.make(ctx, answer == "keep")
	case "look":
		_, err := g.do(ctx, "survey", "--wide")
		return "", err
	case "card":
		args := []string{"card", "make"}
		if own, err := readCards(nil, nil); err == nil && usualCards() != "" {
			name, err := g.checked("Name of the office's card to change; Enter for a new one", "", "Its cards are in "+usualCards()+".", func(text string) string {
				if text != "" && !slices.ContainsFunc(own, func(c *card.Card) bool { return c.Name == text }) {
					return "The office has no card " + text + "."
				}
				return ""
			})
			if errors.Is(err, errBack) {
				return "", nil
			}
			if err != nil {
				return "", err
			}
			if name != "" {
				args = append(args, name)
			}
		}
		_, err := g.do(ctx, args...)
		return "", err
	case "net":
		usual := ""
		for _, n := range browse(ctx, 2*time.Second) {
			fmt.Fprintf(g.err, "%s shares a kit in this network: %s\n", table.Visible(cmp.Or(n.old, "A computer")), table.Visible(n.address))
			usual = n.address
		}
		address, err := g.checked("Address that share shows there", usual, "Start movekit share on the other computer. It shows an address such as sftp://192.0.2.5:40022/.", func(text string) string {
			if !strings.HasPrefix(text, remote.Scheme) {
				return "Please enter an address that starts with " + remote.Scheme + "."
			}
			return ""
		})
		if errors.Is(err, errBack) {
			return "", nil
		}
		return address, err
	}
	n := 1
	fmt.Sscan(answer, &n) //nolint:errcheck // Enter means the only one
	return found[n-1], nil
}

// statusName returns the new computer's name, if known.
func statusName(k *kit.Kit) string { return steps.Fold(k.Manifest, k.Log.Lines).New.Name }

// make creates a kit.
func (g *guide) make(ctx context.Context, keep bool) (string, error) {
	c, err := g.computer()
	if err != nil {
		return "", err
	}
	usual := usualCards()
	var dir, cards, name string
	questions := []func() error{func() (err error) {
		dir, err = g.checked("Folder for the kit, on the stick", stickFolder(c.Name()), "The kit is the folder that carries the move: sealed data, cards, a journal and this program. It must be new or empty.", kit.Unusable)
		return err
	}, func() (err error) {
		cards, err = g.checked("Folder with the office's own cards, if it has any", usual, "A card describes where an app keeps its data. Move Kit has cards for common programs; your own come first.", func(text string) string {
			if _, err := os.Stat(text); text != "" && err != nil {
				return "There is no folder or file " + text + "."
			}
			return ""
		})
		return err
	}}
	if !keep {
		repeated := false
		questions = append(questions, func() (err error) {
			name, err = g.checked("Name of the new computer", "", "The name is checked on the new computer, so that nothing is put on a wrong one.", func(text string) string {
				switch {
				case text == "":
					return "Please enter the name of the computer that replaces this one."
				case strings.EqualFold(text, c.Name()) && !repeated:
					repeated = true
					return text + " is this computer, the old one. If the new one has the same name, enter it again."
				}
				return ""
			})
			return err
		})
	}
	if err := inOrder(questions...); err != nil {
		if errors.Is(err, errBack) {
			return "", nil
		}
		return "", err
	}
	args := []string{"new", dir}
	if cards != "" && cards != usual {
		args = append(args, "--cards", cards)
	}
	if keep {
		args = append(args, "--keep")
	} else {
		args = append(args, "--to", name)
	}
	g.passphrase = g.given // not the passphrase of another kit
	code, err := g.do(ctx, args...)
	if code != exitDone {
		return "", err
	}
	return dir, err
}

// stickFolder proposes a folder for a kit: on the first removable disk that can be written to, or else here.
func stickFolder(old string) string {
	name := "move-" + strings.ToLower(item.FileName(old))
	for _, m := range volume.Mounts() {
		// Elsewhere on Unix, a foreign file system is virtual.
		plugged := runtime.GOOS == "windows" || slices.ContainsFunc([]string{"/media/", "/run/media/", "/mnt/", "/Volumes/"}, func(above string) bool { return strings.HasPrefix(m.Path+"/", above) })
		if dir := filepath.Join(m.Path, name); plugged && m.Foreign && !m.Remote && filemeta.Writable(m.Path) == nil && kit.Unusable(dir) == "" {
			return dir
		}
	}
	return "kit"
}

// move leads through one move, until the user selects another.
func (g *guide) move(ctx context.Context) error {
	for {
		g.kitDir = g.kit
		k, apps, s, next, err := g.progress()
		if err != nil {
			printError(fold(g.err), err, g.colour)
			g.kit = ""
			return nil
		}
		h, err := g.here()
		if err != nil {
			return err
		}
		side := run.New(k, h).Side()
		table.Fprintf(g.err, "\n%s\n", g.paint(table.Sprintf("From %s to %s. This is %s, %s.", k.Manifest.Old.Name, s.New.Name, h.Computer.Name(), map[steps.Side]string{
			steps.OldSide: "the old computer", steps.NewSide: "the new computer", steps.ThirdSide: "neither of the two"}[side]), table.Note))
		g.showSteps(apps)
		on := s.Next(s.Cards(k.Cards)).Side
		if side == steps.OldSide && on == steps.NewSide { // before the trip
			since, _, err := g.checkNow(ctx, nil, false)
			if err != nil {
				printError(fold(g.err), err, g.colour)
			}
			if next = orPack(next, k, since); next.Step == steps.Pack {
				on = steps.OldSide
			}
		}
		options, args := g.due(next, on, side)
		if side == steps.ThirdSide {
			options = append(options, [2]string{"replace", "this computer replaces " + s.New.Name + ", which broke"})
		}
		options = append(options, [2]string{"look", "check this computer: what is here, and what is not ready"}, [2]string{"apps", "select apps or items (now: " + orAll(g.only) + ")"},
			[2]string{"other", "another step"}, [2]string{"kit", "another kit"}, [2]string{"q", "quit; nothing is lost"})
		answer, err := g.key("What now?", options...)
		if errors.Is(err, errBack) {
			continue
		}
		if err != nil {
			return err
		}
		again, err := g.answered(ctx, answer, args, side)
		if errors.Is(err, errBack) {
			continue
		}
		if err != nil || !again {
			return err
		}
	}
}

func orAll(chosen []string) string {
	if len(chosen) == 0 {
		return "all"
	}
	return strings.Join(chosen, ", ")
}

// showSteps shows the progress of each app, on stderr.
func (g *guide) showSteps(apps []appStatus) {
	t := g.stepTable(apps)
	t.Width = widthOf(g.err)
	fmt.Fprintf(g.err, "%s\n", t)
}

// due shows the next step and its computer. On that computer, Enter runs it.
func (g *guide) due(next due, on, side steps.Side) (options [][2]string, args []string) {
	switch {
	case next.Command == "":
		fmt.Fprintf(g.err, "Nothing is due: %s.\n", table.Visible(next.Why))
		return nil, nil
	case on != "" && on != side:
		fmt.Fprintf(g.err, "%s\n", table.Within(table.Visible(fmt.Sprintf("Next is %s on %s (%s): take the stick there, and start movekit on that computer.", next.Step, next.Computer, next.Why)), widthOf(g.err)))
		return nil, nil
	}
	args = strings.Fields(strings.TrimPrefix(next.Command, "movekit "))
	what := fmt.Sprintf("%s: %s", args[0], next.Why)
	if before := map[steps.Step][]string{steps.Pack: {"survey"}, steps.Unpack: {"ready"}}[next.Step]; before != nil && !g.looked {
		args, what = before, before[0]+": check this computer before "+args[0]
	}
	return [][2]string{{"", what}}, args
}

// answered carries out the user's answer. It reports whether to continue with this kit.
func (g *guide) answered(ctx context.Context, answer string, args []string, side steps.Side) (again bool, err error) {
	switch answer {
	case "kit":
		g.kit, g.looked, g.passphrase = "", false, ""
		return false, nil
	case "apps":
		text, err := g.line("Apps or items (APP/ITEM), separated by spaces; Enter for all", "")
		g.only = strings.Fields(text)
		return true, err
	case "replace":
		why, err := g.checked("What happened to the other one", "it broke", "The reason is recorded, and the handover has it.", func(string) string { return "" })
		if err != nil {
			return true, err
		}
		args = []string{"unpack", "--change-computer", "--because", why}
	case "look":
		args = []string{"survey"}
		if side == steps.NewSide {
			args = []string{"ready"}
		}
	case "other":
		words := map[steps.Side][]string{steps.OldSide: {"survey", "pack", "deactivate", "retire"}, steps.NewSide: {"ready", "unpack", "undo", "todo", "activate", "verify"}}[side]
		words = append(words, "status", "inspect", "report", "close")
		var options [][2]string
		for _, w := range words {
			options = append(options, [2]string{w, ""})
		}
		fmt.Fprintf(g.err, "  %s\n", strings.Join(words, ", "))
		word, err := g.key("Which step?", options...)
		if err != nil {
			return false, err
		}
		if args = []string{word}; word == "status" {
			args = append(args, "--check")
		}
	}
	return true, g.step(ctx, args)
}

// step asks for a step's options and runs it.
func (g *guide) step(ctx context.Context, args []string) error {
	switch args[0] {
	case "survey":
		g.looked = true
	case "ready":
		g.looked = true
		return g.prepareNew(ctx)
	case "report":
		home, _ := os.UserHomeDir()
		to, err := g.line("Folder for the handover, not on the stick", filepath.Join(home, "handover"))
		if err != nil {
			return err
		}
		_, err = g.do(ctx, "report", "--to", to)
		return err
	case "todo":
		if _, err := g.do(ctx, "todo"); err != nil {
			return err
		}
		numbers, err := g.line("Which are imported (such as 1-4)? Enter for none yet", "")
		if err != nil || numbers == "" {
			return err
		}
		args = []string{"todo", "--tick", numbers}
	}
	if slices.Contains([]string{"survey", "pack", "deactivate", "unpack", "undo", "activate", "verify", "retire"}, args[0]) {
		args = append(args, g.only...)
	}
	if args[0] == "retire" {
		is, err := g.yes(fmt.Sprintf("Rename the old data on %s, so that nobody uses it any more? Nothing is deleted", g.name()), true)
		if err != nil || !is {
			return err
		}
	}
	code, err := g.do(ctx, args...)
	if err == nil && code != exitDone && args[0] != "survey" {
		g.looked = g.looked && args[0] != "unpack" // check again, and ask for users and drives
		fmt.Fprintf(g.err, "%s\n", table.Within(args[0]+" is not finished, and what is complete is kept. "+cmp.Or(wayOn[g.failed], "The message above says what to do.")+" Then Enter tries it again.", widthOf(g.err)))
	}
	return err
}

// wayOn says how to go on after a failure.
var wayOn = map[fault.Kind]string{
	fault.NoSpace:     "A disk is full: free some space on it, or use a larger stick.",
	fault.ReadOnly:    "The disk cannot be written to: perhaps the stick has a switch against writing.",
	fault.Pulled:      "The stick is not there any more: plug it in again.",
	fault.Unconnected: "The other computer cannot be reached: start movekit share there again.",
	fault.Busy:        "Another window or computer uses this kit: end Move Kit there.",
}

// name returns this computer's name.
func (g *guide) name() string {
	c, err := g.computer()
	if err != nil {
		return "this computer"
	}
	return c.Name()
}

// prepareNew checks the new computer, and asks for missing destinations.
func (g *guide) prepareNew(ctx context.Context) error {
	g.kitDir = g.kit
	k, err := g.openKit()
	if err == nil {
		err = g.unlock("", k.Unlock) // the kit stores the answers
		k.Close()
	}
	if err != nil {
		return printAndGoOn(g, err)
	}
	var said []string
	for {
		if _, err := g.do(ctx, append(append([]string{"ready"}, g.only...), said...)...); err != nil {
			return err
		}
		more, err := g.places(ctx)
		if err != nil || more == nil {
			return err
		}
		said = append(said, more...)
	}
}

// places asks about each user and drive that the new computer lacks. It returns the answers as
// flags.
func (g *guide) places(ctx context.Context) (flags []string, err error) {
	g.kitDir = g.kit
	j, closeJob, err := g.jobToLook(g.only)
	if err != nil {
		return nil, printAndGoOn(g, err)
	}
	r, err := j.Ready(ctx)
	closeJob()
	if err != nil {
		return nil, printAndGoOn(g, err)
	}
	asked := map[string]bool{}
	for _, c := range r.Checks {
		if c.Ready || c.Of == "" || asked[c.Of] {
			continue
		}
		asked[c.Of] = true
		switch c.Need {
		case ready.NeedUser, ready.NeedCounterpart:
			usual, later := c.With, "Enter"
			if len(r.Users) == 1 {
				usual = cmp.Or(usual, r.Users[0])
			}
			if usual != "" {
				later = "-"
			}
			name, err := g.checked(fmt.Sprintf("Which user here gets %s's data (%s)? %s to create that user later", c.Of, strings.Join(r.Users, ", "), later), usual,
				"The data goes to that user's folders, and belongs to that user.", func(text string) string {
					if text != "" && text != "-" && !slices.Contains(r.Users, text) {
						return "There is no user " + text + " here."
					}
					return ""
				})
			if err != nil {
				return nil, err
			}
			if name != "" && name != "-" {
				flags = append(flags, "--user", c.Of+"="+name)
			}
		case ready.NeedConfirm:
			path, err := g.line(fmt.Sprintf("Where does %s go?", c.What), c.With)
			if err != nil {
				return nil, err
			}
			flags = append(flags, "--place", c.Of+"="+path)
		case ready.NeedDrive:
			folder, err := g.line(fmt.Sprintf("Which folder here gets the content of drive %s? Enter to connect that drive later", c.Of), "")
			if err != nil {
				return nil, err
			}
			if folder != "" {
				flags = append(flags, "--drive", c.Of+"="+folder)
			}
		}
	}
	return flags, nil
}

// printAndGoOn prints an error; the guide continues.
func printAndGoOn(g *guide, err error) error {
	printError(fold(g.err), err, g.colour)
	return nil
}
