package kit_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"movekit/internal/core/kit"
	"movekit/internal/core/seal"
)

func Example() {
	dir, _ := os.MkdirTemp("", "kit-")
	defer os.RemoveAll(dir)
	const passphrase = "agency-balcony-cabana-dagger-eagle-fable"
	made, err := kit.Create(filepath.Join(dir, "kit"), kit.New{Tool: "movekit", Old: kit.Computer{Name: "QUAY-DESK-1"}, New: kit.Computer{Name: "QUAY-DESK-2"}, Passphrase: passphrase, Work: 1})
	if err != nil {
		fmt.Println(err)
		return
	}
	made.Close()

	k, _ := kit.Open(filepath.Join(dir, "kit"))
	defer k.Close()
	fmt.Println(k.Manifest.Old.Name, k.Unlocked(), k.Unlock("a wrong one") != nil, k.Unlock(passphrase))
	k.Lock()
	w, _ := k.Seal("hoistbook", "diary"+seal.Ending, seal.Options{})
	io.WriteString(w, "The berths of 2026")
	parts, _ := w.Close()
	r, _ := k.Open("hoistbook", parts)
	text, err := io.ReadAll(r)
	fmt.Println(string(text), err)
	// Output:
	// QUAY-DESK-1 false true <nil>
	// The berths of 2026 <nil>
}
