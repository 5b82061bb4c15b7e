package tree

import (
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

const syncEach = false

// settle gives an open file its permissions and time.
func settle(f *os.File, e Entry) error {
	if err := f.Chmod(e.Mode); err != nil {
		return err
	}
	t := unix.NsecToTimespec(e.ModTime.UnixNano())
	return futimens(int(f.Fd()), &[2]unix.Timespec{t, t})
}

func setDir(root *os.Root, e Entry) error {
	if err := root.Chmod(e.Path, e.Mode); err != nil {
		return err
	}
	return root.Chtimes(e.Path, e.ModTime, e.ModTime)
}

// futimens sets the times of an open file: utimensat(2) without a path.
func futimens(fd int, times *[2]unix.Timespec) error {
	_, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(times)), 0, 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}
