package cli

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/licence"
	"movekit/internal/core/yamltext"
	"movekit/internal/desk"
)

func (e *env) deskCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use:   "desk",
		Short: "Run the simulated licence desk",
		Long: `The licence desk is a simulated licence service, to try a move with and to show
the protocol of docs/licence-desk.openapi.yaml. Its address in a browser shows the
licences and what was changed.`,
	}
	c.PersistentFlags().StringVar(&data, "data", "desk.db", "the desk's file")
	// with runs something on the desk's file.
	with := func(do func(ctx context.Context, s *desk.Store, args []string) error) func(*cobra.Command, []string) error {
		return func(cmd *cobra.Command, args []string) error {
			if _, err := os.Stat(data); err != nil && cmd.Name() != "serve" && cmd.Name() != "add" {
				return fault.Wrap(fault.Usage, err, "there is no desk's file %s; --data names it, and desk add makes it", data)
			}
			s, err := desk.OpenStore(data)
			if err != nil {
				return err
			}
			defer s.Close()
			err = do(cmd.Context(), s, args)
			if err != nil && fault.KindOf(err) == fault.Internal {
				return fault.Wrap(fault.BadDatabase, err, "cannot use the desk's file %s", data)
			}
			return err
		}
	}
	c.AddCommand(e.deskServeCommand(with), e.deskAddCommand(with), e.deskListCommand(with), e.deskShowCommand(with), e.deskPhoneCommand(with), e.deskClockCommand(with), e.deskFaultsCommand(with))
	return c
}

type withStore = func(func(context.Context, *desk.Store, []string) error) func(*cobra.Command, []string) error

func (e *env) deskServeCommand(with withStore) *cobra.Command {
	var listen, certFile, keyFile string
	var own bool
	c := &cobra.Command{
		Use:   "serve",
		Short: "Answer requests until interrupted",
		Long: `Answer requests until interrupted. Without TLS the desk listens on this computer only.
With --tls it uses a certificate that it makes and keeps in its file, or the one of
--tls-cert and --tls-key; cards name it by the line that is printed.`,
		Args: cobra.NoArgs,
		RunE: with(func(ctx context.Context, s *desk.Store, _ []string) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
			defer stop()
			log := slog.New(slog.NewTextHandler(e.err, nil))
			if e.quiet {
				log = slog.New(slog.DiscardHandler)
			}
			var cert *tls.Certificate
			var err error
			switch {
			case (certFile == "") != (keyFile == ""):
				return fault.New(fault.Usage, "--tls-cert and --tls-key belong together")
			case certFile != "":
				pair, failed := tls.LoadX509KeyPair(certFile, keyFile)
				if cert = &pair; failed != nil {
					err = fault.Wrap(fault.Usage, failed, "cannot use the certificate %s with the key %s", certFile, keyFile)
				}
			case own:
				cert, err = s.Certificate(ctx)
			}
			if err != nil {
				return err
			}
			return s.Serve(ctx, listen, cert, log, func(url string) {
				e.printf("The licence desk answers at %s\nIts key for cards is %s\n", url, s.PublicKey())
				if cert != nil {
					if pin, err := desk.Pin(cert); err == nil {
						e.printf("Its certificate for cards is %s\n", pin)
					}
				}
			})
		}),
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8750", "address and port; port 0 takes a free one")
	c.Flags().BoolVar(&own, "tls", false, "use TLS, with the desk's own certificate")
	c.Flags().StringVar(&certFile, "tls-cert", "", "use TLS, with the certificate in this PEM file")
	c.Flags().StringVar(&keyFile, "tls-key", "", "its private key (PEM)")
	return c
}

func (e *env) deskAddCommand(with withStore) *cobra.Command {
	return &cobra.Command{
		Use:   "add FILE",
		Short: "Enter the licences of a YAML file",
		Long: `Enter licences from a YAML file: a list of mappings with serial, code, product,
covers (major version), seats and transfers; and where it is so edition, takeover
(true), wait (24h) and expires (2027-03-31). Serials and codes are not taken as
arguments, so that they do not stand in the shell's history.`,
		Args: cobra.ExactArgs(1),
		RunE: with(func(ctx context.Context, s *desk.Store, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return fault.Wrap(fault.Usage, err, "cannot read the licences")
			}
			var list []desk.Licence
			if err := yamltext.Decode(text, &list, yaml.Strict()); err != nil {
				what, _, _ := strings.Cut(err.Error(), "\n") // the rest shows the line, in several of its own
				return fault.New(fault.Usage, "cannot read the licences in %s: %s", args[0], what)
			}
			if err := s.Add(ctx, list); err != nil {
				return err
			}
			e.printf("Entered %s. The desk's key for cards is %s\n", item.Plural(int64(len(list)), "licence"), s.PublicKey())
			return nil
		}),
	}
}

// shownLicence is a licence of the desk as it is shown: without its secrets.
type shownLicence struct {
	Product   string         `json:"product"`
	Serial    string         `json:"serial"`
	Covers    string         `json:"covers"`
	Seats     int            `json:"seats"`
	Transfers int            `json:"transfers_left"`
	Rules     []string       `json:"rules"`
	Active    []string       `json:"active"`
	Changes   []desk.Changed `json:"changes,omitempty"`
}

func shown(l desk.Licence, now time.Time) shownLicence {
	return shownLicence{l.Product, licence.Mask(l.Serial), l.Covers, l.Seats, l.Transfers, l.Rules(now), l.Active, nil}
}

// licencesNow are the desk's licences, and the time by its clock.
func licencesNow(ctx context.Context, s *desk.Store) ([]desk.Licence, time.Time, error) {
	all, err := s.List(ctx)
	if err != nil {
		return nil, time.Time{}, err
	}
	now, err := s.Now(ctx)
	return all, now, err
}

func (e *env) deskListCommand(with withStore) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the licences",
		Args:  cobra.NoArgs,
		RunE: with(func(ctx context.Context, s *desk.Store, _ []string) error {
			all, now, err := licencesNow(ctx, s)
			if err != nil {
				return err
			}
			rows := []shownLicence{}
			t := e.table("product", "serial", "rules", "seats", "transfers left", "active on")
			t.Right = []int{4, 5}
			for _, l := range all {
				r := shown(l, now)
				rows = append(rows, r)
				t.Add(r.Product, r.Serial, strings.Join(r.Rules, ", "), fmt.Sprint(l.Seats), fmt.Sprint(l.Transfers), strings.Join(l.Active, " "))
			}
			if e.json {
				return e.object(rows)
			}
			e.printf("%s", t)
			return nil
		}),
	}
}

func (e *env) deskShowCommand(with withStore) *cobra.Command {
	return &cobra.Command{
		Use:   "show LICENCE",
		Short: "Show one licence and its changes",
		Long:  `Show one licence and its changes. LICENCE is its product, or the last four characters of its serial.`,
		Args:  cobra.ExactArgs(1),
		RunE: with(func(ctx context.Context, s *desk.Store, args []string) error {
			all, now, err := licencesNow(ctx, s)
			if err != nil {
				return err
			}
			var found []desk.Licence
			for _, l := range all {
				if l.Product == args[0] || licence.Mask(l.Serial) == licence.Mask("••••"+args[0]) {
					found = append(found, l)
				}
			}
			if len(found) != 1 {
				return fault.New(fault.Usage, "%d licences are %q; `movekit desk list` shows them all", len(found), args[0])
			}
			r := shown(found[0], now)
			if r.Changes, err = s.Changes(ctx, licence.LicenceID(found[0].Serial), 1000); err != nil {
				return err
			}
			if e.json {
				return e.object(r)
			}
			e.printf("%s, serial %s: %s, %s left\n", r.Product, r.Serial, item.Plural(int64(r.Seats), "seat"), item.Plural(int64(r.Transfers), "transfer"))
			e.printf("Rules: %s\n", strings.Join(r.Rules, ", "))
			on := strings.Join(r.Active, " ")
			if on == "" {
				on = "nobody"
			}
			e.printf("Active on: %s\n", on)
			t := e.table("when (UTC)", "change", "computer", "state", "spent")
			for _, ch := range r.Changes {
				t.Add(ch.At, string(ch.Action), ch.Computer, string(ch.State), fmt.Sprint(ch.Spent))
			}
			if t.Len() > 0 {
				e.printf("%s", t)
			}
			return nil
		}),
	}
}

func (e *env) deskPhoneCommand(with withStore) *cobra.Command {
	return &cobra.Command{
		Use:   "phone REQUEST",
		Short: "Answer a request that is read out over the telephone",
		Long: `Type the request that somebody reads out ("movekit licence request --phone" shows it
there), and read the answer back. A group that is mistyped is named.`,
		Args: cobra.MinimumNArgs(1),
		RunE: with(func(ctx context.Context, s *desk.Store, args []string) error {
			answer, p, err := s.Telephone(ctx, strings.Join(args, " "))
			if p != nil {
				err = fault.Wrap(fault.DeskRefused, p, "the desk says no")
			}
			if err != nil {
				return err
			}
			if e.json {
				return e.object(map[string]string{"answer": answer})
			}
			e.printf("Answer: %s\n", answer)
			return nil
		}),
	}
}

func (e *env) deskClockCommand(with withStore) *cobra.Command {
	return &cobra.Command{
		Use:   "clock [TIME]",
		Short: "See or set the desk's clock, to try waiting times",
		Long: `See the desk's clock, or set it: to a time (2026-11-25T08:00:00Z), ahead of what it
shows (+24h), or back to the computer's (real). It holds at once for a desk that runs.`,
		Args: cobra.MaximumNArgs(1),
		RunE: with(func(ctx context.Context, s *desk.Store, args []string) error {
			now, err := s.Now(ctx)
			if err != nil {
				return err
			}
			if len(args) > 0 {
				to := now
				if ahead, failed := time.ParseDuration(args[0]); failed == nil {
					to = now.Add(ahead)
				} else if args[0] == "real" {
					to = time.Now()
				} else if to, failed = time.Parse(time.RFC3339, args[0]); failed != nil {
					return fault.New(fault.Usage, "%q is no time such as 2026-11-25T08:00:00Z, no +24h, and not \"real\"", args[0])
				}
				if err := s.SetClock(ctx, time.Until(to)); err != nil {
					return err
				}
				now = to
			}
			if e.json {
				return e.object(map[string]time.Time{"now": now.UTC()})
			}
			e.printf("The desk's clock says %s\n", now.UTC().Format(time.RFC3339))
			return nil
		}),
	}
}

func (e *env) deskFaultsCommand(with withStore) *cobra.Command {
	var f desk.Faults
	var off bool
	c := &cobra.Command{
		Use:   "faults",
		Short: "See or set what goes wrong at the desk on purpose",
		Long: `See what goes wrong at the desk on purpose, or set it: shares are in percent of the
requests, and what is not given is off. It holds at once for a desk that runs.`,
		Args: cobra.NoArgs,
	}
	c.RunE = with(func(ctx context.Context, s *desk.Store, _ []string) error {
		given := off
		for _, name := range []string{"delay", "lost-requests", "lost-answers", "errors", "wrong-signature", "restarts"} {
			given = given || c.Flags().Changed(name)
		}
		if off {
			f = desk.Faults{}
		}
		if given {
			if err := s.SetFaults(ctx, f); err != nil {
				return err
			}
		}
		f, err := s.Faults(ctx)
		if err != nil {
			return err
		}
		if e.json {
			return e.object(f)
		}
		t := e.table("fault", "share")
		for _, row := range []struct {
			name    string
			percent int
		}{{"requests lost", f.LostRequests}, {"answers lost", f.LostAnswers}, {"errors", f.Errors}, {"wrong signature", f.WrongSignature}, {"restart in the middle", f.Restarts}} {
			t.Add(row.name, fmt.Sprintf("%d%%", row.percent))
		}
		e.printf("%sEvery answer waits %s\n", t, f.Delay)
		return nil
	})
	c.Flags().DurationVar(&f.Delay, "delay", 0, "wait before every answer")
	c.Flags().IntVar(&f.LostRequests, "lost-requests", 0, "requests that never arrive")
	c.Flags().IntVar(&f.LostAnswers, "lost-answers", 0, "requests that are carried out, and not answered")
	c.Flags().IntVar(&f.Errors, "errors", 0, "requests that are answered with an error")
	c.Flags().IntVar(&f.WrongSignature, "wrong-signature", 0, "answers that another key signs")
	c.Flags().IntVar(&f.Restarts, "restarts", 0, "requests that are carried out, after which the desk restarts")
	c.Flags().BoolVar(&off, "off", false, "switch all off")
	return c
}
