package keys

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"movekit/internal/core/registry"
)

// TestList writes lists and reads them again, and reads lists that Move Kit did not write.
func TestList(t *testing.T) {
	t.Parallel()
	for _, all := range [][]registry.Branch{
		nil,
		{{Path: ""}},
		{{Path: `Vendor\App`, Values: []registry.Value{{Name: "", Type: registry.String, Data: []byte("x")}, {Name: "a\xffb", Type: registry.Binary, Data: bytes.Repeat([]byte{0, 255}, 100_000)}}}, {Path: `Vendor\App\Below`}},
	} {
		var text bytes.Buffer
		if err := writeList(&text, all); err != nil {
			t.Fatal(err)
		}
		if !json.Valid(text.Bytes()) {
			t.Errorf("not JSON: %.100q", text.String())
		}
		var back []registry.Branch
		if err := readList(bytes.NewReader(text.Bytes()), func(b registry.Branch) error { back = append(back, b); return nil }); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(back, all) {
			t.Errorf("read %.200v, wrote %.200v", back, all)
		}
		for _, end := range []int{0, 1, text.Len() / 2, text.Len() - 1} {
			if err := readList(bytes.NewReader(text.Bytes()[:end]), func(registry.Branch) error { return nil }); err == nil {
				t.Errorf("a list that ends after %d of %d bytes was read", end, text.Len())
			}
		}
	}
	for _, text := range []string{"{}", "null", `[1]`, `["a"]`, `[{"path":1}]`, `[{"values":{}}]`, `[{"values":[1]}]`, `[{"other":1}]`, `[[]]`, `[{"path":"a"`, `[{"path":"a"}}`} {
		if err := readList(strings.NewReader(text), func(registry.Branch) error { return nil }); err == nil {
			t.Errorf("%s was read", text)
		}
	}
	long := `[{"values":[` + strings.TrimSuffix(strings.Repeat(`{"Data":"`+strings.Repeat("AAAA", 8<<20)+`"},`, 6), ",") + `]}]`
	if err := readList(strings.NewReader(long), func(registry.Branch) error { return nil }); err == nil {
		t.Error("a list of 150 MB was read")
	}
}
