package licence

import (
	"strings"
	"testing"

	"movekit/internal/core/card"
)

// TestSerials holds published examples against their check characters, and
// sees every single wrong character.
func TestSerials(t *testing.T) {
	for _, c := range []struct {
		form SerialForm
		good string
	}{
		{SerialForm{Check: "luhn"}, "4992-7398-716"},           // the usual example of ISO/IEC 7812-1
		{SerialForm{Check: "mod-11-10"}, "07945"},              // ISO 7064, MOD 11,10: 0794, check digit 5
		{SerialForm{Check: "mod-37-36"}, "A12425GABC1234002M"}, // ISO 7064, MOD 37,36
		{SerialForm{Check: "mod-97-10"}, "79444"},              // ISO 7064, MOD 97-10: 794, check 44
		{SerialForm{Check: "mod-37-36", Parts: true, Form: card.WholePatternOf("[0-9A-Z]{18}-[0-9A-Z]{18}")}, "A12425GABC1234002M-A12425GABC1234002M"},
	} {
		if wrong := c.form.Wrong(strings.ToLower(c.good)); wrong != "" {
			t.Errorf("%+v: %s: %s", c.form, c.good, wrong)
		}
		for i := range c.good {
			for _, other := range "0123456789" {
				if c.good[i] == '-' || c.good[i] == byte(other) {
					continue
				}
				bad := c.good[:i] + string(other) + c.good[i+1:]
				wrong := c.form.Wrong(bad)
				part := map[bool]string{true: "part 1", false: "part 2"}[i < len(c.good)/2]
				if wrong == "" || c.form.Parts && !strings.HasPrefix(wrong, part) {
					t.Errorf("%+v: %s is taken for %s: %q", c.form, bad, c.good, wrong)
				}
			}
		}
	}
	for _, c := range []struct {
		form   SerialForm
		serial string
		says   string
	}{
		{SerialForm{Form: card.WholePatternOf("[A-Z]{2}[0-9]-[A-Z]+-[0-9]{4}")}, "tw8-quay-0001", ""},
		{SerialForm{Form: card.WholePatternOf("[A-Z]{2}[0-9]-[A-Z]+-[0-9]{4}")}, "TW8-QUAY-00O1", "not of the form"},
		{SerialForm{Form: card.WholePatternOf("TW|HB")}, "TWX", "not of the form"},
		{SerialForm{Check: "luhn"}, "12A4", "check characters"},
		{SerialForm{Check: "luhn"}, "", "check characters"},
		{SerialForm{Check: "luhn"}, "0", "check characters"},
		{SerialForm{Check: "luhn"}, "18", ""},
		{SerialForm{Check: "mod-37-36"}, "1@", "check characters"},
		{SerialForm{Check: "mod-37-36"}, "1[", "check characters"},
		{SerialForm{Check: "mod-97-10"}, "é1", "check characters"},
		{SerialForm{}, "anything", ""},
	} {
		if got := c.form.Wrong(c.serial); !strings.Contains(got, c.says) || c.says == "" && got != "" {
			t.Errorf("%+v %q: %q", c.form, c.serial, got)
		}
	}
}
