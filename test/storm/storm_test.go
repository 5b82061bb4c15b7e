package storm

import "testing"

// TestStorm moves 100 licences at once.
func TestStorm(t *testing.T) {
	for day := range uint64(2) {
		r, err := Run(t.Context(), t.TempDir(), 100, day)
		if err != nil {
			t.Fatal(err)
		}
		if r.Right != 100 || r.Lost < 50 || r.Unheard < 100 || r.Kills < 50 || r.Restarts == 0 {
			t.Errorf("%+v", *r)
		}
		t.Logf("%+v", *r)
	}
}
