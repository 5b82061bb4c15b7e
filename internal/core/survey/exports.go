package survey

import (
	"context"
	"fmt"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/steps"
)

// exports compares the number of the app's exports with the expected number.
func (l *Scanner) exports(ctx context.Context, a *App, f *steps.Facts) error {
	for i := range a.Places {
		p := &a.Places[i]
		e := p.Item.Exports
		if e == nil || !p.Found {
			continue
		}
		want, err := wanted(ctx, e, a.Places)
		if fault.KindOf(err) == fault.Stopped {
			return err
		}
		have := a.Items[i].Files
		switch {
		case err != nil:
			f.Pack.TooFew = append(f.Pack.TooFew, fmt.Sprintf("the expected number of exports of %s is unknown: %v", p.Label(), err))
		case have < want:
			f.Pack.TooFew = append(f.Pack.TooFew, fmt.Sprintf("%s has %s, but %d are expected", p.Label(), item.Plural(have, "export"), want))
		default:
			a.Items[i].Details = append(a.Items[i].Details, fmt.Sprintf("%s of %d", item.Plural(have, "export"), want))
		}
	}
	return nil
}

// wanted returns the expected number of exports.
func wanted(ctx context.Context, e *card.Export, places []Place) (int64, error) {
	if e.Number != nil {
		return *e.Number, nil
	}
	var sum int64
	asked := false
	for _, p := range places {
		if p.Item.Name != e.Item || !p.Found {
			continue
		}
		n, err := p.Query(ctx, e.Query)
		if err != nil {
			return 0, err
		}
		sum, asked = sum+n, true
	}
	if !asked {
		return 0, fault.New(fault.Missing, "%s, which has the number, is not here", e.Item)
	}
	return sum, nil
}
