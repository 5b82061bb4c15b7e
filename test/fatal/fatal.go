// Package fatal ends tests whose setup failed.
package fatal

import "testing"

// If ends the test if there is an error.
func If(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
