// Package block keeps a pool of buffers for reading and writing, so that a move of many small items
// does not allocate each of them.
package block

import (
	"sync"
	"unsafe"
)

// Size is the length of a block, in bytes.
const Size = 1 << 20

// Page is a multiple of every medium's sector size, in bytes. Blocks are aligned to it, as uncached
// reads require.
const Page = 4096

var idle = sync.Pool{New: func() any {
	b := make([]byte, Size+Page)
	skip := Page - int(uintptr(unsafe.Pointer(&b[0]))%Page)
	b = b[skip : skip+Size]
	return &b
}}

// Take returns an unused block. Its content is undefined.
func Take() []byte { return *idle.Get().(*[]byte) }

// Give puts a block, or its beginning, back into the pool.
func Give(b []byte) { b = b[:Size]; idle.Put(&b) }
