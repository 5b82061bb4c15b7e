package value

import (
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"movekit/test/fatal"
)

// TestWait parses waiting times, and checks when they end.
func TestWait(t *testing.T) {
	deactivated := time.Date(2026, 3, 28, 22, 30, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"24h": "2026-03-29T22:30:00Z", "calendar-day Europe/Berlin": "2026-03-28T23:00:00Z", "calendar-day Asia/Tokyo": "2026-03-29T15:00:00Z", "calendar-day UTC": "2026-03-29T00:00:00Z",
		"calendar-day Nowhere/Land": "", "soon": "", "-1h": "",
	} {
		var w Wait
		fatal.If(t, yaml.Unmarshal([]byte(text), &w))
		got := ""
		if over := w.From(deactivated); !over.IsZero() {
			got = over.UTC().Format(time.RFC3339)
		}
		if got != want || (want == "") != w.Bad() {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
	// In Brazil, 15 October 2017 began at 01:00. In Chile, the last hour of 14 May 2016 came twice.
	for zone, c := range map[string][2]string{
		"America/Sao_Paulo": {"2017-10-14T20:00:00-03:00", "2017-10-15T01:00:00-02:00"},
		"America/Santiago":  {"2016-05-14T20:00:00-03:00", "2016-05-15T00:00:00-04:00"},
	} {
		var w Wait
		fatal.If(t, yaml.Unmarshal([]byte("calendar-day "+zone), &w))
		begin, _ := time.Parse(time.RFC3339, c[0])
		if got := w.From(begin).Format(time.RFC3339); got != c[1] {
			t.Errorf("%s: %s, want %s", zone, got, c[1])
		}
	}
	// The day on which the clocks are put forward is shorter.
	w := Wait{zone: time.FixedZone("far", 9*3600)}
	if !w.From(time.Time{}).IsZero() || !(Wait{}).From(deactivated).IsZero() {
		t.Error("what was not deactivated is waited for")
	}
}
