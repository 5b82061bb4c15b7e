package sqlite

import (
	"database/sql"
	"path/filepath"
	"testing"

	"movekit/internal/core/fault"
)

// TestIndexes has indexes of every sort that are sound, and some that are not: nothing but the
// engine's own word counts for damage, and none is missed.
func TestIndexes(t *testing.T) {
	const rows = "INSERT INTO boat SELECT value, CASE value % 5 WHEN 0 THEN NULL WHEN 1 THEN 'Boat ' || value WHEN 2 THEN lower('boat ') || value || '  ' WHEN 3 THEN value / 7.0 ELSE CAST('x' || value AS BLOB) END, value % 10 FROM generate_series(1, 3000)"
	boat := []string{"CREATE TABLE boat (id INTEGER PRIMARY KEY, name, berth INTEGER)", "WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 3000) " + rows[:len(rows)-len("generate_series(1, 3000)")] + "n",
		"INSERT INTO boat VALUES (9007199254740993, 9007199254740993, 1), (9007199254740994, 9007199254740992.0, 1), (9007199254740995, -9.3e18, 1), (9007199254740996, 1e19, 1)"}
	schema := func(old, now string) []string {
		return []string{"PRAGMA writable_schema = ON", "UPDATE sqlite_schema SET sql = replace(sql, '" + old + "', '" + now + "') WHERE name = 'i'"}
	}
	// Without its index a table changes, and then has it again.
	behind := func(change string) []string {
		return []string{"PRAGMA writable_schema = ON", "CREATE TABLE kept AS SELECT * FROM sqlite_schema WHERE name = 'i'", "DELETE FROM sqlite_schema WHERE name = 'i'", "", change, "PRAGMA writable_schema = ON", "INSERT INTO sqlite_schema SELECT * FROM kept"}
	}
	for name, c := range map[string]struct {
		index   string
		then    []string // "" opens the database anew
		ours    bool     // whether it is compared by us
		damaged bool
	}{
		"plain":         {"CREATE INDEX i ON boat (name)", nil, true, false},
		"down, no case": {"CREATE INDEX i ON boat (name COLLATE NOCASE DESC, berth)", nil, true, false},
		"trimmed":       {"CREATE INDEX i ON boat (berth DESC, name COLLATE RTRIM)", nil, true, false},
		"unique":        {"CREATE UNIQUE INDEX i ON boat (name, id)", nil, true, false},
		"with nulls":    {"CREATE UNIQUE INDEX i ON boat (name)", nil, true, false},
		"partial":       {"CREATE INDEX i ON boat (name) WHERE berth > 3", nil, false, false},
		"expression":    {"CREATE INDEX i ON boat (lower(name))", nil, false, false},
		"generated":     {"ALTER TABLE boat ADD COLUMN twice AS (berth * 2); CREATE INDEX i ON boat (twice)", nil, true, false},
		"own rowid":     {"CREATE TABLE pier (rowid, name); CREATE INDEX i ON pier (name)", nil, false, false},
		"keyed":         {"CREATE TABLE pier (name PRIMARY KEY, n UNIQUE) WITHOUT ROWID; INSERT INTO pier SELECT id, id FROM boat", nil, false, false},
		"missing":       {"CREATE INDEX i ON boat (name)", behind("INSERT INTO boat VALUES (5000, 'late', 1)"), false, true},
		"left over":     {"CREATE INDEX i ON boat (name)", behind("DELETE FROM boat WHERE id = 77"), false, true},
		"other value":   {"CREATE INDEX i ON boat (name)", behind("UPDATE boat SET name = 'renamed' WHERE id = 77"), false, true},
		"other order":   {"CREATE INDEX i ON boat (name)", schema("(name)", "(name COLLATE NOCASE)"), false, true},
		"other way":     {"CREATE INDEX i ON boat (name)", schema("(name)", "(name DESC)"), false, true},
		"not unique":    {"CREATE INDEX i ON boat (berth)", schema("CREATE INDEX", "CREATE UNIQUE INDEX"), false, true},
	} {
		file := filepath.Join(t.TempDir(), "i.db")
		open(t, file, "delete", append(boat, c.index)...).Close()
		var now []string
		for _, q := range append(c.then, "") {
			if q != "" {
				now = append(now, q)
				continue
			}
			open(t, file, "delete", now...).Close()
			now = nil
		}
		if _, err := Whole(ctx, file, nil); (fault.KindOf(err) == fault.BadDatabase) != c.damaged || err != nil && !c.damaged {
			t.Errorf("%s: %v", name, err)
		}
		err := with(ctx, file, "mode=ro&immutable=1", func(conn *sql.Conn) error {
			rows, found := entrySums{}, entrySums{}
			tables, err := found.read(ctx, conn)
			if err == nil {
				_, err = take(ctx, conn, nil, nil, rows)
			}
			if all := doubtful(tables, rows, found); (len(all) == 0) != c.ours {
				t.Errorf("%s: for the engine to judge: %q", name, all)
			}
			return err
		})
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}
