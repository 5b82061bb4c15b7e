package move

import (
	"context"
	"errors"
	"fmt"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// database is what the steps ask of one kind of database.
type database interface {
	// seal copies the database as it is at one moment, with its fingerprint of
	// the same moment.
	seal(ctx context.Context, p survey.Place, is survey.Item, sealed *kit.Sealed) error
	// there reports whether something is where the database belongs.
	there(ctx context.Context, t target) (bool, error)
	// lacks returns what this computer lacks for the database at a target.
	lacks(ctx context.Context, t target) ([]string, error)
	// put puts the database in its place; what is in the way is set aside, or
	// what the policy says.
	put(ctx context.Context, t target, done *steps.Placed) error
	// fingerprint takes that of the database at a target.
	fingerprint(ctx context.Context, t target) (*dbprint.Fingerprint, error)
	// oldRows reads the rows of the sealed database; the function returned
	// ends that.
	oldRows(ctx context.Context, t target) (func(dbprint.Table) dbprint.Rows, func(), error)
	// newRows reads the rows of a table at a target.
	newRows(ctx context.Context, t target, table dbprint.Table) dbprint.Rows
}

// database returns what a kind of item does, or nil where it is none of a
// database.
func (j *Job) database(kind card.Kind) database {
	if kind == card.SQLite {
		return sqliteKind{j}
	}
	if e := survey.Engine(kind); e != nil {
		return servedKind{j, e}
	}
	return nil
}

// there reports whether something is where an item belongs.
func (j *Job) there(ctx context.Context, t target) (bool, error) {
	if db := j.database(t.card.Kind); db != nil {
		return db.there(ctx, t)
	}
	there, err := machine.Exists(t.path)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot look at %s", t.path)
	}
	return there, err
}

// lacks returns what this computer lacks for an item that is a database.
func (j *Job) lacks(ctx context.Context, t target) ([]string, error) {
	if db := j.database(t.card.Kind); db != nil {
		return db.lacks(ctx, t)
	}
	return nil, nil
}

// compareDatabase holds the database at a target against the sealed
// fingerprint.
func (j *Job) compareDatabase(ctx context.Context, t target) ([]dbprint.Diff, error) {
	old, now, err := j.fingerprints(ctx, t)
	if err != nil {
		return nil, err
	}
	return dbprint.Compare(old, now), nil
}

// fingerprints returns the sealed fingerprint, and that of what is here.
func (j *Job) fingerprints(ctx context.Context, t target) (old, now *dbprint.Fingerprint, err error) {
	old = &dbprint.Fingerprint{}
	if err := j.openJSON(t.item.Key.App, t.item.Sealed.List, old); err != nil {
		return nil, nil, err
	}
	now, err = j.database(t.card.Kind).fingerprint(ctx, t)
	return old, now, err
}

// verifyDatabase holds a database against the sealed one. The first rows that
// differ are named.
func (j *Job) verifyDatabase(ctx context.Context, t target) (*steps.Checked, error) {
	j.begin(t.item.Key, "comparing", 0)
	there, err := j.there(ctx, t)
	if err != nil {
		return nil, err
	}
	if !there {
		return &steps.Checked{Rows: []steps.Row{{What: "database", Old: "there", New: "missing"}}, Count: 1, Diffs: []string{"the database is missing"}}, nil
	}
	old, now, err := j.fingerprints(ctx, t)
	if kind := fault.KindOf(err); kind == fault.BadDatabase {
		return &steps.Checked{Rows: []steps.Row{{What: "database", Old: "whole", New: "damaged"}}, Count: 1, Diffs: []string{err.Error()}}, nil
	}
	if err != nil {
		return nil, err
	}
	diffs := dbprint.Compare(old, now)
	out := &steps.Checked{Equal: len(diffs) == 0, Count: int64(len(diffs))}
	out.Rows = append(out.Rows, row("tables", int64(len(old.Tables)), int64(len(now.Tables))), row("rows", old.Rows(), now.Rows()))
	for i, c := range t.card.Counts {
		if i < len(old.Counts) && i < len(now.Counts) {
			out.AddCount(c.Name, c.Expect, old.Counts[i].Value, now.Counts[i].Value)
		}
	}
	out.Rows = append(out.Rows, content(int64(len(old.Tables)), "digest", int64(len(diffs))))
	if err := j.nameRows(ctx, t, old, diffs); err != nil {
		return nil, err
	}
	for i, d := range diffs {
		if i == maxDiffs {
			break
		}
		if d.Table != "" {
			d.What = "table " + d.Table + ": " + d.What
		}
		out.Diffs = append(out.Diffs, d.What)
		for _, r := range d.Rows {
			out.Diffs = append(out.Diffs, "  "+r)
		}
	}
	return out, nil
}

// Bounds of the differences that are told.
const (
	maxDiffs     = 20 // of one database
	maxDiffering = 5  // tables whose rows are named
)

// nameRows finds the rows that differ in the first tables that do.
func (j *Job) nameRows(ctx context.Context, t target, old *dbprint.Fingerprint, diffs []dbprint.Diff) error {
	db := j.database(t.card.Kind)
	var rows func(dbprint.Table) dbprint.Rows
	named := 0
	for i := range diffs {
		d := &diffs[i]
		table := old.Table(d.Table)
		if !d.Content || table == nil || named == maxDiffering {
			continue
		}
		if rows == nil {
			opened, done, err := db.oldRows(ctx, t)
			if err != nil {
				return err
			}
			defer done()
			rows = opened
		}
		named++
		found, err := dbprint.DiffRows(*table, rows(*table), db.newRows(ctx, t, *table), t.card.Masks(table.Name))
		if errors.Is(err, dbprint.ErrMany) || fault.KindOf(err) == fault.BadDatabase {
			found, err = []string{err.Error()}, nil
		}
		if err != nil {
			return fmt.Errorf("the rows of the table %s cannot be compared: %w", table.Name, err)
		}
		d.Rows = found
	}
	return nil
}
