package sqlite

import (
	"context"
	"io"
	"math"
	"os"
	"path/filepath"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Encrypted reports whether a file looks like an encrypted SQLite database: whole pages of
// high-entropy bytes from the start. Such a file can only be moved as a file.
func Encrypted(name string) (bool, error) {
	f, err := os.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < 4096 || info.Size()%512 != 0 {
		return false, err
	}
	head := make([]byte, 64<<10)
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.ErrUnexpectedEOF {
		return false, err
	}
	return string(head[:16]) != magic && entropy(head[:min(n, 4096)]) > 7.8, nil
}

// entropy returns the information per byte, in bits, at most 8.
func entropy(data []byte) (bits float64) {
	var counts [256]int
	for _, b := range data {
		counts[b]++
	}
	for _, c := range counts {
		if c > 0 {
			p := float64(c) / float64(len(data))
			bits -= p * math.Log2(p)
		}
	}
	return bits
}

// copyEncrypted copies an encrypted database as a file. It returns an error if a log beside it is
// not empty, because that has the newest data, or if the file changes meanwhile.
func copyEncrypted(ctx context.Context, name, to string) error {
	for _, ending := range []string{"-wal", "-journal"} {
		if info, err := os.Stat(name + ending); err == nil && info.Size() > 0 {
			return fault.New(fault.Changed, "the encrypted database %s is not closed: its newest data is in %s", name, filepath.Base(name)+ending)
		}
	}
	was := stillOf(name)
	if err := copyFile(name, to); err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot copy the database %s", name)
	}
	if stillOf(name) != was {
		return fault.New(fault.Changed, "the encrypted database %s changed while it was being copied", name)
	}
	return ctx.Err()
}

// takeEncrypted fingerprints an encrypted database as a single value.
func takeEncrypted(name string) (*dbprint.Fingerprint, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the database")
	}
	defer f.Close()
	h, _, err := digest.Reader(f)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the database %s", name)
	}
	var sum dbprint.Multiset
	sum.Add(h)
	return &dbprint.Fingerprint{Engine: "SQLite, encrypted", Tables: []dbprint.Table{{Name: "the whole file, encrypted", Rows: 1, Digest: sum.Digest()}}}, nil
}
