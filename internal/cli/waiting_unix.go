//go:build unix

package cli

import (
	"os"

	"golang.org/x/sys/unix"
)

// waiting reports whether more input is available.
func waiting(f *os.File) bool {
	n, err := unix.Poll([]unix.PollFd{{Fd: int32(f.Fd()), Events: unix.POLLIN}}, 0)
	return err == nil && n > 0
}
