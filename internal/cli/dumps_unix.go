//go:build unix

package cli

import "golang.org/x/sys/unix"

// noDumps keeps the operating system from writing this process's memory, which can contain secrets,
// to a file if it crashes.
func noDumps() {
	unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}) //nolint:errcheck // a lower limit is in force then
	noInspection()
}
