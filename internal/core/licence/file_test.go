package licence

import (
	"crypto/ed25519"
	"encoding/json"
	"testing"
)

// FuzzAnswers reads files of requests and of answers, and a desk's answer, that somebody
// made: nothing of them may bring the program down, and nothing counts that is not signed.
func FuzzAnswers(f *testing.F) {
	private := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize)) // the same in every run
	public := private.Public().(ed25519.PublicKey)
	signed, err := Sign(Answer{Action: Status, State: Active}, private)
	if err != nil {
		f.Fatal(err)
	}
	file, _ := json.Marshal(AnswerFile{Format: 1, Answers: []string{signed}})
	f.Add(file)
	f.Add([]byte(signed))
	f.Add([]byte(`{"format":1,"requests":[{"spoken":"A","request":{}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		ReadFile[RequestFile](data) //nolint:errcheck // only that it comes back
		if answers, err := ReadFile[AnswerFile](data); err == nil {
			for _, a := range answers.Answers {
				Verify(a, public) //nolint:errcheck // as above
			}
		}
		if a, err := Verify(string(data), public); err == nil && a.State != Active {
			t.Errorf("%q is taken for signed", data)
		}
	})
}
