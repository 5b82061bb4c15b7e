package postgres

import (
	"bytes"
	"io"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
)

// summing hashes the rows of a COPY and writes them to out, if not nil. The pieces it gets need not
// end at the end of a row.
type summing struct {
	out      io.Writer
	sum      dbprint.Multiset
	part     *digest.Hash
	begun    bool // part has the beginning of a row
	progress func(int64)
}

func (s *summing) Write(p []byte) (int, error) {
	n := len(p)
	if s.progress != nil {
		s.progress(int64(n))
	}
	if s.out != nil {
		if _, err := s.out.Write(p); err != nil {
			return 0, err
		}
	}
	for len(p) > 0 {
		end := bytes.IndexByte(p, '\n')
		if end < 0 {
			s.part.Write(p)
			s.begun = true
			break
		}
		if s.begun {
			s.part.Write(p[:end])
			s.sum.Add(s.part.Sum())
			s.part.Reset()
			s.begun = false
		} else {
			s.sum.Add(digest.Of(p[:end]))
		}
		p = p[end+1:]
	}
	return n, nil
}
