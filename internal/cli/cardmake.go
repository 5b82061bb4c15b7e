package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/draft"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
	"movekit/internal/core/version"
	"movekit/internal/core/wide"
	"movekit/internal/table"
)

func (e *env) cardMakeCommand() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use:   "make [NAME]",
		Short: "Create or change a card by answering questions",
		Long: `Search this computer for applications, and ask which one to move, what it is called,
which of its locations to move, which counts its owner would recognise, how it is
licensed, and what the manual steps are. The result is a checked card with comments,
and a summary in words. Press Enter to accept what is proposed.

With the NAME of an existing card, you can change single answers. The rest of the card
stays the same, and the previous version is kept beside it.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !e.canAsk() {
				return fault.New(fault.Usage, "card make asks questions, but this run is non-interactive; use card draft instead")
			}
			dir := cmp.Or(dir, usualCards(), "cards")
			var err error
			if g := (&guide{env: e}); len(args) == 1 {
				if err = g.changeCard(filepath.Join(dir, args[0]+".yaml")); errors.Is(err, errBack) {
					err = errLeave
				}
			} else {
				err = g.makeCard(cmd.Context(), dir)
			}
			if errors.Is(err, errLeave) {
				e.say("No card was written.\n")
				return nil
			}
			return err
		},
	}
	c.Flags().StringVar(&dir, "to", "", "`FOLDER` of the office's cards (default: the folder that new uses, else ./cards)")
	return c
}

// maxApps limits the apps to choose from.
const maxApps = 30

// makeCard creates a card by asking questions.
func (g *guide) makeCard(ctx context.Context, dir string) error {
	computer, err := g.computer()
	if err != nil {
		return err
	}
	h, err := g.here()
	if err != nil {
		return err
	}
	s := wide.Search{Host: h, Days: 90, Seen: func(n int64) { g.notify(run.Event{What: fmt.Sprintf("%d files seen", n)}) }}
	if s.Cards, err = everyCard(); err != nil {
		return err
	}
	if own, err := card.ReadDir(dir); err == nil {
		s.Cards = append(s.Cards, own...)
	}
	if s.Cards, _, err = presentOf(ctx, h, s.Cards); err != nil {
		return err
	}
	found, err := s.Run(ctx)
	g.done()
	if err != nil {
		return err
	}
	temp, err := g.private.Dir()
	if err != nil {
		return err
	}
	var app draft.App
	var title, name string
	var d *draft.Draft
	var data []byte
	// Going back to a question before the places asks for them again.
	err = inOrder(
		func() (err error) { app, err = g.whichApp(draft.Group(found.Findings)); return err },
		func() (err error) { title, err = g.line("What is the app called", app.Title); return err },
		func() (err error) { name, err = g.shortName(title, dir); return err },
		func() (err error) {
			for d = nil; d == nil; {
				places, err := g.whichPlaces(computer, app)
				if err != nil {
					return err
				}
				if d, err = (&draft.Drafter{Computer: computer, Temp: temp}).Make(ctx, name, title, places); err != nil {
					printError(fold(g.err), err, g.colour)
				}
				if ctx.Err() != nil {
					return err
				}
			}
			return nil
		},
		func() (err error) { d.Vendor, err = g.line("Who is its vendor", app.Vendor); return err },
		func() (err error) { d.About, err = g.line("What does the office use it for", ""); return err },
		func() error { return g.programsOf(d) },
		func() error { return g.versionOf(d, computer) },
		func() error { return g.figures(d) },
		func() (err error) {
			for {
				if d.Licences, err = g.licenceOf(d); err != nil {
					return err
				}
				if _, err = d.YAML(""); err == nil || d.Licences == nil {
					return err
				}
				printError(fold(g.err), err, g.colour) // an answer is not valid
			}
		},
		func() (err error) {
			d.ByHand, err = g.lines("What are the manual steps on the new computer (choose a printer, sign in, ...)?")
			return err
		},
		func() (err error) {
			if data, err = d.YAML("movekit card check FILE"); err != nil {
				return err
			}
			g.preview(ctx, h, d, data)
			is, err := g.yes("Write this card? (b: change the last answers)", true)
			if err == nil && !is {
				return errLeave
			}
			return err
		})
	if errors.Is(err, errBack) {
		return errLeave
	}
	if err != nil {
		return err
	}
	file := filepath.Join(dir, name+".yaml")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", dir)
	}
	if err := writeNew(file, data); err != nil {
		return err
	}
	c, err := card.Read(file)
	if err != nil {
		return err
	}
	g.printf("\nWrote the card %s.\n", file)
	g.inWords(c)
	return nil
}

// programsOf asks for the app's programs.
func (g *guide) programsOf(d *draft.Draft) error {
	text, err := g.checked("Its programs, to check that they are closed (such as tide.exe)", strings.Join(d.Programs, " "), "The pack waits until nobody uses them. Separate names by spaces.", func(text string) string {
		if strings.ContainsAny(text, `/\`) {
			return "Please enter names only, without their folders."
		}
		return ""
	})
	d.Programs = strings.Fields(text)
	return err
}

// versionOf asks where the app's version is found, and which version the new computer needs.
func (g *guide) versionOf(d *draft.Draft, c machine.Computer) error {
	if d.Version == nil {
		var source card.Source
		said, err := g.checked("A program or file with its version, or its Debian package (Enter: the version is not checked)", "", "Otherwise nothing notices that the new computer has a version that cannot read the data.", func(text string) string {
			if text == "" {
				return ""
			}
			if real, err := c.Locate(text, nil); err == nil {
				if there, err := machine.Exists(real); err == nil && there {
					if strings.HasSuffix(strings.ToLower(text), ".exe") || strings.HasSuffix(text, ".app") {
						source = card.Source{Exe: card.Path{Any: text}}
					} else {
						source = card.Source{File: card.Path{Any: text}}
					}
					return ""
				}
			}
			if v, err := probe.PackageVersion(c, text); err == nil && v != "" {
				source = card.Source{Package: text}
				return ""
			}
			return "There is neither a file nor a package " + text + " here."
		})
		if err != nil || said == "" {
			return err
		}
		d.Version = &card.Version{Source: source}
	}
	var rules []string
	for _, r := range version.Rules {
		rules = append(rules, string(r))
	}
	rule, err := g.checked("Which version must the new computer have ("+strings.Join(rules, ", ")+")", string(cmp.Or(d.Version.Rule, version.SameMajor)), "same-major: 8.2 reads data of 8.1; same-minor: only another 8.2; same-or-newer: any later one.", func(text string) string {
		if !slices.Contains(rules, text) {
			return "Please enter one of " + strings.Join(rules, ", ") + "."
		}
		return ""
	})
	d.Version.Rule = version.Rule(rule)
	return err
}

// preview prints what a card would move from this computer, and what it leaves out.
func (g *guide) preview(ctx context.Context, h *run.Host, d *draft.Draft, data []byte) {
	c, err := card.Parse(d.Name+".yaml", data)
	if err != nil {
		return
	}
	l := &survey.Scanner{Host: h, Kinds: kinds.All, Options: item.Options{Again: true}}
	places, err := l.Places(ctx, c)
	defer survey.Close(places)
	if err != nil {
		return
	}
	var bytes, out int64
	var users []string
	counts := map[string]int64{}
	for _, p := range places {
		if !p.Found {
			continue
		}
		info := p.Item.Kind.Info()
		word := "file"
		switch {
		case info.Timed:
			word = "schedule"
		case info.Runs:
			word = "service"
		case info.Keyed:
			word = "registry key"
		case info.Counts == "query":
			word = "database"
		case info.Folder:
			word = "folder"
		}
		counts[word]++
		if p.User != nil && !slices.Contains(users, p.User.Name) {
			users = append(users, p.User.Name)
		}
		if is, err := p.Inspect(ctx, l.Options); err == nil {
			bytes += is.Bytes
		}
	}
	var told []string
	for _, word := range []string{"folder", "file", "database", "registry key", "service", "schedule"} {
		if counts[word] > 0 {
			told = append(told, item.Plural(counts[word], word))
		}
	}
	for _, it := range d.Items {
		for _, s := range it.Skips {
			out += s.Bytes
		}
	}
	line := "This card moves " + strings.Join(told, ", ") + ", " + bytesText(bytes)
	if len(users) > 0 {
		line += "; of each user who has it, here " + strings.Join(slices.Sorted(slices.Values(users)), ", ")
	}
	if out > 0 {
		line += "; not: caches and the like, " + bytesText(out)
	}
	fmt.Fprintf(g.err, "\n%s.\n", table.Within(table.Visible(line), widthOf(g.err)))
}

// changeCard asks again for the answers in a card that the user selects.
func (g *guide) changeCard(file string) error {
	was, err := os.ReadFile(file)
	if err != nil {
		return fault.Wrap(fault.Usage, err, "the card does not exist")
	}
	c, err := card.Read(file)
	if err != nil {
		return err
	}
	text := string(was)
	for {
		g.inWords(c)
		what, err := g.key("What do you want to change?", [2]string{"", "nothing else: save the card"}, [2]string{"title", "the app's name"}, [2]string{"vendor", "the vendor"},
			[2]string{"about", "what the office uses it for"}, [2]string{"licence", "how it is licensed"}, [2]string{"hand", "the manual steps"}, [2]string{"q", "quit without saving"})
		if err != nil {
			return err
		}
		if what == "" {
			break
		}
		field, value, err := g.answerAgain(what, c)
		if err != nil {
			return err
		}
		now, err := replaced(text, field, value)
		if err != nil {
			return err
		}
		changed, err := card.Parse(file, []byte(now))
		if err != nil {
			printError(fold(g.err), err, g.colour)
			continue
		}
		text, c = now, changed
	}
	if text == string(was) {
		return errLeave
	}
	if err := errors.Join(journal.WriteFile(file+".before", was, 0o644), journal.WriteFile(file, []byte(text), 0o644)); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the card")
	}
	g.printf("Wrote the card %s. The previous version is %s.before\n", file, file)
	return nil
}

// answerAgain asks for one answer again, and returns the card's field with its value. nil means that the card lacks the field.
func (g *guide) answerAgain(what string, c *card.Card) (field string, value any, err error) {
	one := func(question, usual string) (string, any, error) {
		text, err := g.line(question, usual)
		return what, text, err
	}
	switch what {
	case "title":
		return one("What is the app called", c.Title)
	case "vendor":
		return one("Who is its vendor", c.Vendor)
	case "about":
		return one("What does the office use it for", c.About)
	case "hand":
		steps, err := g.lines("What are the manual steps on the new computer? Enter all of them again.")
		if len(steps) > 0 {
			value = steps
		}
		return "by-hand", value, err
	}
	d := &draft.Draft{}
	for _, it := range c.Items {
		d.Items = append(d.Items, &draft.Item{Name: it.Name, Secret: it.Secret})
	}
	held, err := g.licenceOf(d)
	if held != nil {
		value = held
	}
	return "licences", value, err
}

// replaced returns a card's text with the value of one field replaced. Without a value, the field becomes a
// comment. The rest stays unchanged.
func replaced(text, field string, value any) (string, error) {
	lines := []string{"# " + field + ": none"}
	if value != nil {
		written, err := card.Field(field, value)
		if err != nil {
			return "", err
		}
		lines = strings.Split(strings.TrimRight(string(written), "\n"), "\n")
	}
	all := strings.Split(strings.TrimRight(text, "\n"), "\n")
	is := func(lead string) func(string) bool {
		return func(l string) bool { return strings.HasPrefix(l, lead+field+":") }
	}
	from := slices.IndexFunc(all, is(""))
	to := from + 1
	if from >= 0 {
		for to < len(all) && (strings.HasPrefix(all[to], " ") || strings.HasPrefix(all[to], "-")) {
			to++
		}
	} else if from = slices.IndexFunc(all, is("# ")); from < 0 {
		from = len(all)
		to = from
	} else {
		to = from + 1
	}
	return strings.Join(slices.Concat(all[:from], lines, all[to:]), "\n") + "\n", nil
}

// inWords prints a summary of a card: its items, licences and manual steps.
func (g *guide) inWords(c *card.Card) {
	g.printf("%s\n", c.Title)
	for _, it := range c.Items {
		where := cmp.Or(it.Key, strings.Join(slices.Concat(it.Job.Texts(), it.Path.Texts()), ", "))
		if it.Path.From != nil {
			where = "its path is in a setting of the app"
		}
		more := ""
		if len(it.UpdatePaths) > 0 {
			more = "; its paths are updated for the new computer"
		}
		for _, n := range it.Counts {
			more += "; counted: " + n.Name
		}
		g.printf("  moves %s, %s: %s%s\n", it.Name, it.Kind.Info().About, where, more)
	}
	for _, l := range c.Licences {
		g.printf("  its licence: %s\n", l.Method.Info().About)
	}
	for _, b := range c.ByHand {
		g.printf("  by hand: %s\n", b)
	}
}

// whichApp asks for the app to create a card for.
func (g *guide) whichApp(apps []draft.App) (draft.App, error) {
	t := &table.Table{Head: []string{"", "what looks like an app", "places", "size", "newest change"}, Right: []int{1, 3, 4}, Width: widthOf(g.err)}
	for i, a := range apps[:min(len(apps), maxApps)] {
		newest := ""
		if !a.Newest.IsZero() {
			newest = a.Newest.Local().Format("2006-01-02")
		}
		t.Add(strconv.Itoa(i+1), a.Title, strconv.Itoa(len(a.Places)), bytesText(a.Bytes), newest)
	}
	fmt.Fprintf(g.err, "\n%s", t)
	if more := len(apps) - maxApps; more > 0 {
		fmt.Fprintf(g.err, "and %d more\n", more)
	}
	for {
		answer, err := g.line("Number of the app, or one of its folders or files (q: quit)", "")
		if err != nil {
			return draft.App{}, err
		}
		if n, err := strconv.Atoi(answer); err == nil && n >= 1 && n <= len(apps) {
			return apps[n-1], nil
		}
		if strings.ContainsAny(answer, `/\`) {
			base := answer[strings.LastIndexAny(answer, `/\`)+1:]
			return draft.App{Name: base, Title: base, Places: []wide.Finding{{Class: wide.Folder, Where: answer}}}, nil
		}
		fmt.Fprintln(g.err, "Please enter one of the numbers, or a path.")
	}
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// shortName asks for the app's name in commands.
func (g *guide) shortName(title, dir string) (string, error) {
	usual := strings.Trim(notName.ReplaceAllString(strings.ToLower(title), "-"), "-")
	for {
		name, err := g.line("Short name for commands", usual)
		if err != nil {
			return "", err
		}
		switch _, err := os.Stat(filepath.Join(dir, name+".yaml")); {
		case !draftName.MatchString(name):
			fmt.Fprintln(g.err, "Please use a-z, 0-9 and -, at most 40 characters.")
		case err == nil:
			fmt.Fprintf(g.err, "The card %s already exists in %s: enter another name, or remove that card.\n", table.Visible(name), table.Visible(dir))
		default:
			return name, nil
		}
	}
}

// yes asks a yes-or-no question with a default.
func (g *guide) yes(question string, usual bool) (bool, error) {
	for {
		text, err := g.line(question, map[bool]string{true: "y", false: "n"}[usual])
		if err != nil {
			return false, err
		}
		switch strings.ToLower(text) {
		case "y", "yes":
			return true, nil
		case "n", "no":
			return false, nil
		}
		fmt.Fprintln(g.err, "Please answer y or n.")
	}
}

// whichPlaces asks which locations to move. A location that several users have is asked once.
func (g *guide) whichPlaces(computer machine.Computer, app draft.App) (paths []string, err error) {
	type place struct {
		wide.Finding
		where string
	}
	var places []place
	for _, f := range app.Places {
		p := place{f, f.Where}
		if real, err := machine.Real(computer, f.Where); err == nil && f.Class != wide.Registry {
			p.Where = real
			p.where, _ = machine.Term(computer, real)
		}
		i := slices.IndexFunc(places, func(other place) bool { return other.where == p.where })
		switch {
		case i < 0:
			places = append(places, p)
		case p.Bytes > places[i].Bytes: // the user with the most data shows best what is in it
			places[i] = p
		}
	}
	for len(paths) == 0 {
		for _, f := range places {
			about := f.What
			if f.Files > 0 {
				about += fmt.Sprintf(", %s, %s", item.Plural(f.Files, map[bool]string{true: "value", false: "file"}[f.Class == wide.Registry]), bytesText(f.Bytes))
			}
			if !f.Newest.IsZero() {
				about += ", newest change " + f.Newest.Local().Format("2006-01-02")
			}
			if about != "" {
				about = " (" + about + ")"
			}
			is, err := g.yes(fmt.Sprintf("Move %s%s?", f.where, about), f.Recent || f.Class != wide.Folder || len(places) == 1)
			if err != nil {
				return nil, err
			}
			if is {
				paths = append(paths, f.Where)
			}
		}
		more, err := g.lines("Other folders, files or registry keys of the app?")
		if err != nil {
			return nil, err
		}
		if paths = append(paths, more...); len(paths) == 0 {
			fmt.Fprintln(g.err, "A card needs at least one item.")
		}
	}
	return paths, nil
}

// lines asks for texts until an empty one.
func (g *guide) lines(question string) (all []string, err error) {
	fmt.Fprintf(fold(g.err), "%s Enter to finish.\n", question)
	for {
		text, err := g.several("  add", "", "", func(string) string { return "" })
		if err != nil || text == "" {
			return all, err
		}
		all = append(all, strings.FieldsFunc(text, func(r rune) bool { return r == '\n' })...) // pasted lines
	}
}

// figures asks which of the proposed counts the owner knows.
func (g *guide) figures(d *draft.Draft) error {
	for _, it := range d.Items {
		var kept []card.Count
		for _, c := range it.Counts {
			is, err := g.yes(fmt.Sprintf("Would the owner recognise the number of \"%s\" (%s)?", c.Name, it.Name), true)
			if err != nil {
				return err
			}
			if !is {
				continue
			}
			if c.Name, err = g.line("  Name of this count", c.Name); err != nil {
				return err
			}
			kept = append(kept, c)
		}
		it.Counts = kept
	}
	return nil
}

// word matches a word of a command, or a quoted text.
var word = regexp.MustCompile(`"([^"]*)"|(\S+)`)

// licenceOf asks how the app is licensed, and returns the licence, or none.
func (g *guide) licenceOf(d *draft.Draft) ([]card.Licence, error) {
	fmt.Fprint(g.err, "How is it licensed?\n  0  it needs no licence\n")
	for i, m := range card.Methods {
		fmt.Fprintf(fold(g.err), "  %d  %s\n", i+1, m.Plain)
	}
	n := 0
	if _, err := g.checked("Number", "0", "", func(text string) string {
		var err error
		if n, err = strconv.Atoi(text); err != nil || n < 0 || n > len(card.Methods) {
			return fmt.Sprintf("Please enter a number from 0 to %d.", len(card.Methods))
		}
		return ""
	}); err != nil {
		return nil, err
	}
	if n == 0 {
		return nil, nil
	}
	m := card.Methods[n-1]
	fields := map[string]any{}
	for _, a := range m.Asks {
		var err error
		if fields[a.Field], err = g.value(a, d); err != nil {
			return nil, err
		}
	}
	l, err := card.LicenceWith("licence", m.Method, fields)
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "the answers describe no licence")
	}
	return []card.Licence{l}, nil
}

// value asks for the value of one field.
func (g *guide) value(a card.Ask, d *draft.Draft) (any, error) {
	switch a.As {
	case card.AskSecrets:
		var names []string
		for _, it := range d.Items {
			if it.Secret {
				names = append(names, it.Name)
			}
		}
		return names, nil
	case card.AskSteps:
		texts, err := g.lines(a.Question)
		if len(texts) == 0 {
			texts = []string{a.Usual}
		}
		var steps []card.Guide
		for _, t := range texts {
			steps = append(steps, card.Guide{Do: t})
		}
		return steps, err
	case card.AskCommand:
		text, err := g.line(a.Question, a.Usual)
		var command []string
		for _, m := range word.FindAllStringSubmatch(text, -1) {
			command = append(command, m[1]+m[2])
		}
		return command, err
	}
	return g.line(a.Question, a.Usual)
}
