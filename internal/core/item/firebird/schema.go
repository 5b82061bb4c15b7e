package firebird

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
)

// field is what a column or domain is made of.
const field = `d.RDB$FIELD_TYPE, d.RDB$FIELD_SUB_TYPE, d.RDB$FIELD_LENGTH, d.RDB$CHARACTER_LENGTH, d.RDB$FIELD_PRECISION, d.RDB$FIELD_SCALE, d.RDB$DIMENSIONS, d.RDB$NULL_FLAG, d.RDB$DEFAULT_SOURCE, d.RDB$COMPUTED_SOURCE, d.RDB$VALIDATION_SOURCE,
	(SELECT s.RDB$CHARACTER_SET_NAME FROM RDB$CHARACTER_SETS s WHERE s.RDB$CHARACTER_SET_ID = d.RDB$CHARACTER_SET_ID)`

// definitions are the queries for the parts of a schema (Firebird 3 Language
// Reference, appendix D: system tables). The first column is the name.
var definitions = []struct{ sort, query string }{
	{"table", "SELECT RDB$RELATION_NAME, RDB$RELATION_TYPE, RDB$EXTERNAL_FILE FROM RDB$RELATIONS WHERE RDB$SYSTEM_FLAG = 0 AND RDB$VIEW_BLR IS NULL"},
	{"view", "SELECT RDB$RELATION_NAME, RDB$VIEW_SOURCE FROM RDB$RELATIONS WHERE RDB$SYSTEM_FLAG = 0 AND RDB$VIEW_BLR IS NOT NULL"},
	{"column", "SELECT trim(f.RDB$RELATION_NAME) || '.' || trim(f.RDB$FIELD_NAME), f.RDB$NULL_FLAG, f.RDB$DEFAULT_SOURCE, f.RDB$IDENTITY_TYPE, iif(d.RDB$FIELD_NAME STARTING WITH 'RDB$', '', d.RDB$FIELD_NAME), (SELECT c.RDB$COLLATION_NAME FROM RDB$COLLATIONS c WHERE c.RDB$COLLATION_ID = coalesce(f.RDB$COLLATION_ID, d.RDB$COLLATION_ID) AND c.RDB$CHARACTER_SET_ID = d.RDB$CHARACTER_SET_ID), " + field + " FROM RDB$RELATION_FIELDS f JOIN RDB$FIELDS d ON d.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE f.RDB$SYSTEM_FLAG = 0"},
	{"domain", "SELECT d.RDB$FIELD_NAME, " + field + " FROM RDB$FIELDS d WHERE d.RDB$SYSTEM_FLAG = 0 AND d.RDB$FIELD_NAME NOT STARTING WITH 'RDB$'"},
	{"index", `SELECT iif(i.RDB$INDEX_NAME STARTING WITH 'RDB$', trim(i.RDB$RELATION_NAME) || ' (' || coalesce((SELECT list(trim(s.RDB$FIELD_NAME)) FROM (SELECT x.RDB$FIELD_NAME FROM RDB$INDEX_SEGMENTS x WHERE x.RDB$INDEX_NAME = i.RDB$INDEX_NAME ORDER BY x.RDB$FIELD_POSITION) s), '') || ')', trim(i.RDB$INDEX_NAME)),
		i.RDB$RELATION_NAME, i.RDB$UNIQUE_FLAG, i.RDB$INDEX_INACTIVE, i.RDB$INDEX_TYPE, i.RDB$EXPRESSION_SOURCE, (SELECT list(trim(s.RDB$FIELD_NAME)) FROM (SELECT x.RDB$FIELD_NAME FROM RDB$INDEX_SEGMENTS x WHERE x.RDB$INDEX_NAME = i.RDB$INDEX_NAME ORDER BY x.RDB$FIELD_POSITION) s) FROM RDB$INDICES i WHERE coalesce(i.RDB$SYSTEM_FLAG, 0) = 0`},
	{"constraint", `SELECT trim(k.RDB$RELATION_NAME) || '.' || iif(k.RDB$CONSTRAINT_NAME STARTING WITH 'INTEG_', trim(k.RDB$CONSTRAINT_TYPE), trim(k.RDB$CONSTRAINT_NAME)), k.RDB$CONSTRAINT_TYPE, r.RDB$UPDATE_RULE, r.RDB$DELETE_RULE, (SELECT RDB$RELATION_NAME FROM RDB$RELATION_CONSTRAINTS o WHERE o.RDB$CONSTRAINT_NAME = r.RDB$CONST_NAME_UQ),
		(SELECT list(trim(s.RDB$FIELD_NAME)) FROM (SELECT x.RDB$FIELD_NAME FROM RDB$INDEX_SEGMENTS x WHERE x.RDB$INDEX_NAME = k.RDB$INDEX_NAME ORDER BY x.RDB$FIELD_POSITION) s),
		(SELECT first 1 t.RDB$TRIGGER_SOURCE FROM RDB$CHECK_CONSTRAINTS c JOIN RDB$TRIGGERS t ON t.RDB$TRIGGER_NAME = c.RDB$TRIGGER_NAME WHERE c.RDB$CONSTRAINT_NAME = k.RDB$CONSTRAINT_NAME) FROM RDB$RELATION_CONSTRAINTS k LEFT JOIN RDB$REF_CONSTRAINTS r ON r.RDB$CONSTRAINT_NAME = k.RDB$CONSTRAINT_NAME`},
	{"trigger", "SELECT RDB$TRIGGER_NAME, RDB$RELATION_NAME, RDB$TRIGGER_SEQUENCE, RDB$TRIGGER_TYPE, RDB$TRIGGER_INACTIVE, RDB$TRIGGER_SOURCE FROM RDB$TRIGGERS WHERE RDB$SYSTEM_FLAG = 0"},
	{"procedure", "SELECT coalesce(trim(RDB$PACKAGE_NAME) || '.', '') || trim(RDB$PROCEDURE_NAME), RDB$PROCEDURE_TYPE, RDB$PROCEDURE_SOURCE FROM RDB$PROCEDURES WHERE RDB$SYSTEM_FLAG = 0"},
	{"parameter", "SELECT coalesce(trim(p.RDB$PACKAGE_NAME) || '.', '') || trim(p.RDB$PROCEDURE_NAME) || '.' || trim(p.RDB$PARAMETER_NAME), p.RDB$PARAMETER_NUMBER, p.RDB$PARAMETER_TYPE, p.RDB$DEFAULT_SOURCE, " + field + " FROM RDB$PROCEDURE_PARAMETERS p JOIN RDB$FIELDS d ON d.RDB$FIELD_NAME = p.RDB$FIELD_SOURCE WHERE coalesce(p.RDB$SYSTEM_FLAG, 0) = 0"},
	{"function", "SELECT coalesce(trim(RDB$PACKAGE_NAME) || '.', '') || trim(RDB$FUNCTION_NAME), RDB$MODULE_NAME, RDB$ENTRYPOINT, RDB$ENGINE_NAME, RDB$FUNCTION_SOURCE FROM RDB$FUNCTIONS WHERE coalesce(RDB$SYSTEM_FLAG, 0) = 0"},
	{"package", "SELECT RDB$PACKAGE_NAME, RDB$PACKAGE_HEADER_SOURCE, RDB$PACKAGE_BODY_SOURCE FROM RDB$PACKAGES WHERE coalesce(RDB$SYSTEM_FLAG, 0) = 0"},
	{"exception", "SELECT RDB$EXCEPTION_NAME, RDB$MESSAGE FROM RDB$EXCEPTIONS WHERE coalesce(RDB$SYSTEM_FLAG, 0) = 0"},
	{"sequence", "SELECT RDB$GENERATOR_NAME, RDB$GENERATOR_INCREMENT FROM RDB$GENERATORS WHERE RDB$SYSTEM_FLAG = 0"},
	{"role", "SELECT RDB$ROLE_NAME FROM RDB$ROLES WHERE coalesce(RDB$SYSTEM_FLAG, 0) = 0"},
	{"right", "SELECT trim(RDB$USER) || ' on ' || trim(RDB$RELATION_NAME), RDB$PRIVILEGE, RDB$GRANT_OPTION, RDB$FIELD_NAME, RDB$USER_TYPE, RDB$OBJECT_TYPE FROM RDB$USER_PRIVILEGES WHERE RDB$RELATION_NAME NOT STARTING WITH 'RDB$' AND RDB$RELATION_NAME NOT STARTING WITH 'MON$' AND RDB$RELATION_NAME NOT STARTING WITH 'SEC$' AND RDB$RELATION_NAME NOT STARTING WITH 'SQL$' AND RDB$USER <> 'SYSDBA'"},
}

// schema reads what a database is made of.
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
	for _, def := range definitions {
		rows, err := c.table(ctx, def.query)
		if err != nil {
			return fault.Wrap(fault.KindOf(err), err, "the %ss of the database cannot be read", def.sort)
		}
		for _, r := range rows {
			for i, part := range r {
				if part == "0" { // a restored database has 0 where one that was made has nothing
					r[i] = ""
				}
			}
			d.Schema = append(d.Schema, dbprint.NewObject(def.sort, strings.ToValidUTF8(r[0], "?"), strings.Join(r[1:], "\x00")))
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

// sequences reads the value of every sequence; that of a counting column is
// named by the column.
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

// takes reports whether a server of a version can take what one of another
// wrote.
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

// usersLacking returns the users of a sealed database whom the server does not
// know.
func (c *tx) usersLacking(ctx context.Context, d *Sealed) ([]string, error) {
	have, err := c.column(ctx, "SELECT trim(SEC$USER_NAME) FROM SEC$USERS")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, u := range d.Users {
		if !slices.Contains(have, u) {
			out = append(out, fmt.Sprintf("the user %s has rights in the database and is not on the new server: make it with the password that the app uses", u))
		}
	}
	return out, nil
}
