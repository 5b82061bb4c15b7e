package licence

import (
	"fmt"
	"math/big"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/card/value"
)

// SerialForm says how to detect a mistyped serial.
type SerialForm struct {
	Form  value.WholePattern // matches the whole serial; the zero value matches any
	Check string             // luhn, mod-11-10, mod-37-36, mod-97-10, or "" for none
	Parts bool               // each part between - has its own check digits
}

// FormOf returns the form of the serials in a card.
func FormOf(l *card.Licence) SerialForm { return SerialForm{l.Form, l.Check, l.Parts} }

// Problem describes a likely typing error in a serial, or returns "". The text does not contain the
// serial, only the number of the wrong part.
func (f SerialForm) Problem(serial string) string {
	serial = strings.ToUpper(strings.TrimSpace(serial))
	parts := strings.Split(serial, "-")
	if f.Check != "" && f.Parts {
		var wrong []string
		for i, p := range parts {
			if !checks(f.Check, p) {
				wrong = append(wrong, fmt.Sprintf("part %d of %d", i+1, len(parts)))
			}
		}
		if len(wrong) > 0 {
			return strings.Join(wrong, " and ") + " has wrong check digits"
		}
	}
	if !f.Form.IsZero() && !f.Form.In(serial) {
		return "it does not match " + f.Form.String()
	}
	if f.Check != "" && !f.Parts && !checks(f.Check, strings.Join(parts, "")) {
		return "its check digits are wrong"
	}
	return ""
}

// checks verifies the check digits of a text: Luhn (ISO/IEC 7812-1) or ISO 7064. A letter has a
// value from 10 to 35.
func checks(how, text string) bool {
	values := make([]int, len(text))
	for i, c := range []byte(text) {
		switch {
		case c >= '0' && c <= '9':
			values[i] = int(c - '0')
		case c >= 'A' && c <= 'Z' && how != "luhn" && how != "mod-11-10":
			values[i] = int(c-'A') + 10
		default:
			return false
		}
	}
	if len(values) < 2 {
		return false
	}
	switch how {
	case "luhn":
		return luhn(values)
	case "mod-11-10":
		return hybrid(values, 10)
	case "mod-37-36":
		return hybrid(values, 36)
	}
	return mod97(values)
}

// luhn doubles every second digit from the right.
func luhn(values []int) bool {
	sum := 0
	for i, v := range values {
		if (len(values)-i)%2 == 0 {
			if v *= 2; v > 9 {
				v -= 9
			}
		}
		sum += v
	}
	return sum%10 == 0
}

// hybrid implements the recursive method of ISO 7064 with the moduli m+1 and m.
func hybrid(values []int, m int) bool {
	p := m
	for _, v := range values[:len(values)-1] {
		if p = (p + v) % m; p == 0 {
			p = m
		}
		p = p * 2 % (m + 1)
	}
	return (p+values[len(values)-1])%m == 1
}

// mod97 implements MOD 97-10 of ISO 7064, with two check digits.
func mod97(values []int) bool {
	digits := ""
	for _, v := range values {
		digits += fmt.Sprint(v)
	}
	n, _ := new(big.Int).SetString(digits, 10)
	return n.Mod(n, big.NewInt(97)).Int64() == 1
}
