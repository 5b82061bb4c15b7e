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

// isScanned returns false: these systems have no error for it.
func isScanned(error) bool { return false }
