package item

import (
	"context"
	"errors"
	"fmt"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/steps"
)

// Limits for reported differences.
const (
	maxDiffs     = 20 // per database
	maxDiffering = 5  // tables whose rows are listed
)

// Database reads the rows of a database, old and new.
type Database interface {
	// Fingerprint computes the fingerprint of the existing database.
	Fingerprint(ctx context.Context) (*dbprint.Fingerprint, error)
	// OldRows reads the rows of the sealed database. The second result ends that.
	OldRows(ctx context.Context) (func(dbprint.Table) dbprint.Rows, func(), error)
	// NewRows reads the rows of an existing table.
	NewRows(ctx context.Context, t dbprint.Table) dbprint.Rows
}

// SamePrint reports whether the existing database has the sealed fingerprint. A database that
// cannot be read is different; one that cannot be reached is an error. Objects that the engine here
// writes differently are accepted as long as nothing is recorded about them.
func (o *Instance) SamePrint(ctx context.Context, db Database, old *dbprint.Fingerprint) (bool, error) {
	now, err := db.Fingerprint(ctx)
	if err != nil {
		return false, Unreached(ctx, err)
	}
	remade := o.rewritten()
	if remade == nil {
		remade = old.Rewritten(now)
	}
	return len(dbprint.Compare(old, now, remade)) == 0, nil
}

// Unreached returns err if it only means that the database could not be reached or the run was
// stopped. Otherwise it returns nil.
func Unreached(ctx context.Context, err error) error {
	if k := fault.KindOf(err); k == fault.ServerDown || k == fault.Stopped || ctx.Err() != nil {
		return err
	}
	return nil
}

// rewritten returns the definitions that are recorded as written differently by the engine here, or
// nil.
func (o *Instance) rewritten() map[string]string {
	if o.InKit.Placed == nil {
		return nil
	}
	return o.InKit.Placed.Rewritten
}

// CompareDatabase compares a database with the sealed fingerprint, and lists the first rows that
// differ.
func (o *Instance) CompareDatabase(ctx context.Context, db Database, there bool, old *dbprint.Fingerprint) (*steps.Checked, error) {
	o.Progress("comparing", 0)
	if !there {
		return &steps.Checked{Rows: []steps.Row{{What: "database", Old: "present", New: "missing"}}, Count: 1, Diffs: []string{"the database is missing"}}, nil
	}
	now, err := db.Fingerprint(ctx)
	if fault.KindOf(err) == fault.BadDatabase {
		return &steps.Checked{Rows: []steps.Row{{What: "database", Old: "whole", New: "damaged"}}, Count: 1, Diffs: []string{err.Error()}}, nil
	}
	if err != nil {
		return nil, err
	}
	diffs := dbprint.Compare(old, now, o.rewritten())
	out := &steps.Checked{Equal: len(diffs) == 0, Count: int64(len(diffs))}
	out.Rows = append(out.Rows, Row("tables", int64(len(old.Tables)), int64(len(now.Tables))), Row("rows", old.Rows(), now.Rows()))
	for i, c := range o.Item.Counts {
		if i < len(old.Counts) && i < len(now.Counts) {
			out.AddCount(c.Name, c.Expect, old.Counts[i].Value, now.Counts[i].Value)
		}
	}
	out.Rows = append(out.Rows, Content(int64(len(old.Tables)), "digest", "digests", int64(len(diffs))))
	if err := o.nameRows(ctx, db, old, diffs); err != nil {
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

// nameRows lists the differing rows of the first tables that differ.
func (o *Instance) nameRows(ctx context.Context, db Database, old *dbprint.Fingerprint, diffs []dbprint.Diff) error {
	var rows func(dbprint.Table) dbprint.Rows
	named := 0
	for i := range diffs {
		d := &diffs[i]
		table := old.Table(d.Table)
		if !d.Content || table == nil || named == maxDiffering {
			continue
		}
		if rows == nil {
			opened, done, err := db.OldRows(ctx)
			if err != nil {
				return err
			}
			defer done()
			rows = opened
		}
		named++
		found, err := dbprint.DiffRows(*table, rows(*table), db.NewRows(ctx, *table), o.Item.Masks(table.Name))
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
