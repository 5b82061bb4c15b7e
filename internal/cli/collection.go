package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"movekit/cards"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
	"movekit/internal/table"
)

// Cards come from the command line, from the office's collection, or from the one that is built into the program.

// readCards reads the given cards, or the office's collection. apps are the only ones to return; nil means all.
func readCards(from, apps []string) ([]*card.Card, error) {
	in := from
	if usual := usualCards(); len(in) == 0 && usual != "" {
		in = []string{usual}
	}
	var list []*card.Card
	for _, name := range in {
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
	if list = only(list, apps); len(list) < len(apps) {
		return nil, unknownApp(list, apps)
	}
	seen := map[string]string{}
	for _, c := range list {
		if other := seen[c.Name]; other != "" {
			return nil, fault.New(fault.BadCard, "two cards have the name %q: %s and %s", c.Name, other, c.Source)
		}
		seen[c.Name] = c.Source
	}
	if len(list) == 0 && len(from) > 0 {
		return nil, fault.New(fault.Usage, "there are no cards in %s: a card is a file NAME.yaml", strings.Join(from, ", "))
	}
	return list, nil
}

// only returns the cards of some apps; no apps means all.
func only(list []*card.Card, apps []string) []*card.Card {
	if len(apps) == 0 {
		return list
	}
	return slices.DeleteFunc(list, func(c *card.Card) bool { return !slices.Contains(apps, c.Name) })
}

func unknownApp(list []*card.Card, apps []string) error {
	for _, a := range apps {
		if !slices.ContainsFunc(list, func(c *card.Card) bool { return c.Name == a }) {
			return fault.New(fault.Usage, "there is no card %q", a)
		}
	}
	return nil
}

// builtIn is where a card of the built-in collection comes from, for display.
const builtIn = "built in"

// builtInCards returns the cards that are built into the program.
func builtInCards() ([]*card.Card, error) {
	files, err := cards.Files.ReadDir(".")
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "the built-in cards cannot be read")
	}
	var out []*card.Card
	for _, f := range files {
		data, err := cards.Files.ReadFile(f.Name())
		if err != nil {
			return nil, fault.Wrap(fault.Internal, err, "the built-in card %s cannot be read", f.Name())
		}
		c, err := card.Parse(f.Name(), data)
		if err != nil {
			return nil, err
		}
		c.Source = builtIn
		out = append(out, c)
	}
	return out, nil
}

// everyCard returns the office's cards, and the built-in ones of other apps.
func everyCard() ([]*card.Card, error) {
	var list []*card.Card
	if usualCards() != "" {
		var err error
		if list, err = readCards(nil, nil); err != nil {
			return nil, err
		}
	}
	more, err := builtInCards()
	for _, c := range more {
		if !slices.ContainsFunc(list, func(own *card.Card) bool { return own.Name == c.Name }) {
			list = append(list, c)
		}
	}
	return list, err
}

// errNoApps is wrapped by the error for a computer on which no collection finds an app.
var errNoApps = errors.New("`movekit survey --wide` shows what is there, and `movekit card make` makes a card")

// chosenCards returns the cards for a computer: those of from, or else those in the collections whose apps are there. With
// apps it returns exactly theirs.
func (e *env) chosenCards(ctx context.Context, h *run.Host, from, apps []string) ([]*card.Card, error) {
	if len(from) > 0 {
		list, err := readCards(from, apps)
		if err == nil {
			err = e.agreeToQueries(from, list)
		}
		return list, err
	}
	list, err := everyCard()
	if err != nil {
		return nil, err
	}
	if len(apps) > 0 {
		list = only(list, apps)
		return list, unknownApp(list, apps)
	}
	here, none, err := presentOf(ctx, h, list)
	if err != nil {
		return nil, err
	}
	if len(here) == 0 {
		return nil, fault.Wrap(fault.Usage, errNoApps, "no app that a card describes is on %s", h.Computer.Name())
	}
	if len(none) > 0 {
		e.say("Left out, because not on %s: %s. Add one with --app NAME.\n", h.Computer.Name(), strings.Join(none, ", "))
	}
	return here, nil
}

// presentOf returns the cards whose apps are on a computer, and the names of the office's other cards. An app of a built-in
// card must have data there.
func presentOf(ctx context.Context, h *run.Host, list []*card.Card) (here []*card.Card, none []string, err error) {
	for _, c := range list {
		l := &survey.Scanner{Host: h, Kinds: kinds.All}
		version, is, err := survey.Present(ctx, l, c)
		if err == nil && is && c.Source == builtIn {
			is, err = survey.HasData(ctx, l, c, version != "")
		}
		switch {
		case err != nil:
			return nil, nil, err
		case is:
			here = append(here, c)
		case c.Source != builtIn:
			none = append(none, c.Name)
		}
	}
	return here, none, nil
}

// knownTime limits the time for the sizes of the apps on the first screen.
const knownTime = 4 * time.Second

// known prints which apps of the collections are on this computer, with what can be measured in a short time.
func (g *guide) known(ctx context.Context) {
	h, err := g.here()
	if err != nil {
		return
	}
	list, err := everyCard()
	if err != nil {
		return
	}
	here, _, err := presentOf(ctx, h, list)
	if err != nil || len(here) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, knownTime)
	defer cancel()
	fmt.Fprintln(g.err, "Move Kit knows these apps here:")
	for _, c := range here {
		fmt.Fprintln(g.err, "  "+table.Visible(knownLine(ctx, h, c)))
	}
	fmt.Fprintln(g.err)
}

// knownLine describes an app and its data: "GnuCash 4.13: 2 books, 3 MB".
func knownLine(ctx context.Context, h *run.Host, c *card.Card) string {
	line := c.Title
	l := &survey.Scanner{Host: h, Kinds: kinds.All, Options: item.Options{Again: true}}
	if v, err := l.Version(ctx, c); err == nil && v.Value != "" {
		line += " " + v.Value
	}
	places, err := l.Places(ctx, c)
	defer survey.Close(places)
	if err != nil {
		return line
	}
	var told []string
	var bytes int64
	counts := map[string]int64{}
	var order []string
	for _, p := range places {
		if !p.Found || p.Item.Kind.Info().Served() || ctx.Err() != nil {
			continue
		}
		is, err := p.Inspect(ctx, l.Options)
		if err != nil {
			continue
		}
		bytes += is.Bytes
		for _, n := range is.Counts {
			if _, seen := counts[n.Name]; !seen {
				order = append(order, n.Name)
			}
			counts[n.Name] += n.Value
		}
	}
	for _, name := range order {
		told = append(told, fmt.Sprintf("%s %s", countText(counts[name]), name))
	}
	switch {
	case ctx.Err() != nil:
		told = append(told, "not measured yet")
	case bytes > 0:
		told = append(told, bytesText(bytes))
	default:
		told = append(told, "no data")
	}
	return line + ": " + strings.Join(told, ", ")
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

// basis says what a built-in card is based on: tests, or documentation.
func basis(a *survey.App) string {
	if a.Untested {
		return "written from the program's documentation, and not tried on this system"
	}
	var out []string
	for _, t := range a.Tried {
		out = append(out, fmt.Sprintf("tried on %s with version %s", t.System, t.Version))
	}
	return strings.Join(out, "; ")
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
			office = append(office, c.Text)
		}
	}
	asks := false
	for _, c := range list {
		queries := c.Queries()
		if len(queries) == 0 || slices.ContainsFunc(office, func(o []byte) bool { return bytes.Equal(o, c.Text) }) {
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
