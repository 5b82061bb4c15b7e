package item

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

var errCut = errors.New("the run was cut off")

// memory has data under names, as the names of a kind. A run is cut off before or after one of its changes.
type memory struct {
	data map[string]string
	left int // changes until the run is cut off
}

// change makes one change, unless the run is cut off.
func (m *memory) change(do func()) error {
	if m.left--; m.left < 0 {
		if m.left%2 == 0 {
			do() // it was made, but the caller is not told
		}
		return errCut
	}
	do()
	return nil
}

func (m *memory) State(_ context.Context, home, spare string, _ bool) (Presence, error) {
	_, h := m.data[home]
	_, s := m.data[spare]
	return PresenceOf(h, s), nil
}

func (m *memory) Ours(home, name string) bool { return strings.HasPrefix(name, home) }

func (m *memory) Free(_ context.Context, home string, use Use) (string, error) {
	for n := 1; ; n++ {
		if name := fmt.Sprintf("%s.%s-%d", home, use, n); m.data[name] == "" {
			return name, nil
		}
	}
}

func (m *memory) rename(from, to string) error {
	return m.change(func() {
		if _, taken := m.data[to]; taken {
			panic("data is overwritten: " + to)
		}
		m.data[to] = m.data[from]
		delete(m.data, from)
	})
}

func (m *memory) MoveOut(_ context.Context, home, spare string, _ bool) error {
	return m.rename(home, spare)
}

func (m *memory) MoveIn(_ context.Context, spare, home string, _ bool) error {
	return m.rename(spare, home)
}

func (m *memory) Delete(_ context.Context, spare string, op steps.Op) (bool, error) {
	text, there := m.data[spare]
	if !there || op.If != "" && text != op.Stamp {
		return there, nil
	}
	return false, m.change(func() { delete(m.data, spare) })
}

func (m *memory) MergeInto(_ context.Context, stage, home, aside string, policy tree.Policy) (bool, error) {
	text, there := m.data[stage]
	if !there {
		return m.data[aside] != "", nil
	}
	err := m.change(func() {
		switch {
		case m.data[home] == "":
			m.data[home] = text
		case policy != tree.Skip:
			m.data[aside], m.data[home] = m.data[home], text
		}
		delete(m.data, stage)
	})
	return m.data[aside] != "", err
}

func (m *memory) CopyMissing(_ context.Context, spare, home string) (string, error) {
	return "copied", m.change(func() {
		if !strings.Contains(m.data[home], "+"+m.data[spare]) {
			m.data[home] += "+" + m.data[spare]
		}
	})
}

// carriedOut carries out a plan in runs that are cut off at random places. Between two runs, somebody may create data at home.
func carriedOut(t *testing.T, m *memory, plan *steps.Plan, random *rand.Rand, users bool) (out Result, written []string) {
	t.Helper()
	p := Parts{Names: m, Merger: m, Adder: m}
	for run := 0; ; run++ {
		if run > 200 {
			t.Fatalf("the plan does not end: %+v", plan)
		}
		saved := *plan
		saved.Ops = slices.Clone(plan.Ops)
		m.left = random.IntN(4)
		stage := func() error {
			if _, there := m.data["home.stage"]; !there && !strings.Contains(m.data["home"], "new") {
				m.data["home.stage"] = "new"
			}
			return nil
		}
		r, err := p.CarryOut(t.Context(), plan, stage, func() error {
			return m.change(func() { saved = *plan; saved.Ops = slices.Clone(plan.Ops) })
		})
		out.Meanwhile = append(out.Meanwhile, r.Meanwhile...)
		if out.Kept = r.Kept; err == nil {
			return *r, written
		}
		if !errors.Is(err, errCut) {
			t.Fatalf("run %d of %+v on %v: %v", run, plan.Ops, m.data, err)
		}
		*plan = saved // what is in the journal
		if _, there := m.data["home"]; users && !there && random.IntN(3) == 0 {
			text := fmt.Sprintf("meanwhile %d", len(written))
			m.data["home"] = text
			written = append(written, text)
		}
	}
}

// TestCarryOut carries out the plans of all steps, whatever their runs are cut off at. No data is lost, and the result is the same
// as that of one run.
func TestCarryOut(t *testing.T) {
	existing := map[string]string{"home": "old", "home.stage": "new"}
	base := steps.Existing{Home: "home", Stage: "home.stage", Aside: "home.aside-1", There: true, Policy: "set-aside"}
	place := func(change func(*steps.Existing)) []steps.Op {
		e := base
		change(&e)
		return steps.PlacePlan(e)
	}
	for what, c := range map[string]struct {
		ops         []steps.Op
		begin, want map[string]string
	}{
		"set aside":       {place(func(*steps.Existing) {}), existing, map[string]string{"home": "new", "home.aside-1": "old"}},
		"put":             {place(func(e *steps.Existing) { e.There = false }), map[string]string{"home.stage": "new"}, map[string]string{"home": "new"}},
		"renew":           {place(func(e *steps.Existing) { e.Renew = "old" }), existing, map[string]string{"home": "new"}},
		"renew edited":    {place(func(e *steps.Existing) { e.Renew = "S" }), existing, map[string]string{"home": "new", "home.aside-1": "old"}},
		"keep both":       {place(func(e *steps.Existing) { e.Policy = "keep-both" }), existing, map[string]string{"home": "new+old", "home.aside-1": "old"}},
		"beside":          {place(func(e *steps.Existing) { e.Policy, e.Beside = "keep-both", "home.beside" }), existing, map[string]string{"home": "old", "home.beside": "new"}},
		"skip":            {place(func(e *steps.Existing) { e.Policy, e.Merges = "skip", true }), existing, map[string]string{"home": "old"}},
		"merge":           {place(func(e *steps.Existing) { e.Shared, e.Merges = true, true }), map[string]string{"home.stage": "new"}, map[string]string{"home": "new"}},
		"replace":         {place(func(e *steps.Existing) { e.Policy = "replace" }), existing, map[string]string{"home": "new"}},
		"undo":            {steps.UndoPlan("home", "home.kept-1", "home.aside-1", false, steps.Op{If: steps.IfSame, Stamp: "new"}), map[string]string{"home": "new", "home.aside-1": "old"}, map[string]string{"home": "old"}},
		"undo edited":     {steps.UndoPlan("home", "home.kept-1", "home.aside-1", false, steps.Op{If: steps.IfSame, Stamp: "new"}), map[string]string{"home": "edited", "home.aside-1": "old"}, map[string]string{"home": "old", "home.kept-1": "edited"}},
		"undo of nothing": {steps.UndoPlan("home", "home.kept-1", "", false, steps.Op{If: steps.IfSame, Stamp: "new"}), map[string]string{"home": "new"}, map[string]string{}},
	} {
		for seed := range uint64(400) {
			m := &memory{data: maps.Clone(c.begin)}
			plan := &steps.Plan{Ops: slices.Clone(c.ops)}
			r, _ := carriedOut(t, m, plan, rand.New(rand.NewPCG(seed, 1)), false)
			if !maps.Equal(m.data, c.want) {
				t.Fatalf("%s, seed %d: %v, want %v", what, seed, m.data, c.want)
			}
			if kept := c.want["home.aside-1"] == "old" && what == "renew edited" || what == "undo edited"; (r.Kept != "") != kept {
				t.Fatalf("%s, seed %d: kept %q", what, seed, r.Kept)
			}
			// With people who create data at home between the runs, all of their data is there at the end.
			m = &memory{data: maps.Clone(c.begin)}
			_, written := carriedOut(t, m, &steps.Plan{Ops: slices.Clone(c.ops)}, rand.New(rand.NewPCG(seed, 2)), true)
			for _, text := range append(written, slices.Collect(maps.Values(c.want))...) {
				if what == "skip" || what == "merge" || what == "keep both" {
					break // merged data is part of other data
				}
				if !slices.Contains(slices.Collect(maps.Values(m.data)), text) {
					t.Fatalf("%s, seed %d: %q is lost: %v", what, seed, text, m.data)
				}
			}
		}
	}
}

// TestCarryOutReports says what is gone, and stops where data cannot be moved back.
func TestCarryOutReports(t *testing.T) {
	ok := func() error { return nil }
	run := func(data map[string]string, ops ...steps.Op) (*Result, *memory, error) {
		m := &memory{data: data, left: 99}
		r, err := Parts{Names: m, Merger: m, Adder: m}.CarryOut(t.Context(), &steps.Plan{Ops: ops}, ok, ok)
		return r, m, err
	}
	if _, _, err := run(map[string]string{}, steps.Op{Do: steps.MoveIn, From: "spare", To: "home"}); fault.KindOf(err) != fault.Missing {
		t.Errorf("moved back from nowhere: %v", err)
	}
	r, _, err := run(map[string]string{"home": "x"}, steps.Op{Do: steps.CopyMissing, From: "spare", To: "home"})
	if err != nil || r.Gone != "spare" || len(r.Notes) > 0 {
		t.Errorf("%+v %v", r, err)
	}
	r, _, err = run(map[string]string{"home": "x", "spare": "y"}, steps.Op{Do: steps.CopyMissing, From: "spare", To: "home"})
	if err != nil || r.Gone != "" || !slices.Equal(r.Notes, []string{"copied"}) {
		t.Errorf("%+v %v", r, err)
	}
	r, m, err := run(map[string]string{"home": "later", "spare": "y"}, steps.Op{Do: steps.MoveIn, From: "spare", To: "home"})
	if err != nil || len(r.Meanwhile) != 1 || m.data[r.Meanwhile[0]] != "later" || m.data["home"] != "y" {
		t.Errorf("%+v %v %v", r, m.data, err)
	}
	r, m, err = run(map[string]string{"home": "later", "spare": "y"}, steps.Op{Do: steps.MoveOut, From: "home", To: "spare"})
	if err != nil || len(r.Meanwhile) != 1 || m.data[r.Meanwhile[0]] != "later" || m.data["spare"] != "y" {
		t.Errorf("%+v %v %v", r, m.data, err)
	}
	r, m, err = run(map[string]string{"home": "a", "home.stage": "b"}, steps.Op{Do: steps.MergeIn, From: "home.stage", To: "home", Aside: "home.aside-1", Policy: "set-aside"})
	if err != nil || r.Conflicts != "home.aside-1" || m.data["home.aside-1"] != "a" {
		t.Errorf("%+v %v %v", r, m.data, err)
	}
	var parts Parts
	if _, err := parts.Query(t.Context(), "SELECT 1"); fault.KindOf(err) != fault.BadCard || parts.AtRest() {
		t.Errorf("a folder is queried: %v", err)
	}
	if there, err := parts.Exists(t.Context(), "home"); there || err != nil {
		t.Errorf("without names it exists: %v", err)
	}
	failing := &memory{data: map[string]string{"home": "a"}, left: 99}
	_, err = Parts{Names: failing, Merger: failing, Adder: failing}.CarryOut(t.Context(), &steps.Plan{Ops: []steps.Op{{Do: steps.MergeIn, From: "s", To: "home"}}}, func() error { return errCut }, ok)
	if !errors.Is(err, errCut) {
		t.Errorf("not staged, and merged: %v", err)
	}
}
