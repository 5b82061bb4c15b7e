package office

import (
	"context"
	"errors"

	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
)

// Cut is a kit whose stick is pulled out when certain lines are written.
type Cut struct {
	run.Kit
	After int // number of lines that can still be written
}

// ErrPulled is the error of a kit whose stick is pulled out.
var ErrPulled = errors.New("the stick was pulled out")

// Record writes a line, unless the stick is pulled out.
func (c *Cut) Record(l journal.Line, data any) (journal.Line, error) {
	if c.After--; c.After < 0 {
		return l, ErrPulled
	}
	return c.Kit.Record(l, data)
}

// CutAt runs a step on the new computer until the journal has an event, and lets it write some more
// lines. It returns the unfinished record of an item.
func CutAt(o *Office, do func(*move.Move, context.Context) ([]*run.Outcome, error), event string, more int, name string) *steps.Item {
	for lines := o.Kit.Lines(); lines[len(lines)-1].Event != event; lines = o.Kit.Lines() {
		_, err := do(move.New(o.Run(&Cut{Kit: o.Kit, After: 1 + more}, o.New)), o.T.Context())
		fatal.If(o.T, err)
	}
	return o.Job(o.New).State.Items[steps.Key{App: "app", Item: name}]
}

// WhateverCut runs a step that is interrupted after each of its lines, and then completely.
func WhateverCut(o *Office, c machine.Computer, do func(*move.Move, context.Context) ([]*run.Outcome, error)) *run.Outcome {
	o.T.Helper()
	return WhateverCutBy(o, c, nil, do)
}

// WhateverCutBy is WhateverCut with a function that prepares each run.
func WhateverCutBy(o *Office, c machine.Computer, say func(*move.Move), do func(*move.Move, context.Context) ([]*run.Outcome, error)) *run.Outcome {
	o.T.Helper()
	for n := 0; ; n++ {
		j := move.New(o.Run(&Cut{Kit: o.Kit, After: n % 4}, c))
		if say != nil {
			say(j)
		}
		out, err := do(j, o.T.Context())
		fatal.If(o.T, err)
		if len(out[0].Blocks) > 0 {
			o.T.Fatalf("stopped after %d cuts: %+v", n, out[0].Blocks)
		}
		if out[0].Err == nil {
			return out[0]
		}
		if !errors.Is(out[0].Err, ErrPulled) || n > 40 {
			o.T.Fatal(out[0].Err)
		}
	}
}
