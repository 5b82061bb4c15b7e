// Package value has the types of values that a card writes as text: times, days, regular expressions and keys.
package value

import (
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/invopop/jsonschema"
)

// The types below parse values that a card writes as text, and keep that text: the checker reports a text that could not be
// parsed, and Card.YAML writes it. A checked card has valid values only.

// written is a value as a card writes it; "" if not given.
type written string

// UnmarshalYAML reads the text.
func (t *written) UnmarshalYAML(n ast.Node) error { return yaml.NodeToValue(n, (*string)(t)) }

// MarshalYAML writes the text.
func (t written) MarshalYAML() (any, error) { return string(t), nil }

// Written returns the text.
func (t written) Written() string { return string(t) }

// IsZero reports whether the card does not give the value.
func (t written) IsZero() bool { return t == "" }

// TextSchema returns the JSON Schema of a text.
func TextSchema() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }

// Duration is a time such as 24h or 90m; zero if not given.
type Duration struct {
	time.Duration
	written
}

// UnmarshalYAML reads a text.
func (d *Duration) UnmarshalYAML(n ast.Node) error {
	err := d.written.UnmarshalYAML(n)
	d.Duration, _ = time.ParseDuration(string(d.written))
	return err
}

// Bad reports whether the text is not a time.
func (d Duration) Bad() bool { return d.written != "" && d.Duration <= 0 }

// JSONSchema describes the text.
func (Duration) JSONSchema() *jsonschema.Schema { return TextSchema() }

// Day is a day such as 2027-03-31; zero if not given.
type Day struct {
	end time.Time
	written
}

// UnmarshalYAML reads a text.
func (d *Day) UnmarshalYAML(n ast.Node) error {
	if err := d.written.UnmarshalYAML(n); err != nil {
		return err
	}
	if begin, err := time.ParseInLocation(time.DateOnly, string(d.written), time.Local); err == nil {
		d.end = nextDay(begin.Add(12*time.Hour), time.Local) // where the clocks change at midnight, begin may be on the day before
	}
	return nil
}

// Bad reports whether the text is not a day.
func (d Day) Bad() bool { return d.written != "" && d.end.IsZero() }

// End returns the end of the day in local time, or the zero time.
func (d Day) End() time.Time { return d.end }

// JSONSchema describes the text.
func (Day) JSONSchema() *jsonschema.Schema {
	s := TextSchema()
	s.Format = "date"
	return s
}

// Deadline is a day, or a time after an event; zero if not given.
type Deadline struct {
	after Duration
	Day
}

// UnmarshalYAML reads a day or a time.
func (d *Deadline) UnmarshalYAML(n ast.Node) error {
	return errors.Join(d.after.UnmarshalYAML(n), d.Day.UnmarshalYAML(n))
}

// Bad reports whether the text is neither a day nor a time.
func (d Deadline) Bad() bool { return d.after.Bad() && d.Day.Bad() }

// From returns the deadline for something that began at begin, or the zero time.
func (d Deadline) From(begin time.Time) time.Time {
	if d.after.Duration > 0 {
		return begin.Add(d.after.Duration)
	}
	return d.end
}

// JSONSchema describes the text.
func (Deadline) JSONSchema() *jsonschema.Schema { return TextSchema() }

// Wait is a waiting time: a duration, or "calendar-day" for the time until the next midnight,
// locally or in a given time zone. The zero value means no waiting time.
type Wait struct {
	Duration
	zone *time.Location // of calendar-day
}

// UnmarshalYAML reads the text.
func (w *Wait) UnmarshalYAML(n ast.Node) error {
	err := w.Duration.UnmarshalYAML(n)
	if zone, ok := strings.CutPrefix(string(w.written), "calendar-day"); ok {
		w.zone = time.Local
		if zone = strings.TrimSpace(zone); zone != "" {
			w.zone, _ = time.LoadLocation(zone)
		}
	}
	return err
}

// Bad reports whether the text is no waiting time.
func (w Wait) Bad() bool { return w.zone == nil && w.Duration.Bad() }

// nextDay returns the first minute of the calendar day after the one of t. Where clocks change at midnight, it may not be
// 00:00.
func nextDay(t time.Time, zone *time.Location) time.Time {
	y, m, d := t.In(zone).Date()
	at := time.Date(y, m, d+1, 12, 0, 0, 0, zone)
	day := at.Day()
	for at.Add(-time.Minute).Day() == day {
		at = at.Add(-time.Minute)
	}
	return at
}

// From returns the end of a wait that began at begin, or the zero time if there is none.
func (w Wait) From(begin time.Time) time.Time {
	switch {
	case begin.IsZero():
		return time.Time{}
	case w.zone != nil:
		return nextDay(begin, w.zone)
	case w.Duration.Duration > 0:
		return begin.Add(w.Duration.Duration)
	}
	return time.Time{}
}

// JSONSchema describes the text.
func (Wait) JSONSchema() *jsonschema.Schema { return TextSchema() }

// Pattern is a regular expression (RE2); zero if not given.
type Pattern struct {
	written
	re *regexp.Regexp
}

// PatternOf compiles a regular expression and panics if it is invalid.
func PatternOf(expression string) Pattern {
	return Pattern{written(expression), regexp.MustCompile(expression)}
}

// UnmarshalYAML reads a text.
func (p *Pattern) UnmarshalYAML(n ast.Node) error {
	err := p.written.UnmarshalYAML(n)
	p.re, _ = regexp.Compile(p.String())
	return err
}

// String returns the expression.
func (p Pattern) String() string { return string(p.written) }

// Groups returns the number of groups in the expression, or -1 if it is not valid.
func (p Pattern) Groups() int {
	if p.re == nil {
		return -1
	}
	return p.re.NumSubexp()
}

// In reports whether the expression is found in text. An empty pattern matches nothing.
func (p Pattern) In(text string) bool {
	return p.re != nil && p.written != "" && p.re.MatchString(text)
}

// First returns the text that the first group matches.
func (p Pattern) First(text string) (string, bool) {
	if p.re == nil {
		return "", false
	}
	m := p.re.FindStringSubmatch(text)
	if len(m) < 2 {
		return "", false
	}
	return m[1], true
}

// JSONSchema describes the text.
func (Pattern) JSONSchema() *jsonschema.Schema { return TextSchema() }

// LinePattern is a Pattern in which ^ and $ match at line ends.
type LinePattern struct{ Pattern }

// LinePatternOf compiles a regular expression and panics if it is invalid.
func LinePatternOf(expression string) LinePattern {
	return LinePattern{Pattern{written(expression), regexp.MustCompile("(?m)" + expression)}}
}

// UnmarshalYAML reads a text.
func (p *LinePattern) UnmarshalYAML(n ast.Node) error {
	if err := p.Pattern.UnmarshalYAML(n); err != nil {
		return err
	}
	p.re, _ = regexp.Compile("(?m)" + p.String())
	return nil
}

// WholePattern is a Pattern that must match a whole text, ignoring letter case.
type WholePattern struct{ Pattern }

// WholePatternOf compiles a regular expression and panics if it is invalid.
func WholePatternOf(expression string) (p WholePattern) {
	p.written, p.re = written(expression), regexp.MustCompile("(?i)^(?:"+expression+")$")
	return p
}

// UnmarshalYAML reads a text.
func (p *WholePattern) UnmarshalYAML(n ast.Node) error {
	if err := p.Pattern.UnmarshalYAML(n); err != nil {
		return err
	}
	p.re, _ = regexp.Compile("(?i)^(?:" + p.String() + ")$")
	return nil
}

// Key is the public key of a licence desk.
type Key struct {
	ed25519.PublicKey
	written
}

// ParseKey decodes 32 bytes of unpadded base64url. For any other text it returns an empty key.
func ParseKey(encoded string) Key {
	raw, err := base64.RawURLEncoding.DecodeString(encoded)
	if err != nil || len(raw) != ed25519.PublicKeySize {
		raw = nil
	}
	return Key{raw, written(encoded)}
}

// UnmarshalYAML reads a text.
func (k *Key) UnmarshalYAML(n ast.Node) error {
	err := k.written.UnmarshalYAML(n)
	*k = ParseKey(string(k.written))
	return err
}

// Usable reports whether the key has the right length.
func (k Key) Usable() bool { return len(k.PublicKey) == ed25519.PublicKeySize }

// String returns the key in base64url.
func (k Key) String() string { return base64.RawURLEncoding.EncodeToString(k.PublicKey) }

// JSONSchema describes the text.
func (Key) JSONSchema() *jsonschema.Schema { return TextSchema() }
