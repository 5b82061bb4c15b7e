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
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/wide"
	"movekit/internal/table"
)

func (e *env) cardMakeCommand() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use:   "make [NAME]",
		Short: "Make a card by answering questions, or change an answer of one",
		Long: `Look at this computer, show what looks like applications, and ask: which one, what it
is called, which of its places matter, what figures its owner knows it by, how its
licence is held, and what must be done by hand. The card that comes of it is checked,
has comments, and is shown in words. Enter takes what is proposed.

With the NAME of a card that is there, its answers are asked one by one as you choose, and
the rest of it stays as it is. The card as it was before is kept beside it.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !e.canAsk() {
				return fault.New(fault.Usage, "card make asks questions, and nobody can be asked here; card draft writes a card of named folders")
			}
			dir := cmp.Or(dir, usualCards(), "cards")
			var err error
			if g := (&guide{env: e}); len(args) == 1 {
				err = g.changeCard(filepath.Join(dir, args[0]+".yaml"))
			} else {
				err = g.makeCard(cmd.Context(), dir)
			}
			if errors.Is(err, errLeave) {
				e.say("Nothing was written.\n")
				return nil
			}
			return err
		},
	}
	c.Flags().StringVar(&dir, "to", "", "folder of the office's cards (else that of new --cards; where there is none, cards here)")
	return c
}

// maxApps is how many apps are shown to choose from.
const maxApps = 30

// makeCard makes a card by questions.
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
	s.Cards, _ = card.ReadDir(dir) // what they cover is not shown; there may be none yet
	found, err := s.Run(ctx)
	g.done()
	if err != nil {
		return err
	}
	app, err := g.whichApp(draft.Group(found.Findings))
	if err != nil {
		return err
	}
	title, err := g.line("What do people call it", app.Title)
	if err != nil {
		return err
	}
	name, err := g.shortName(title, dir)
	if err != nil {
		return err
	}
	temp, err := g.private.Dir()
	if err != nil {
		return err
	}
	var d *draft.Draft
	for d == nil {
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
	if d.Vendor, err = g.line("Who makes it", app.Vendor); err != nil {
		return err
	}
	if d.About, err = g.line("What does the office use it for", ""); err != nil {
		return err
	}
	if err := g.figures(d); err != nil {
		return err
	}
	if d.Licence, err = g.licenceOf(d); err != nil {
		return err
	}
	if d.ByHand, err = g.lines("What must somebody do by hand on the new computer (choose a printer, sign in, ...)?"); err != nil {
		return err
	}
	data, err := d.YAML("movekit card check FILE")
	for err != nil && d.Licence != nil { // what was typed cannot be used
		printError(fold(g.err), err, g.colour)
		if d.Licence, err = g.licenceOf(d); err != nil {
			return err
		}
		data, err = d.YAML("movekit card check FILE")
	}
	if err != nil {
		return err
	}
	file := filepath.Join(dir, name+".yaml")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", dir)
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

// changeCard asks for answers of a card anew, those that a person chooses.
func (g *guide) changeCard(file string) error {
	was, err := os.ReadFile(file)
	if err != nil {
		return fault.Wrap(fault.Usage, err, "there is no such card to be changed")
	}
	c, err := card.Read(file)
	if err != nil {
		return err
	}
	text := string(was)
	for {
		g.inWords(c)
		what, err := g.key("What is to be changed?", [2]string{"", "nothing more: write it"}, [2]string{"title", "what people call it"}, [2]string{"vendor", "who makes it"},
			[2]string{"about", "what the office uses it for"}, [2]string{"licence", "how its licence is held"}, [2]string{"hand", "what somebody does by hand"}, [2]string{"q", "leave it as it was"})
		if err != nil {
			return err
		}
		if what == "" {
			break
		}
		field, lines, err := g.answerAgain(what, c)
		if err != nil {
			return err
		}
		now := replaced(text, field, lines)
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
	g.printf("Wrote the card %s. As it was before: %s.before\n", file, file)
	return nil
}

// answerAgain asks for one answer of a card, and returns the card's field with its lines.
func (g *guide) answerAgain(what string, c *card.Card) (field string, lines []string, err error) {
	one := func(question, usual string) (string, []string, error) {
		text, err := g.line(question, usual)
		return what, []string{what + ": " + draft.Quote(text)}, err
	}
	switch what {
	case "title":
		return one("What do people call it", c.Title)
	case "vendor":
		return one("Who makes it", c.Vendor)
	case "about":
		return one("What does the office use it for", c.About)
	case "hand":
		said, err := g.lines("What must somebody do by hand on the new computer? All of it, anew.")
		lines = []string{"by-hand:"}
		for _, s := range said {
			lines = append(lines, "  - "+draft.Quote(s))
		}
		if len(said) == 0 {
			lines = nil
		}
		return "by-hand", lines, err
	}
	d := &draft.Draft{}
	for _, it := range c.Items {
		d.Items = append(d.Items, &draft.Item{Name: it.Name, Secret: it.Secret})
	}
	held, err := g.licenceOf(d)
	if held != nil {
		lines = []string{"licences:"}
		for _, l := range held {
			lines = append(lines, "  "+l)
		}
	}
	return "licences", lines, err
}

// replaced is a card's text with one of its fields written anew; without lines it is a comment.
// What stands around it stays.
func replaced(text, field string, lines []string) string {
	if len(lines) == 0 {
		lines = []string{"# " + field + ": none"}
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
	return strings.Join(slices.Concat(all[:from], lines, all[to:]), "\n") + "\n"
}

// inWords says what a card has moved.
func (g *guide) inWords(c *card.Card) {
	g.printf("%s\n", c.Title)
	for _, it := range c.Items {
		where := it.Key
		if where == "" {
			where = strings.Join(it.Path.Texts(), ", ")
		}
		more := ""
		if len(it.Repoint) > 0 {
			more = "; its paths say where things are on the new computer"
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

// whichApp has a person choose what a card is made of.
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
		answer, err := g.line("Number of the app; or a folder or file of it (q: leave)", "")
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
		fmt.Fprintln(g.err, "Please answer with one of the numbers, or a path.")
	}
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// shortName asks for the name by which the app is called in commands.
func (g *guide) shortName(title, dir string) (string, error) {
	usual := strings.Trim(notName.ReplaceAllString(strings.ToLower(title), "-"), "-")
	for {
		name, err := g.line("Its short name in commands", usual)
		if err != nil {
			return "", err
		}
		switch _, err := os.Stat(filepath.Join(dir, name+".yaml")); {
		case !draftName.MatchString(name):
			fmt.Fprintln(g.err, "It is made of a-z, 0-9 and -, at most 40 characters.")
		case err == nil:
			fmt.Fprintf(g.err, "There is a card %s already in %s: take another name, or remove that.\n", table.Visible(name), table.Visible(dir))
		default:
			return name, nil
		}
	}
}

// yes asks a question that Enter answers as proposed.
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

// whichPlaces asks of each place whether it moves. What several users have is one place.
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
		case p.Bytes > places[i].Bytes: // of users, the one who has most shows best what is in it
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
			is, err := g.yes(fmt.Sprintf("Does %s move%s?", f.where, about), f.Recent || f.Class != wide.Folder || len(places) == 1)
			if err != nil {
				return nil, err
			}
			if is {
				paths = append(paths, f.Where)
			}
		}
		more, err := g.lines("Other folders, files or registry keys of it?")
		if err != nil {
			return nil, err
		}
		if paths = append(paths, more...); len(paths) == 0 {
			fmt.Fprintln(g.err, "A card moves at least one thing.")
		}
	}
	return paths, nil
}

// lines asks for texts until there are no more.
func (g *guide) lines(question string) (all []string, err error) {
	fmt.Fprintf(g.err, "%s Enter when there is no more.\n", question)
	for {
		text, err := g.line("  ", "")
		if err != nil || text == "" {
			return all, err
		}
		all = append(all, text)
	}
}

// figures asks which of the proposed figures the owner knows.
func (g *guide) figures(d *draft.Draft) error {
	for _, it := range d.Items {
		var kept []card.Count
		for _, c := range it.Counts {
			is, err := g.yes(fmt.Sprintf("Is the number of %s (%s) a figure that the owner knows?", c.Name, it.Name), true)
			if err != nil {
				return err
			}
			if !is {
				continue
			}
			if c.Name, err = g.line("  What does the owner call them", c.Name); err != nil {
				return err
			}
			kept = append(kept, c)
		}
		it.Counts = kept
	}
	return nil
}

// word is one word of a command, or what is in quotes.
var word = regexp.MustCompile(`"([^"]*)"|(\S+)`)

// licenceOf asks how the licence is held, and writes that down as lines of a card; none where
// there is none.
func (g *guide) licenceOf(d *draft.Draft) (lines []string, err error) {
	fmt.Fprint(g.err, "How is its licence held?\n  0  it needs none\n")
	for i, m := range card.Methods {
		fmt.Fprintf(g.err, "  %d  %s\n", i+1, m.Plain)
	}
	n := -1
	for n < 0 || n > len(card.Methods) {
		text, err := g.line("Number", "0")
		if err != nil {
			return nil, err
		}
		if n, err = strconv.Atoi(text); err != nil {
			n = -1
		}
	}
	if n == 0 {
		return nil, nil
	}
	m := card.Methods[n-1]
	lines = []string{"- name: licence", "  method: " + string(m.Method)}
	below := map[string][]string{}
	var order []string
	for _, a := range m.Asks {
		value, err := g.value(a, d)
		if err != nil {
			return nil, err
		}
		field, of, dotted := strings.Cut(a.Field, ".")
		if !slices.Contains(order, field) {
			order = append(order, field)
		}
		if dotted {
			value = of + ": " + value
		}
		below[field] = append(below[field], value)
	}
	for _, field := range order {
		value := below[field][0]
		if !strings.HasPrefix(value, "[") && !strings.HasPrefix(value, "'") && !strings.HasPrefix(value, `"`) {
			value = "{" + strings.Join(below[field], ", ") + "}"
		}
		lines = append(lines, "  "+field+": "+value)
	}
	return lines, nil
}

// value asks for one field, and returns it as YAML.
func (g *guide) value(a card.Ask, d *draft.Draft) (string, error) {
	var all []string
	switch a.As {
	case card.AskSecrets:
		for _, it := range d.Items {
			if it.Secret {
				all = append(all, it.Name)
			}
		}
	case card.AskSteps:
		texts, err := g.lines(a.Question)
		if err != nil {
			return "", err
		}
		if len(texts) == 0 {
			texts = []string{a.Usual}
		}
		for _, t := range texts {
			all = append(all, "{do: "+draft.Quote(t)+"}")
		}
	default:
		text, err := g.line(a.Question, a.Usual)
		if err != nil || a.As == card.AskText {
			return draft.Quote(text), err
		}
		for _, m := range word.FindAllStringSubmatch(text, -1) {
			all = append(all, draft.Quote(m[1]+m[2]))
		}
	}
	return "[" + strings.Join(all, ", ") + "]", nil
}
