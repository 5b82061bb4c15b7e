package cli

import (
	"fmt"
	"log/slog"
	"os"
	"os/signal"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/desk"
)

func (e *env) deskCommand() *cobra.Command {
	var data, listen string
	c := &cobra.Command{
		Use:   "desk",
		Short: "Run the simulated licence desk",
		Long: `The licence desk is a simulated licence service, to try a move with and to show
the protocol of docs/licence-desk.openapi.yaml. It listens on this computer only.
Its address in a browser shows the licences and what was changed.`,
	}
	c.PersistentFlags().StringVar(&data, "data", "desk.db", "the desk's file")
	open := func() (*desk.Store, error) { return desk.OpenStore(data) }
	serve := &cobra.Command{
		Use:   "serve",
		Short: "Answer requests until interrupted",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := open()
			if err != nil {
				return err
			}
			defer s.Close()
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			log := slog.New(slog.NewTextHandler(e.err, nil))
			if e.quiet {
				log = slog.New(slog.DiscardHandler)
			}
			return s.Serve(ctx, listen, log, func(url string) {
				e.printf("The licence desk answers at %s\nIts key for cards is %s\n", url, s.PublicKey())
			})
		},
	}
	serve.Flags().StringVar(&listen, "listen", "127.0.0.1:8750", "address and port; port 0 takes a free one")
	add := &cobra.Command{
		Use:   "add FILE",
		Short: "Enter the licences of a YAML file",
		Long: `Enter licences from a YAML file: a list of mappings with serial, code, product,
covers (major version), seats and transfers. Serials and codes are not taken as
arguments, so that they do not stand in the shell's history.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return fault.Wrap(fault.Usage, err, "cannot read the licences")
			}
			var list []desk.Licence
			if err := yaml.UnmarshalWithOptions(text, &list, yaml.Strict()); err != nil {
				return fault.Wrap(fault.Usage, err, "cannot read the licences in %s", args[0])
			}
			s, err := open()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := s.Add(cmd.Context(), list); err != nil {
				return err
			}
			e.printf("Entered %s. The desk's key for cards is %s\n", plural(int64(len(list)), "licence"), s.PublicKey())
			return nil
		},
	}
	list := &cobra.Command{
		Use:   "list",
		Short: "List the licences",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := open()
			if err != nil {
				return err
			}
			defer s.Close()
			all, err := s.List(cmd.Context())
			if err != nil {
				return fault.Wrap(fault.BadDatabase, err, "cannot read the desk's file")
			}
			type row struct {
				Product   string   `json:"product"`
				Serial    string   `json:"serial"`
				Covers    string   `json:"covers"`
				Seats     int      `json:"seats"`
				Transfers int      `json:"transfers_left"`
				Active    []string `json:"active"`
			}
			rows := []row{}
			t := e.table("product", "serial", "covers", "seats", "transfers left", "active on")
			t.Right = []int{4, 5}
			for _, l := range all {
				rows = append(rows, row{l.Product, licence.Mask(l.Serial), l.Covers, l.Seats, l.Transfers, l.Active})
				t.Add(l.Product, licence.Mask(l.Serial), l.Covers, fmt.Sprint(l.Seats), fmt.Sprint(l.Transfers), fmt.Sprint(l.Active))
			}
			if e.json {
				return e.object(rows)
			}
			e.printf("%s", t)
			return nil
		},
	}
	c.AddCommand(serve, add, list)
	return c
}
