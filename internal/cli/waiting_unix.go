//go:build unix

package cli

import (
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// waiting reports whether more was typed, or comes soon.
func waiting(f *os.File, soon time.Duration) bool {
	n, err := unix.Poll([]unix.PollFd{{Fd: int32(f.Fd()), Events: unix.POLLIN}}, int(soon.Milliseconds()))
	return err == nil && n > 0
}
