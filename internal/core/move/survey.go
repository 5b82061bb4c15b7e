package move

import (
	"context"

	"movekit/internal/core/item"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Drift looks what became on the old computer of what is sealed.
func (m *Move) Drift(ctx context.Context) (out []survey.App, err error) {
	cards, err := m.Chosen()
	if err != nil {
		return nil, err
	}
	defer m.Private.Drop()
	for _, c := range cards {
		l := m.looker(c, false)
		l.Since = m.Since
		a, err := l.Now(ctx, c)
		if err != nil {
			return nil, err
		}
		survey.Close(a.Places)
		out = append(out, *a)
	}
	return out, nil
}

// Survey looks at the computer for the apps of the kit, and changes nothing on
// it. On the old one it also tells what became of what is sealed.
func (m *Move) Survey(ctx context.Context) (*survey.Survey, error) {
	cards, err := m.Chosen()
	if err != nil {
		return nil, err
	}
	defer m.Private.Drop()
	l := survey.Scanner{Host: m.Host, Kinds: m.Kinds, Options: item.Options{KitDir: m.Kit.Place(), Target: m.Manifest.New.System, Estimate: true}}
	if m.Side() == steps.OldSide {
		l.Run, l.Since = m.Run, m.Since
	}
	s, err := l.Scan(ctx, cards, m.Facts)
	if err != nil {
		return nil, err
	}
	s.Side = m.Side()
	if s.Side != steps.OldSide {
		for i := range s.Apps {
			s.Apps[i].Blocks = nil // no pack is due here
		}
	}
	return s, nil
}
