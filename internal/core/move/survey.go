package move

import (
	"context"

	"movekit/internal/core/item"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Drift compares the old computer's data with the sealed data.
func (m *Move) Drift(ctx context.Context) (out []survey.App, err error) {
	cards, err := m.SelectedCards()
	if err != nil {
		return nil, err
	}
	defer m.Private.Drop()
	for _, c := range cards {
		l := m.scanner(c, false)
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

// Survey surveys this computer for the apps in the kit, and changes nothing. On the old computer it
// also reports changes since the pack.
func (m *Move) Survey(ctx context.Context) (*survey.Survey, error) {
	m.SelectNeeded()
	cards, err := m.SelectedCards()
	if err != nil {
		return nil, err
	}
	defer m.Private.Drop()
	l := survey.Scanner{Host: m.Host, Kinds: m.Kinds, Options: item.Options{KitDir: m.Kit.Place(), More: m.MoreMedia, Target: m.Manifest.New.System, Estimate: true}}
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
			s.Apps[i].Blocks = nil // a pack does not run here
		}
	}
	return s, nil
}
