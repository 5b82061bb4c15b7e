package version

import (
	"testing"
)

func TestRules(t *testing.T) {
	for _, c := range []struct {
		rule     Rule
		old, new string
		want     bool
	}{
		{SameMajor, "8.2.1", "8.9", true}, {SameMajor, "8.2", "9.0", false}, {SameMajor, "v14", "14.1", true},
		{SameMinor, "8_2", "8.2.7", true}, {SameMinor, "3.07.1.9", "3.7", true}, {SameMinor, "8.2", "8.3", false},
		{SameMinor, "6.11b", "6.11", true}, {SameOrNewer, "6.11b", "6.12", true}, {SameOrNewer, "6.11b", "6.11", false},
		{SameOrNewer, "6.11", "6.9", false}, {SameOrNewer, "6.11", "6.11", true}, {SameOrNewer, "2.0 beta", "2.0", true},
		{Exact, "8.2.1", "8.2.1", true}, {Exact, "8.2.1", "8.2.10", false}, {Exact, "v14", "14.0", true}, {Exact, "8.2", "8.2b", false},
		{SameMajor, "", "8", false}, {SameMajor, "8", "unknown", false}, {SameMajor, "99999999999999999999", "1", false},
	} {
		if got := Allows(c.rule, c.old, c.new); got != c.want {
			t.Errorf("%s: %q to %q gives %v", c.rule, c.old, c.new, got)
		}
	}
}

// TestOrder compares every pair in a sorted list of versions.
func TestOrder(t *testing.T) {
	grows := []string{"1.0alpha2", "1.0-beta", "1.0rc1", "1.0", "1.0.1", "3.07.1.9", "3.7.1.10", "6.11", "6.11b", "6.11c", "6.12", "8_2", "Version 8.3 (64-bit)", "v14", "14.0.1-3+deb12u1"}
	for i, a := range grows {
		for k, b := range grows {
			got := Compare(a, b)
			if (i < k) != (got < 0) || (i > k) != (got > 0) {
				t.Errorf("%q against %q gives %d", a, b, got)
			}
		}
	}
	for _, same := range [][2]string{{"8.2.0", "8_2"}, {"v14", "14"}, {"3.07", "3.7"}, {"6.11B", "6.11b"}, {"2024 R2", "2024 r2"}} {
		if got := Compare(same[0], same[1]); got != 0 {
			t.Errorf("%q against %q gives %d", same[0], same[1], got)
		}
	}
}
