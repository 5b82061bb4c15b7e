package cli

import (
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"

	"movekit/internal/core/run"
	"movekit/internal/table"
)

// progress is how a run gets on, as it was last shown.
type progress struct {
	line      bool // whether a line is on the terminal that is to be taken away
	mu        sync.Mutex
	bar       *progressbar.ProgressBar
	saidBegin string

	now      run.Event // the piece of work
	label    string    // of it
	begun    time.Time
	did      int64  // bytes of it
	all      int64  // bytes of all such pieces; 0 where that is not known
	allOf    string // the app that these are of; "" stands for all
	allDid   int64
	lastTold time.Time
}

// everySecond is how often programs are told, with --json.
const everySecond = time.Second

// told is a line of progress for programs: how far a piece of work is, and all of them.
type printBlocks struct {
	Doing string `json:"doing"`
	App   string `json:"app,omitempty"`
	Item  string `json:"item,omitempty"`
	User  string `json:"user,omitempty"`
	Bytes int64  `json:"bytes"`
	Total int64  `json:"total,omitempty"`        // 0 where it is not known
	Rate  int64  `json:"rate,omitempty"`         // bytes a second
	Left  int64  `json:"seconds_left,omitempty"` // of this piece
	Done  int64  `json:"all_bytes,omitempty"`
	All   int64  `json:"all_total,omitempty"` // of the app in pack, of all in unpack and verify
}

// notify shows the progress of a step: a bar on a terminal, lines of JSON on the error output
// for programs, a line a piece of work elsewhere.
func (u *ui) notify(e run.Event) {
	if u.quiet {
		return
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case e.All > 0:
		u.all, u.allDid, u.allOf = e.All, 0, e.App
	case e.What == "":
		u.further(e.Bytes)
	default:
		u.begin(e)
	}
}

// begin shows that a piece of work begins.
func (u *ui) begin(e run.Event) {
	u.clear()
	u.now, u.begun, u.did = e, time.Now(), 0
	u.label = e.What
	if e.Item != "" {
		u.label = fmt.Sprintf("%s: %s %s", e.App, e.What, e.Item)
		if e.User != "" {
			u.label += " of " + e.User
		}
	} else if e.App != "" {
		u.label = e.App + ": " + e.What
	}
	switch {
	case u.json:
		u.tellPrograms()
	case u.redraw && e.Total > 0:
		u.bar = progressbar.NewOptions64(e.Total,
			progressbar.OptionSetWriter(u.err), progressbar.OptionSetDescription(u.described("")), progressbar.OptionShowBytes(true), progressbar.OptionShowCount(),
			progressbar.OptionSetWidth(barWidth), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionSetPredictTime(true),
			progressbar.OptionClearOnFinish(), progressbar.OptionShowTotalBytes(true),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))
		u.bar.RenderBlank()
	case u.redraw:
		fmt.Fprint(u.err, table.Visible(u.label))
		u.line = true
	case u.verbose && u.label != u.saidBegin: // elsewhere than at a terminal
		said := u.label
		if e.Total > 0 {
			said += " (" + bytesText(e.Total) + ")"
		}
		fmt.Fprintln(u.err, table.Visible(said))
		u.saidBegin = u.label
	}
}

// Widths, in characters, of the bar, and of the figures beside it at most.
const (
	barWidth     = 10
	figuresWidth = 40
)

// described is what stands before the bar, so that all of it has space on a line of the
// terminal.
func (u *ui) described(before string) string {
	label := []rune(before + table.Visible(u.label))
	if most := widthOf(u.err) - barWidth - figuresWidth; most > 0 && len(label) > most {
		label = append(label[:most-1], '…')
	}
	return string(label)
}

// further shows that so much more of the piece of work is done.
func (u *ui) further(n int64) {
	u.did += n
	if u.all > 0 && u.now.Item != "" {
		u.allDid = min(u.allDid+n, u.all)
	}
	if u.json && time.Since(u.lastTold) >= everySecond {
		u.tellPrograms()
	}
	if u.bar == nil {
		return
	}
	if u.all > u.now.Total && u.now.Item != "" {
		of := "all"
		if u.allOf != "" {
			of = u.allOf
		}
		u.bar.Describe(u.described(fmt.Sprintf("%d%% of %s; ", 100*u.allDid/u.all, of)))
	}
	u.bar.Add64(n) //nolint:errcheck // more than was expected is no fault
}

// tellPrograms writes a line of progress.
func (u *ui) tellPrograms() {
	u.lastTold = time.Now()
	t := printBlocks{Doing: u.now.What, App: u.now.App, Item: u.now.Item, User: u.now.User, Bytes: u.did, Total: u.now.Total, Done: u.allDid, All: u.all}
	if took := time.Since(u.begun); u.did > 0 && took > 0 {
		t.Rate = int64(float64(u.did) / took.Seconds())
		if t.Total > t.Bytes && t.Rate > 0 {
			t.Left = (t.Total - t.Bytes) / t.Rate
		}
	}
	line, err := json.Marshal(struct {
		Progress printBlocks `json:"progress"`
	}{t})
	if err == nil {
		fmt.Fprintf(u.err, "%s\n", line)
	}
}

// clear takes the bar away.
func (u *ui) clear() {
	if u.bar != nil {
		u.bar.Clear() //nolint:errcheck // nothing to be done about it
		u.bar = nil
	}
	if u.line {
		fmt.Fprint(u.err, "\r\x1b[K")
		u.line = false
	}
}
