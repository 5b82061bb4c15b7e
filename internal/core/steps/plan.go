package steps

import "cmp"

// Do is the action of an operation. "Home" is the name under which the app looks for its data. A
// "spare" is a name that only Move Kit uses: staged, set aside, or kept beside.
type Do string

// The actions. Each can be repeated after an interruption.
const (
	MoveOut     Do = "move out"     // renames From, which is home, to the spare To
	MoveIn      Do = "move in"      // renames the spare From to To, which is home
	MergeIn     Do = "merge in"     // moves the content of the staged From into To, by Policy; conflicts go to Aside
	CopyMissing Do = "copy missing" // copies files that are in From and not in To into To
	Delete      Do = "delete"       // deletes the spare From if it meets the condition If
)

// If is the condition for deleting a spare.
type If string

// The conditions.
const (
	Always     If = ""
	IfSame     If = "same"     // its content is the sealed content
	IfUnedited If = "unedited" // it still has Stamp
)

// Op is one operation on the names of an item. In the journal, names are in the computer's own
// terms.
type Op struct {
	Do     Do     `json:"do"`
	From   string `json:"from"`
	To     string `json:"to,omitempty"`
	Part   bool   `json:"part,omitempty"` // only the files that the card selects, because others share the folder
	Policy string `json:"policy,omitempty"`
	Aside  string `json:"aside,omitempty"`
	If     If     `json:"if,omitempty"`
	Stamp  string `json:"stamp,omitempty"`
}

// Plan is the list of operations that a step carries out on one item. It is written to the journal
// before the first operation and after each one, so that an interrupted run can be resumed.
type Plan struct {
	Ops     []Op   `json:"ops"`
	At      int    `json:"at,omitempty"`      // index of the next operation
	Content string `json:"content,omitempty"` // hash of the sealed data that is moved in
}

// Left returns the remaining operations. A nil plan has none.
func (p *Plan) Left() []Op {
	if p == nil {
		return nil
	}
	return p.Ops[min(p.At, len(p.Ops)):]
}

// Mapped returns a copy of p with rename applied to every name.
func (p *Plan) Mapped(rename func(string) (string, error)) (*Plan, error) {
	if p == nil {
		return nil, nil
	}
	out := &Plan{Ops: make([]Op, len(p.Ops)), At: p.At, Content: p.Content}
	for i, op := range p.Ops {
		for _, name := range []*string{&op.From, &op.To, &op.Aside} {
			if *name == "" {
				continue
			}
			var err error
			if *name, err = rename(*name); err != nil {
				return nil, err
			}
		}
		out.Ops[i] = op
	}
	return out, nil
}

// Existing describes the existing data at an item's home, and how to treat it.
type Existing struct {
	Home, Stage string
	Aside       string // spare for the existing data
	Conflicts   string // spare for single files that conflict with a merge
	There       bool   // there is data at Home
	Shared      bool   // only a part of the folder at Home belongs to the item, so the folder cannot be renamed
	Merges      bool   // the kind can merge two contents into one folder or key
	Policy      string // of tree.Policy: set-aside, keep-both, skip or replace
	Renew       string // stamp of unmodified data from an earlier unpack; "" if it is something else
	Added       string // spare whose files an earlier unpack added to the data that is renewed; "" if none
	Beside      string // for keep-both, the spare where the new data stays; "" to merge both into Home
}

// PlacePlan returns the operations that put staged data in place.
func PlacePlan(e Existing) []Op {
	out := Op{Do: MoveOut, From: e.Home, To: e.Aside, Part: e.Shared}
	in := Op{Do: MoveIn, From: e.Stage, To: e.Home}
	merge := func(policy string) Op {
		return Op{Do: MergeIn, From: e.Stage, To: e.Home, Policy: policy, Aside: cmp.Or(e.Conflicts, e.Aside)}
	}
	if e.Shared && e.There {
		in = merge("set-aside")
	}
	switch {
	case !e.There:
		return []Op{in}
	case e.Renew != "":
		ops := []Op{out, in}
		if e.Added != "" {
			ops = append(ops, Op{Do: CopyMissing, From: e.Added, To: e.Home})
		}
		return append(ops, Op{Do: Delete, From: e.Aside, Part: e.Shared, If: IfUnedited, Stamp: e.Renew})
	case e.Policy == "keep-both" && e.Beside != "":
		return []Op{{Do: MoveIn, From: e.Stage, To: e.Beside}}
	case e.Policy == "keep-both":
		return []Op{out, in, {Do: CopyMissing, From: e.Aside, To: e.Home}}
	case e.Merges && (e.Policy == "skip" || e.Policy == "replace"):
		return []Op{merge(e.Policy)}
	case e.Policy == "skip":
		return nil
	case e.Policy == "replace":
		return []Op{out, in, {Do: Delete, From: e.Aside}}
	}
	return []Op{out, in}
}

// UndoPlan returns the operations that undo an unpack: move the data at home to kept, move the
// set-aside data back, and delete kept if it is unmodified.
func UndoPlan(home, kept, aside string, part bool, unedited Op) []Op {
	ops := []Op{{Do: MoveOut, From: home, To: kept, Part: part}}
	if aside != "" {
		ops = append(ops, Op{Do: MoveIn, From: aside, To: home, Part: part})
	}
	unedited.Do, unedited.From, unedited.Part = Delete, kept, part
	return append(ops, unedited)
}
