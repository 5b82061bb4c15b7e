package steps

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// told formats operations as text.
func told(ops []Op) string {
	var out []string
	for _, op := range ops {
		out = append(out, strings.TrimRight(fmt.Sprintf("%s %s>%s %s%s%s%s", op.Do, op.From, op.To, map[bool]string{true: "part "}[op.Part], op.Policy, op.If, op.Stamp), " "))
	}
	return strings.Join(out, ", ")
}

func TestPlans(t *testing.T) {
	base := Existing{Home: "home", Stage: "stage", Aside: "aside", There: true, Policy: "set-aside"}
	for want, change := range map[string]func(*Existing){
		"move in stage>home":                                                                        func(e *Existing) { e.There, e.Shared = false, true },
		"move out home>aside, move in stage>home":                                                   func(*Existing) {},
		"move out home>aside part, merge in stage>home set-aside":                                   func(e *Existing) { e.Shared, e.Merges = true, true },
		"move out home>aside, move in stage>home, delete aside> uneditedS":                          func(e *Existing) { e.Renew = "S" },
		"move out home>aside, move in stage>home, copy missing added>home, delete aside> uneditedS": func(e *Existing) { e.Renew, e.Added = "S", "added" },
		"move out home>aside part, merge in stage>home set-aside, delete aside> part uneditedS":     func(e *Existing) { e.Renew, e.Shared = "S", true },
		"move in stage>beside":                                                                      func(e *Existing) { e.Policy, e.Beside = "keep-both", "beside" },
		"move out home>aside, move in stage>home, copy missing aside>home":                          func(e *Existing) { e.Policy = "keep-both" },
		"merge in stage>home skip":                                                                  func(e *Existing) { e.Policy, e.Merges = "skip", true },
		"merge in stage>home replace":                                                               func(e *Existing) { e.Policy, e.Merges = "replace", true },
		"":                                                                                          func(e *Existing) { e.Policy = "skip" },
		"move out home>aside, move in stage>home, delete aside>":                                    func(e *Existing) { e.Policy = "replace" },
	} {
		e := base
		change(&e)
		if got := told(PlacePlan(e)); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if got, want := told(UndoPlan("home", "kept", "aside", true, Op{If: IfSame})), "move out home>kept part, move in aside>home part, delete kept> part same"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	if got, want := told(UndoPlan("home", "kept", "", false, Op{If: IfUnedited, Stamp: "S"})), "move out home>kept, delete kept> uneditedS"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	// A mapped plan has other names. The original keeps its own.
	p := &Plan{Ops: PlacePlan(base), At: 1, Content: "c"}
	q, err := p.Mapped(func(name string) (string, error) { return "/" + name, nil })
	if err != nil || told(q.Ops) != "move out /home>/aside, move in /stage>/home" || told(p.Left()) != "move in stage>home" || q.At != 1 || q.Content != "c" {
		t.Errorf("%q %v", told(q.Ops), err)
	}
	if _, err := p.Mapped(func(string) (string, error) { return "", errors.New("no") }); err == nil {
		t.Error("an error is lost")
	}
	if none, err := (*Plan)(nil).Mapped(nil); none != nil || err != nil || (*Plan)(nil).Left() != nil || (&Plan{At: 3}).Left() != nil && len((&Plan{At: 3}).Left()) > 0 {
		t.Error("no plan has operations")
	}
	// An empty name stays empty, and the names after it are mapped.
	r := &Plan{Ops: []Op{{From: "a", Aside: "c"}, {To: "b"}}}
	q, err = r.Mapped(func(name string) (string, error) { return "/" + name, nil })
	if err != nil || q.Ops[0] != (Op{From: "/a", Aside: "/c"}) || q.Ops[1] != (Op{To: "/b"}) {
		t.Errorf("%+v %v", q, err)
	}
}
