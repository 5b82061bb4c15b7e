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

// progress is the progress that was last shown.
type progress struct {
	line      bool // a line on the terminal must be cleared
	mu        sync.Mutex
	bar       *progressbar.ProgressBar
	saidBegin string

	now      run.Event // the current work
	label    string    // its label
	begun    time.Time
	did      int64  // bytes done
	all      int64  // bytes of all such work; 0 if unknown
	allOf    string // the app that this includes; "" means all
	allDid   int64
	lastTold time.Time
}

// everySecond is the interval of progress lines with --json.
const everySecond = time.Second

// progressLine is a line of progress for programs: for the current work, and for all of it.
type progressLine struct {
	Doing string `json:"doing"`
	App   string `json:"app,omitempty"`
	Item  string `json:"item,omitempty"`
	User  string `json:"user,omitempty"`
	Bytes int64  `json:"bytes"`
	Total int64  `json:"total,omitempty"`        // 0 if unknown
	Rate  int64  `json:"rate,omitempty"`         // bytes per second
	Left  int64  `json:"seconds_left,omitempty"` // for the current work
	Done  int64  `json:"all_bytes,omitempty"`
	All   int64  `json:"all_total,omitempty"` // of the app in pack, of all apps in unpack and verify
}

// notify shows progress: a bar on a terminal, lines of JSON on stderr for programs, and otherwise
// one line for each piece of work.
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

// begin shows the start of some work.
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
	case u.verbose && u.label != u.saidBegin: // not on a terminal
		said := u.label
		if e.Total > 0 {
			said += " (" + bytesText(e.Total) + ")"
		}
		fmt.Fprintln(u.err, table.Visible(said))
		u.saidBegin = u.label
	}
}

// Widths, in characters, of the bar and of the numbers beside it.
const (
	barWidth     = 10
	figuresWidth = 40
)

// described returns the text before the bar, shortened to fit on one line.
func (u *ui) described(before string) string {
	label := []rune(before + table.Visible(u.label))
	if most := widthOf(u.err) - barWidth - figuresWidth; most > 0 && len(label) > most {
		label = append(label[:most-1], '…')
	}
	return string(label)
}

// further adds to the progress.
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
	u.bar.Add64(n) //nolint:errcheck // more than expected is not an error
}

// tellPrograms writes a line of progress.
func (u *ui) tellPrograms() {
	u.lastTold = time.Now()
	t := progressLine{Doing: u.now.What, App: u.now.App, Item: u.now.Item, User: u.now.User, Bytes: u.did, Total: u.now.Total, Done: u.allDid, All: u.all}
	if took := time.Since(u.begun); u.did > 0 && took > 0 {
		t.Rate = int64(float64(u.did) / took.Seconds())
		if t.Total > t.Bytes && t.Rate > 0 {
			t.Left = (t.Total - t.Bytes) / t.Rate
		}
	}
	line, err := json.Marshal(struct {
		Progress progressLine `json:"progress"`
	}{t})
	if err == nil {
		fmt.Fprintf(u.err, "%s\n", line)
	}
}

// clear removes the bar.
func (u *ui) clear() {
	if u.bar != nil {
		u.bar.Clear() //nolint:errcheck // an error has no effect
		u.bar = nil
	}
	if u.line {
		fmt.Fprint(u.err, "\r\x1b[K")
		u.line = false
	}
}
