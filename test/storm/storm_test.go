package storm

import (
	"os"
	"strconv"
	"testing"
)

// TestStorm moves 100 licences at once. MOVEKIT_STORM sets another number.
func TestStorm(t *testing.T) {
	moves := 100
	if n, err := strconv.Atoi(os.Getenv("MOVEKIT_STORM")); err == nil {
		moves = n
	}
	for day := range uint64(2) {
		r, err := Run(t.Context(), t.TempDir(), moves, day)
		if err != nil {
			t.Fatal(err)
		}
		if r.Right != moves || r.Lost < int64(moves/2) || r.Unheard < int64(moves) || r.Kills < int64(moves/2) || r.Restarts == 0 {
			t.Errorf("%+v", *r)
		}
		t.Logf("%+v", *r)
	}
}
