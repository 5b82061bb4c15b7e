// Package simsql simulates a Microsoft SQL Server, where none can be installed: it speaks the protocol MS-TDS (version 7.4) on
// the loopback interface, for the statements that Move Kit sends, and behaves as the documentation of the server describes. It
// knows no other SQL, has no TLS, and keeps its databases as JSON files.
package simsql

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"unicode/utf16"
)

// Packet types (MS-TDS 2.2.3.1.1), and the status of the last packet of a message.
const (
	batchPacket     = 0x01
	attentionPacket = 0x06
	replyPacket     = 0x04
	loginPacket     = 0x10
	preloginPacket  = 0x12
	endOfMessage    = 0x01
)

// maxMessage limits a message from a client, in bytes.
const maxMessage = 64 << 20

// packetSize is the size of the packets that the server sends, in bytes.
const packetSize = 4096

// conn is a connection from a client.
type conn struct {
	net.Conn
	in  *bufio.Reader
	out []byte // the reply so far
}

// receive reads one message.
func (c *conn) receive() (kind byte, data []byte, err error) {
	var head [8]byte
	for {
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			return 0, nil, err
		}
		n := int(binary.BigEndian.Uint16(head[2:])) - len(head)
		if n < 0 || len(data)+n > maxMessage {
			return 0, nil, errors.New("a message is too long")
		}
		at := len(data)
		data = append(data, make([]byte, n)...)
		if _, err := io.ReadFull(c.in, data[at:]); err != nil {
			return 0, nil, err
		}
		if head[1]&endOfMessage != 0 {
			return head[0], data, nil
		}
	}
}

// flush sends the reply.
func (c *conn) flush() error {
	for number, rest := byte(1), c.out; ; number++ {
		n := min(len(rest), packetSize-8)
		head := []byte{replyPacket, 0, 0, 0, 0, 0, number, 0}
		if n == len(rest) {
			head[1] = endOfMessage
		}
		binary.BigEndian.PutUint16(head[2:], uint16(n+8))
		if _, err := c.Write(append(head, rest[:n]...)); err != nil {
			return err
		}
		if rest = rest[n:]; len(rest) == 0 {
			c.out = c.out[:0]
			return nil
		}
	}
}

func (c *conn) u16(n int)    { c.out = binary.LittleEndian.AppendUint16(c.out, uint16(n)) }
func (c *conn) u32(n uint32) { c.out = binary.LittleEndian.AppendUint32(c.out, n) }
func (c *conn) u64(n uint64) { c.out = binary.LittleEndian.AppendUint64(c.out, n) }

// UTF16 returns a text in UTF-16, little-endian, as nvarchar has it.
func UTF16(s string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

func fromUTF16(b []byte) string {
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return string(utf16.Decode(units))
}

// short appends a text with its length in characters as one byte (B_VARCHAR).
func (c *conn) short(s string) {
	b := UTF16(s)
	c.out = append(append(c.out, byte(len(b)/2)), b...)
}

// prelogin answers the first message: this version, and no encryption (MS-TDS 2.2.6.5).
func (c *conn) prelogin() {
	c.out = append(c.out, 0, 0, 11, 0, 6, 1, 0, 17, 0, 1, 0xff, 15, 0, 0, 0, 0, 0, 2)
}

// login is the content of a login message that matters (MS-TDS 2.2.6.4).
type login struct{ host, user, password, app, database string }

func readLogin(b []byte) (l login, err error) {
	for at, to := range map[int]*string{36: &l.host, 40: &l.user, 44: &l.password, 48: &l.app, 68: &l.database} {
		if len(b) < at+4 {
			return l, errors.New("the login is too short")
		}
		from, n := int(binary.LittleEndian.Uint16(b[at:])), 2*int(binary.LittleEndian.Uint16(b[at+2:]))
		if from+n > len(b) {
			return l, errors.New("the login is too short")
		}
		text := append([]byte{}, b[from:from+n]...)
		if at == 44 { // hidden, not encrypted
			for i := range text {
				text[i] ^= 0xa5
				text[i] = text[i]<<4 | text[i]>>4
			}
		}
		*to = fromUTF16(text)
	}
	return l, nil
}

// Tokens of a reply (MS-TDS 2.2.7).
const (
	tokenColumns = 0x81
	tokenError   = 0xaa
	tokenLogin   = 0xad
	tokenRow     = 0xd1
	tokenChange  = 0xe3
	tokenDone    = 0xfd
)

// done ends a result.
func (c *conn) done(status int, rows int) {
	c.out = append(c.out, tokenDone)
	c.u16(status)
	c.u16(0)
	c.u64(uint64(rows))
}

// Bits of the status of done.
const (
	doneError     = 0x02
	doneCount     = 0x10
	doneAttention = 0x20
)

// refuse appends an error of the server.
func (c *conn) refuse(e *Error) {
	var m conn
	m.u32(uint32(e.Number))
	m.out = append(m.out, 1, 16)
	text := UTF16(e.Text)
	m.u16(len(text) / 2)
	m.out = append(m.out, text...)
	m.short("simulated")
	m.short("")
	m.u32(1)
	c.out = append(c.out, tokenError)
	c.u16(len(m.out))
	c.out = append(c.out, m.out...)
	c.done(doneError, 0)
}

// accepted appends the answer to a login.
func (c *conn) accepted(database string) {
	var m conn
	m.out = append(m.out, 1)
	m.short(database)
	m.short("master")
	c.out = append(c.out, tokenChange)
	c.u16(len(m.out))
	c.out = append(c.out, m.out...)
	m.out = append(m.out[:0], 1, 0x74, 0, 0, 4)
	m.short("simulated")
	m.out = append(m.out, 15, 0, 0, 0)
	c.out = append(c.out, tokenLogin)
	c.u16(len(m.out))
	c.out = append(c.out, m.out...)
	c.done(0, 0)
}

// Value is a cell of a result: bytes of varbinary(max), or a text of nvarchar(max) in UTF-16. nil is NULL.
type Value []byte

// Text returns a text as a value.
func Text(s string) Value { return append(Value{}, UTF16(s)...) }

// result appends rows. binary says which columns are varbinary(max).
func (c *conn) result(binaries []bool, rows [][]Value) {
	c.out = append(c.out, tokenColumns)
	c.u16(len(binaries))
	for _, is := range binaries {
		c.u32(0)
		c.u16(1) // nullable
		if is {
			c.out = append(c.out, 0xa5, 0xff, 0xff)
		} else {
			c.out = append(c.out, 0xe7, 0xff, 0xff, 9, 4, 0xd0, 0, 52) // Latin1_General_CI_AS
		}
		c.short("")
	}
	for _, r := range rows {
		c.out = append(c.out, tokenRow)
		for _, v := range r {
			if v == nil {
				c.u64(1<<64 - 1)
				continue
			}
			c.u64(uint64(len(v)))
			if len(v) > 0 {
				c.u32(uint32(len(v)))
				c.out = append(c.out, v...)
			}
			c.u32(0)
		}
	}
	c.done(doneCount, len(rows))
}
