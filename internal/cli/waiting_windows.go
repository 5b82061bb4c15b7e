package cli

import (
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"
)

var peekConsole = windows.NewLazySystemDLL("kernel32.dll").NewProc("PeekConsoleInputW")

// keyEvent is an event of a console's input that is a key (INPUT_RECORD and KEY_EVENT_RECORD of
// the Windows console's documentation).
type keyEvent struct {
	sort, _                      uint16
	down                         int32
	repeat, virtual, scan, char_ uint16
	controls                     uint32
}

// waiting reports whether more was typed: keys that were pressed, and not what a mouse or a
// window did.
func waiting(f *os.File) bool {
	const key = 1
	var events [64]keyEvent
	var n uint32
	// Where it is no console, there are none.
	peekConsole.Call(f.Fd(), uintptr(unsafe.Pointer(&events)), uintptr(len(events)), uintptr(unsafe.Pointer(&n)))
	return slices.ContainsFunc(events[:n], func(e keyEvent) bool { return e.sort == key && e.down != 0 && e.char_ != 0 })
}
