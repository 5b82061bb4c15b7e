package postgres

import (
	"bytes"
	"testing"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
)

// TestSumming computes the same result for any split of the rows.
func TestSumming(t *testing.T) {
	rows := []byte("1\tGull\n\n2\tTern of a long name\n3\t\\N\n")
	var want dbprint.Multiset
	for _, line := range bytes.Split(bytes.TrimSuffix(rows, []byte("\n")), []byte("\n")) {
		want.Add(digest.Of(line))
	}
	for size := 1; size <= len(rows); size++ {
		var out bytes.Buffer
		told := int64(0)
		s := &summing{out: &out, part: digest.New(), progress: func(n int64) { told += n }}
		for at := 0; at < len(rows); at += size {
			s.Write(rows[at:min(at+size, len(rows))])
		}
		if s.sum.Digest() != want.Digest() || !bytes.Equal(out.Bytes(), rows) || told != int64(len(rows)) {
			t.Errorf("in pieces of %d: %d rows, %q", size, s.sum.N, out.Bytes())
		}
	}
}
