package registry

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
)

// cells writes a hive with structures that the tools here do not write and Windows does: lists of
// lists, lists without hashes, and values in segments.
type cells struct{ data []byte }

// put adds a cell and returns its offset. A text is written as it is, a number as four bytes.
func (c *cells) put(parts ...any) uint32 {
	at := len(c.data) - baseBlock
	c.data = append(c.data, 0, 0, 0, 0)
	for _, p := range parts {
		switch v := p.(type) {
		case string:
			c.data = append(c.data, v...)
		default:
			c.data, _ = binary.Append(c.data, binary.LittleEndian, v)
		}
	}
	binary.LittleEndian.PutUint32(c.data[at+baseBlock:], uint32(at+baseBlock-len(c.data)))
	return uint32(at)
}

// modified is 2020-01-02 03:04:05.67 as keys store it.
var modified = uint64(time.Date(2020, 1, 2, 3, 4, 5, 670e6, time.UTC).UnixNano()/100) + windowsEpoch

// key adds a key.
func (c *cells) key(name string, keys, keyList, values, valueList uint32) uint32 {
	return c.put("nk", uint16(latinKey), modified, uint32(0), uint32(0), keys, uint32(0), keyList, uint32(none), values, valueList, make([]byte, 28), uint16(len(name)), uint16(0), name)
}

// value adds a value and the offset of its data.
func (c *cells) value(name string, size, at uint32) uint32 {
	return c.put("vk", uint16(len(name)), size, at, uint32(Binary), uint16(latinValue), uint16(0), name)
}

func (c *cells) hive(t *testing.T, root uint32) Key {
	t.Helper()
	copy(c.data, "regf")
	binary.LittleEndian.PutUint32(c.data[36:], root)
	h, err := newHive(bytes.NewReader(c.data), int64(len(c.data)), "x")
	fatal.If(t, err)
	k, err := h.Root()
	fatal.If(t, err)
	return k
}

func laid() *cells { return &cells{make([]byte, baseBlock)} }

// TestListsOfKeys reads the subkeys from every type of list.
func TestListsOfKeys(t *testing.T) {
	for name, list := range map[string]func(c *cells, at []uint32) uint32{
		"lf": func(c *cells, at []uint32) uint32 {
			return c.put("lf", uint16(3), at[0], "aaaa", at[1], "bbbb", at[2], "cccc")
		},
		"lh": func(c *cells, at []uint32) uint32 {
			return c.put("lh", uint16(3), at[0], "1111", at[1], "2222", at[2], "3333")
		},
		"li": func(c *cells, at []uint32) uint32 { return c.put("li", uint16(3), at) },
		"ri": func(c *cells, at []uint32) uint32 {
			return c.put("ri", uint16(2), c.put("li", uint16(2), at[:2]), c.put("lh", uint16(1), at[2], "3333"))
		},
	} {
		c := laid()
		at := []uint32{c.key("Anchor", 0, none, 0, none), c.key("Berth", 0, none, 0, none), c.key("Crane\xdf", 0, none, 0, none)}
		k := c.hive(t, c.key("ROOT", 3, list(c, at), 0, none))
		names, err := k.Keys()
		if err != nil || !slices.Equal(names, []string{"Anchor", "Berth", "Craneß"}) {
			t.Errorf("%s: %q, %v", name, names, err)
		}
		if below, err := k.Open("craneß"); err != nil || !below.Modified().Equal(time.Date(2020, 1, 2, 3, 4, 5, 670e6, time.UTC)) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, list := range map[string]func(c *cells, at uint32) uint32{
		"another mark":       func(c *cells, at uint32) uint32 { return c.put("lx", uint16(1), at, "aaaa") },
		"too few":            func(c *cells, at uint32) uint32 { return c.put("lf", uint16(2), at, "aaaa", at, "bbb") },
		"lists too few":      func(c *cells, at uint32) uint32 { return c.put("ri", uint16(2), at) },
		"lists of keys":      func(c *cells, at uint32) uint32 { return c.put("ri", uint16(1), at) },
		"lists of lists":     func(c *cells, at uint32) uint32 { return c.put("ri", uint16(1), c.put("ri", uint16(0))) },
		"lists of too few":   func(c *cells, at uint32) uint32 { return c.put("ri", uint16(1), c.put("li", uint16(1), "aaa")) },
		"no list":            func(*cells, uint32) uint32 { return none },
		"beyond the end":     func(c *cells, at uint32) uint32 { return uint32(len(c.data)) },
		"too short":          func(c *cells, at uint32) uint32 { return c.put("lf\x00") },
		"a key that is none": func(c *cells, at uint32) uint32 { return c.put("li", uint16(1), c.put("vk", make([]byte, 80))) },
		"a short key":        func(c *cells, at uint32) uint32 { return c.put("li", uint16(1), c.put("nk", make([]byte, 73))) },
		"a name too long": func(c *cells, at uint32) uint32 {
			return c.put("li", uint16(1), c.put("nk", make([]byte, 70), uint16(1), uint16(0)))
		},
	} {
		c := laid()
		k := c.hive(t, c.key("ROOT", 1, list(c, c.key("A", 0, none, 0, none)), 0, none))
		if names, err := k.Keys(); !errors.Is(err, errDamaged) {
			t.Errorf("%s: %q, %v", name, names, err)
		}
		if _, err := k.Open("A"); !errors.Is(err, errDamaged) {
			t.Errorf("%s: opened, %v", name, err)
		}
	}
}

// TestMostKeys reads the maximum number of keys, and rejects one more.
func TestMostKeys(t *testing.T) {
	for _, more := range []int{0, 1} {
		c := laid()
		key := c.key("A", 0, none, 0, none)
		list := c.put("li", uint16(1<<15), slices.Repeat([]uint32{key}, 1<<15))
		one := c.put("li", uint16(more), slices.Repeat([]uint32{key}, more))
		lists := append(slices.Repeat([]uint32{list}, maxKeys>>15), one)
		names, err := c.hive(t, c.key("ROOT", 1, c.put("ri", uint16(len(lists)), lists), 0, none)).Keys()
		if (err == nil) != (more == 0) || err == nil && len(names) != maxKeys {
			t.Errorf("%d more: %d keys, %v", more, len(names), err)
		}
	}
}

// TestDataOfValues reads data in the value itself, in a cell, and in segments.
func TestDataOfValues(t *testing.T) {
	big := strings.Repeat("quay", 10000)
	in := func(c *cells, data string, lie uint32) uint32 { // segments, of which the last may be missing
		var parts []uint32
		for rest := data; rest != ""; {
			n := min(len(rest), segment)
			parts = append(parts, c.put(rest[:n], "pad "))
			rest = rest[n:]
		}
		return c.put("db", uint16(len(parts)-int(lie)), c.put(parts), uint32(0))
	}
	for name, v := range map[string]struct {
		lay  func(c *cells) uint32
		want string
		read bool
	}{
		"in the value":        {func(c *cells) uint32 { return c.value("v", inlineData|3, 0x00636261) }, "abc", true},
		"four in the value":   {func(c *cells) uint32 { return c.value("v", inlineData|4, 0x64636261) }, "abcd", true},
		"five in the value":   {func(c *cells) uint32 { return c.value("v", inlineData|5, 0x64636261) }, "", false},
		"nothing":             {func(c *cells) uint32 { return c.value("v", 0, none) }, "", true},
		"in a cell":           {func(c *cells) uint32 { return c.value("v", 5, c.put("berthpad")) }, "berth", true},
		"all of a cell":       {func(c *cells) uint32 { return c.value("v", 8, c.put("berthpad")) }, "berthpad", true},
		"more than a cell":    {func(c *cells) uint32 { return c.value("v", 9, c.put("berthpad")) }, "", false},
		"as much as one has":  {func(c *cells) uint32 { return c.value("v", segment, c.put("db", big[:segment-2])) }, "db" + big[:segment-2], true},
		"in segments":         {func(c *cells) uint32 { return c.value("v", 40000, in(c, big, 0)) }, big, true},
		"in two":              {func(c *cells) uint32 { return c.value("v", segment+1, in(c, big[:segment+1], 0)) }, big[:segment+1], true},
		"in a long cell":      {func(c *cells) uint32 { return c.value("v", 40000, c.put(big)) }, big, true},
		"a segment too few":   {func(c *cells) uint32 { return c.value("v", 40000, in(c, big, 1)) }, "", false},
		"segments not listed": {func(c *cells) uint32 { return c.value("v", 40000, c.put("db", uint16(3), c.put("abc"), uint32(0))) }, "", false},
		"too large":           {func(c *cells) uint32 { return c.value("v", maxCell+1, none) }, "", false},
		"name too long":       {func(c *cells) uint32 { return c.put("vk", uint16(2), uint32(0), uint32(0), uint32(3), uint32(1), "v") }, "", false},
	} {
		c := laid()
		k := c.hive(t, c.key("ROOT", 0, none, 1, c.put(v.lay(c))))
		got, err := Get(k, "V")
		if (err == nil) != v.read || string(got.Data) != v.want || err != nil && !errors.Is(err, errDamaged) {
			t.Errorf("%s: %.20q of %d bytes, %v", name, got.Data, len(got.Data), err)
		}
	}
	c := laid()
	v := c.value("v", 0, none)
	if values, err := c.hive(t, c.key("ROOT", 0, none, 2, c.put(v))).Values(); !errors.Is(err, errDamaged) {
		t.Errorf("more values than listed: %v, %v", values, err)
	}
	if values, err := c.hive(t, c.key("ROOT", 0, none, maxValues+1, c.put(slices.Repeat([]uint32{v}, maxValues+1)))).Values(); !errors.Is(err, errDamaged) {
		t.Errorf("too many values: %d, %v", len(values), err)
	}
	if values, err := c.hive(t, c.key("ROOT", 0, none, maxValues, c.put(slices.Repeat([]uint32{v}, maxValues)))).Values(); err != nil || len(values) != maxValues {
		t.Errorf("%d values, %v", len(values), err)
	}
}

// TestTexts formats values for display.
func TestTexts(t *testing.T) {
	for _, c := range []struct {
		v    Value
		want string
	}{
		{Value{Type: String, Data: ToUTF16("Kai\x00rest")}, "Kai"}, {Value{Type: Expand, Data: ToUTF16("%A%")}, "%A%"}, {Value{Type: Multi, Data: ToUTF16("a\x00b\x00\x00")}, "a\nb"},
		{Value{Type: DWord, Data: []byte{1, 2, 0, 0}}, "513"}, {Value{Type: DWord, Data: []byte{1, 2}}, "0102"}, {Value{Type: DWordBig, Data: []byte{0, 0, 2, 1}}, "513"}, {Value{Type: DWordBig, Data: nil}, ""},
		{Value{Type: QWord, Data: []byte{0, 1, 0, 0, 0, 0, 0, 0}}, "256"}, {Value{Type: QWord, Data: []byte{0, 1, 0, 0}}, "00010000"}, {Value{Type: Binary, Data: []byte{0xab, 1}}, "ab01"},
	} {
		if got := c.v.Text(); got != c.want {
			t.Errorf("%v is shown as %q", fmt.Sprint(c.v), got)
		}
	}
}
