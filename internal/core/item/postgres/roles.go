package postgres

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/item/postgres/sqltext"
)

// Role is a role of the old server, without its password.
type Role struct {
	Name     string   `json:"name"`
	Login    bool     `json:"login,omitempty"`
	May      []string `json:"may,omitempty"`      // CREATEDB, CONNECTION LIMIT 5, ...
	Settings []string `json:"settings,omitempty"` // name=value
	In       []Member `json:"in,omitempty"`       // roles that it is a member of
}

// Member is a role's membership in another role.
type Member struct {
	Role string `json:"role"`
	With string `json:"with,omitempty"` // options, as for GRANT
}

// about describes a role's attributes and memberships, for comparison.
func (r Role) about() string {
	parts := slices.Clone(r.May)
	for _, in := range r.In {
		parts = append(parts, "member of "+in.Role+in.With)
	}
	for _, s := range r.Settings {
		parts = append(parts, "SET "+s)
	}
	if r.Login {
		parts = append([]string{"LOGIN"}, parts...)
	}
	return strings.Join(parts, ", ")
}

// readRoles reads the roles that meet a condition, by name.
func readRoles(ctx context.Context, conn *pgx.Conn, condition string) ([]Role, error) {
	rows, err := conn.Query(ctx, `SELECT rolname, rolcanlogin,
		array_remove(ARRAY[CASE WHEN rolsuper THEN 'SUPERUSER' END, CASE WHEN rolcreaterole THEN 'CREATEROLE' END, CASE WHEN rolreplication THEN 'REPLICATION' END, CASE WHEN rolbypassrls THEN 'BYPASSRLS' END, CASE WHEN rolcreatedb THEN 'CREATEDB' END, CASE WHEN NOT rolinherit THEN 'NOINHERIT' END,
			CASE WHEN rolconnlimit >= 0 THEN 'CONNECTION LIMIT ' || rolconnlimit END, CASE WHEN rolvaliduntil IS NOT NULL THEN 'VALID UNTIL ' || quote_literal(rolvaliduntil) END], NULL),
		coalesce(rolconfig, '{}'),
		array(SELECT pg_catalog.pg_get_userbyid(m.roleid) FROM pg_catalog.pg_auth_members m WHERE m.member = r.oid ORDER BY 1)::text[],
		array(SELECT CASE WHEN m.admin_option THEN 'ADMIN TRUE ' ELSE '' END || CASE WHEN to_jsonb(m)->>'set_option' = 'false' THEN 'SET FALSE ' ELSE '' END || CASE WHEN to_jsonb(m)->>'inherit_option' = 'false' THEN 'INHERIT FALSE ' ELSE '' END FROM pg_catalog.pg_auth_members m WHERE m.member = r.oid ORDER BY pg_catalog.pg_get_userbyid(m.roleid))
		FROM pg_catalog.pg_roles r WHERE `+condition+` ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r Role, err error) {
		var in, with []string
		if err := row.Scan(&r.Name, &r.Login, &r.May, &r.Settings, &in, &with); err != nil {
			return r, err
		}
		for i := range in {
			options := strings.ReplaceAll(strings.TrimSpace(with[i]), "E ", "E, ")
			if options == "ADMIN TRUE" {
				options = "ADMIN OPTION" // as servers before 16 write it
			}
			if options != "" {
				options = " WITH " + options
			}
			r.In = append(r.In, Member{in[i], options})
		}
		return r, nil
	})
}

// usedRoles returns every role that the database's objects depend on, and the roles that these are members of.
func usedRoles(ctx context.Context, conn *pgx.Conn) ([]Role, error) {
	return readRoles(ctx, conn, `r.oid IN (WITH RECURSIVE used(oid) AS (
		SELECT refobjid FROM pg_catalog.pg_shdepend WHERE refclassid = 'pg_catalog.pg_authid'::regclass AND (dbid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())
			OR classid = 'pg_catalog.pg_database'::regclass AND objid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()))
		UNION SELECT datdba FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()
		UNION SELECT setrole FROM pg_catalog.pg_db_role_setting WHERE setdatabase = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())
		UNION SELECT m.roleid FROM pg_catalog.pg_auth_members m JOIN used u ON u.oid = m.member) SELECT oid FROM used) AND rolname !~ '^pg_' AND r.oid <> 10`)
}

// roleObjects returns the roles for the fingerprint. unpack reports what it did not give a role and how an existing role differs,
// so that is no difference later; what somebody changes afterwards is one.
func roleObjects(ctx context.Context, conn *pgx.Conn) (out []dbprint.Object, err error) {
	roles, err := usedRoles(ctx, conn)
	for _, r := range roles {
		o := dbprint.NewObject("role", r.Name, "role "+r.about(), "role")
		o.Reported = true
		out = append(out, o)
	}
	return out, err
}

// lists are the settings whose value is a list of names.
var lists = []string{"search_path", "datestyle", "temp_tablespaces"}

// alterSetting returns the statement that gives a role a setting, as name=value, or "" if the value
// cannot be read. Only settings that every user may change are copied: others could load code.
func alterSetting(role, config string) string {
	name, value, _ := strings.Cut(config, "=")
	list := sqltext.Literal(value)
	if slices.Contains(lists, strings.ToLower(name)) {
		var ok bool
		if list, ok = sqltext.ListOf(value); !ok {
			return ""
		}
	}
	return "ALTER ROLE " + sqltext.Quoted(role) + " SET " + sqltext.Quoted(name) + " TO " + list
}

// attribute matches the attributes of a role that are copied. They give it no rights.
var attribute = regexp.MustCompile(`^(NOINHERIT|CONNECTION LIMIT [0-9]+|VALID UNTIL '[0-9A-Za-z :.+-]+')$`)

// membership matches the options of a membership.
var membership = regexp.MustCompile(`^( WITH (ADMIN OPTION|(ADMIN TRUE|SET FALSE|INHERIT FALSE)(, (SET FALSE|INHERIT FALSE))*))?$`)

// makeRoles creates the roles that the server does not have. Existing roles are not changed. A new
// role gets no password and no right beyond the database: attributes other than those of attribute,
// settings that need an administrator, and memberships in roles that existed before are left to the
// user. The notes report all of that. made lists the created roles, also with an error.
func makeRoles(ctx context.Context, conn *pgx.Conn, roles []Role) (notes, made []string, err error) {
	have, err := readRoles(ctx, conn, "TRUE")
	if err != nil {
		return nil, nil, err
	}
	about := map[string]string{}
	for _, r := range roles {
		if i := slices.IndexFunc(have, func(h Role) bool { return h.Name == r.Name }); i >= 0 {
			if was, is := r.about(), have[i].about(); was != is {
				notes = append(notes, fmt.Sprintf("the role %s already exists on the new server, as (%s); on the old one it was (%s)", r.Name, is, was))
			}
			continue
		}
		sql, note := "CREATE ROLE "+sqltext.Quoted(r.Name), "the role "+r.Name+" was created on the new server"
		if r.Login {
			sql += " LOGIN"
			note += " without a password: set one, and enter it in the app"
		}
		for _, word := range r.May {
			if attribute.MatchString(word) {
				sql += " " + word
			} else {
				note += fmt.Sprintf("; it had %q on the old server, but not here: decide whether it needs that (ALTER ROLE)", word)
			}
		}
		if err := execOne(ctx, conn, sql); err != nil {
			return notes, made, err
		}
		made = append(made, r.Name)
		for _, set := range r.Settings {
			name, _, _ := strings.Cut(set, "=")
			var free bool
			err := conn.QueryRow(ctx, "SELECT coalesce((SELECT context = 'user' FROM pg_catalog.pg_settings WHERE lower(name) = lower($1)), FALSE)", name).Scan(&free)
			if err != nil {
				return notes, made, err
			}
			sql := alterSetting(r.Name, set)
			if !free || sql == "" || strings.EqualFold(name, "role") || execOne(ctx, conn, sql) != nil {
				note += fmt.Sprintf("; its setting %s was not copied", set)
			}
		}
		about[r.Name] = note
	}
	for _, r := range roles {
		if !slices.Contains(made, r.Name) {
			continue
		}
		for _, in := range r.In {
			if !slices.Contains(made, in.Role) || !membership.MatchString(in.With) {
				about[r.Name] += fmt.Sprintf("; it was a member of %s on the old server, but is not here: decide whether it needs that (GRANT %s TO %s)", in.Role, sqltext.Quoted(in.Role), sqltext.Quoted(r.Name))
				continue
			}
			if err := execOne(ctx, conn, "GRANT "+sqltext.Quoted(in.Role)+" TO "+sqltext.Quoted(r.Name)+in.With); err != nil {
				return notes, made, err
			}
		}
	}
	for _, name := range made {
		notes = append(notes, about[name])
	}
	return notes, made, nil
}
