package cli

import (
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"
)

var peekConsole = windows.NewLazySystemDLL("kernel32.dll").NewProc("PeekConsoleInputW")

// keyEvent is a key event in a console's input (INPUT_RECORD and KEY_EVENT_RECORD in the Windows
// console documentation).
type keyEvent struct {
	sort, _                      uint16
	down                         int32
	repeat, virtual, scan, char_ uint16
	controls                     uint32
}

// waiting reports whether more keys were pressed, ignoring mouse and window events.
func waiting(f *os.File) bool {
	const key = 1
	var events [64]keyEvent
	var n uint32
	// There are none if it is not a console.
	peekConsole.Call(f.Fd(), uintptr(unsafe.Pointer(&events)), uintptr(len(events)), uintptr(unsafe.Pointer(&n)))
	return slices.ContainsFunc(events[:n], func(e keyEvent) bool { return e.sort == key && e.down != 0 && e.char_ != 0 })
}
