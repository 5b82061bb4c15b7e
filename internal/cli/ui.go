package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"movekit/internal/core/fault"
	"movekit/internal/table"
)

// ui is all talk with the person: facts go to out, everything else to err.
type ui struct {
	ctx         context.Context // ends when somebody ends the program
	in          io.Reader
	lines       *bufio.Reader // of in
	scripted    bool          // whether script answers in place of in
	script      []string      // what is left of the answers from a file
	out, err    io.Writer
	json, quiet bool
	verbose     bool
	yes         bool
	colour      bool
	width       int  // of the terminal that out is, or 0
	redraw      bool // whether err is a terminal
	progress
	passphrase string // from the environment
}

func isTerminal(f any) bool {
	file, ok := f.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// widthOf is that of a terminal, in characters; 0 of anything else.
func widthOf(f any) int {
	if !isTerminal(f) {
		return 0
	}
	w, _, err := term.GetSize(int(f.(*os.File).Fd()))
	if err != nil {
		return 0
	}
	return w
}

// folded writes whole lines no wider than the terminal that they go to.
type folded struct {
	io.Writer
	width int
}

func fold(w io.Writer) folded { return folded{w, widthOf(w)} }

// Write writes lines.
func (f folded) Write(lines []byte) (int, error) {
	_, err := io.WriteString(f.Writer, table.Within(string(lines), f.width))
	return len(lines), err
}

// setUp looks at where the output goes.
func (u *ui) setUp(noColour bool) {
	u.redraw = isTerminal(u.err)
	if isTerminal(u.out) {
		u.colour = !noColour && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		u.width = widthOf(u.out)
	}
}

// printf writes facts, no wider than the terminal. What is laid out already stays as it is.
func (u *ui) printf(format string, args ...any) {
	if u.json {
		return
	}
	text := table.Sprintf(format, args...)
	if !slices.ContainsFunc(args, func(a any) bool {
		switch a.(type) {
		case table.Block, *table.Table:
			return true
		}
		return false
	}) {
		text = table.Within(text, u.width)
	}
	io.WriteString(u.out, text)
}

// list writes facts, each on a line of its own.
func (u *ui) list(before string, facts []string) {
	for _, f := range facts {
		u.printf("%s%s\n", before, f)
	}
}

// say writes what is no fact: hints and what goes on.
func (u *ui) say(format string, args ...any) {
	if !u.quiet {
		u.clear()
		table.Fprintf(fold(u.err), format, args...)
	}
}

// object writes the facts as JSON, where that was asked for.
func (u *ui) object(v any) error {
	if !u.json {
		return nil
	}
	enc := json.NewEncoder(u.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

func (u *ui) paint(s string, m table.Style) string { return table.Paint(s, m, u.colour) }

func (u *ui) table(head ...string) *table.Table {
	return &table.Table{Head: head, Width: u.width, Colour: u.colour, Groups: head[0] == "app"}
}

func countText(n int64) string { return humanize.Comma(n) }

func bytesText(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

func (u *ui) done() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.clear()
}

// askPassword asks for the password of a database server.
func (u *ui) askPassword(prompt string) (string, error) {
	p, err := u.secret(prompt)
	if fault.KindOf(err) == fault.NoPassphrase {
		return "", fault.New(fault.ServerLogin, "a password is needed (%s), and nobody can be asked for it here", strings.TrimSuffix(prompt, ": "))
	}
	return p, err
}

var errNonInteractive = fault.New(fault.NoPassphrase, "the kit's passphrase is needed, and nobody can be asked for it here")

// readPassphraseFile reads the first line of a file.
func readPassphraseFile(name string) (string, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return "", fault.Wrap(fault.NoPassphrase, err, "cannot read the passphrase file")
	}
	line, _, _ := strings.Cut(string(data), "\n")
	if line = strings.TrimSpace(strings.TrimPrefix(line, "\ufeff")); line == "" {
		return "", fault.New(fault.NoPassphrase, "the passphrase file %s is empty", name)
	}
	return line, nil
}

// givenPassphrase returns the passphrase from the file or the environment,
// or "" where a person must be asked.
func (u *ui) givenPassphrase(file string) (string, error) {
	if file != "" {
		return readPassphraseFile(file)
	}
	return u.passphrase, nil
}

// takePassphrase takes the passphrase out of the environment, which programs
// that are run here would otherwise see.
func (u *ui) takePassphrase() {
	const name = "MOVEKIT_PASSPHRASE"
	if p := os.Getenv(name); p != "" {
		u.passphrase = p
	}
	os.Unsetenv(name)
}

// unlock opens a kit's key. A person may try three times.
func (u *ui) unlock(file string, open func(string) error) error {
	p, err := u.givenPassphrase(file)
	if err != nil {
		return err
	}
	if p != "" {
		return open(p)
	}
	for try := 1; ; try++ {
		p, err := u.secret("Passphrase of the kit: ")
		if err != nil {
			return err
		}
		if err = open(p); err == nil {
			u.passphrase = p // the guide asks once
		}
		if fault.KindOf(err) != fault.WrongPassphrase || try == 3 {
			return err
		}
		fmt.Fprintln(u.err, "This is not the kit's passphrase. Try again.")
	}
}

// newPassphrase returns the passphrase of a new kit.
func (u *ui) newPassphrase(file string, typed bool, check func(string) error, make func() (string, error)) (string, error) {
	p, err := u.givenPassphrase(file)
	if err != nil {
		return "", err
	}
	if p != "" {
		return p, check(p)
	}
	if p, err = u.chosenPassphrase("kit", typed, check, make); err == nil {
		u.passphrase = p
	}
	return p, err
}

// chosenPassphrase makes a passphrase for something and shows it, or has it
// typed twice.
func (u *ui) chosenPassphrase(what string, typed bool, check func(string) error, make func() (string, error)) (string, error) {
	if !typed {
		p, err := make()
		if err != nil {
			return "", err
		}
		table.Fprintf(u.err, "\nThe %s's passphrase, shown this once. Write it down and keep it apart from the %s:\n\n    %s\n\nWithout it nobody can open the %s, and nobody can recover it.\n\n", what, what, p, what)
		return p, nil
	}
	p, err := u.secret("A passphrase for the " + what + ": ")
	if err != nil {
		return "", err
	}
	if err := check(p); err != nil {
		return "", err
	}
	again, err := u.secret("The same once more: ")
	if err == nil && again != p {
		err = fault.New(fault.Usage, "the two passphrases are not the same")
	}
	return p, err
}
