package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/fault"
	"movekit/internal/table"
)

// ui does all input and output: results go to out, everything else to err.
type ui struct {
	ctx         context.Context // ends when the user ends the program
	in          io.Reader
	lines       *bufio.Reader // reads in
	scripted    bool          // script answers instead of in
	script      []string      // remaining answers from a file
	out, err    io.Writer
	json, quiet bool
	verbose     bool
	yes         bool
	colour      bool
	width       int  // terminal width of out, or 0
	redraw      bool // err is a terminal that can draw a line again
	progress
	passphrase string // from the environment
}

func isTerminal(f any) bool {
	file, ok := f.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// widthOf returns the width of a terminal in characters, or 0.
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

// folded wraps whole lines to the terminal width.
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

// setUp detects where the output goes.
func (u *ui) setUp(noColour bool) {
	plain := os.Getenv("TERM") == "dumb" // for a screen reader, say: nothing is drawn twice
	u.redraw = isTerminal(u.err) && !plain
	if isTerminal(u.out) {
		u.colour = !noColour && os.Getenv("NO_COLOR") == "" && !plain
		u.width = widthOf(u.out)
	}
}

// printf prints results within the terminal width. Laid-out text stays as it is.
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

// list prints results, one per line.
func (u *ui) list(before string, facts []string) {
	for _, f := range facts {
		u.printf("%s%s\n", before, f)
	}
}

// say prints hints and progress.
func (u *ui) say(format string, args ...any) {
	if !u.quiet {
		u.clear()
		table.Fprintf(fold(u.err), format, args...)
	}
}

// object prints results as JSON, if requested.
func (u *ui) object(v any) error {
	if !u.json {
		return nil
	}
	enc := json.NewEncoder(u.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(bytejson.Escaped(v))
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
		return "", fault.New(fault.ServerLogin, "a password is needed (%s), but this run is non-interactive", strings.TrimSuffix(prompt, ": "))
	}
	return p, err
}

var errNonInteractive = fault.New(fault.NoPassphrase, "the kit's passphrase is needed, but this run is non-interactive")

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

// givenPassphrase returns the passphrase from the file or the environment, or "" if the user must
// be asked.
func (u *ui) givenPassphrase(file string) (string, error) {
	if file != "" {
		return readPassphraseFile(file)
	}
	return u.passphrase, nil
}

// takePassphrase removes the passphrase from the environment, so that child processes do not see
// it.
func (u *ui) takePassphrase() {
	const name = "MOVEKIT_PASSPHRASE"
	if p := os.Getenv(name); p != "" {
		u.passphrase = p
	}
	os.Unsetenv(name)
}

// unlock decrypts a kit's key. The user can try three times.
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
		fmt.Fprintln(u.err, "The passphrase is wrong. Try again.")
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

// writtenDown asks for two words of a passphrase that was just shown, so that it does not scroll away before somebody has
// written it down. Without a terminal it asks nothing.
func (u *ui) writtenDown(passphrase string) error {
	words := strings.Split(passphrase, "-")
	if !u.canAsk() || u.scripted || u.yes || len(words) < 4 {
		return nil
	}
	first := rand.IntN(len(words) - 1)
	second := first + 1 + rand.IntN(len(words)-first-1)
	for {
		said, err := u.read(fmt.Sprintf("Type word %d and word %d of it, to go on (or: later): ", first+1, second+1), false)
		if fault.KindOf(err) == fault.Stopped {
			return err
		}
		if err != nil {
			return nil // the terminal is gone
		}
		given := strings.FieldsFunc(strings.ToLower(said), func(r rune) bool { return r == ' ' || r == '-' || r == ',' })
		if len(given) == 2 && given[0] == words[first] && given[1] == words[second] || strings.EqualFold(strings.TrimSpace(said), "later") {
			return nil
		}
		fmt.Fprintf(u.err, "That is not right. The passphrase is\n\n    %s\n\n", passphrase)
	}
}

// chosenPassphrase makes and shows a passphrase, or asks for it twice.
func (u *ui) chosenPassphrase(what string, typed bool, check func(string) error, make func() (string, error)) (string, error) {
	if !typed {
		p, err := make()
		if err != nil {
			return "", err
		}
		table.Fprintf(u.err, "\nThe passphrase of the %s, shown only once. Write it down and keep it apart from the %s:\n\n    %s\n\nWithout it nobody can open the %s. It cannot be recovered.\n\n", what, what, p, what)
		return p, u.writtenDown(p)
	}
	p, err := u.secret("New passphrase for the " + what + ": ")
	if err != nil {
		return "", err
	}
	if err := check(p); err != nil {
		return "", err
	}
	again, err := u.secret("Repeat the passphrase: ")
	if err == nil && again != p {
		err = fault.New(fault.Usage, "the two passphrases differ")
	}
	return p, err
}
