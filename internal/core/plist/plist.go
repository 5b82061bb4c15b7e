// Package plist reads macOS property lists, as text and binary, and changes strings in binary ones.
// Sources: plist(5), and CFBinaryPList.c of the published CoreFoundation.
package plist

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf16"

	"howett.net/plist"
)

// MaxFile limits the size of a list, in bytes.
const MaxFile = 1 << 20

const magic = "bplist00"

// IsBinary reports whether a file is a binary list.
func IsBinary(data []byte) bool { return bytes.HasPrefix(data, []byte(magic)) }

// Read returns the content of a list: maps with string keys, slices, strings, numbers, times.
func Read(data []byte) (list any, err error) {
	if len(data) > MaxFile {
		return nil, errors.New("the property list is too large")
	}
	if IsBinary(data) {
		if _, err := parse(data); err != nil {
			return nil, err
		}
	}
	if _, err := plist.Unmarshal(data, &list); err != nil {
		return nil, fmt.Errorf("not a property list: %w", err)
	}
	return list, nil
}

// trailerLen is the length of a binary list's trailer.
const trailerLen = 32

// list is a parsed binary list: its objects, in the order of their numbers. Objects refer to each
// other by number, so that they may become longer.
type list struct {
	objects [][]byte
	refSize int
	top     uint64
}

var errDamaged = errors.New("the binary property list is damaged")

// parse parses a binary list. It rejects a list in which an array or dictionary is referenced more
// than once, because no usual program writes that, and a few bytes could expand to gigabytes.
func parse(data []byte) (*list, error) {
	if len(data) < len(magic)+trailerLen || len(data) > MaxFile {
		return nil, errDamaged
	}
	body, end := data[:len(data)-trailerLen], data[len(data)-trailerLen:]
	offsetSize, refSize := int(end[6]), int(end[7])
	count, top, table := binary.BigEndian.Uint64(end[8:]), binary.BigEndian.Uint64(end[16:]), binary.BigEndian.Uint64(end[24:])
	if offsetSize < 1 || offsetSize > 8 || refSize < 1 || refSize > 8 || count > uint64(len(body)) || top >= count || table > uint64(len(body)) || uint64(len(body))-table < count*uint64(offsetSize) {
		return nil, errDamaged
	}
	l := &list{refSize: refSize, top: top}
	met := make([]bool, count)
	for i := range count {
		at := number(body[table+i*uint64(offsetSize):][:offsetSize])
		if at >= table {
			return nil, errDamaged
		}
		length, refs, err := measure(body[at:table], refSize)
		if err != nil {
			return nil, err
		}
		for _, r := range refs {
			if r >= count {
				return nil, errDamaged
			}
			off := number(body[table+r*uint64(offsetSize):][:offsetSize])
			if off >= table {
				return nil, errDamaged
			}
			if kind := body[off] >> 4; kind < 0xa {
				continue
			}
			if met[r] || r == top {
				return nil, errors.New("the binary property list refers to an array or dictionary more than once")
			}
			met[r] = true
		}
		l.objects = append(l.objects, body[at:at+uint64(length)])
	}
	return l, nil
}

// number decodes an integer.
func number(b []byte) (n uint64) {
	for _, c := range b {
		n = n<<8 | uint64(c)
	}
	return n
}

// head decodes an object's marker: the length of marker and count, and the count.
func head(b []byte) (length int, count uint64, err error) {
	if len(b) == 0 {
		return 0, 0, errDamaged
	}
	count = uint64(b[0] & 0xf)
	if count != 0xf || b[0]>>4 == 0 {
		return 1, count, nil
	}
	if len(b) < 2 || b[1]>>4 != 1 || b[1]&0xf > 3 || len(b) < 2+1<<(b[1]&0xf) {
		return 0, 0, errDamaged
	}
	size := 1 << (b[1] & 0xf)
	return 2 + size, number(b[2 : 2+size]), nil
}

// measure returns an object's length in bytes, and the numbers of the objects it contains.
func measure(b []byte, refSize int) (length int, refs []uint64, err error) {
	lead, count, err := head(b)
	if err != nil {
		return 0, nil, err
	}
	unit := uint64(1)
	switch b[0] >> 4 {
	case 0x0: // null, false, true, fill
		return 1, nil, nil
	case 0x1, 0x2: // integers and floats
		lead, count = 1, 1<<(b[0]&0xf)
	case 0x3: // a date
		lead, count = 1, 8
	case 0x4, 0x5, 0x7: // data, ASCII, UTF-8
	case 0x6: // UTF-16
		unit = 2
	case 0x8: // an id
		lead, count = 1, count+1
	case 0xa, 0xc: // arrays and sets
		unit = uint64(refSize)
	case 0xd: // dictionaries: the keys, then the values
		unit = 2 * uint64(refSize)
	default:
		return 0, nil, errDamaged
	}
	if count > uint64(len(b)) || count*unit > uint64(len(b)-lead) {
		return 0, nil, errDamaged
	}
	length = lead + int(count*unit)
	if b[0]>>4 >= 0xa {
		for at := lead; at < length; at += refSize {
			refs = append(refs, number(b[at:at+refSize]))
		}
	}
	return length, refs, nil
}

// Changed returns a binary list with strings replaced by change, and their number. If there are
// none, it returns the list itself.
func Changed(data []byte, change func(string) (string, bool)) (now []byte, n int, err error) {
	l, err := parse(data)
	if err != nil {
		return nil, 0, err
	}
	for i, o := range l.objects {
		was, is := text(o)
		if !is {
			continue
		}
		if to, changed := change(was); changed {
			l.objects[i] = encode(to)
			n++
		}
	}
	if n == 0 {
		return data, 0, nil
	}
	return l.bytes(), n, nil
}

// Strings returns the strings of a binary list in the order of their numbers, or none if the list
// is damaged.
func Strings(data []byte) (out []string) {
	l, err := parse(data)
	if err != nil {
		return nil
	}
	for _, o := range l.objects {
		if s, is := text(o); is {
			out = append(out, s)
		}
	}
	return out
}

// text decodes a string object.
func text(o []byte) (string, bool) {
	lead, _, err := head(o)
	if err != nil {
		return "", false
	}
	switch o[0] >> 4 {
	case 0x5, 0x7:
		return string(o[lead:]), true
	case 0x6:
		units := make([]uint16, len(o[lead:])/2)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(o[lead+2*i:])
		}
		return string(utf16.Decode(units)), true
	}
	return "", false
}

// encode encodes a string: in ASCII if possible, else in UTF-16.
func encode(s string) []byte {
	kind, count, content := byte(0x50), len(s), []byte(s)
	for _, r := range s {
		if r < 0x80 {
			continue
		}
		units := utf16.Encode([]rune(s))
		kind, count, content = 0x60, len(units), nil
		for _, u := range units {
			content = binary.BigEndian.AppendUint16(content, u)
		}
		break
	}
	if count < 0xf {
		return append([]byte{kind | byte(count)}, content...)
	}
	b := []byte{kind | 0xf, 0x12} // a number of four bytes
	return append(binary.BigEndian.AppendUint32(b, uint32(count)), content...)
}

// bytes encodes the list.
func (l *list) bytes() []byte {
	out := []byte(magic)
	var offsets []int
	for _, o := range l.objects {
		offsets = append(offsets, len(out))
		out = append(out, o...)
	}
	table := len(out)
	size := 1
	for table >= 1<<(8*size) {
		size++
	}
	for _, at := range offsets {
		out = append(out, binary.BigEndian.AppendUint64(nil, uint64(at))[8-size:]...)
	}
	out = append(out, 0, 0, 0, 0, 0, 0, byte(size), byte(l.refSize))
	out = binary.BigEndian.AppendUint64(out, uint64(len(l.objects)))
	out = binary.BigEndian.AppendUint64(out, l.top)
	return binary.BigEndian.AppendUint64(out, uint64(table))
}
