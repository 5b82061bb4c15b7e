package kit

import (
	"bytes"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
)

// saveSums writes the kit's CHECKSUMS.b3.
func (k *Kit) saveSums() error {
	if err := k.there(); err != nil {
		return err
	}
	return saveSums(k.Dir, k.sums)
}

// saveSums writes CHECKSUMS.b3 in the format of b3sum -c: hash, two spaces, name; sorted by name.
func saveSums(dir string, sums map[string]string) error {
	var b bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		fmt.Fprintf(&b, "%s  %s\n", sums[name], name)
	}
	if err := journal.WriteFile(filepath.Join(dir, ChecksumsFile), b.Bytes(), 0o644); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", ChecksumsFile)
	}
	return nil
}

// readSums reads CHECKSUMS.b3. The file must be exactly what saveSums would write.
func readSums(dir string) (map[string]string, error) {
	data, err := journal.ReadFile(filepath.Join(dir, ChecksumsFile), maxSmall)
	if err != nil {
		return nil, fault.Wrap(fault.Damaged, err, "cannot read %s", ChecksumsFile)
	}
	sums := map[string]string{}
	last := ""
	for n, line := range strings.Split(strings.TrimSuffix(string(data), "\n"), "\n") {
		hash, name, ok := strings.Cut(line, "  ")
		_, isHash := digest.Parse(hash)
		if !ok || !isHash || name <= last || !filepath.IsLocal(filepath.FromSlash(name)) {
			return nil, fault.New(fault.Damaged, "line %d of %s was changed", n+1, ChecksumsFile)
		}
		sums[name], last = hash, name
	}
	if !bytes.HasSuffix(data, []byte("\n")) {
		return nil, fault.New(fault.Damaged, "the end of %s is missing", ChecksumsFile)
	}
	return sums, nil
}
