package bytejson

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"
	"unicode/utf8"
)

type inner struct {
	Name string
	Raw  []byte `json:",omitempty"`
}

type outer struct {
	inner
	Key   string `json:"key"`
	All   []inner
	By    map[string]*inner
	Any   any
	At    time.Time
	Data  json.RawMessage
	Never []string `json:"never,omitempty"`
	Two   [2]string
	own   string
}

// TestAnyBytes writes and reads values with strings that are not valid UTF-8, in every place.
func TestAnyBytes(t *testing.T) {
	bad := "a\xff\xc3\U0010ff41\U0010ffff/ü"
	in := outer{inner: inner{Name: bad}, Key: bad, All: []inner{{bad, []byte("\xff")}}, By: map[string]*inner{bad: {Name: bad}, "": nil}, Any: bad, At: time.Unix(5, 0).UTC(), Data: json.RawMessage(`{"x":"\u00ff"}`), Two: [2]string{bad, "x"}}
	data, err := Marshal(&in)
	if err != nil || !utf8.Valid(data) {
		t.Fatalf("%q %v", data, err)
	}
	var out outer
	if err := Unmarshal(data, &out); err != nil || !reflect.DeepEqual(in, out) {
		t.Errorf("%+v, not %+v: %v", out, in, err)
	}
	if in.Key != bad || in.By[bad].Name != bad {
		t.Error("writing changed the value")
	}
	plain, err := Marshal(outer{Key: "ü \\ \ufffd", own: bad})
	if want, _ := json.Marshal(outer{Key: "ü \\ \ufffd"}); err != nil || string(plain) != string(want) {
		t.Errorf("%s, not %s: %v", plain, want, err)
	}
	if data, err := Marshal(nil); string(data) != "null" || err != nil {
		t.Errorf("%s %v", data, err)
	}
	if err := Unmarshal([]byte(`{"key":"\udbff\udf41"}`), &out); err != nil || out.Key != "A" {
		t.Errorf("%q %v", out.Key, err)
	}
}

func FuzzEscape(f *testing.F) {
	for _, s := range []string{"", "a", "\xff", "\U0010ff00", "\xf4\x8f", "\ufffd"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if e := Escape(s); !utf8.ValidString(e) || Unescape(e) != s {
			t.Errorf("%q became %q", s, e)
		}
	})
}
