package card

import (
	"reflect"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// unknown reports every unknown field, and suggests the field that was probably meant.
func (k *checker) unknown(n ast.Node, t reflect.Type) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if _, own := reflect.PointerTo(t).MethodByName("UnmarshalYAML"); own {
		return // this type parses itself strictly
	}
	switch n := n.(type) {
	case *ast.SequenceNode:
		if t.Kind() == reflect.Slice {
			for _, v := range n.Values {
				k.unknown(v, t.Elem())
			}
		}
	case *ast.MappingNode:
		for _, v := range n.Values {
			k.field(v, t)
		}
	case *ast.MappingValueNode:
		k.field(n, t)
	}
}

func (k *checker) field(v *ast.MappingValueNode, t reflect.Type) {
	if t.Kind() != reflect.Struct {
		return
	}
	fields := map[string]reflect.Type{}
	fieldsOf(t, fields)
	name := v.Key.GetToken().Value
	if of, known := fields[name]; known {
		k.unknown(v.Value, of)
		return
	}
	p := &Problem{File: k.file, Line: 1, Column: 1, What: "unknown field \"" + name + "\"", Want: "a field of the card format (docs/cards.md)"}
	if near := nearest(name, fields); near != "" {
		p.Want = near + ", perhaps"
	}
	if pos := v.Key.GetToken().Position; pos != nil {
		p.Line, p.Column = pos.Line, pos.Column
	}
	p.Source = sourceLine(k.lines, p.Line)
	k.found = append(k.found, p)
}

// fieldsOf adds the fields of a type, and those of embedded types, to out.
func fieldsOf(t reflect.Type, out map[string]reflect.Type) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		switch {
		case strings.Contains(options, "inline"):
			fieldsOf(f.Type, out)
		case name != "" && name != "-":
			out[name] = f.Type
		}
	}
}

// nearest returns the known field closest to name, with at most two wrong letters.
func nearest(name string, fields map[string]reflect.Type) (best string) {
	least := 3
	for f := range fields {
		if d := distance(strings.ToLower(name), f); d < least || d == least && f < best {
			best, least = f, d
		}
	}
	if least > 2 || least >= len(name) {
		return ""
	}
	return best
}

// distance returns the Levenshtein distance of two names.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		last := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			was := row[j]
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(row[j]+1, row[j-1]+1, last+cost)
			last = was
		}
	}
	return row[len(b)]
}
