package card

import (
	"testing"
	"time"

	"github.com/goccy/go-yaml"
)

// TestWait reads waiting times, and sees when they are over.
func TestWait(t *testing.T) {
	freed := time.Date(2026, 3, 28, 22, 30, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"24h": "2026-03-29T22:30:00Z", "calendar-day Europe/Berlin": "2026-03-28T23:00:00Z", "calendar-day Asia/Tokyo": "2026-03-29T15:00:00Z", "calendar-day UTC": "2026-03-29T00:00:00Z",
		"calendar-day Nowhere/Land": "", "soon": "", "-1h": "",
	} {
		var w Wait
		if err := yaml.Unmarshal([]byte(text), &w); err != nil {
			t.Fatal(err)
		}
		got := ""
		if over := w.From(freed); !over.IsZero() {
			got = over.UTC().Format(time.RFC3339)
		}
		if got != want || (want == "") != (w.after.bad != "") {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
	// The day on which clocks are put forward is shorter.
	w := Wait{day: true, zone: time.FixedZone("far", 9*3600)}
	if !w.From(time.Time{}).IsZero() || !(Wait{}).From(freed).IsZero() {
		t.Error("what was not freed is waited for")
	}
}
