package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/table"
)

// errLater means that the user continues a step later.
var errLater = fault.New(fault.ManualStep, "the step was postponed")

// Accepted answers besides y and yes, n and no.
var (
	doneWords = []string{"", "y", "yes", "done", "ok"}
	notWords  = []string{"n", "no", "not done", "not yet", "later", "stop", "quit", "q"}
)

// pasted is the time in which the lines of pasted text arrive.
const pasted = 50 * time.Millisecond

// read returns a line that the user types. If the program is interrupted meanwhile, it ends at once
// and does nothing.
func (u *ui) read(prompt string, hidden bool) (string, error) {
	u.done()
	fmt.Fprint(u.err, table.Within(table.Visible(prompt), widthOf(u.err)))
	if u.scripted {
		return u.fromScript(hidden)
	}
	if u.lines == nil {
		u.lines = bufio.NewReader(u.in)
	}
	var shown *term.State
	f, atTerminal := u.in.(*os.File)
	if hidden {
		shown, _ = term.GetState(int(f.Fd()))
	}
	type typed struct {
		text string
		err  error
	}
	got := make(chan typed, 1)
	go func() {
		if hidden {
			raw, err := term.ReadPassword(int(f.Fd()))
			got <- typed{string(raw), err}
			return
		}
		text, err := u.lines.ReadString('\n')
		got <- typed{text, err}
	}()
	select {
	case t := <-got:
		if hidden {
			fmt.Fprintln(u.err)
		}
		text := strings.TrimRight(t.text, "\r\n")
		if !hidden {
			text = strings.TrimSpace(text)
		}
		if t.err == io.EOF && text != "" {
			t.err = nil
		}
		if atTerminal { // an interruption or pasted text may take a moment to arrive
			select {
			case <-u.ctx.Done():
			case <-time.After(pasted):
			}
		}
		if u.ctx.Err() != nil { // also if Enter came right after the interruption
			return "", u.stopped()
		}
		if atTerminal && t.err == nil && (u.lines.Buffered() > 0 || waiting(f)) {
			// Several pasted lines are one answer.
			more, err := u.read("", hidden)
			return strings.TrimRight(text+"\n"+more, "\r\n"), err
		}
		return text, t.err
	case <-u.ctx.Done():
		if shown != nil {
			term.Restore(int(f.Fd()), shown)
		}
		return "", u.stopped()
	}
}

// canAsk reports whether there is a terminal or a file of answers.
func (u *ui) canAsk() bool { return u.scripted || isTerminal(u.in) }

// fromScript returns the next answer in the file, and shows it as if it were typed.
func (u *ui) fromScript(hidden bool) (string, error) {
	if u.ctx.Err() != nil {
		return "", u.stopped()
	}
	if len(u.script) == 0 {
		fmt.Fprintln(u.err, "(the file has no more answers)")
		return "", io.EOF
	}
	text := u.script[0]
	u.script = u.script[1:]
	shown := text
	if hidden {
		shown = licence.Mask("")
	}
	fmt.Fprintln(u.err, table.Visible(shown))
	return text, nil
}

func (u *ui) stopped() error {
	fmt.Fprintln(u.err)
	return fault.Wrap(fault.Stopped, u.ctx.Err(), "cancelled at the question")
}

// errNo is the answer no.
var errNo = fault.New(fault.Stopped, "you answered no")

// ask asks a yes-or-no question, which may have lines before it. Enter means no. A non-interactive run needs --yes.
func (u *ui) ask(question string) error {
	if u.yes {
		return nil
	}
	if !u.canAsk() {
		return fault.New(fault.Unanswered, "this run is non-interactive: %s", strings.Join(strings.Fields(question), " "))
	}
	about := strings.Split(question, "\n")
	question = about[len(about)-1]
	u.done()
	for _, line := range about[:len(about)-1] {
		table.Fprintf(fold(u.err), "%s\n", line)
	}
	for {
		line, err := u.read(question+" [y/N] ", false)
		switch a := strings.ToLower(line); {
		case fault.KindOf(err) == fault.Stopped:
			return err
		case err != nil, a == "", slices.Contains(notWords, a):
			return errNo
		case a == "y" || a == "yes":
			return nil
		}
		fmt.Fprintln(u.err, "Please enter y or n.")
	}
}

// askDone asks whether a step is done.
func (u *ui) askDone() error {
	for {
		line, err := u.read("  Press Enter when it is done (stop: continue later): ", false)
		switch a := strings.ToLower(line); {
		case fault.KindOf(err) == fault.Stopped:
			return err
		case err != nil, slices.Contains(notWords, a):
			return errLater
		case slices.Contains(doneWords, a):
			return nil
		}
		fmt.Fprintln(u.err, "  Please press Enter, or type stop.")
	}
}

// text prompts for a line of text.
func (u *ui) text(question string) (string, error) {
	text, err := u.read("  "+question+" (stop: continue later): ", false)
	switch {
	case fault.KindOf(err) == fault.Stopped:
		return "", err
	case err != nil, strings.EqualFold(text, "stop"), strings.EqualFold(text, "later"):
		return "", errLater
	}
	return text, nil
}

// hiddenText asks for a secret without showing it, and then shows its last characters for
// confirmation.
func (u *ui) hiddenText(question string) (string, error) {
	for {
		text, err := u.secret("  " + question + " (not shown; stop: continue later): ")
		if err != nil || text == "" {
			return text, err
		}
		if strings.EqualFold(text, "stop") || strings.EqualFold(text, "later") {
			return "", errLater
		}
		line, err := u.read(fmt.Sprintf("  You typed %s, %d characters. Press Enter if that is right (n: type it again): ", licence.Mask(text), len([]rune(text))), false)
		if err != nil || slices.Contains(doneWords, strings.ToLower(line)) {
			return text, err
		}
	}
}

// secret asks for a passphrase without showing it.
func (u *ui) secret(prompt string) (string, error) {
	if !u.canAsk() {
		return "", errNonInteractive
	}
	text, err := u.read(prompt, true)
	if err != nil && fault.KindOf(err) != fault.Stopped {
		return "", fault.Wrap(fault.NoPassphrase, err, "cannot read the passphrase")
	}
	return text, err
}
