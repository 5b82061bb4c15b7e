// Package wire adapts PostgreSQL's protocol.
package wire

import (
	"encoding/binary"
	"io"
)

// splitter reads the server's messages (PostgreSQL documentation, 55.7) and splits long CopyData
// messages into short ones. A row is one message, which the driver would hold in memory as a whole.
type splitter struct {
	r    io.Reader
	part int64  // maximum length of a piece of CopyData, in bytes
	buf  []byte // read buffer
	held []byte // data that was not returned yet
	head []byte // message header to return first
	left int64  // bytes left of the current message or piece
	long int64  // bytes left of the CopyData after that piece
}

const headSize = 5 // a message's type, and its length without the type

// Split returns a reader of the same messages in which no CopyData is long.
func Split(r io.Reader) io.Reader { return newSplitter(r) }

func newSplitter(r io.Reader) *splitter {
	return &splitter{r: r, part: 64 << 10, buf: make([]byte, 64<<10)}
}

// Read returns available data. It waits only if there is none.
func (s *splitter) Read(p []byte) (n int, err error) {
	for n < len(p) {
		switch {
		case len(s.head) > 0:
			c := copy(p[n:], s.head)
			s.head, n = s.head[c:], n+c
		case s.left > 0 && len(s.held) > 0:
			c := copy(p[n:], s.held[:min(s.left, int64(len(s.held)))])
			s.held, s.left, n = s.held[c:], s.left-int64(c), n+c
		case s.left == 0 && s.long > 0:
			s.piece()
		case s.left == 0 && len(s.held) >= headSize:
			s.message()
		case n > 0:
			return n, nil
		default:
			if err := s.fill(); err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}

// message parses the header of the next message.
func (s *splitter) message() {
	s.left = max(int64(binary.BigEndian.Uint32(s.held[1:]))-4, 0)
	if s.held[0] == 'd' && s.left > s.part {
		s.left, s.long = 0, s.left
	} else {
		s.head = append([]byte(nil), s.held[:headSize]...)
	}
	s.held = s.held[headSize:]
}

// piece writes the header of the next piece of a long CopyData.
func (s *splitter) piece() {
	s.left = min(s.long, s.part)
	s.long -= s.left
	s.head = binary.BigEndian.AppendUint32([]byte{'d'}, uint32(s.left+4))
}

// fill reads more data.
func (s *splitter) fill() error {
	kept := copy(s.buf, s.held)
	n, err := s.r.Read(s.buf[kept:])
	s.held = s.buf[:kept+n]
	if n > 0 {
		return nil
	}
	return err
}
