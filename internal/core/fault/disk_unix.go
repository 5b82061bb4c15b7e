//go:build unix

package fault

import (
	"errors"
	"syscall"
)

func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}

func isReadOnly(err error) bool { return errors.Is(err, syscall.EROFS) }

// isScanned is told by no error of these systems.
func isScanned(error) bool { return false }
