package cli

// noDumps does nothing: Windows writes no dumps of a Go program by default.
func noDumps() {}
