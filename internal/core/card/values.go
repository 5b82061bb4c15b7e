package card

import (
	"crypto/ed25519"
	"encoding/base64"
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/invopop/jsonschema"
)

// The types below parse values that a card writes as text. A value that cannot be parsed keeps its
// text, which the checker reports. A checked card has none of these.

func textSchema() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }

// Duration is a time such as 24h or 90m; zero if not given.
type Duration struct {
	time.Duration
	bad string
}

// UnmarshalYAML reads a text.
func (d *Duration) UnmarshalYAML(n ast.Node) error {
	var text string
	if err := yaml.NodeToValue(n, &text); err != nil {
		return err
	}
	var err error
	if d.Duration, err = time.ParseDuration(text); err != nil || d.Duration <= 0 {
		d.bad = text
	}
	return nil
}

// JSONSchema describes the text.
func (Duration) JSONSchema() *jsonschema.Schema { return textSchema() }

// Day is a day such as 2027-03-31; zero if not given.
type Day struct {
	end time.Time
	bad string
}

// UnmarshalYAML reads a text.
func (d *Day) UnmarshalYAML(n ast.Node) error {
	var text string
	if err := yaml.NodeToValue(n, &text); err != nil {
		return err
	}
	begin, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		d.bad = text
		return nil
	}
	d.end = nextDay(begin.Add(12*time.Hour), time.Local) // where the clocks change at midnight, begin may be on the day before
	return nil
}

// End returns the end of the day in local time, or the zero time.
func (d Day) End() time.Time { return d.end }

// JSONSchema describes the text.
func (Day) JSONSchema() *jsonschema.Schema {
	s := textSchema()
	s.Format = "date"
	return s
}

// Deadline is a day, or a time after an event; zero if not given.
type Deadline struct {
	after Duration
	on    Day
}

// UnmarshalYAML reads a day or a time.
func (d *Deadline) UnmarshalYAML(n ast.Node) error {
	if err := d.after.UnmarshalYAML(n); err != nil || d.after.bad == "" {
		return err
	}
	return d.on.UnmarshalYAML(n)
}

// From returns the deadline for something that began at begin, or the zero time.
func (d Deadline) From(begin time.Time) time.Time {
	if d.after.bad == "" && d.after.Duration > 0 {
		return begin.Add(d.after.Duration)
	}
	return d.on.end
}

// JSONSchema describes the text.
func (Deadline) JSONSchema() *jsonschema.Schema { return textSchema() }

// Wait is a waiting time: a duration, or "calendar-day" for the time until the next midnight,
// locally or in a given time zone. The zero value means no waiting time.
type Wait struct {
	after Duration
	day   bool
	zone  *time.Location
}

// UnmarshalYAML reads the text.
func (w *Wait) UnmarshalYAML(n ast.Node) error {
	var text string
	if err := yaml.NodeToValue(n, &text); err != nil {
		return err
	}
	zone, ok := strings.CutPrefix(text, "calendar-day")
	if !ok {
		return w.after.UnmarshalYAML(n)
	}
	var err error
	w.day, w.zone = true, time.Local
	if zone = strings.TrimSpace(zone); zone != "" {
		w.zone, err = time.LoadLocation(zone)
	}
	if err != nil {
		w.after.bad = text
	}
	return nil
}

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
	case begin.IsZero() || w.after.bad != "":
		return time.Time{}
	case w.day:
		return nextDay(begin, w.zone)
	case w.after.Duration > 0:
		return begin.Add(w.after.Duration)
	}
	return time.Time{}
}

// JSONSchema describes the text.
func (Wait) JSONSchema() *jsonschema.Schema { return textSchema() }

// Pattern is a regular expression (RE2); zero if not given.
type Pattern struct {
	text string
	re   *regexp.Regexp
}

// PatternOf compiles a regular expression and panics if it is invalid.
func PatternOf(text string) Pattern { return Pattern{text, regexp.MustCompile(text)} }

// UnmarshalYAML reads a text.
func (p *Pattern) UnmarshalYAML(n ast.Node) error {
	if err := yaml.NodeToValue(n, &p.text); err != nil {
		return err
	}
	p.re, _ = regexp.Compile(p.text)
	return nil
}

// String returns the expression.
func (p Pattern) String() string { return p.text }

// IsZero reports whether no expression is given.
func (p Pattern) IsZero() bool { return p.text == "" }

// In reports whether the expression is found in text. An empty pattern matches nothing.
func (p Pattern) In(text string) bool { return p.re != nil && p.text != "" && p.re.MatchString(text) }

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
func (Pattern) JSONSchema() *jsonschema.Schema { return textSchema() }

// LinePattern is a Pattern in which ^ and $ match at line ends.
type LinePattern struct{ Pattern }

// UnmarshalYAML reads a text.
func (p *LinePattern) UnmarshalYAML(n ast.Node) error {
	if err := p.Pattern.UnmarshalYAML(n); err != nil {
		return err
	}
	p.re, _ = regexp.Compile("(?m)" + p.text)
	return nil
}

// WholePattern is a Pattern that must match a whole text, ignoring letter case.
type WholePattern struct{ Pattern }

// WholePatternOf compiles a regular expression and panics if it is invalid.
func WholePatternOf(text string) (p WholePattern) {
	p.text, p.re = text, regexp.MustCompile("(?i)^(?:"+text+")$")
	return p
}

// UnmarshalYAML reads a text.
func (p *WholePattern) UnmarshalYAML(n ast.Node) error {
	if err := p.Pattern.UnmarshalYAML(n); err != nil {
		return err
	}
	p.re, _ = regexp.Compile("(?i)^(?:" + p.text + ")$")
	return nil
}

// Key is the public key of a licence desk.
type Key struct {
	ed25519.PublicKey
	bad string
}

// ParseKey decodes 32 bytes of unpadded base64url. For any other text it returns an empty key.
func ParseKey(text string) Key {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(raw) != ed25519.PublicKeySize {
		return Key{bad: text}
	}
	return Key{PublicKey: raw}
}

// UnmarshalYAML reads a text.
func (k *Key) UnmarshalYAML(n ast.Node) error {
	var text string
	if err := yaml.NodeToValue(n, &text); err != nil {
		return err
	}
	*k = ParseKey(text)
	return nil
}

// Usable reports whether the key has the right length.
func (k Key) Usable() bool { return len(k.PublicKey) == ed25519.PublicKeySize }

// String returns the key in base64url.
func (k Key) String() string { return base64.RawURLEncoding.EncodeToString(k.PublicKey) }

// JSONSchema describes the text.
func (Key) JSONSchema() *jsonschema.Schema { return textSchema() }
