package cli

import (
	"unsafe"

	"golang.org/x/sys/windows"
)

var consoleProcesses = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetConsoleProcessList")

// ownWindow reports whether this program has its own console window, as after a double click, which
// closes when the program ends.
func ownWindow() bool {
	var ids [2]uint32
	n, _, _ := consoleProcesses.Call(uintptr(unsafe.Pointer(&ids[0])), uintptr(len(ids)))
	return n == 1
}
