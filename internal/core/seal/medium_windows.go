package seal

import (
	"os"

	"golang.org/x/sys/windows"

	"movekit/internal/core/block"
)

// openUncached opens a file for reading from its medium, not from the cache. Reads must be aligned:
// see block.Page and blockLen.
func openUncached(name string) (*os.File, error) {
	p, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return nil, err
	}
	const share = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	h, err := windows.CreateFile(p, windows.GENERIC_READ, share, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_NO_BUFFERING, 0)
	if err != nil {
		return os.Open(name)
	}
	return os.NewFile(uintptr(h), name), nil
}

func syncData(f *os.File) error { return f.Sync() }

func dropCache(*os.File, int64, int64) {}

// blockLen rounds a length up to whole pages.
func blockLen(n int) int { return (n + block.Page - 1) &^ (block.Page - 1) }

// SyncDir does nothing: Windows flushes names itself.
func SyncDir(string) error { return nil }

// FlushAhead does nothing: Windows writes continuously.
func FlushAhead(string) (stop func()) { return func() {} }

// SyncVolume does nothing: every file was flushed when it was written, and flushing a volume needs
// an administrator.
func SyncVolume(string) error { return nil }
