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

// The values of a card that are written as texts are read once, here. One that
// cannot be read keeps its text, which the checker finds; a checked card has none
// of these.

func textSchema() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }

// Duration is a time such as 24h or 90m; zero where none is given.
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

// Day is a day such as 2027-03-31; the zero value where none is given.
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
	d.end = begin.AddDate(0, 0, 1)
	return nil
}

// End is when the day is over on this computer, or the zero time.
func (d Day) End() time.Time { return d.end }

// JSONSchema describes the text.
func (Day) JSONSchema() *jsonschema.Schema {
	s := textSchema()
	s.Format = "date"
	return s
}

// Deadline is a day, or a time after something; the zero value where none is
// given.
type Deadline struct {
	after Duration
	on    Day
}

// UnmarshalYAML reads either text.
func (d *Deadline) UnmarshalYAML(n ast.Node) error {
	if err := d.after.UnmarshalYAML(n); err != nil || d.after.bad == "" {
		return err
	}
	return d.on.UnmarshalYAML(n)
}

// From is when the time is over that began at some time, or the zero time.
func (d Deadline) From(begin time.Time) time.Time {
	if d.after.bad == "" && d.after.Duration > 0 {
		return begin.Add(d.after.Duration)
	}
	return d.on.end
}

// JSONSchema describes the text.
func (Deadline) JSONSchema() *jsonschema.Schema { return textSchema() }

// Wait is how long something takes to be over: a time, or calendar-day: to the next
// midnight, here or in a time zone that is named behind it. The zero value is none.
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

// From is when it is over that began at some time, or the zero time where there is none.
func (w Wait) From(begin time.Time) time.Time {
	switch {
	case begin.IsZero() || w.after.bad != "":
		return time.Time{}
	case w.day:
		y, m, d := begin.In(w.zone).Date()
		return time.Date(y, m, d+1, 0, 0, 0, 0, w.zone)
	case w.after.Duration > 0:
		return begin.Add(w.after.Duration)
	}
	return time.Time{}
}

// JSONSchema describes the text.
func (Wait) JSONSchema() *jsonschema.Schema { return textSchema() }

// Pattern is a regular expression (RE2); the zero value where none is given.
type Pattern struct {
	text string
	re   *regexp.Regexp
}

// PatternOf reads a regular expression, which must be one.
func PatternOf(text string) Pattern { return Pattern{text, regexp.MustCompile(text)} }

// UnmarshalYAML reads a text.
func (p *Pattern) UnmarshalYAML(n ast.Node) error {
	if err := yaml.NodeToValue(n, &p.text); err != nil {
		return err
	}
	p.re, _ = regexp.Compile(p.text)
	return nil
}

// String is the expression as it is written.
func (p Pattern) String() string { return p.text }

// IsZero reports whether none is given.
func (p Pattern) IsZero() bool { return p.text == "" }

// In reports whether a text matches; where no expression is given, none does.
func (p Pattern) In(text string) bool { return p.re != nil && p.text != "" && p.re.MatchString(text) }

// First returns what the first group of the expression matches in a text.
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

// LinePattern is a Pattern in which ^ and $ are the ends of lines.
type LinePattern struct{ Pattern }

// UnmarshalYAML reads a text.
func (p *LinePattern) UnmarshalYAML(n ast.Node) error {
	if err := p.Pattern.UnmarshalYAML(n); err != nil {
		return err
	}
	p.re, _ = regexp.Compile("(?m)" + p.text)
	return nil
}

// WholePattern is a Pattern that all of a text must match, in any letter case.
type WholePattern struct{ Pattern }

// WholePatternOf reads a regular expression, which must be one.
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

// Key is a licence desk's public key.
type Key struct {
	ed25519.PublicKey
	bad string
}

// ParseKey reads 32 bytes in base64url without padding. Anything else gives a
// key of no bytes.
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

// Usable reports whether it is a key.
func (k Key) Usable() bool { return len(k.PublicKey) == ed25519.PublicKeySize }

// String is the key in base64url.
func (k Key) String() string { return base64.RawURLEncoding.EncodeToString(k.PublicKey) }

// JSONSchema describes the text.
func (Key) JSONSchema() *jsonschema.Schema { return textSchema() }
