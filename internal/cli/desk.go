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
		Long: `The licence desk is a simulated licence service. Use it to try out a move, and to see the
protocol of docs/licence-desk.openapi.yaml at work. Open its address in a browser to see
the licences and their changes.`,
	}
	c.PersistentFlags().StringVar(&data, "data", "desk.db", "the desk's `FILE`")
	// with returns a command function that opens the desk's file.
	with := func(do func(ctx context.Context, s *desk.Store, args []string) error) func(*cobra.Command, []string) error {
		return func(cmd *cobra.Command, args []string) error {
			if _, err := os.Stat(data); err != nil && cmd.Name() != "serve" && cmd.Name() != "add" {
				return fault.Wrap(fault.Usage, err, "the desk's file %s does not exist; set it with --data, or create it with desk add", data)
			}
			s, err := desk.OpenStore(data)
			if err != nil {
				return err
			}
			defer s.Close()
			err = do(cmd.Context(), s, args)
			if err != nil && fault.KindOf(err) == fault.Internal {
				return fault.Wrap(fault.BadDatabase, err, "cannot open the desk's file %s", data)
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
With --tls it uses a certificate that it creates and keeps in its file, or the one of
--tls-cert and --tls-key. Put the certificate line that it prints into your cards.`,
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
				return fault.New(fault.Usage, "--tls-cert and --tls-key must be used together")
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
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8750", "`ADDRESS:PORT`; port 0 means any free port")
	c.Flags().BoolVar(&own, "tls", false, "use TLS, with the desk's own certificate")
	c.Flags().StringVar(&certFile, "tls-cert", "", "use TLS, with the certificate in this PEM `FILE`")
	c.Flags().StringVar(&keyFile, "tls-key", "", "`FILE` with its private key (PEM)")
	return c
}

func (e *env) deskAddCommand(with withStore) *cobra.Command {
	return &cobra.Command{
		Use:   "add FILE",
		Short: "Add the licences in a YAML file",
		Long: `Add licences from a YAML file: a list of mappings with serial, code, product, covers
(major version), seats and transfers, and optionally edition, takeover (true), wait
(24h) and expires (2027-03-31). Serials and codes are not accepted as arguments, so
that they do not get into the shell's history.`,
		Args: cobra.ExactArgs(1),
		RunE: with(func(ctx context.Context, s *desk.Store, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return fault.Wrap(fault.Usage, err, "cannot read the licences")
			}
			var list []desk.Licence
			if err := yamltext.Decode(text, &list, yaml.Strict()); err != nil {
				what, _, _ := strings.Cut(err.Error(), "\n") // the rest shows the line of the file
				return fault.New(fault.Usage, "cannot read the licences in %s: %s", args[0], what)
			}
			if err := s.Add(ctx, list); err != nil {
				return err
			}
			e.printf("Added %s. The desk's key for cards is %s\n", item.Plural(int64(len(list)), "licence"), s.PublicKey())
			return nil
		}),
	}
}

// shownLicence is a licence at the desk, for display, without secrets.
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

// licencesNow returns the desk's licences, and the time on its clock.
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
				return fault.New(fault.Usage, "%d licences match %q; `movekit desk list` shows all licences", len(found), args[0])
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
				t.Add(ch.At, string(ch.Action), ch.Computer, string(ch.State), fmt.Sprint(ch.Used))
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
		Short: "Answer a request from the telephone",
		Long: `Type the request that the caller reads out ("movekit licence request --phone" shows it
there), and read the answer back. If a group is mistyped, the command says which.`,
		Args: cobra.MinimumNArgs(1),
		RunE: with(func(ctx context.Context, s *desk.Store, args []string) error {
			answer, p, err := s.Telephone(ctx, strings.Join(args, " "))
			if p != nil {
				err = fault.Wrap(fault.DeskRefused, p, "the desk refused")
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
		Short: "Show or set the desk's clock, to try waiting times",
		Long: `Show the desk's clock, or set it: to a time (2026-11-25T08:00:00Z), ahead of its current
time (+24h), or back to the computer's time (real). A running desk uses it at once.`,
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
					return fault.New(fault.Usage, "%q is not valid: use a time such as 2026-11-25T08:00:00Z, an offset such as +24h, or \"real\"", args[0])
				}
				if err := s.SetClock(ctx, time.Until(to)); err != nil {
					return err
				}
				now = to
			}
			if e.json {
				return e.object(map[string]time.Time{"now": now.UTC()})
			}
			e.printf("The desk's clock shows %s\n", now.UTC().Format(time.RFC3339))
			return nil
		}),
	}
}

func (e *env) deskFaultsCommand(with withStore) *cobra.Command {
	var f desk.Faults
	var off bool
	c := &cobra.Command{
		Use:   "faults",
		Short: "Show or set simulated faults of the desk",
		Long: `Show or set the simulated faults of the desk, in percent of the requests. Faults that
are not given are switched off. A running desk uses them at once.`,
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
		e.printf("%sDelay before every answer: %s\n", t, f.Delay)
		return nil
	})
	c.Flags().DurationVar(&f.Delay, "delay", 0, "`TIME` to wait before every answer, such as 2s")
	c.Flags().IntVar(&f.LostRequests, "lost-requests", 0, "`PERCENT` of requests that never arrive")
	c.Flags().IntVar(&f.LostAnswers, "lost-answers", 0, "`PERCENT` of requests that are carried out but not answered")
	c.Flags().IntVar(&f.Errors, "errors", 0, "`PERCENT` of requests that are answered with an error")
	c.Flags().IntVar(&f.WrongSignature, "wrong-signature", 0, "`PERCENT` of answers that are signed with a wrong key")
	c.Flags().IntVar(&f.Restarts, "restarts", 0, "`PERCENT` of requests that are carried out, after which the desk restarts")
	c.Flags().BoolVar(&off, "off", false, "switch all faults off")
	return c
}
