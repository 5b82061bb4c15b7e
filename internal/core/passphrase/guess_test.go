package passphrase

import (
	"testing"

	"github.com/trustelem/zxcvbn"
)

// TestGuesses compares the estimates with those of the complete library: none is much more generous, and strong passphrases
// stay strong.
func TestGuesses(t *testing.T) {
	for _, p := range []string{
		"password", "Password1", "p@ssw0rd", "P4ssw0rd1234", "drowssap", "qwertyuiop", "qwertz123456", "asdfghjkl123", "aaaaaaaaaaaa", "abcabcabcabc", "abcdefghijkl", "123456789012", "zyxwvutsrqpo",
		"letmeinplease", "iloveyou2026", "harbourharbour", "dragonmonkey", "monkeydragon99", "Michael Smith", "correct horse", "trustno1trustno1", "superman!superman", "football2025!", "m4st3rm1nd",
		"tide-table", "the old harbour", "boat boat boat", "summer holiday", "winter is coming", "ééééééééé", "öffnedich", "Grüße an alle", "xK9#mQ2$vL7!", "zvbn-krtw-plmq", "agency-balcony-cabana-dagger-eagle-fable", "",
	} {
		got, want := guesses(p), zxcvbn.PasswordStrength(p, nil).Guesses
		if got > 30*want && want < guessable || want > guessable && got < guessable {
			t.Errorf("%q: %.1e, the library says %.1e", p, got, want)
		}
	}
	if guesses("\xff") != 0 {
		t.Error("text that is not UTF-8 has no strength")
	}
}
