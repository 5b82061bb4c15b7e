// Package block keeps the blocks of memory that data is read and written in, so
// that a move of many small items does not make each of them anew.
package block

import (
	"sync"
	"unsafe"
)

// Size is how long a block is, in bytes.
const Size = 1 << 20

// Page is a multiple of every medium's sector size, in bytes. Blocks begin at a
// multiple of it, as reads that pass by the system's cache ask for.
const Page = 4096

var idle = sync.Pool{New: func() any {
	b := make([]byte, Size+Page)
	skip := Page - int(uintptr(unsafe.Pointer(&b[0]))%Page)
	b = b[skip : skip+Size]
	return &b
}}

// Take returns a block that nobody else has. What is in it is old.
func Take() []byte { return *idle.Get().(*[]byte) }

// Give hands a block back, or what is left in use of one from its beginning.
func Give(b []byte) { b = b[:Size]; idle.Put(&b) }
