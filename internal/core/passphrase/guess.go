package passphrase

import (
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn/frequency"
	"github.com/trustelem/zxcvbn/match"
	"github.com/trustelem/zxcvbn/scoring"
)

// guesses estimates how many tries a passphrase takes (D. L. Wheeler, "zxcvbn: Low-Budget Password Strength
// Estimation", USENIX Security 2016). The word lists and the scoring are the library's. Its search for words is not used,
// because it builds its tables whenever the program starts.
func guesses(p string) float64 {
	if !utf8.ValidString(p) {
		return 0
	}
	found := wordsIn(p, p, false)
	reversed := []rune(p)
	for i, j := 0, len(reversed)-1; i < j; i, j = i+1, j-1 {
		reversed[i], reversed[j] = reversed[j], reversed[i]
	}
	for _, m := range wordsIn(string(reversed), string(reversed), false) {
		m.I, m.J, m.Reversed = len(p)-1-m.J, len(p)-1-m.I, true
		m.Token = p[m.I : m.J+1]
		found = append(found, m)
	}
	for _, letters := range substituted {
		if plain := letters.Replace(p); plain != p {
			found = append(found, wordsIn(plain, p, true)...)
		}
	}
	found = append(append(found, repeatsIn(p)...), runsIn(p)...)
	match.Sort(found)
	return scoring.MostGuessableMatchSequence(p, found, false).Guesses
}

// substituted replaces digits and signs that stand for letters. 1 and ! can stand for two.
var substituted = []*strings.Replacer{
	strings.NewReplacer("4", "a", "@", "a", "8", "b", "(", "c", "3", "e", "6", "g", "9", "g", "1", "i", "!", "i", "0", "o", "$", "s", "5", "s", "7", "t", "+", "t", "%", "x", "2", "z"),
	strings.NewReplacer("4", "a", "@", "a", "8", "b", "(", "c", "3", "e", "6", "g", "9", "g", "1", "l", "|", "l", "0", "o", "$", "s", "5", "s", "7", "l", "+", "t", "%", "x", "2", "z"),
}

// ranks are the positions of the words in the lists of frequent words, by word.
var ranks = sync.OnceValue(func() map[string]int {
	out := map[string]int{}
	for _, list := range frequency.FrequencyLists {
		for i, word := range list {
			if was, known := out[word]; !known || i+1 < was {
				out[word] = i + 1
			}
		}
	}
	return out
})

// lowerASCII writes the letters A to Z in lower case, and changes no length.
func lowerASCII(s string) string {
	b := []byte(s)
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[i] += 'a' - 'A'
		}
	}
	return string(b)
}

// wordsIn returns the frequent words in text. With substituted, text is what token means, and only words in which
// something was substituted count.
func wordsIn(text, token string, substituted bool) (out []*match.Match) {
	lower := lowerASCII(text)
	for i := range lower {
		for j := i; j < len(lower); j++ {
			word, said := lower[i:j+1], token[i:j+1]
			rank := ranks()[word]
			if rank == 0 || substituted && (lowerASCII(said) == word || len(said) == 1) {
				continue
			}
			m := &match.Match{Pattern: "dictionary", I: i, J: j, Token: said, MatchedWord: word, Rank: rank}
			if substituted {
				m.L33t, m.Sub = true, map[string]string{}
				for k := range said {
					if c := lowerASCII(said[k : k+1]); c != word[k:k+1] {
						m.Sub[c] = word[k : k+1]
					}
				}
			}
			out = append(out, m)
		}
	}
	return out
}

// repeatsIn returns texts that are repeated.
func repeatsIn(p string) (out []*match.Match) {
	for i := 0; i < len(p); i++ {
		for size := 1; i+2*size <= len(p); size++ {
			base, n := p[i:i+size], 1
			for strings.HasPrefix(p[i+n*size:], base) {
				n++
			}
			if n == 1 || !utf8.ValidString(base) {
				continue
			}
			inner := guesses(base)
			out = append(out, &match.Match{Pattern: "repeat", I: i, J: i + n*size - 1, Token: p[i : i+n*size], BaseToken: base, BaseGuesses: inner, RepeatCount: n})
			i += n*size - 1
			break
		}
	}
	return out
}

// rows are the keys of a keyboard, row by row, and the characters in order.
var rows = []string{"qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "zxcvbnm", "yxcvbnm", "abcdefghijklmnopqrstuvwxyz", "0123456789", "1234567890"}

// runsIn returns three or more characters that follow each other in a row, in either direction.
func runsIn(p string) (out []*match.Match) {
	lower := lowerASCII(p)
	for _, row := range rows {
		for i := 0; i < len(lower); i++ {
			for _, step := range []int{1, -1} {
				j, at := i, strings.IndexByte(row, lower[i])
				for at >= 0 && j+1 < len(lower) && at+step >= 0 && at+step < len(row) && row[at+step] == lower[j+1] {
					j, at = j+1, at+step
				}
				if j-i >= 2 {
					out = append(out, &match.Match{Pattern: "sequence", I: i, J: j, Token: p[i : j+1], SequenceName: "lower", SequenceSpace: len(row), Ascending: step > 0})
				}
			}
		}
	}
	return out
}
