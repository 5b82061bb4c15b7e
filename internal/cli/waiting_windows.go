package cli

import (
	"os"
	"time"
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

// waiting reports whether more was typed, or comes soon: keys that were pressed, and not what a
// mouse or a window did.
func waiting(f *os.File, soon time.Duration) bool {
	const key = 1
	for end := time.Now().Add(soon); ; time.Sleep(5 * time.Millisecond) {
		var events [64]keyEvent
		var n uint32
		ok, _, _ := peekConsole.Call(f.Fd(), uintptr(unsafe.Pointer(&events)), uintptr(len(events)), uintptr(unsafe.Pointer(&n)))
		if ok == 0 {
			return false // it is no console
		}
		for _, e := range events[:n] {
			if e.sort == key && e.down != 0 && e.char_ != 0 {
				return true
			}
		}
		if time.Now().After(end) {
			return false
		}
	}
}
