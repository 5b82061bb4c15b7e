package test

import (
	"strings"
	"testing"
)

// TestSecondSeat activates a second seat, and leaves the old computer active.
func TestSecondSeat(t *testing.T) {
	t.Parallel()
	dir := office(t)
	addLicence(t, dir, strings.NewReplacer("OLD-ID", oldID(t, dir), "seats: 1", "seats: 2").Replace(oneSeat))
	d := startDesk(t, dir, "127.0.0.1:0")
	seat(t, dir, d, d.url)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 4, dir, "new", "activate", "--yes").tells(t, "old-deactivated")
	step(t, 2, dir, "new", "activate", "--yes", "--second-seat", "--because", "")
	step(t, 0, dir, "new", "activate", "--yes", "--second-seat", "--because", "both desks are used until May")
	if active, _ := atDesk(t, dir); len(active) != 2 {
		t.Errorf("active on %v", active)
	}
	step(t, 0, dir, "new", "verify")
}
