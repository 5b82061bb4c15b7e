package keys

import (
	"bufio"
	"context"
	"encoding/json"
	"io"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/registry"
	"movekit/internal/core/seal"
)

// The sealed list is one JSON array of registry.Branch. It is written and read value by value, because all values of an item
// together can be large.

// sealList seals the list.
func (m mover) sealList(ctx context.Context, all []registry.Branch) ([]seal.Part, error) {
	text, to := io.Pipe()
	defer text.Close()
	go func() {
		to.CloseWithError(writeList(to, all))
	}()
	parts, _, err := m.Run.SealFrom(ctx, m.Key.App, m.Stream()+item.ListEnding, text, func(int64) {})
	return parts, err
}

// writeList writes the list.
func writeList(to io.Writer, all []registry.Branch) error {
	out := bufio.NewWriterSize(to, 64<<10)
	put := func(before string, v any) {
		data, err := bytejson.Marshal(v) // of text and bytes: it cannot fail
		if err == nil {
			out.WriteString(before)
			out.Write(data)
		}
	}
	between := "["
	for _, b := range all {
		put(between+`{"path":`, b.Path)
		before := `,"values":[`
		for _, v := range b.Values {
			put(before, v)
			before = ","
		}
		if len(b.Values) > 0 {
			out.WriteString("]")
		}
		out.WriteString("}")
		between = ",\n"
	}
	if len(all) == 0 {
		out.WriteString("[")
	}
	out.WriteString("]")
	return out.Flush()
}

// maxSealed limits the values of a list that is read, in bytes. Sealed ones have fewer (package registry).
const maxSealed = 128 << 20

// eachSealed calls each for every sealed key.
func (m mover) eachSealed(each func(registry.Branch) error) error {
	from, err := m.Run.Kit.Open(m.Key.App, m.InKit.Sealed.List)
	if err != nil {
		return err
	}
	defer from.Close()
	if err := readList(from, each); err != nil {
		return fault.Wrap(fault.Damaged, err, "cannot read a sealed list of keys")
	}
	return nil
}

// readList reads a list.
func readList(from io.Reader, each func(registry.Branch) error) error {
	r := listReader{json.NewDecoder(from), maxSealed}
	if err := r.token('['); err != nil {
		return err
	}
	for r.More() {
		b, err := r.branch()
		if err != nil {
			return err
		}
		if err := each(b); err != nil {
			return err
		}
	}
	return r.token(']')
}

type listReader struct {
	*json.Decoder
	left int // bytes of values that may still come
}

// token reads one delimiter.
func (r *listReader) token(want json.Delim) error {
	t, err := r.Token()
	if err == nil && t != want {
		err = fault.New(fault.Damaged, "%v is where %v should be", t, want)
	}
	return err
}

func (r *listReader) branch() (b registry.Branch, err error) {
	if err := r.token('{'); err != nil {
		return b, err
	}
	for r.More() {
		name, err := r.Token()
		if err != nil {
			return b, err
		}
		switch name {
		case "path":
			err = r.next(&b.Path)
		case "values":
			err = r.token('[')
			for err == nil && r.More() {
				var v registry.Value
				if err = r.next(&v); err == nil {
					b.Values = append(b.Values, v)
				}
			}
			if err == nil {
				err = r.token(']')
			}
		default:
			err = fault.New(fault.Damaged, "the field %v is unknown", name)
		}
		if err != nil {
			return b, err
		}
	}
	return b, r.token('}')
}

// next reads one value.
func (r *listReader) next(v any) error {
	var raw json.RawMessage
	if err := r.Decode(&raw); err != nil {
		return err
	}
	if r.left -= len(raw) * 3 / 4; r.left < 0 {
		return fault.New(fault.Hostile, "the list has more than %d bytes of values", maxSealed)
	}
	return bytejson.Unmarshal(raw, v)
}
