package card

import (
	"bytes"
	"encoding/json"
	"maps"
	"reflect"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
)

// Comments are the comments of a written card. Their keys are places in the card, such as items[0].skip[1].
type Comments struct {
	Above  map[string][]string // lines above a place; for a field that the card lacks, where it would be
	Beside map[string]string   // a text at the end of its line
	Below  []string            // lines at the end of the card
}

// YAML writes the card with comments, and an empty line before each topic. Parse reads the result as the same card.
// Control characters in comments become ?.
func (c *Card) YAML(comments Comments) ([]byte, error) {
	places := yaml.CommentMap{}
	add := func(at string, c *yaml.Comment) { places["$."+at] = append(places["$."+at], c) }
	above := maps.Clone(comments.Above)
	var waiting []string // of fields that the card lacks
	for v, i := reflect.ValueOf(*c), 0; i < v.NumField(); i++ {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ",")
		if topics[name] && len(waiting) > 0 && len(above[name]) > 0 {
			waiting = append(waiting, "")
		}
		waiting = append(waiting, above[name]...)
		delete(above, name)
		if f := v.Field(i); len(waiting) > 0 && !f.IsZero() && (f.Kind() != reflect.Slice || f.Len() > 0) && name != "-" {
			above[name], waiting = waiting, nil
		}
	}
	for at, lines := range above {
		all := make([]string, len(lines))
		for i, l := range lines {
			all[i] = " " + Visible(l)
		}
		add(at, yaml.HeadComment(all...))
	}
	for at, text := range comments.Beside {
		add(at, yaml.LineComment(" "+Visible(text)))
	}
	data, err := marshal(c, yaml.WithComment(places))
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	before := "#"
	for line := range bytes.Lines(data) {
		if string(bytes.TrimSpace(line)) == "#" {
			line = []byte("\n")
		}
		if topic := topics[string(line[:max(0, bytes.IndexByte(line, ':'))])]; (topic || line[0] == '#') && before[0] != '#' && before != "\n" {
			out.WriteByte('\n')
		}
		out.Write(line)
		before = string(line)
	}
	for i, l := range append(waiting, comments.Below...) {
		if l == "" || i == 0 {
			out.WriteString("\n")
		}
		if l != "" {
			out.WriteString("# " + Visible(l) + "\n")
		}
	}
	return out.Bytes(), nil
}

// topics are the fields with which a new topic begins.
var topics = map[string]bool{"version": true, "installer": true, "programs": true, "requires": true, "sync": true, "items": true, "licences": true, "opens": true, "left-behind": true, "by-hand": true, "documentation": true}

// Visible returns a text with ? for each character that cannot be printed, so that it fits on one line.
func Visible(s string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return '?'
		}
		return r
	}, s)
}

// Field writes one field of a card with its value, as a line or several.
func Field(name string, value any) ([]byte, error) {
	return marshal(yaml.MapSlice{{Key: name, Value: value}})
}

// marshal writes YAML in which every text is quoted: null and 1e3 would not be texts.
func marshal(v any, options ...yaml.EncodeOption) ([]byte, error) {
	return yaml.MarshalWithOptions(v, append(options, yaml.IndentSequence(true), yaml.CustomMarshaler(quote))...)
}

func quote(s string) ([]byte, error) {
	if strings.IndexFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) < 0 {
		return []byte("'" + strings.ReplaceAll(s, "'", "''") + "'"), nil
	}
	return json.Marshal(s) // JSON is valid YAML
}

// LicenceWith returns a licence with the given values of fields. A field can be one of another, such as deactivate.run.
func LicenceWith(name string, m Method, fields map[string]any) (l Licence, err error) {
	all := map[string]any{"name": name, "method": m}
	for field, value := range fields {
		into := all
		if outer, inner, ok := strings.Cut(field, "."); ok {
			if all[outer] == nil {
				all[outer] = map[string]any{}
			}
			into, field = all[outer].(map[string]any), inner
		}
		into[field] = value
	}
	data, err := marshal(all)
	if err != nil {
		return l, err
	}
	return l, yaml.UnmarshalWithOptions(data, &l, yaml.Strict())
}
