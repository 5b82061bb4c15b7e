package cli

import (
	"encoding/json"
	"fmt"
	"os"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
)

func (e *env) cardCommand() *cobra.Command {
	c := &cobra.Command{Use: "card", Short: "List, show, check and draft app cards"}
	var from []string
	list := &cobra.Command{
		Use:   "list",
		Short: "List the cards of the kit, or of --cards",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
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
			t := e.table("card", "app", "items", "licences", "file")
			t.Right = []int{3, 4}
			for _, c := range cards {
				t.Add(c.Name, c.Title, fmt.Sprint(len(c.Items)), fmt.Sprint(len(c.Licences)), c.Source)
			}
			e.printf("%s", t)
			return nil
		},
	}
	show := &cobra.Command{
		Use:               "show NAME",
		Short:             "Show a card as it is written",
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
					data, err := os.ReadFile(c.Source)
					if err != nil {
						return fault.Wrap(fault.BadCard, err, "cannot read the card")
					}
					e.printf("%s", data)
					return nil
				}
			}
			return fault.New(fault.Usage, "no card is named %q", args[0])
		},
	}
	for _, sub := range []*cobra.Command{list, show} {
		sub.Flags().StringArrayVar(&from, "cards", nil, "app card, or folder of cards (else the kit's)")
	}
	check := &cobra.Command{
		Use:   "check FILE...",
		Short: "Find every mistake in cards",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			failed := false
			for _, name := range args {
				c, err := card.Read(name)
				if err != nil {
					failed = true
					tell(fold(e.err), err, e.colour && isTerminal(e.err))
					continue
				}
				e.printf("%s: %s, %s, %s: no mistakes\n", name, c.Title, plural(int64(len(c.Items)), "item"), plural(int64(len(c.Licences)), "licence"))
			}
			if failed {
				return exit{exitFailed}
			}
			return nil
		},
	}
	schema := &cobra.Command{
		Use:   "schema",
		Short: "Write the JSON Schema of cards, for editors",
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
	c.AddCommand(list, show, check, e.draftCommand(), e.cardMakeCommand(), schema)
	return c
}

// asWritten is a card as JSON, with the fields that its file has.
func asWritten(c *card.Card) (json.RawMessage, error) {
	data, err := os.ReadFile(c.Source)
	if err == nil {
		data, err = yaml.YAMLToJSON(data)
	}
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "cannot read the card")
	}
	return data, nil
}

// cards returns those that were named, or the kit's.
func (e *env) cards(from []string) ([]*card.Card, error) {
	if len(from) > 0 {
		return readCards(from, nil)
	}
	k, err := e.openKit()
	if err != nil {
		if more, merr := readCards(nil, nil); merr == nil {
			return more, nil
		}
		return nil, err
	}
	return k.Cards, nil
}
