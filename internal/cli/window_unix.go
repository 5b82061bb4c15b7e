//go:build unix

package cli

// ownWindow reports whether the console window closes when this program ends. Here it never does.
func ownWindow() bool { return false }
