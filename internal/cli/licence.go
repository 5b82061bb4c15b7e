package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/table"
)

func (e *env) licenceCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "licence",
		Aliases: []string{"license"},
		Short:   "List licences, request changes by file or telephone, keep a copy",
		Args:    cobra.NoArgs,
	}
	c.AddCommand(e.licenceListCommand(), e.licenceRequestCommand(), e.licenceExchangeCommand(), e.licenceAcceptCommand(), e.licenceLetterCommand(), e.licenceKeepCommand())
	return c
}

// readSmall reads a file of requests or answers.
func readSmall[T licence.RequestFile | licence.AnswerFile](name string) (*T, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "cannot read the file")
	}
	f, err := licence.ReadFile[T](data)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "cannot use %s", name)
	}
	return f, nil
}

// writeSmall writes a file of requests or answers, completely or not at all.
func writeSmall(name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot write %s", name)
	}
	if err := writeOut(name, append(data, '\n'), 0o600); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", name)
	}
	return nil
}

func (e *env) licenceRequestCommand() *cobra.Command {
	var to string
	var phone bool
	c := &cobra.Command{
		Use:   "request [APP...]",
		Short: "Request licence changes by file or telephone (computer without network)",
		Long: `Write a request for every seat at a licence desk to a file: on the old computer to
deactivate it, on the new one to activate it. The gates of deactivate and activate
apply. The file does not contain serials or codes. Take it to a computer with network,
run "movekit licence exchange" there, and then "movekit licence accept" here.

With --phone, the request is shown in groups of characters to read to the desk over the
telephone, and "movekit licence accept --phone" accepts the answer. Each group has a
check character that detects typing errors.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			var file *licence.RequestFile
			return e.runStep(cmd.Context(), "", args, func(j *move.Move) error {
				var errLost, err error
				j.Exceptions.Lost, errLost = e.exception(cmd, "lost")
				j.Exceptions.Takeover, err = e.exception(cmd, "takeover")
				return errors.Join(errLost, err)
			}, func(j *move.Move, ctx context.Context) (out []*run.Outcome, err error) {
				file, out, err = j.Request(ctx)
				if err != nil || len(file.Requests) == 0 || phone {
					return out, err
				}
				return out, writeSmall(to, file)
			}, func(*move.Move, []*run.Outcome) {
				if len(file.Requests) == 0 {
					e.printf("There is nothing to request.\n")
					return
				}
				for _, r := range file.Requests {
					e.printf("%s, licence %s: request to %s\n", r.App, r.Licence, r.Action)
					if phone {
						e.printf("%s", table.Block(phoneText(r.Spoken)))
					}
				}
				if phone {
					e.say("Read it out, group by group. Then type the answer: `movekit licence accept --phone ANSWER`\n")
					return
				}
				e.printf("wrote %s\n", to)
				e.say("Take it to a computer with network: `movekit licence exchange %s ANSWER.json`. Then, here: `movekit licence accept ANSWER.json`\n", to)
			})
		},
	}
	c.Flags().StringVar(&to, "to", "licence-request.json", "write the requests to this `FILE`")
	e.lostFlag(c)
	e.takeoverFlag(c)
	c.Flags().BoolVar(&phone, "phone", false, "show the request for the telephone instead of writing a file")
	e.overrideFlags(c)
	return c
}

// phoneText formats a request with four numbered groups per line.
func phoneText(spoken string) string {
	if spoken == "" {
		return "  it cannot be requested by telephone; write a file\n"
	}
	var b strings.Builder
	for i, group := range strings.Split(spoken, "-") {
		fmt.Fprintf(&b, "  %2d: %s", i+1, group)
		if i%4 == 3 {
			b.WriteString("\n")
		}
	}
	return b.String()
}

func (e *env) licenceExchangeCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "exchange REQUEST ANSWER",
		Short: "Send requests to the licence desks (any computer with network)",
		Long: `Send the requests in a file to their licence desks, and write the signed answers to
another file. No kit and no passphrase is needed. A request that is sent twice is
carried out once.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := readSmall[licence.RequestFile](args[0])
			if err != nil {
				return err
			}
			answers, failed := licence.Exchange(cmd.Context(), f, func(t licence.FileRequest) (licence.Service, error) {
				key := value.ParseKey(t.Key)
				if !key.Usable() || !card.SafeURL(t.Desk) {
					return nil, fault.New(fault.Usage, "the desk's address or key in the file is not valid")
				}
				return &licence.Desk{URL: t.Desk, Key: key.PublicKey, Pin: t.Pin}, nil
			})
			if len(answers.Answers) > 0 {
				if err := writeSmall(args[1], answers); err != nil {
					return err
				}
				e.printf("%s for %s: wrote %s\n", item.Plural(int64(len(answers.Answers)), "answer"), f.Computer, args[1])
			}
			return errors.Join(failed...)
		},
	}
}

func (e *env) licenceAcceptCommand() *cobra.Command {
	var phone bool
	c := &cobra.Command{
		Use:   "accept ANSWER",
		Short: "Accept answers to requests (the computer that made them)",
		Long: `Accept the answers that "movekit licence exchange" received. Each must be signed by the
desk in its card, and match the newest request of this kit. With --phone, ANSWER is what
was read over the telephone; the licence's code proves that it is genuine.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if phone {
				return e.runStep(cmd.Context(), "", nil, nil, func(j *move.Move, ctx context.Context) ([]*run.Outcome, error) {
					return j.AcceptByPhone(ctx, strings.Join(args, " "))
				}, e.showLicences)
			}
			if len(args) > 1 {
				return fault.New(fault.Usage, "give one file of answers at a time")
			}
			f, err := readSmall[licence.AnswerFile](args[0])
			if err != nil {
				return err
			}
			return e.runStep(cmd.Context(), "", nil, nil, func(j *move.Move, ctx context.Context) ([]*run.Outcome, error) { return j.Accept(ctx, f) }, e.showLicences)
		},
	}
	c.Flags().BoolVar(&phone, "phone", false, "ANSWER is from the telephone")
	return c
}

func (e *env) licenceListCommand() *cobra.Command {
	var from []string
	var local bool
	c := &cobra.Command{
		Use:   "list",
		Short: "List the licences on this computer, without a kit",
		Long: `Search this computer for every licence in the cards: its serial, the app's activation,
its file or certificate, its token. Licence desks are asked for the state of each serial
that is found. Nothing is changed, and no kit is needed. The list says which licences
only the app or its vendor can show. A seat that an uninstalled app left behind can be
deactivated like any other: with a kit, pack and deactivate.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cards, err := e.cards(from)
			if err != nil {
				return err
			}
			h, err := e.here()
			if err != nil {
				return err
			}
			apps, err := survey.Licences(cmd.Context(), &survey.Scanner{Host: h, Kinds: kinds.All}, cards)
			if err == nil && !local {
				survey.AskDesks(cmd.Context(), h.Computer, apps)
			}
			e.done()
			if err != nil {
				return err
			}
			if e.json {
				return e.object(apps)
			}
			e.showHeld(h, apps)
			return nil
		},
	}
	c.Flags().StringArrayVar(&from, "cards", nil, "app card or folder of cards at `PATH` (default: the kit's, else the office's)")
	c.Flags().BoolVar(&local, "local", false, "do not ask licence desks")
	return c
}

// showHeld lists the licences found on this computer.
func (e *env) showHeld(h *run.Host, apps []survey.App) {
	t := e.table("app", "version", "licence", "how it is held", "on "+h.Computer.Name())
	t.Groups, t.Paths = true, true
	for _, a := range apps {
		for _, l := range a.Licences {
			seen := slices.Concat(l.Seen, l.Warnings)
			if len(seen) == 0 {
				seen = []string{map[bool]string{true: "not visible here: check in the app or with its vendor", false: "the app is not on this computer"}[a.Found]}
			}
			row := []string{a.Title, a.Version, l.Licence, l.Method.Info().About}
			for _, s := range seen {
				t.Add(append(row, s)...)
				row = make([]string, len(row))
			}
		}
	}
	if t.Len() == 0 {
		e.printf("The cards have no licences.\n")
		return
	}
	e.printf("%s", t)
}

// showLicenceStatuses shows the state of each licence on both computers.
func (e *env) showLicenceStatuses(m *kit.Manifest, all []holder.Status) {
	if len(all) == 0 {
		return
	}
	e.printf("\n")
	t := e.table("app", "licence", "method", "old", "new", "left", "next")
	for _, s := range all {
		good := s.Next == ""
		t.Add(s.Title, s.Licence, string(s.Method), stateMark(e, s.Old, s.Old != licence.Active), stateMark(e, s.New, s.New == licence.Active), leftText(s.Left), map[bool]string{true: e.paint("nothing", table.Good), false: e.paint(nextText(m, s), table.Note)}[good])
	}
	e.printf("%s", t)
	for _, s := range all {
		if s.Why != "" {
			e.printf("%s %s, %s: from the journal, because %s\n", e.paint("note:", table.Note), s.Title, s.Licence, s.Why)
			continue
		}
		e.printf("%s, %s: according to %s%s\n", s.Title, s.Licence, s.By, datesText(s))
		if s.Next != "" && (s.Old == licence.Unknown || s.New == licence.Unknown) {
			e.printf("%s %s, %s: unknown, because no run has asked there, or a change was interrupted; the next step finds out\n", e.paint("note:", table.Note), s.Title, s.Licence)
		}
		if s.From != m.Old.Name {
			e.printf("%s %s, %s: \"old\" is %s, which was replaced; on %s it is %s\n", e.paint("note:", table.Note), s.Title, s.Licence, s.From, m.Old.Name, s.Own)
		}
		if s.Copy != "" {
			e.printf("%s %s, %s: %s; `movekit activate %s` writes it again\n", e.paint("note:", table.Note), s.Title, s.Licence, s.Copy, s.App)
		}
	}
}

// datesText returns the dates that matter for a licence.
func datesText(s holder.Status) (out string) {
	if s.Old != licence.Deactivated {
		s.OldAt = nil
	}
	if s.New != licence.Active {
		s.NewAt = nil
	}
	for _, d := range []struct {
		what string
		at   *time.Time
	}{{"deactivated on", s.OldAt}, {"activated on", s.NewAt}, {"can be activated again from", s.Again}, {"must be activated again by", s.BackBy}, {"the app runs without it on the new computer until", s.Trial}} {
		if d.at != nil {
			out += "; " + d.what + " " + d.at.Local().Format("2 Jan 2006 15:04")
		}
	}
	if s.Expires != nil {
		out += "; expires after " + s.Expires.Add(-time.Second).Local().Format("2 Jan 2006")
	}
	return out
}

// stateMark paints a state that is final.
func stateMark(e *env, s licence.State, good bool) string {
	if good && s != licence.Unknown {
		return e.paint(string(s), table.Good)
	}
	return string(s)
}

func nextText(m *kit.Manifest, s holder.Status) string {
	where := s.From
	switch {
	case s.Next == steps.Deactivate && steps.CanActivateElsewhere(s.Old):
		where = m.Old.Name
	case s.Next == steps.Deactivate && s.From != m.Old.Name:
		return fmt.Sprintf("deactivate --lost (%s was replaced)", s.From)
	case s.Next == steps.Pack:
		where = m.Old.Name
	case s.Next == steps.Activate:
		if where = m.New.Name; where == "" {
			where = "the new computer"
		}
	}
	text := fmt.Sprintf("%s on %s", s.Next, where)
	if s.Again != nil {
		text += ", from " + s.Again.Local().Format("2 Jan 15:04")
	}
	return text
}
