package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/ready"
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

// exit is an error that only carries an exit code; everything was printed already.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// advice is the text printed below an error: the next command, what is safe, and a help topic.
type advice struct {
	next string // what to do
	safe string // what was not lost
	code int
	more string // section of the technician's guide; "" if none
}

const nothingLost = "Nothing was lost: the old computer's data was only read."

var adviceByKind = map[fault.Kind]advice{
	fault.Usage:           {"Run the command with --help to see how it is used.", "Nothing was changed.", exitUsage, ""},
	fault.BadCard:         {"Correct the card; `movekit card check FILE` shows every mistake in it.", "Nothing was changed.", exitFailed, "card-mistakes"},
	fault.NotAKit:         {"Give the kit's folder with --kit DIR, or create a kit with `movekit new DIR`.", "Nothing was changed.", exitFailed, "no-kit"},
	fault.NewerFormat:     {"Use the program in the kit's own folder.", "Nothing was changed.", exitFailed, "no-kit"},
	fault.Damaged:         {"Run `movekit inspect` to see what is damaged. If the old computer is still there, run `movekit pack` on it again.", "Nothing on either computer was changed by this.", exitFailed, "damaged-kit"},
	fault.Forged:          {"Do not use this kit: somebody changed it without its passphrase. Create a new one on the old computer.", "Nothing on either computer was changed by this.", exitFailed, "damaged-kit"},
	fault.Hostile:         {"Do not use this kit: Move Kit did not write this content. Create a new one on the old computer.", "Nothing was written from it.", exitFailed, "damaged-kit"},
	fault.Outside:         {"Do not use this kit, unless you know why it names that place. If the item is really there, confirm it first: `movekit ready` with --place APP/ITEM=PATH.", "Nothing was changed there.", exitFailed, "damaged-kit"},
	fault.Unconfirmed:     {"If that is right, confirm it: `movekit ready` with --place APP/ITEM=PATH.", "Nothing was changed.", exitPerson, "not-placed"},
	fault.WrongPassphrase: {"Try again: the passphrase is six words joined with -, or the one that you chose for the kit.", "Nothing was changed. You can try as often as you like.", exitFailed, "passphrase"},
	fault.NoPassphrase:    {"Give it with --passphrase-file FILE or in $MOVEKIT_PASSPHRASE, or run this in a terminal.", "Nothing was changed.", exitUsage, "passphrase"},
	fault.Busy:            {"Wait until it finishes, or end it, and run this again.", "Nothing was changed.", exitFailed, "stick"},
	fault.Unconnected:     {"Check that `movekit share` still runs on the other computer and that both are in one network, and run the same command again: it continues.", "Nothing was lost: what was not sent is in the copy of the kit on this computer, and the next run sends it first.", exitFailed, "share"},
	fault.NoMedium:        {"Connect it, and run the same command again; --medium FOLDER says where it is.", nothingLost, exitFailed, "stick"},
	fault.Pulled:          {"Plug the stick in again, and run the same command again: complete data is kept.", "Nothing was lost on this computer. The kit keeps everything that was sealed and verified before.", exitFailed, "stick"},
	fault.NoSpace:         {"Free space on that disk, or use a larger one (a kit can continue on another: --medium FOLDER), and run the same command again: complete data is kept.", nothingLost, exitFailed, "stick"},
	fault.ReadOnly:        {"Switch the write protection off, or copy the kit to a disk that can be written to.", nothingLost, exitFailed, "stick"},
	fault.Scanned:         {"The virus scanner blocks it: check its quarantine, exclude this file and Move Kit for the time of the move, and run the same command again.", nothingLost, exitFailed, "not-read"},
	fault.Unreadable:      {"Make sure that you may read it (perhaps as administrator) and that no other program has it locked, and run the same command again.", nothingLost, exitFailed, "not-read"},
	fault.Changed:         {"Close the app and whatever syncs its files, and run the same command again: complete data is kept.", nothingLost, exitFailed, "not-read"},
	fault.Missing:         {"Make sure that the path is right and the disk is connected; `movekit survey` shows where Move Kit looks.", nothingLost, exitFailed, "not-read"},
	fault.BadDatabase:     {"Let the app itself repair or export it first. A damaged database is not packed, so that you learn of the damage in time.", nothingLost, exitFailed, "bad-database"},
	fault.CannotPlace:     {"Make sure that the disk is connected, writable and not full, and run the same command again: complete data is kept.", "Nothing was lost: existing data has its own name or is set aside.", exitFailed, "not-placed"},
	fault.NoUser:          {"Create the user on this computer, or map it to another user with --user OLD=NEW.", "Nothing was changed.", exitFailed, "not-placed"},
	fault.ServerDown:      {"Make sure that the database server runs and can be reached, and run the same command again: complete data is kept.", nothingLost, exitFailed, "server"},
	fault.ServerLogin:     {"Check the user in the card, and its password: where the card says, in the server's own password file, or as typed. Creating a database and its roles needs an administrator of the server.", nothingLost, exitFailed, "server"},
	fault.ServerRefused:   {"Fix the problem that the server or program reported, and run the same command again: complete data is kept.", nothingLost, exitFailed, "server"},
	fault.DeskDown:        {"Make sure that this computer has network and the desk is up, and run the same command again. Move Kit first asks what the desk has done, so that nothing is done twice.", "The licence is as the desk last reported; no transfer was used twice.", exitFailed, "licence-service"},
	fault.DeskNonsense:    {"Something else may have answered (a proxy, a sign-in page). Check the desk's address in the card, and run the same command again.", "The licence is as the desk last reported; no transfer was used twice.", exitFailed, "licence-service"},
	fault.DeskSignature:   {"Do not continue: ask the desk's owner whether its key has changed. If so, put the new key into the card.", "The answer was not used.", exitFailed, "licence-service"},
	fault.DeskRefused:     {"Ask the licence's vendor; `movekit status --check` shows the licence's state. You can unpack and verify the data meanwhile.", "No transfer was used.", exitFailed, "licence-service"},
	fault.ManualStep:      {"Run the same command in a terminal and follow the steps, or give the answers with --answers FILE. Earlier answers are kept.", nothingLost, exitPerson, "by-hand"},
	fault.NotAgreed:       {"Check the commands with `movekit card show {app}`, and agree to them with --run-commands.", nothingLost, exitPerson, "by-hand"},
	fault.PathsOutdated:   {"Run this in a terminal to see and confirm the new paths, or agree with --yes; --keep-paths does not update them.", nothingLost, exitPerson, "by-hand"},
	fault.NotPlaced:       {"Run `movekit unpack {app}` first.", nothingLost, exitFailed, "not-placed"},
	fault.Issue:           {"Request it with `movekit licence letter {app}`. Put the new file in its place, and run this again.", nothingLost, exitPerson, "by-hand"},
	fault.Stopped:         {"Run the same command again at any time: complete data is kept.", nothingLost, exitFailed, "interrupted"},
	fault.Unanswered:      {"Run this in a terminal and answer, or use --yes.", "Nothing was changed.", exitUsage, "by-hand"},
	fault.Elsewhere:       {"Take the kit to that computer, and run the same command there.", "Nothing was changed.", exitFailed, "not-placed"},
	fault.Internal:        {"Run the same command again with --log-file FILE and keep the file.", nothingLost, exitFailed, "interrupted"},
}

// safetyByStep replaces nothingLost for steps that do more to the old computer than read it.
var safetyByStep = map[steps.Step]string{
	steps.Retire: "Nothing was lost: the data has its own name, or the name under which it is set aside.",
	steps.Return: "Nothing was lost: the data has its own name, or the name under which it is set aside.",
	steps.Remove: "Nothing was removed that is not verified on the new computer.",
}

// printError prints an error with its advice, and returns its exit code.
func printError(w io.Writer, err error, colour bool) int { return printStepError(w, err, "", colour) }

// printStepError is printError for an error of a step.
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
	if known == errNo { // an answer of the user is not an error
		table.Fprintf(w, "%s cancelled: you answered no\n", table.Paint("stopped:", table.Note, colour))
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

// adviceOn returns what to do about a gate of an app.
func adviceOn(gate, app string) string { return filled(gateAdvice[gate], app) }

// filled fills the app's name into an advice. Without an app, the command is for all apps.
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

// showProblems shows each mistake of a card with its line and a mark below the column.
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

// gateAdvice has the next action for each gate that stops a step.
var gateAdvice = map[string]string{
	"old-computer":           "Run this on the old computer. If the move goes back, `movekit deactivate {app} --back --because REASON` deactivates the licences on the new one.",
	"other-computer":         "Run this on the new computer. If the move goes back, `movekit activate {app} --back --because REASON` activates the licences on the old one.",
	"new-computer":           "Run this on that computer. If it broke, continue here with `movekit unpack {app} --change-computer --because REASON`; its licences then count as licences of a lost computer.",
	"right-name":             "Make sure that this is the right computer and the right kit.",
	"not-a-copy":             "Create a kit for a move with `movekit new DIR`.",
	"verified":               "Run `movekit verify {app}` on the new computer first.",
	"handed-over":            "Run `movekit report --to DIR` first, with a folder outside the kit.",
	"kit-undamaged":          "Run `movekit pack` on the old computer again; undamaged data is kept. If its data was retired, run `movekit retire --back` first. You can unpack the undamaged apps by name.",
	"app-closed":             "Close the app normally, so that it saves its data. Stop a service in the system's list of services. Then run this again.",
	"files-closed":           "Close that program and run this again.",
	"sync-done":              "Let the app send everything first; on a computer without network, connect it once.",
	"exports-present":        "Make the missing exports in the app, or let the card's command make them with --run-commands.",
	"readable":               "Make sure that you may read it (perhaps as administrator), and that a server runs and accepts the login. Or pack only the other items: APP/ITEM.",
	"not-set-aside":          "Run `movekit retire {app} --back` first: it moves the data back, and sets aside what was created in its place. Then pack again.",
	"items-present":          "Correct the path in the card, give the location of a drive (--drive D=FOLDER), or mark the item optional. To go on without it, override this gate with a reason.",
	"database-whole":         "Open the data in its app, and repair it there (compact it, build its indexes again). If the app finds nothing wrong, override this gate with that reason.",
	"dependencies-present":   "Find the missing part first: the data cannot be used without it.",
	"newest-copy":            "Use the newer copy of the kit, and put this one away. Otherwise each copy's record would be incomplete.",
	"destinations-confirmed": "Check them. If they are right, give them again, as `movekit ready` with --user OLD=NEW, --place APP/ITEM=PATH or --drive D=FOLDER.",
	"clock-right":            "Set this computer's clock, and run this again: waiting times and certificates depend on it.",
	"counts-expected":        "Check in the app whether something is missing, and check the path and the number in the card.",
	"serial-right":           "Compare it with the label or the vendor's mail, and correct the app's settings or the card.",
	"not-expired":            "Renew the licence with its vendor first. You can unpack and verify the data meanwhile.",
	"activation-deadline":    "Contact the vendor first; `movekit licence letter {app}` writes the letter.",
	"names-fit":              "Rename them on the old computer, or skip them in the card. If you override this gate, they are left out and listed.",
	"fits":                   "Free space on the disk that is named. For a pack, the kit can continue on another stick: give a folder on it with --medium.",
	"sealed":                 "Run `movekit pack {app}` on the old computer first.",
	"old-unchanged":          "Run `movekit pack {app}` again: it seals the changes. `movekit survey {app}` shows them.",
	"trial-verified":         "Run `movekit unpack {app}` and `movekit verify {app}` on the new computer first: a deactivation is hard to undo.",
	"packed":                 "Run `movekit pack {app}` on the old computer first.",
	"users-known":            "Create the users on this computer, or map them with --user OLD=NEW.",
	"waiting-over":           "Wait until then, and run this again.",
	"licence-deactivated":    "Run `movekit deactivate {app}` on that computer first. If it broke, run `movekit deactivate {app} --lost --because REASON` here, and add --change-computer if it was the new one.",
	"not-active-here":        "Run `movekit deactivate {app} --back --because REASON` here first: the licence is of no use without the data.",
	"old-data-exists":        "Keep the data here: otherwise the kit has the only copy. Override this gate if you want to unpack again.",
	"set-aside-exists":       "If somebody moved it, move it back. If it is lost, override this gate: then the unpacked data is removed, and nothing is moved back.",
	"destination-ready":      "Run `movekit ready {app}`, which says how to solve each problem: a stopped database server, a missing drive, a folder that cannot be written to, a path to confirm. Then run this again.",
	"requirements-met":       "Install it first; `movekit ready {app}` shows what is here.",
	"version-rule":           "Install that version first, and do not start it yet. If a command reports the version, check it with `movekit card show {app}`, and agree to it with --run-commands.",
	"same-edition":           "Install the same edition first, and do not start it yet.",
	"old-deactivated":        "Run `movekit deactivate {app}` there first; on a new computer with --back (if it is broken: `movekit deactivate --lost --because REASON`, or `movekit activate --takeover --because REASON`).",
	"in-place":               "Run `movekit unpack {app}` first. If the app must be activated before it gets its data, override this gate with that reason.",
	"allowance":              "Ask the vendor for another transfer. No transfer was used.",
	"usable-again":           "Ask the vendor to extend the licence, or wait with the move. If the app is not needed until then, override this gate with that reason.",
	"seat-free":              "Deactivate it on that computer, with the kit of its move or at the vendor, and run this again. If it stays there, give this move up: `movekit close --give-up --because REASON`.",
	"seat-stays":             "Nothing to do: that was your choice. If the seat is no longer needed, override this gate with that reason.",
	"licence-covers":         "Install a version that the licence covers, or ask the vendor for an upgrade. If another version is installed by now, `movekit ready` on the new computer looks again.",
}

// needText has the action for each need of ready. A check without a need uses the advice of its
// gate.
var needText = map[ready.Need]string{
	ready.NeedSystem:         "Create another kit for this computer's system.",
	ready.NeedPack:           "Run `movekit pack` on the old computer; then ready can check the data.",
	ready.NeedAgreement:      "Agree to run %s with --run-commands.",
	ready.NeedInstall:        "Install it.",
	ready.NeedApp:            "Install it, and do not start it yet.",
	ready.NeedRun:            "Run %s. Do not start the app yet.",
	ready.NeedInstallerAgain: "Get it from the vendor again.",
	ready.NeedVersion:        "Install a version that can read the data.",
	ready.NeedEdition:        "Install the same edition.",
	ready.NeedClose:          "Close it before the unpack.",
	ready.NeedNetwork:        "Connect this computer to that network, or make sure that the server is up.",
	ready.NeedUser:           "Create the user, or map it to another user with --user %s=NEW.",
	ready.NeedCounterpart:    "If so, use --user %s=%s, here and for unpack.",
	ready.NeedPlace:          "Create that drive or folder, make it writable, or correct the card.",
	ready.NeedDrive:          "Connect that drive, or map it with --drive %s=FOLDER.",
	ready.NeedConfirm:        "If that is right, use --place '%s=%s', here and for unpack.",
	ready.NeedServer:         "Make sure that the database server here runs and accepts the login.",
	ready.NeedServerParts:    "Install it for the database server, or a newer server.",
	ready.NeedSpace:          "Free space there.",
	ready.NeedOther:          "Continue on that computer; if it broke, unpack here with --change-computer --because REASON.",
	ready.NeedNames:          "Rename it on the old computer and pack again; otherwise it is left out.",
	ready.NeedCovered:        "Install a version that the licence covers, or ask the vendor for an upgrade.",
}

// firstText returns the action for a failed check of an app.
func firstText(c ready.Check, app string) string {
	if c.Need == "" {
		return adviceOn(c.Gate, app)
	}
	var args []any
	for _, a := range []string{c.Of, c.With} {
		if a != "" {
			args = append(args, a)
		}
	}
	return fmt.Sprintf(needText[c.Need], args...)
}

// maxSource limits the shown part of a card's line, in characters. A wider line would be wrapped,
// and the mark below it would be in the wrong place.
const maxSource = 70

// around shortens a long line to the part around a column (from 1), and returns the new column.
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
