package journal_test

import (
	"fmt"
	"os"
	"path/filepath"

	"movekit/internal/core/digest"
	"movekit/internal/core/journal"
)

func ExampleLog_Append() {
	dir, _ := os.MkdirTemp("", "journal-")
	defer os.RemoveAll(dir)
	key := digest.Of([]byte("derived from the kit's passphrase"))

	log, _ := journal.Read(dir)
	fmt.Println(log.Append(journal.Line{Event: journal.EventMade}, key))
	fmt.Println(log.Append(journal.Line{Event: journal.EventPacked, App: "hoistbook"}, key))

	log, _ = journal.Read(dir)
	fmt.Printf("%d lines, %q\n", len(log.Lines), log.Authenticate(key))

	// A line that somebody changed no longer fits the chain.
	name := filepath.Join(dir, journal.File)
	data, _ := os.ReadFile(name)
	os.WriteFile(name, append(data[:len(data)-20], data[len(data)-19:]...), 0o600)
	log, _ = journal.Read(dir)
	fmt.Println(len(log.Damage) > 0)
	// Output:
	// <nil>
	// <nil>
	// 2 lines, ""
	// true
}
