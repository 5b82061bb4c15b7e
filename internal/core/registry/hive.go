package registry

import (
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"movekit/internal/core/fault"
)

// Limits for hives, far above those of Windows, so that a damaged hive cannot exhaust the memory.
const (
	maxCell   = 16 << 20 // bytes of a cell
	maxKeys   = 1 << 18  // subkeys of one key
	maxValues = 1 << 16  // values of one key
)

// Offsets and flags in a hive file.
const (
	baseBlock    = 4096
	segment      = 16344 // bytes of a value in one cell; larger values are split
	latinKey     = 0x20  // nk flag: the name is Latin-1, else UTF-16
	latinValue   = 0x01  // vk flag: likewise
	inlineData   = 0x80000000
	none         = 0xffffffff
	windowsEpoch = 116444736000000000 // 1970-01-01 in 100 ns since 1601-01-01
)

// Hive is an open hive file.
type Hive struct {
	// Unfinished is true if the last write was not completed. The newest changes are then in
	// transaction logs, which are not read.
	Unfinished bool

	file io.ReaderAt
	size int64
	name string
	root uint32
	done func() error
}

// OpenHive opens a hive file.
func OpenHive(name string) (*Hive, error) {
	f, err := os.Open(name)
	if err != nil {
		kind := fault.Unreadable
		if os.IsNotExist(err) {
			kind = fault.Missing
		}
		return nil, fault.Wrap(kind, err, "cannot read the registry")
	}
	info, err := f.Stat()
	if err == nil {
		var h *Hive
		if h, err = newHive(f, info.Size(), name); err == nil {
			h.done = f.Close
			return h, nil
		}
	}
	f.Close()
	return nil, fault.Wrap(fault.Unreadable, err, "cannot read the registry in %s", name)
}

// newHive parses the base block.
func newHive(file io.ReaderAt, size int64, name string) (*Hive, error) {
	b := make([]byte, 512)
	if _, err := file.ReadAt(b, 0); err != nil || string(b[:4]) != "regf" {
		return nil, errDamaged
	}
	var sum uint32
	for i := 0; i < 508; i += 4 {
		sum ^= binary.LittleEndian.Uint32(b[i:])
	}
	switch sum { // two checksums are not used
	case 0:
		sum = 1
	case none:
		sum = none - 1
	}
	h := &Hive{file: file, size: size, name: name, root: binary.LittleEndian.Uint32(b[36:])}
	h.Unfinished = binary.LittleEndian.Uint32(b[4:]) != binary.LittleEndian.Uint32(b[8:]) || sum != binary.LittleEndian.Uint32(b[508:])
	return h, nil
}

// Close closes the file.
func (h *Hive) Close() error {
	if h.done == nil {
		return nil
	}
	return h.done()
}

// Root returns the root key.
func (h *Hive) Root() (Key, error) { return h.key(h.root) }

// cell returns the data of an allocated cell that starts with a signature. An empty signature
// matches any.
func (h *Hive) cell(at uint32, mark string, least int) ([]byte, error) {
	pos := int64(at) + baseBlock
	var head [4]byte
	if at == none || pos+4 > h.size {
		return nil, errDamaged
	}
	if _, err := h.file.ReadAt(head[:], pos); err != nil {
		return nil, fmt.Errorf("%w: %v", errDamaged, err)
	}
	n := -int64(int32(binary.LittleEndian.Uint32(head[:]))) - 4
	if n < int64(max(least, len(mark))) || n > maxCell || pos+4+n > h.size {
		return nil, errDamaged
	}
	data := make([]byte, n)
	if _, err := h.file.ReadAt(data, pos+4); err != nil {
		return nil, fmt.Errorf("%w: %v", errDamaged, err)
	}
	if string(data[:len(mark)]) != mark {
		return nil, errDamaged
	}
	return data, nil
}

// hiveKey is a key node (nk).
type hiveKey struct {
	h                   *Hive
	name                string
	modified            time.Time
	keys, values        uint32            // numbers of subkeys and values
	keyList, valuesList uint32            // offsets of their lists
	below               map[string]uint32 // offset of each subkey, by folded name; filled when needed
	names               []string
}

func (h *Hive) key(at uint32) (*hiveKey, error) {
	c, err := h.cell(at, "nk", 76)
	if err != nil {
		return nil, err
	}
	u32 := func(i int) uint32 { return binary.LittleEndian.Uint32(c[i:]) }
	k := &hiveKey{h: h, keys: u32(20), keyList: u32(28), values: u32(36), valuesList: u32(40)}
	if ft := binary.LittleEndian.Uint64(c[4:]); ft > windowsEpoch && ft < 1<<62 {
		ticks := int64(ft - windowsEpoch)
		k.modified = time.Unix(ticks/1e7, ticks%1e7*100).UTC()
	}
	k.name, err = nameOf(c[76:], int(binary.LittleEndian.Uint16(c[72:])), binary.LittleEndian.Uint16(c[2:])&latinKey != 0)
	return k, err
}

// nameOf parses a name of n bytes.
func nameOf(data []byte, n int, latin bool) (string, error) {
	if n > len(data) {
		return "", errDamaged
	}
	if !latin {
		return FromUTF16(data[:n]), nil
	}
	s, err := charmap.ISO8859_1.NewDecoder().Bytes(data[:n])
	return string(s), err
}

func (k *hiveKey) Modified() time.Time { return k.modified }
func (k *hiveKey) Close() error        { return nil }

// offsets returns the offsets of the subkeys, from a list (lf, lh, li) or a list of lists (ri).
func (k *hiveKey) offsets() ([]uint32, error) {
	if k.keys == 0 {
		return nil, nil
	}
	c, err := k.h.cell(k.keyList, "", 4)
	if err != nil {
		return nil, err
	}
	if string(c[:2]) != "ri" {
		return listed(c)
	}
	lists, err := entries(c, 4)
	if err != nil {
		return nil, err
	}
	var out []uint32
	for _, at := range lists {
		c, err := k.h.cell(at, "l", 4)
		if err != nil {
			return nil, err
		}
		more, err := listed(c)
		if err != nil {
			return nil, err
		}
		if out = append(out, more...); len(out) > maxKeys {
			return nil, errDamaged
		}
	}
	return out, nil
}

func listed(c []byte) ([]uint32, error) {
	switch string(c[:2]) {
	case "lf", "lh":
		return entries(c, 8)
	case "li":
		return entries(c, 4)
	}
	return nil, errDamaged
}

// entries parses the offsets in a list whose entries are stride bytes long.
func entries(c []byte, stride int) ([]uint32, error) {
	n := int(binary.LittleEndian.Uint16(c[2:]))
	if 4+n*stride > len(c) {
		return nil, errDamaged
	}
	out := make([]uint32, n)
	for i := range out {
		out[i] = binary.LittleEndian.Uint32(c[4+i*stride:])
	}
	return out, nil
}

// read fills names and below. For a damaged list it keeps the readable entries, and returns the
// error.
func (k *hiveKey) read() error {
	if k.below != nil {
		return nil
	}
	at, err := k.offsets()
	if err != nil {
		return err
	}
	below := make(map[string]uint32, len(at))
	k.names = k.names[:0]
	for _, o := range at {
		sub, err := k.h.key(o)
		if err != nil {
			return err
		}
		k.names = append(k.names, sub.name)
		below[strings.ToUpper(sub.name)] = o
	}
	k.below = below
	return nil
}

func (k *hiveKey) Keys() ([]string, error) {
	err := k.read()
	return k.names, err
}

func (k *hiveKey) Open(name string) (Key, error) {
	if err := k.read(); err != nil {
		return nil, err
	}
	at, ok := k.below[strings.ToUpper(name)]
	if !ok {
		return nil, fmt.Errorf("the registry key %q: %w", name, fs.ErrNotExist)
	}
	return k.h.key(at)
}

func (k *hiveKey) Values() ([]Value, error) {
	if k.values == 0 {
		return nil, nil
	}
	list, err := k.h.cell(k.valuesList, "", 4)
	if err != nil {
		return nil, err
	}
	if k.values > maxValues || int(k.values)*4 > len(list) {
		return nil, errDamaged
	}
	var out []Value
	for i := range int(k.values) {
		v, err := k.h.value(binary.LittleEndian.Uint32(list[4*i:]))
		if err != nil {
			return out, err
		}
		out = append(out, v)
	}
	return out, nil
}

// value parses a value (vk).
func (h *Hive) value(at uint32) (v Value, err error) {
	c, err := h.cell(at, "vk", 20)
	if err != nil {
		return v, err
	}
	v.Type = Type(binary.LittleEndian.Uint32(c[12:]))
	v.Name, err = nameOf(c[20:], int(binary.LittleEndian.Uint16(c[2:])), binary.LittleEndian.Uint16(c[16:])&latinValue != 0)
	if err != nil {
		return v, err
	}
	size := binary.LittleEndian.Uint32(c[4:])
	if size&inlineData != 0 {
		if size &^= inlineData; size > 4 {
			return v, errDamaged
		}
		v.Data = c[8 : 8+size]
		return v, nil
	}
	v.Data, err = h.data(binary.LittleEndian.Uint32(c[8:]), int(size))
	return v, err
}

// data returns a value's data, from one cell or from segments (db).
func (h *Hive) data(at uint32, size int) ([]byte, error) {
	if size == 0 {
		return nil, nil
	}
	if size > maxCell {
		return nil, errDamaged
	}
	c, err := h.cell(at, "", 0)
	if err != nil {
		return nil, err
	}
	if size <= segment || len(c) < 8 || string(c[:2]) != "db" {
		if size > len(c) {
			return nil, errDamaged
		}
		return c[:size], nil
	}
	list, err := h.cell(binary.LittleEndian.Uint32(c[4:]), "", 0)
	if err != nil {
		return nil, err
	}
	var out []byte
	for i := range int(binary.LittleEndian.Uint16(c[2:])) {
		if 4*i+4 > len(list) {
			return nil, errDamaged
		}
		part, err := h.cell(binary.LittleEndian.Uint32(list[4*i:]), "", 0)
		if err != nil {
			return nil, err
		}
		out = append(out, part[:min(len(part), segment, size-len(out))]...)
		if len(out) == size {
			return out, nil
		}
	}
	return nil, errDamaged
}
