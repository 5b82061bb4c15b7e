package cli

import (
	"unsafe"

	"golang.org/x/sys/windows"
)

var consoleProcesses = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetConsoleProcessList")

// ownWindow reports whether this program has its console window for itself, as when it was
// started by a double click: the window goes when it ends.
func ownWindow() bool {
	var ids [2]uint32
	n, _, _ := consoleProcesses.Call(uintptr(unsafe.Pointer(&ids[0])), uintptr(len(ids)))
	return n == 1
}
