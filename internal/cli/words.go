package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// Exit codes.
const (
	exitDone      = 0
	exitFailed    = 1
	exitUsage     = 2
	exitDifferent = 3
	exitStopped   = 4
	exitPerson    = 5
)

// exit ends a command with a code after everything was said.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// advice is what a person is told about a kind of failure besides what
// happened.
type advice struct {
	next string // what to do
	safe string // that nothing was lost
	code int
	more string // section of the technician's document; "" where there is none
}

const nothingLost = "Nothing was lost: the old computer's data was only read."

var adviceByKind = map[fault.Kind]advice{
	fault.Usage:           {"See the command's --help.", "Nothing was changed.", exitUsage, ""},
	fault.BadCard:         {"Correct the card; `movekit card check FILE` shows every mistake in it.", "Nothing was changed.", exitFailed, "card-mistakes"},
	fault.NotAKit:         {"Name the kit's folder with --kit DIR, or make a kit with `movekit new DIR`.", "Nothing was changed.", exitFailed, "no-kit"},
	fault.NewerFormat:     {"Use the program that lies in the kit's own folder.", "Nothing was changed.", exitFailed, "no-kit"},
	fault.Damaged:         {"Run `movekit inspect` to see what is damaged. If the old computer is still there, run `movekit pack` on it again.", "Nothing on either computer was changed by this.", exitFailed, "damaged-kit"},
	fault.Forged:          {"Do not use this kit: somebody changed it without its passphrase. Make a new one on the old computer.", "Nothing on either computer was changed by this.", exitFailed, "damaged-kit"},
	fault.Hostile:         {"Do not use this kit: it was not made by Move Kit as it is. Make a new one on the old computer.", "Nothing was written from it.", exitFailed, "damaged-kit"},
	fault.WrongPassphrase: {"Try again: six words with - between them, or what was chosen when the kit was made.", "Nothing was changed; it may be tried as often as you like.", exitFailed, "passphrase"},
	fault.NoPassphrase:    {"Give it with --passphrase-file FILE or in $MOVEKIT_PASSPHRASE, or run this in a terminal.", "Nothing was changed.", exitUsage, "passphrase"},
	fault.Busy:            {"Wait until it is done, or end it, and run this again.", "Nothing was changed.", exitFailed, "stick"},
	fault.Pulled:          {"Put the stick back in, and run the same command again: what is whole is kept.", "Nothing was lost on this computer; of the kit, what was sealed and read back before.", exitFailed, "stick"},
	fault.NoSpace:         {"Free space on that disk, or use a larger one, and run the same command again: what is whole is kept.", nothingLost, exitFailed, "stick"},
	fault.ReadOnly:        {"Switch the write protection off, or copy the kit to a disk that can be written to.", nothingLost, exitFailed, "stick"},
	fault.Scanned:         {"The virus scanner holds it: see its list of what it has taken away, have it leave this file and the program alone for the move, and run the same command again.", nothingLost, exitFailed, "not-read"},
	fault.Unreadable:      {"See that you may read it (as administrator, perhaps) and that no other program keeps it locked, and run the same command again.", nothingLost, exitFailed, "not-read"},
	fault.Changed:         {"Close the app and whatever syncs its files, and run the same command again: what is whole is kept.", nothingLost, exitFailed, "not-read"},
	fault.Missing:         {"See that the path is right and the disk is connected; `movekit survey` shows where things are looked for.", nothingLost, exitFailed, "not-read"},
	fault.BadDatabase:     {"Let the app itself repair or export it first. A damaged database is not packed, so that the damage is not found too late.", nothingLost, exitFailed, "bad-database"},
	fault.CannotPlace:     {"See that the disk is there, has space and may be written to, and run the same command again: what is whole is kept.", "Nothing was lost: what was in the way is under its own name or set aside.", exitFailed, "not-placed"},
	fault.NoUser:          {"Make the user on this computer, or say who takes over with --user OLD=NEW.", "Nothing was changed.", exitFailed, "not-placed"},
	fault.ServerDown:      {"See that the database server runs and can be reached, and run the same command again: what is whole is kept.", nothingLost, exitFailed, "server"},
	fault.ServerLogin:     {"See that the card names the right user, and that its password is where the card says, in the server's own password file, or typed when asked. Making a database and its roles takes an administrator of the server.", nothingLost, exitFailed, "server"},
	fault.ServerRefused:   {"Correct what the server names, and run the same command again: the database was made under another name first, and what was there is as it was.", nothingLost, exitFailed, "server"},
	fault.DeskDown:        {"See that this computer has network and the desk is up, and run the same command again: the tool first asks what the desk has done, and nothing is done twice.", "The licence is as the desk last said; nothing was spent twice.", exitFailed, "licence-service"},
	fault.DeskNonsense:    {"Something else may stand in the way (a proxy, a sign-in page). See that the card's address is the desk's, and run the same command again.", "The licence is as the desk last said; nothing was spent twice.", exitFailed, "licence-service"},
	fault.DeskSignature:   {"Do not go on: ask the desk's owner whether its key has changed. If so, the card must name the new one.", "The answer was not used.", exitFailed, "licence-service"},
	fault.DeskRefused:     {"Ask the licence's vendor; `movekit status` shows what the kit knows. The data can be unpacked and verified meanwhile.", "Nothing was spent.", exitFailed, "licence-service"},
	fault.Waits:           {"Run the same command in a terminal and follow the steps, or give what was seen with --answers FILE. What was answered already is kept.", nothingLost, exitPerson, "by-hand"},
	fault.NotAgreed:       {"See what it runs with `movekit card show {app}`, and agree to it with --run-commands.", nothingLost, exitPerson, "by-hand"},
	fault.NotRepointed:    {"Run this in a terminal to see them and answer, or agree with --yes; --keep-paths leaves them as they are.", nothingLost, exitPerson, "by-hand"},
	fault.NotPlaced:       {"Run `movekit unpack {app}` first.", nothingLost, exitFailed, "not-placed"},
	fault.Issue:           {"`movekit licence letter {app}` writes what to ask for. Put the file that comes in its place, and run this again.", nothingLost, exitPerson, "by-hand"},
	fault.Stopped:         {"Run the same command again when you like: what is whole is kept.", nothingLost, exitFailed, "cut-off"},
	fault.Unanswered:      {"Run this in a terminal to see it and answer, or answer with --yes.", "Nothing was changed.", exitUsage, "by-hand"},
	fault.Elsewhere:       {"Take the kit to that computer, and run the same command there.", "Nothing was changed.", exitFailed, "not-placed"},
	fault.Internal:        {"Run the same command again with --log-file FILE and keep the file.", nothingLost, exitFailed, "cut-off"},
}

// lossIn says what nothingLost says, of steps that do more to the old computer than
// read it.
var safetyByStep = map[steps.Step]string{
	steps.Retire: "Nothing was lost: it has its own name, or the one under which it is set aside.",
	steps.Return: "Nothing was lost: it has its own name, or the one under which it is set aside.",
	steps.Remove: "Nothing was removed that is not proven on the new computer.",
}

// tell writes an error with its advice, and returns its exit code.
func printError(w io.Writer, err error, colour bool) int { return printStepError(w, err, "", colour) }

// tellOf is tell for an error of a step.
func printStepError(w io.Writer, err error, step steps.Step, colour bool) int {
	var done exit
	if errors.As(err, &done) {
		return done.code
	}
	var known *fault.Error
	if !errors.As(err, &known) {
		table.Fprintf(w, "%s %v\n  next: see `movekit --help`\n", table.Paint("error:", table.Bad, colour), err)
		return exitUsage
	}
	if known == errNo { // a person's word is no error
		table.Fprintf(w, "%s it was not done: you answered no\n", table.Paint("stopped:", table.Note, colour))
		return adviceByKind[known.Kind].code
	}
	var problems card.Problems
	if errors.As(err, &problems) {
		table.Fprintf(w, "%s %s\n", table.Paint("error:", table.Bad, colour), known.What)
		showProblems(w, problems)
	} else {
		table.Fprintf(w, "%s %v\n", table.Paint("error:", table.Bad, colour), err)
	}
	a := adviceByKind[known.Kind]
	if loss := safetyByStep[step]; loss != "" && a.safe == nothingLost {
		a.safe = loss
	}
	table.Fprintf(w, "  next: %s\n  safe: %s\n", filled(a.next, known.App), lossOf(known, a))
	if a.more != "" {
		fmt.Fprintf(w, "  more: movekit help %s\n", a.more)
	}
	return a.code
}

// filled fills the app in that an advice is about; where none is named, the
// command is for all.
func filled(advice, app string) string {
	if app == "" {
		return strings.ReplaceAll(advice, " {app}", "")
	}
	return strings.ReplaceAll(advice, "{app}", app)
}

func lossOf(e *fault.Error, a advice) string {
	if e.Lost != "" {
		return "Lost: " + e.Lost
	}
	return a.safe
}

// showProblems shows each mistake of a card with its line and a mark below
// the column.
func showProblems(w io.Writer, ps card.Problems) {
	for _, p := range ps {
		table.Fprintf(w, "\n%s:%d:%d: %s\n", p.File, p.Line, p.Column, p.What)
		if p.Source != "" {
			lead := fmt.Sprintf("%5d | ", p.Line)
			p.Source, p.Column = around(p.Source, p.Column)
			pad := strings.Map(func(r rune) rune {
				if r == '\t' {
					return r
				}
				return ' '
			}, p.Source[:min(max(p.Column-1, 0), len(p.Source))])
			table.Fprintf(w, "%s%s\n%s%s^\n", lead, p.Source, strings.Repeat(" ", len(lead)), pad)
		}
		if p.Want != "" {
			table.Fprintf(w, "      expected: %s\n", p.Want)
		}
	}
	fmt.Fprintln(w)
}

// gateAdvice says what to do about a gate that stopped a step.
var gateAdvice = map[string]string{
	"old-computer":        "Run this on the old computer.",
	"other-computer":      "Run this on the new computer.",
	"new-computer":        "Run this on that one. Where it broke, go on here with `movekit unpack {app} --change-computer --because REASON`: its licences then count as those of a lost computer.",
	"right-name":          "See that this is the right computer, and that the kit is that of this move.",
	"not-a-copy":          "Make a kit for a move with `movekit new DIR`.",
	"proven":              "Run `movekit verify {app}` on the new computer first.",
	"handed-over":         "Run `movekit report --to DIR` first, with a folder that is not in the kit.",
	"kit-whole":           "Run `movekit pack` on the old computer again; what is whole is kept. Apps whose files are whole can be unpacked by their names.",
	"app-closed":          "Close the app as a person would, so that it saves what is open; a service, in the system's list of services. Then run this again.",
	"files-closed":        "Close that program and run this again.",
	"sync-done":           "Let the app send everything first; on a computer without network, connect it once.",
	"exports-there":       "Make the missing exports in the app, or let the card's command make them with --run-commands.",
	"readable":            "See that you may read it (as administrator, perhaps), that a server runs and lets you in; or leave that item out, and name the others: APP/ITEM.",
	"items-there":         "Correct the card's path, say where a drive is (--drive D=FOLDER), or mark the item optional. To go on without it, override this gate with a reason.",
	"needs-met":           "Find the missing half first: without it the data cannot be used.",
	"newest-copy":         "Use the copy of the kit that was worked on, and put this one away: what each of them says would be half the truth.",
	"clock-right":         "Set this computer's clock, and run this again: waiting times and certificates are judged by it.",
	"as-expected":         "See in the app whether something is missing, and look at the card's path and number.",
	"serial-right":        "Compare it with the label or the vendor's mail, and correct the app's settings or the card.",
	"not-expired":         "Have the licence renewed by its vendor first; the data can be unpacked and verified meanwhile.",
	"back-in-time":        "Ask the vendor before anything else; `movekit licence letter {app}` writes what they will ask for.",
	"names-fit":           "Rename them on the old computer, or skip them in the card. Overridden, they are left out and named.",
	"fits":                "Free space there, or use a larger stick.",
	"sealed":              "Run `movekit pack {app}` on the old computer first.",
	"old-unchanged":       "Run `movekit pack {app}` again: it seals what changed. `movekit survey {app}` shows all of it.",
	"tried-first":         "Run `movekit unpack {app}` and `movekit verify {app}` on the new computer first: what is deactivated too early is not easily taken back.",
	"packed":              "Run `movekit pack {app}` on the old computer first.",
	"users-known":         "Make the users on this computer, or say who takes over with --user OLD=NEW.",
	"waiting-over":        "Wait until then, and run this again.",
	"licence-deactivated": "Run `movekit deactivate {app}` on the old computer first.",
	"not-active-here":     "Free the licence here first: without the data it serves nobody.",
	"old-has-it":          "Leave it here: without it, what is sealed in the kit is all that there is. Override this gate where it is to be unpacked again.",
	"set-aside-there":     "Move it back to that place, if somebody moved it away. If it is lost, override this gate: then what was unpacked is removed, and nothing comes back.",
	"place-ready":         "Fix what is named: start the database server or install what it lacks, connect the drive or say where its data goes (--drive D=FOLDER), or make the place writable. Then run this again.",
	"requires-met":        "Install it first; `movekit ready {app}` shows what is here.",
	"version-rule":        "Install that version first, and do not start it yet. Where the app's own command tells it, see that with `movekit card show {app}`, and agree with --run-commands.",
	"same-edition":        "Install the same edition first, and do not start it yet.",
	"old-deactivated":     "Run `movekit deactivate {app}` on the old computer first (where it is dead: `movekit deactivate --lost --because REASON`, or `movekit activate --takeover --because REASON`).",
	"in-place":            "Run `movekit unpack {app}` first. An app that must be activated before its data comes: override this gate with that as the reason.",
	"allowance":           "Ask the vendor for another transfer. Nothing was spent.",
	"covered":             "Install a version that the licence covers, or ask the vendor for an upgrade.",
}

// needText says what to do about each need of ready. A check without a need has the advice of its gate.
var needText = map[move.Need]string{
	move.NeedSystem:      "Make another kit for this computer's system.",
	move.NeedPack:        "Run `movekit pack` on the old computer; the data can be looked at then.",
	move.NeedAgreement:   "Agree to run %s with --run-commands.",
	move.NeedInstall:     "Install it.",
	move.NeedApp:         "Install it, and do not start it yet.",
	move.NeedVersion:     "Install a version that may take over the data.",
	move.NeedEdition:     "Install the same edition.",
	move.NeedClose:       "Close it before the unpack.",
	move.NeedNetwork:     "Connect this computer to that network, or see that the server is up.",
	move.NeedUser:        "Make the user, or say who takes over with --user %s=NEW.",
	move.NeedCounterpart: "Say so with --user %s=%s, here and for unpack.",
	move.NeedPlace:       "Make that drive or folder, let it be written to, or correct the card.",
	move.NeedDrive:       "Connect that drive, or say where its content goes with --drive %s=FOLDER.",
	move.NeedServer:      "See that the database server here runs and lets you in.",
	move.NeedServerParts: "Install it for the database server, or a newer server.",
	move.NeedSpace:       "Free space there.",
	move.NeedOther:       "Go on with that one; where it broke, unpack here with --change-computer --because REASON.",
	move.NeedNames:       "Rename it on the old computer and pack again; else it is left out.",
	move.NeedCovered:     "Install a version that the licence covers, or ask the vendor for an upgrade.",
}

// firstText returns what to do about a check of an app.
func firstText(c move.Check, app string) string {
	if c.Need == "" {
		return filled(gateAdvice[c.Gate], app)
	}
	var args []any
	for _, a := range []string{c.Of, c.With} {
		if a != "" {
			args = append(args, a)
		}
	}
	return fmt.Sprintf(needText[c.Need], args...)
}

// maxSource is how much of a line is shown, in characters: what is wider would be folded, and the
// mark below it would point nowhere.
const maxSource = 70

// around cuts a long line to what is around a column, from 1, and tells which that is then.
func around(line string, column int) (string, int) {
	runes := []rune(line)
	if len(runes) <= maxSource {
		return line, column
	}
	at := len([]rune(line[:min(max(column-1, 0), len(line))]))
	from := max(min(at-maxSource/2, len(runes)-maxSource), 0)
	to := min(from+maxSource, len(runes))
	out, first := string(runes[from:to]), len(string(runes[from:at]))+1
	if from > 0 {
		out, first = "…"+out, first+len("…")
	}
	if to < len(runes) {
		out += "…"
	}
	return out, first
}
