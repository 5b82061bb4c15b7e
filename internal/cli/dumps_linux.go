package cli

import "golang.org/x/sys/unix"

// noInspection keeps other processes of the same user from reading this process's memory and
// environment (prctl(2), PR_SET_DUMPABLE). An administrator still can.
func noInspection() {
	unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) //nolint:errcheck // it only adds protection
}
