package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
)

func (e *env) cardCommand() *cobra.Command {
	c := &cobra.Command{Use: "card", Short: "List, show, check, add, draft and create app cards"}
	var from []string
	list := &cobra.Command{
		Use:   "list",
		Short: "List cards, and which of their apps are on this computer",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cards, err := e.cards(from)
			if err != nil {
				return err
			}
			if e.json {
				all := make([]json.RawMessage, len(cards))
				for i, c := range cards {
					if all[i], err = asWritten(c); err != nil {
						return err
					}
				}
				return e.object(all)
			}
			h, err := e.here()
			if err != nil {
				return err
			}
			t := e.table("card", "app", "items", "licences", "here", "file")
			t.Right, t.Paths = []int{3, 4}, true
			for _, c := range cards {
				here, err := e.isHere(cmd.Context(), h, c)
				if err != nil {
					return err
				}
				t.Add(c.Name, c.Title, fmt.Sprint(len(c.Items)), fmt.Sprint(len(c.Licences)), here, c.Source)
			}
			e.printf("%s", t)
			return nil
		},
	}
	show := &cobra.Command{
		Use:               "show NAME",
		Short:             "Show a card",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: e.completeApps,
		RunE: func(_ *cobra.Command, args []string) error {
			cards, err := e.cards(from)
			if err != nil {
				return err
			}
			for _, c := range cards {
				if c.Name == args[0] {
					if e.json {
						data, err := asWritten(c)
						if err != nil {
							return err
						}
						return e.object(data)
					}
					e.printf("%s", c.Text)
					return nil
				}
			}
			return fault.New(fault.Usage, "there is no card %q", args[0])
		},
	}
	for _, sub := range []*cobra.Command{list, show} {
		sub.Flags().StringArrayVar(&from, "cards", nil, "app card or folder of cards at `PATH` (default: the kit's cards)")
	}
	check := &cobra.Command{
		Use:   "check FILE...",
		Short: "Check cards for mistakes",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			failed := false
			for _, name := range args {
				c, err := card.Read(name)
				if err != nil {
					failed = true
					printError(fold(e.err), err, e.colour && isTerminal(e.err))
					continue
				}
				e.printf("%s: %s, %s, %s: no mistakes\n", name, c.Title, item.Plural(int64(len(c.Items)), "item"), item.Plural(int64(len(c.Licences)), "licence"))
			}
			if failed {
				return exit{exitFailed}
			}
			return nil
		},
	}
	var to string
	add := &cobra.Command{
		Use:   "add FILE|DIR...",
		Short: "Add cards to the office's collection, after checking them",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return e.addCards(args, to)
		},
	}
	add.Flags().StringVar(&to, "to", "", "`FOLDER` of the office's cards (default: the folder that new uses, else ./cards)")
	schema := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of cards, for editors",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			data, err := card.Schema()
			if err != nil {
				return err
			}
			_, err = e.out.Write(data)
			return err
		},
	}
	c.AddCommand(list, show, check, add, e.draftCommand(), e.cardMakeCommand(), schema)
	return c
}

// addCards adds cards to the office's collection. All are checked, and compared with existing ones,
// before any is written. An existing card is never overwritten.
func (e *env) addCards(from []string, to string) error {
	add, err := readCards(from, nil)
	if err != nil {
		return err
	}
	if err := e.agreeToQueries(from, add); err != nil {
		return err
	}
	to = cmp.Or(to, usualCards(), "cards")
	if err := os.MkdirAll(to, 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", to)
	}
	have, err := card.ReadDir(to)
	if err != nil {
		return err
	}
	there := map[string]*card.Card{}
	for _, c := range have {
		there[c.Name] = c
	}
	for _, c := range add {
		if other := there[c.Name]; other != nil && !bytes.Equal(other.Text, c.Text) {
			return fault.New(fault.Usage, "another card has the name %q: %s. No card was added. Keep the right one, and remove or rename the other", c.Name, other.Source)
		}
	}
	for _, c := range add {
		if there[c.Name] != nil {
			e.printf("%s, %s: already there\n", c.Name, c.Title)
			continue
		}
		file := filepath.Join(to, c.Name+".yaml")
		if err := writeNew(file, c.Text); err != nil {
			return err
		}
		e.printf("%s, %s: added as %s\n", c.Name, c.Title, file)
	}
	return nil
}

// asWritten returns a card as JSON, with the fields in its file.
func asWritten(c *card.Card) (json.RawMessage, error) {
	data, err := yaml.YAMLToJSON(c.Text)
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "cannot read the card")
	}
	return data, nil
}

// isHere returns whether an app is on a computer, and in which version.
func (e *env) isHere(ctx context.Context, h *run.Host, c *card.Card) (string, error) {
	version, is, err := survey.Present(ctx, &survey.Scanner{Host: h, Kinds: kinds.All}, c)
	return cmp.Or(version, map[bool]string{true: "yes", false: "-"}[is]), err
}

// cards returns the given cards, or the kit's, or the office's and the built-in ones.
func (e *env) cards(from []string) ([]*card.Card, error) {
	if len(from) > 0 {
		return readCards(from, nil)
	}
	k, err := e.openKit()
	if err != nil {
		if e.kitDir != "" {
			return nil, err
		}
		return everyCard()
	}
	return k.Cards, nil
}
