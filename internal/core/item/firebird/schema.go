package firebird

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"movekit/internal/core/dbprint"
)

// The schema is read from all of the server's system tables (Firebird 3 Language Reference,
// appendix D). The lists below say which of their content is not a definition, and how to name the
// rest.

// passed lists the system tables without definitions: physical locations, derived data, and content
// that is the same in every database.
var passed = []string{"RDB$PAGES", "RDB$FORMATS", "RDB$TRANSACTIONS", "RDB$FILES", "RDB$LOG_FILES", "RDB$BACKUP_HISTORY", "RDB$SECURITY_CLASSES", "RDB$DEPENDENCIES", "RDB$TYPES", "RDB$DB_CREATORS", "RDB$TIME_ZONES", "RDB$CONFIG", "RDB$KEYWORDS"}

// numbers lists the columns with internal numbers.
var numbers = []string{"RDB$DBKEY_LENGTH", "RDB$RELATION_ID", "RDB$FORMAT", "RDB$FIELD_ID", "RDB$INDEX_ID", "RDB$STATISTICS", "RDB$SECURITY_CLASS", "RDB$DEFAULT_CLASS", "RDB$PROCEDURE_ID", "RDB$FUNCTION_ID", "RDB$GENERATOR_ID", "RDB$EXCEPTION_NUMBER", "RDB$VALID_BLR", "RDB$VIEW_CONTEXT", "RDB$BASE_FIELD"}

// known lists the system tables with the kind of object in them and the columns with its name.
var known = map[string]struct {
	sort string
	name []string
}{
	"RDB$DATABASE": {"database", nil}, "RDB$RELATIONS": {"table", []string{"RDB$RELATION_NAME"}}, "RDB$FIELDS": {"domain", []string{"RDB$FIELD_NAME"}},
	"RDB$RELATION_FIELDS": {"column", []string{"RDB$RELATION_NAME", "RDB$FIELD_NAME"}}, "RDB$FIELD_DIMENSIONS": {"dimension", []string{"RDB$FIELD_NAME", "RDB$DIMENSION"}},
	"RDB$INDICES": {"index", []string{"RDB$INDEX_NAME"}}, "RDB$INDEX_SEGMENTS": {"index", []string{"RDB$INDEX_NAME"}}, "RDB$TRIGGERS": {"trigger", []string{"RDB$TRIGGER_NAME"}},
	"RDB$RELATION_CONSTRAINTS": {"constraint", []string{"RDB$RELATION_NAME", "RDB$CONSTRAINT_NAME"}}, "RDB$REF_CONSTRAINTS": {"reference", []string{"RDB$CONSTRAINT_NAME"}}, "RDB$CHECK_CONSTRAINTS": {"check", []string{"RDB$CONSTRAINT_NAME"}},
	"RDB$PROCEDURES": {"procedure", []string{"RDB$PACKAGE_NAME", "RDB$PROCEDURE_NAME"}}, "RDB$PROCEDURE_PARAMETERS": {"parameter", []string{"RDB$PACKAGE_NAME", "RDB$PROCEDURE_NAME", "RDB$PARAMETER_NAME"}},
	"RDB$FUNCTIONS": {"function", []string{"RDB$PACKAGE_NAME", "RDB$FUNCTION_NAME"}}, "RDB$FUNCTION_ARGUMENTS": {"argument", []string{"RDB$PACKAGE_NAME", "RDB$FUNCTION_NAME", "RDB$ARGUMENT_POSITION"}},
	"RDB$PACKAGES": {"package", []string{"RDB$PACKAGE_NAME"}}, "RDB$EXCEPTIONS": {"exception", []string{"RDB$EXCEPTION_NAME"}}, "RDB$GENERATORS": {"sequence", []string{"RDB$GENERATOR_NAME"}}, "RDB$ROLES": {"role", []string{"RDB$ROLE_NAME"}},
	"RDB$USER_PRIVILEGES": {"grant", []string{"RDB$USER", "RDB$RELATION_NAME"}}, "RDB$VIEW_RELATIONS": {"view", []string{"RDB$VIEW_NAME"}}, "RDB$FILTERS": {"filter", []string{"RDB$FUNCTION_NAME"}}, "RDB$COLLATIONS": {"collation", []string{"RDB$COLLATION_NAME"}}, "RDB$CHARACTER_SETS": {"character set", []string{"RDB$CHARACTER_SET_NAME"}},
	"RDB$AUTH_MAPPING": {"mapping", []string{"RDB$MAP_NAME"}},
}

// given matches names that the server generates, with a number.
var given = regexp.MustCompile(`^(?:RDB\$|INTEG_|CHECK_|SQL\$|RDB\$PRIMARY|RDB\$FOREIGN|RDB\$TRIGGER_)\d+$`)

// ofServer matches rows about the server's own tables.
var ofServer = regexp.MustCompile(`^(?:RDB|MON|SEC)\$`)

// systemTable is a system table with the columns that hold definitions.
type systemTable struct {
	name    string
	columns []string
	flag    bool // a column marks rows of the server itself
}

// systemTables lists the system tables. Text blobs are read; other blobs hold compiled definitions.
func (c *tx) systemTables(ctx context.Context) (out []systemTable, err error) {
	all, err := c.table(ctx, `SELECT r.RDB$RELATION_NAME, r.RDB$FIELD_NAME, iif(f.RDB$FIELD_TYPE = 261 AND coalesce(f.RDB$FIELD_SUB_TYPE, 0) NOT IN (0, 1), 1, 0) FROM RDB$RELATION_FIELDS r JOIN RDB$FIELDS f ON f.RDB$FIELD_NAME = r.RDB$FIELD_SOURCE
		WHERE r.RDB$SYSTEM_FLAG = 1 AND r.RDB$RELATION_NAME STARTING WITH 'RDB$' ORDER BY r.RDB$RELATION_NAME, r.RDB$FIELD_POSITION`)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if slices.Contains(passed, r[0]) {
			continue
		}
		if len(out) == 0 || out[len(out)-1].name != r[0] {
			out = append(out, systemTable{name: r[0]})
		}
		t := &out[len(out)-1]
		switch {
		case r[1] == "RDB$SYSTEM_FLAG":
			t.flag = true
		case r[2] == "0" && !slices.Contains(numbers, r[1]):
			t.columns = append(t.columns, r[1])
		}
	}
	return out, nil
}

// schema reads the schema of a database.
func (c *tx) schema(ctx context.Context, d *Sealed) (err error) {
	if d.Version, err = c.version(ctx); err != nil {
		return err
	}
	d.Engine, d.Settings = "Firebird "+d.Version, map[string]string{}
	base, err := c.table(ctx, "SELECT m.MON$SQL_DIALECT, d.RDB$CHARACTER_SET_NAME FROM MON$DATABASE m CROSS JOIN RDB$DATABASE d")
	if err != nil {
		return err
	}
	d.Settings["dialect"], d.Settings["character set"] = base[0][0], base[0][1]
	// A column without a domain has a generated one, whose name has no meaning.
	owners := map[string]string{}
	for _, q := range []string{"SELECT RDB$FIELD_SOURCE, trim(RDB$RELATION_NAME) || '.' || trim(RDB$FIELD_NAME) FROM RDB$RELATION_FIELDS", "SELECT RDB$FIELD_SOURCE, trim(RDB$PROCEDURE_NAME) || '.' || trim(RDB$PARAMETER_NAME) FROM RDB$PROCEDURE_PARAMETERS", "SELECT RDB$FIELD_SOURCE, trim(RDB$FUNCTION_NAME) || '.' || RDB$ARGUMENT_POSITION FROM RDB$FUNCTION_ARGUMENTS"} {
		all, err := c.table(ctx, q)
		if err != nil {
			return err
		}
		for _, r := range all {
			owners[r[0]] = cmp.Or(owners[r[0]], r[1])
		}
	}
	tables, err := c.systemTables(ctx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		query := "SELECT " + strings.Join(t.columns, ", ") + " FROM " + t.name
		if t.flag && t.name != "RDB$CHARACTER_SETS" {
			query += " WHERE coalesce(RDB$SYSTEM_FLAG, 0) <> 1"
		}
		rows, err := c.table(ctx, query)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if o, ok := t.object(r, owners); ok {
				d.Schema = append(d.Schema, o)
			}
		}
	}
	if err := c.sequences(ctx, d); err != nil {
		return err
	}
	if d.Modules, err = c.column(ctx, "SELECT DISTINCT RDB$MODULE_NAME FROM RDB$FUNCTIONS WHERE RDB$MODULE_NAME IS NOT NULL AND coalesce(RDB$SYSTEM_FLAG, 0) = 0"); err != nil {
		return err
	}
	d.Users, err = c.column(ctx, "SELECT DISTINCT trim(RDB$USER) FROM RDB$USER_PRIVILEGES WHERE RDB$USER_TYPE = 8 AND RDB$USER NOT IN ('SYSDBA', 'PUBLIC') ORDER BY 1")
	return err
}

// object returns the object in a row of a system table. ok is false for rows about the server's own
// tables.
func (t systemTable) object(r []string, owners map[string]string) (o dbprint.Object, ok bool) {
	k, there := known[t.name]
	if !there {
		k.sort, k.name = strings.ToLower(strings.TrimPrefix(t.name, "RDB$")), t.columns[:1]
	}
	var name []string
	for _, n := range k.name {
		if i := slices.Index(t.columns, n); i >= 0 && r[i] != "" {
			name = append(name, strings.ToValidUTF8(r[i], "?"))
		}
	}
	if !t.flag && len(name) > 0 && (ofServer.MatchString(name[len(name)-1]) || ofServer.MatchString(name[0])) && !given.MatchString(name[0]) {
		return o, false
	}
	if t.name == "RDB$FIELDS" && given.MatchString(name[0]) {
		k.sort, name = "type", []string{owners[r[slices.Index(t.columns, "RDB$FIELD_NAME")]]}
	}
	var text, loose []string
	for i, value := range r {
		if value == "" {
			continue
		}
		text = append(text, t.columns[i]+"="+value)
		if value != "0" && !given.MatchString(value) { // a restored database has 0 where a new one has NULL
			loose = append(loose, t.columns[i]+"="+value)
		}
	}
	return dbprint.NewObject(k.sort, cmp.Or(strings.Join(name, "."), "as a whole"), strings.Join(text, "\x00"), strings.Join(loose, "\x00")), true
}

// sequences reads the value of every sequence. The sequence of an identity column is named after
// the column.
func (c *tx) sequences(ctx context.Context, d *Sealed) error {
	all, err := c.table(ctx, `SELECT g.RDB$GENERATOR_NAME, coalesce((SELECT first 1 trim(f.RDB$RELATION_NAME) || '.' || trim(f.RDB$FIELD_NAME) FROM RDB$RELATION_FIELDS f WHERE f.RDB$GENERATOR_NAME = g.RDB$GENERATOR_NAME), trim(g.RDB$GENERATOR_NAME)) FROM RDB$GENERATORS g WHERE g.RDB$SYSTEM_FLAG IN (0, 6)`)
	if err != nil {
		return err
	}
	for _, g := range all {
		v, err := c.column(ctx, "SELECT gen_id("+quoted(g[0])+", 0) FROM RDB$DATABASE")
		if err != nil {
			return err
		}
		d.Settings["sequence "+g[1]] = v[0]
	}
	return nil
}

// takes reports whether a server version can read the backup of another.
func takes(here, old string) bool {
	h, o := strings.Split(here, "."), strings.Split(old, ".")
	for i := range 2 {
		if i >= len(h) || i >= len(o) || h[i] == o[i] {
			continue
		}
		return len(h[i]) > len(o[i]) || len(h[i]) == len(o[i]) && h[i] > o[i]
	}
	return true
}

// usersLacking returns the users with rights in a sealed database that the server does not have.
func (c *tx) usersLacking(ctx context.Context, d *Sealed) ([]string, error) {
	have, err := c.column(ctx, "SELECT trim(SEC$USER_NAME) FROM SEC$USERS")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, u := range d.Users {
		if !slices.Contains(have, u) {
			out = append(out, fmt.Sprintf("the user %s has rights in the database, but does not exist on the new server: create it with the password that the app uses", u))
		}
	}
	return out, nil
}

// called returns a procedure or function that something of the database runs when it is read or
// checked, or "". uses selects where to begin, by its kind (RDB$DEPENDENCIES.RDB$DEPENDENT_TYPE) and
// name. The server finds the dependencies when it compiles a definition.
func (c *tx) called(ctx context.Context, uses func(kind, name string) bool) (string, error) {
	all, err := c.table(ctx, `SELECT RDB$DEPENDENT_TYPE, RDB$DEPENDENT_NAME, RDB$DEPENDED_ON_TYPE, RDB$DEPENDED_ON_NAME FROM RDB$DEPENDENCIES
		UNION SELECT 0, r.RDB$RELATION_NAME, 9, r.RDB$FIELD_SOURCE FROM RDB$RELATION_FIELDS r JOIN RDB$FIELDS f ON f.RDB$FIELD_NAME = r.RDB$FIELD_SOURCE WHERE f.RDB$COMPUTED_BLR IS NOT NULL
		UNION SELECT 5, RDB$PROCEDURE_NAME, 5, RDB$PROCEDURE_NAME FROM RDB$PROCEDURES UNION SELECT 15, RDB$FUNCTION_NAME, 15, RDB$FUNCTION_NAME FROM RDB$FUNCTIONS`)
	if err != nil {
		return "", err
	}
	code := map[string]string{"5": "the procedure ", "15": "the function ", "18": "the package ", "19": "the package "}
	reached := map[string]bool{}
	for again := true; again; {
		again = false
		for _, d := range all {
			if !reached[d[1]] && !uses(d[0], d[1]) {
				continue
			}
			if what := code[d[2]]; what != "" {
				return what + d[3], nil
			}
			again = again || !reached[d[3]]
			reached[d[3]] = true
		}
	}
	return "", nil
}
