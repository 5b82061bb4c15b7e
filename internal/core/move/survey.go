package move

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Survey looks at the computer for the apps of the kit, and changes nothing on
// it.
func (j *Job) Survey(ctx context.Context) (*survey.Survey, error) {
	cards, err := j.cards()
	if err != nil {
		return nil, err
	}
	l := j.looker(true)
	l.Progress = func(app, item, user string) { j.begin(steps.Key{App: app, Item: item, User: user}, "looking at", 0) }
	s, err := l.Look(ctx, cards, j.facts)
	if err != nil {
		return nil, err
	}
	s.Side = j.Side()
	if s.Side != steps.OldSide {
		for i := range s.Apps {
			s.Apps[i].Blocks = nil // no pack is due here
		}
	}
	return s, nil
}

// look surveys one app for its packing. Content is sampled for its sealed size
// only where it would not fit as it is.
func (j *Job) look(ctx context.Context, c *card.Card) (*survey.App, error) {
	a, err := j.lookerFor(c, false).App(ctx, c, j.facts(c))
	if err == nil && a.Facts.Need > 0 && uint64(a.Facts.Need) > a.Facts.Free {
		return j.lookerFor(c, true).App(ctx, c, j.facts(c))
	}
	return a, err
}
