package move

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// Guided is one step that a person is asked to take.
type Guided struct {
	Key      steps.Key // app and licence
	App      string    // its title
	Action   licence.Action
	Step, Of int
	Do       string // may hold secrets: it is shown, and kept nowhere
	Ask      string // what the person is asked to type; "" where it is enough that it is done
	Secret   bool   // whether what is typed is not to be seen
	Evidence bool   // whether a file that proves it is asked for
}

// Reply is what a person says of a step.
type Reply struct {
	Answer   string
	Evidence string // path of a file, or ""
}

// Person takes steps and says what was seen. An error of the kind fault.Waits
// says that nobody is there, or that the person goes on later.
type Person interface {
	Guide(ctx context.Context, g Guided) (Reply, error)
}

// byHand carries out licences that no service changes: by a person, by the
// maker's command line, or as files. Their states are those that this computer
// shows, and for the other computer those of the journal.
type byHand struct {
	*Job
	app     *card.Card
	card    card.Licence
	key     steps.Key
	secrets licence.Secrets
	aside   *[]string // files that were set aside by it
}

// Ask answers like a licence service.
func (b byHand) Ask(ctx context.Context, action licence.Action, r licence.Request, _ string) (*licence.Answer, error) {
	here := r.Computer == machine.ID(b.Computer)
	lost := b.OldLost != "" && r.Computer == b.Kit.Manifest.Old.ID
	a := b.remembered(r.Computer)
	if !here && !lost {
		return a, nil
	}
	var err error
	switch {
	case lost && !(here && b.card.Method == card.MethodFile): // its files are still there to be set aside
		if action == licence.Deactivate {
			err = b.guide(ctx, action, r, a)
		}
	case action == licence.Status && b.card.Method == card.MethodCommand:
		err = b.show(ctx, a)
	case action == licence.Status && b.card.Method == card.MethodFile:
		err = b.look(ctx, a)
	case action == licence.Status:
	case b.card.Method == card.MethodCommand:
		err = b.command(ctx, action, r, a)
	case b.card.Method == card.MethodFile:
		err = b.file(ctx, action, r, a)
	default:
		err = b.guide(ctx, action, r, a)
	}
	a.Action, a.Nonce, a.Licence, a.Product, a.Issued = action, r.Nonce, licence.LicenceID(r.Serial), r.Product, b.now().Unix()
	return a, err
}

// remembered is what the journal knows of a computer. The app was used on the
// old one, and is new on the other.
func (b byHand) remembered(computer string) *licence.Answer {
	st := b.State().Licences[b.key]
	a := &licence.Answer{Computer: computer, Transfers: -1, State: licence.NotActivated, Covers: b.card.Covers, Edition: b.card.Edition, Seats: max(b.card.Seats, 1), Takeover: b.card.Takeover}
	if until := lastOf(b.card.Expires); !until.IsZero() {
		a.Until = until.Unix()
	}
	old, now := licence.Active, licence.NotActivated
	if st != nil {
		a.Transfers = st.Left
		if st.Old != licence.Unknown {
			old = st.Old
		}
		if st.New != licence.Unknown {
			now = st.New
		}
	}
	if b.card.Transfers != nil && (st == nil || st.Left < 0) {
		a.Transfers = *b.card.Transfers
	}
	if old == licence.Active {
		a.Active = append(a.Active, b.Kit.Manifest.Old.ID)
	}
	if a.State = now; computer == b.Kit.Manifest.Old.ID {
		a.State = old
	}
	if a.State == licence.Active && a.Until != 0 && !b.now().Before(licence.When(a.Until)) {
		a.State = licence.Expired
	}
	if now == licence.Active && b.Kit.Manifest.New.ID != "" {
		a.Active = append(a.Active, b.Kit.Manifest.New.ID)
	} else if now == licence.Active {
		a.Active = append(a.Active, machine.ID(b.Computer))
	}
	return a
}

// became notes a change that was carried out; from is the computer whose
// licence was taken over.
func (b byHand) became(action licence.Action, from string, a *licence.Answer) {
	if action == licence.Deactivate {
		a.State = licence.Deactivated
		a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == a.Computer })
		return
	}
	if a.State, a.Disabled = licence.Active, from; from != "" {
		a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == from })
	}
	second := len(a.Active) > 0 // a seat beside that of another computer moves nothing
	if !slices.Contains(a.Active, a.Computer) {
		a.Active = append(a.Active, a.Computer)
	}
	if b.card.Transfers != nil && !second {
		a.Spent = 1
		a.Transfers = max(a.Transfers-1, 0)
	}
}

// usual are the steps of a product key whose card gives none.
func usual(action licence.Action) []card.Guide {
	if action == licence.Deactivate {
		return []card.Guide{{Do: "Take the key out of the app on this computer where it lets you, and see that nobody starts it here any more."}}
	}
	return []card.Guide{
		{Do: "Enter in the app: registered name {code}, key {serial}"},
		{Do: "Look where the app shows whom it is registered to.", Ask: "What does it show?"},
	}
}

// guide has a person take the steps that are not taken yet. Each is journalled
// before the next.
func (b byHand) guide(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	change := b.changeOf(action)
	taken := b.taken(action, change.Steps)
	if err := b.plugged(action); err != nil {
		return err
	}
	if b.Person == nil && taken < len(change.Steps) {
		return fault.New(fault.Waits, "%s of the licence %s of %s is done by a person, and nobody can be asked here", action, b.card.Name, b.app.Title)
	}
	for i := taken; i < len(change.Steps); i++ {
		g := change.Steps[i]
		done := steps.Stepped{Action: action, Step: i + 1, Do: g.Do, Ask: g.Ask}
		if err := b.step(ctx, g, len(change.Steps), &done); err != nil {
			return err
		}
		line := b.line(steps.EventStepped, steps.Key{App: b.key.App})
		line.Licence = b.card.Name
		if err := b.Kit.Record(line, done); err != nil {
			return err
		}
	}
	b.became(action, r.From, a)
	return nil
}

// taken is how many of the steps, one after the other, a person has taken
// already. Those of another way to the same end do not count.
func (b byHand) taken(action licence.Action, all []card.Guide) (n int) {
	st := b.State().Licences[b.key]
	if st == nil {
		return 0
	}
	for n < len(all) && slices.ContainsFunc(st.Stepped, func(s steps.Stepped) bool {
		return s.Action == action && s.Step == n+1 && s.Do == all[n].Do
	}) {
		n++
	}
	return n
}

// changeOf is how a person carries out an action.
func (b byHand) changeOf(action licence.Action) *card.Change {
	change := b.card.Change(action == licence.Deactivate)
	lost := b.OldLost != "" && action == licence.Deactivate
	switch {
	case lost && b.card.Lost != nil:
		return b.card.Lost
	case lost && (b.card.Method == card.MethodAccount || b.card.Method == card.MethodToken):
		return change // nothing of it is done on the old computer itself
	case lost && b.card.Method == card.MethodFile:
		return &card.Change{Steps: []card.Guide{{Do: "The licence's files are lost with " + b.Kit.Manifest.Old.Name + ". Should its disk ever be used again, delete them there first.", Ask: "Who answers for that?"}}}
	case lost:
		return &card.Change{Steps: []card.Guide{
			{Do: "Tell " + orWord(b.app.Maker, "the maker") + " why it cannot be freed on " + b.Kit.Manifest.Old.Name + " (" + b.OldLost + "), and have them free it: `movekit licence letter " + b.app.Name + "` writes what they will ask for."},
			{Do: "Wait for what they say.", Ask: "What did they answer?"},
		}}
	case change == nil:
		return &card.Change{Steps: usual(action)}
	}
	return change
}

// plugged sees that a token is in this computer before it is taken up here. It
// changes computers, not the licence.
func (b byHand) plugged(action licence.Action) error {
	if b.card.USB == "" || action != licence.Activate {
		return nil
	}
	there, err := machine.USB(b.Computer, b.card.USB)
	if err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot look for the token %s", b.card.USB)
	}
	if !there {
		return fault.New(fault.Waits, "the token of the licence %s of %s (USB %s) is not plugged into %s, or its driver is missing", b.card.Name, b.app.Title, b.card.USB, b.Computer.Name())
	}
	return nil
}

// step has a person take one step, again until the answer fits.
func (b byHand) step(ctx context.Context, g card.Guide, of int, done *steps.Stepped) error {
	const tries = 3
	for n := 1; ; n++ {
		reply, err := b.Person.Guide(ctx, Guided{
			Key: b.key, App: b.app.Title, Action: done.Action, Step: done.Step, Of: of, Ask: g.Ask, Evidence: g.Evidence,
			Do: strings.NewReplacer("{serial}", b.secrets.Serial, "{code}", b.secrets.Code).Replace(g.Do),
		})
		if err != nil {
			return err
		}
		if g.Ask != "" {
			done.Answer = b.masked(reply.Answer)
		}
		if err = fits(g, reply); err == nil && reply.Evidence != "" {
			done.Evidence = filepath.Base(reply.Evidence)
			if done.Hash, err = hashOf(reply.Evidence); err != nil {
				err = fault.Wrap(fault.Unreadable, err, "the file %s that proves it cannot be read", reply.Evidence)
			}
		}
		if err == nil || n == tries {
			return err
		}
		b.notify(Event{App: b.key.App, Item: b.card.Name, What: err.Error()})
	}
}

// fits holds an answer against the card.
func fits(g card.Guide, r Reply) error {
	if g.Ask != "" && strings.TrimSpace(r.Answer) == "" {
		return fault.New(fault.Waits, "the question %q is not answered", g.Ask)
	}
	if g.Answer != "" {
		if ok, err := regexp.MatchString(g.Answer, r.Answer); err != nil || !ok {
			return fault.New(fault.Waits, "the answer to %q is not of the form that the card gives (%s)", g.Ask, g.Answer)
		}
	}
	if g.Evidence && r.Evidence == "" {
		return fault.New(fault.Waits, "the file that proves %q is not given", g.Do)
	}
	return nil
}

// masked keeps secrets that somebody typed out of the journal.
func (b byHand) masked(answer string) string {
	for _, s := range []string{b.secrets.Serial, b.secrets.Code} {
		if b.card.Method == card.MethodKey && s == b.secrets.Code {
			continue // the registered name is what is to be seen
		}
		if s != "" {
			answer = strings.ReplaceAll(answer, s, licence.Mask(s))
		}
	}
	return answer
}

func hashOf(name string) (string, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	return digest.Of(data).String(), nil
}

// run runs one of the maker's commands on the live computer, and returns what
// it says and how it ends. Nothing of it is kept but what the patterns find.
func (b byHand) run(ctx context.Context, args []string) (said string, code int, err error) {
	if b.Computer.Root() != "" {
		return "", 0, fault.New(fault.Waits, "the command %s of %s runs on the computer itself only", args[0], b.app.Title)
	}
	if !b.Commands && !b.State().Agreed[b.app.Name] && b.Asks != nil {
		if err := b.askCommands(); err != nil {
			return "", 0, err
		}
	}
	if !b.Commands && !b.State().Agreed[b.app.Name] {
		return "", 0, fault.New(fault.Waits, "the card of %s has the command %q run, which nobody has agreed to: see it with movekit card show %s, and add --run-commands", b.app.Title, strings.Join(args, " "), b.app.Name)
	}
	name, err := b.Computer.Locate(args[0], nil)
	if err != nil {
		return "", 0, err
	}
	limit := 2 * time.Minute
	if own, err := time.ParseDuration(b.card.Show.Limit); err == nil {
		limit = own
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, name, args[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = &bounded{&out}, &bounded{&out}, time.Second
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", 0, fault.New(fault.DeskDown, "the command %s did not end within %s", args[0], limit)
	case errors.As(err, &exit):
		return out.String(), exit.ExitCode(), nil
	case err != nil:
		return "", 0, fault.Wrap(fault.Missing, err, "the command %s cannot be run", args[0])
	}
	return out.String(), 0, nil
}

// askCommands shows the commands of the card and has a person agree to them,
// once for the kit.
func (b byHand) askCommands() error {
	var list []string
	for _, args := range b.app.Commands() {
		list = append(list, strings.Join(args, " "))
	}
	if err := b.Asks("The card of " + b.app.Title + " has these commands run on " + b.Computer.Name() + ":\n  " + strings.Join(list, "\n  ") + "\nMay they run?"); err != nil {
		return err
	}
	return b.Kit.Record(b.line(steps.EventAgreed, steps.Key{App: b.app.Name}), b.app.Commands())
}

// bounded keeps the beginning of what a command says, at most 64 KiB.
type bounded struct{ to *bytes.Buffer }

func (w *bounded) Write(p []byte) (int, error) {
	w.to.Write(p[:min(len(p), max(0, 64<<10-w.to.Len()))])
	return len(p), nil
}

// show asks the maker's program for the state.
func (b byHand) show(ctx context.Context, a *licence.Answer) error {
	said, _, err := b.run(ctx, b.card.Show.Run)
	if err != nil {
		return err
	}
	active, _ := regexp.MatchString(b.card.Show.Active, said)
	switch {
	case active && !slices.Contains(a.Active, a.Computer):
		a.State, a.Active = licence.Active, append(a.Active, a.Computer)
	case active:
		a.State = licence.Active
	default:
		if a.State == licence.Active {
			a.State = licence.Deactivated
		}
		a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == a.Computer })
	}
	if over, _ := regexp.MatchString(b.card.Show.Over, said); over && b.card.Show.Over != "" {
		a.State = licence.Expired
	}
	if b.card.Show.Left != "" {
		if m := regexp.MustCompile(b.card.Show.Left).FindStringSubmatch(said); len(m) > 1 {
			if n, err := strconv.Atoi(m[1]); err == nil {
				a.Transfers = n
			}
		}
	}
	return nil
}

// command has the maker's program free or take up the licence, and asks it for
// the state afterwards.
func (b byHand) command(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	change := b.card.Change(action == licence.Deactivate)
	if err := b.show(ctx, a); err != nil {
		return err
	}
	before := a.Transfers
	said, code, err := b.run(ctx, change.Run)
	if err != nil {
		return err
	}
	for _, f := range change.Fails {
		if hit, _ := regexp.MatchString(f.Match, said); hit {
			return fault.New(fault.DeskRefused, "the maker's program says no: %s", f.Means)
		}
	}
	ok := code == 0
	if len(change.Codes) > 0 {
		ok = slices.Contains(change.Codes, code)
	}
	if change.Done != "" {
		ok, _ = regexp.MatchString(change.Done, said)
	}
	if !ok {
		return fault.New(fault.DeskRefused, "the maker's command %s does not say that it is done (it ended with %d)", change.Run[0], code)
	}
	b.became(action, r.From, a)
	if err := b.show(ctx, a); err != nil {
		return err
	}
	if (a.State == licence.Active) != (action == licence.Activate) {
		return fault.New(fault.DeskRefused, "the maker's program says the licence is %s after it was to %s it", a.State, action)
	}
	if before > a.Transfers && a.Transfers >= 0 {
		a.Spent = before - a.Transfers
	}
	return nil
}

// seenBy says how a licence's state was seen.
func (b byHand) seenBy(ctx context.Context) string {
	switch b.card.Method {
	case card.MethodCommand:
		return "the maker's own program"
	case card.MethodFile:
		return b.seenInFiles(ctx)
	}
	st := b.State().Licences[b.key]
	if st == nil || len(st.History) == 0 {
		return "nobody yet"
	}
	last := st.History[len(st.History)-1]
	by := "a person on " + b.Computer.Name()
	if last.Answer != "" {
		by += fmt.Sprintf(", who answered %q to %q", last.Answer, last.Ask)
	}
	if b.card.USB != "" {
		if there, err := machine.USB(b.Computer, b.card.USB); err == nil && there {
			by += "; the token " + b.card.USB + " is plugged in"
		}
	}
	if last.Evidence != "" {
		by += " (" + last.Evidence + ", BLAKE3 " + last.Hash[:16] + "…)"
	}
	return by
}

var _ licence.Service = byHand{}

// recorderOf writes a licence's questions and answers.
func (j *Job) recorderOf(c *card.Card, l card.Licence) recorder {
	return recorder{j, journal.Line{App: c.Name, Licence: l.Name, Computer: j.Computer.Name()}}
}
