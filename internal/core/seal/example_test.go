package seal_test

import (
	"fmt"
	"io"
	"os"

	"filippo.io/age"

	"movekit/internal/core/seal"
)

func Example() {
	dir, _ := os.MkdirTemp("", "seal-")
	defer os.RemoveAll(dir)
	id, _ := age.GenerateX25519Identity()

	w, err := seal.Create(dir, "diary.tar"+seal.Ending, seal.Options{To: id.Recipient()})
	if err != nil {
		fmt.Println(err)
		return
	}
	io.WriteString(w, "The berths of 2026")
	parts, err := w.Close() // flushed, and read back from the medium
	fmt.Println(len(parts), parts[0].Name, err)

	r, err := seal.Open(dir, parts, id)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer r.Close()
	text, err := io.ReadAll(r)
	fmt.Println(string(text), err)
	// Output:
	// 1 diary.tar.zst.age <nil>
	// The berths of 2026 <nil>
}
