// Package fatal ends tests whose ground is not there.
package fatal

import "testing"

// If ends the test where there is an error.
func If(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
