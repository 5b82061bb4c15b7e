package survey

import (
	"context"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/tree"
)

// sync checks whether the app has sent everything.
func (l *Scanner) sync(ctx context.Context, s card.Sync, places []Place) (Sync, error) {
	st := Sync{About: s.About, Known: true}
	switch {
	case s.Files != "":
		return st, l.waiting(ctx, s, &st)
	case s.Query != "":
		return st, l.query(ctx, s, places, &st)
	}
	said, err := l.Prober().Run(ctx, s.Command, nil)
	if err != nil {
		st.Known, st.Why = false, "unknown: "+strings.Join(s.Command, " ")+": "+err.Error()
		return st, nil
	}
	st.Finished = s.Pattern.In(said)
	if !st.Finished {
		st.Why = strings.Join(s.Command, " ") + " did not report that sync is finished"
	}
	return st, nil
}

// waiting counts the files that still have to be sent.
func (l *Scanner) waiting(ctx context.Context, s card.Sync, st *Sync) error {
	path := s.Path.On(string(l.Computer.System()))
	st.Finished = true
	if path == "" {
		return nil
	}
	for _, u := range machine.Profiles(l.Computer, path) {
		real, err := l.Computer.Locate(path, u)
		if err != nil {
			return err
		}
		if there, err := machine.Exists(real); err != nil || !there {
			continue
		}
		n, first := int64(0), ""
		src := tree.Source{Root: real, Include: []string{s.Files}, Fold: l.Computer.System().Folds()}
		if _, err := src.Measure(ctx, func(e tree.Entry, _ string) {
			if e.Type == tree.File {
				if n++; n == 1 {
					first = e.Path
				}
			}
		}, nil); err != nil {
			return err
		}
		if n > 0 {
			st.Finished = false
			st.Why = strings.TrimPrefix(st.Why+"; "+item.Plural(n, "file")+" waiting in "+real+", such as "+first, "; ")
		}
	}
	return nil
}

// query queries an item's database.
func (l *Scanner) query(ctx context.Context, s card.Sync, places []Place, st *Sync) error {
	st.Finished = true
	for _, p := range places {
		if p.Item.Name != s.Item || !p.Found {
			continue
		}
		n, err := p.Query(ctx, s.Query)
		if err != nil {
			st.Finished, st.Known, st.Why = false, false, "unknown: "+err.Error()
			return nil
		}
		if n != s.Expect {
			st.Finished = false
			st.Why = item.Plural(n, "record") + " still to be sent, by " + p.Label()
		}
	}
	return nil
}
