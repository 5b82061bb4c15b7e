package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Role is a role of the old server, without its password.
type Role struct {
	Name     string   `json:"name"`
	Login    bool     `json:"login,omitempty"`
	May      []string `json:"may,omitempty"`      // CREATEDB, CONNECTION LIMIT 5, ...
	Settings []string `json:"settings,omitempty"` // as for ALTER ROLE ... SET
	In       []Member `json:"in,omitempty"`       // roles that it is a member of
}

// Member is a role's membership in another role.
type Member struct {
	Role string `json:"role"`
	With string `json:"with,omitempty"` // options, as for GRANT
}

// trusted lists attributes and roles that bypass access rules. They are never copied.
var trusted = []string{"SUPERUSER", "CREATEROLE", "REPLICATION", "BYPASSRLS", "pg_execute_server_program", "pg_read_server_files", "pg_write_server_files"}

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
		var config, in, with []string
		if err := row.Scan(&r.Name, &r.Login, &r.May, &config, &in, &with); err != nil {
			return r, err
		}
		for _, c := range config {
			r.Settings = append(r.Settings, setting(c))
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

// setting formats name=value for ALTER ROLE ... SET. A list of names stays as the server writes it.
func setting(config string) string {
	name, value, _ := strings.Cut(config, "=")
	if strings.Contains(value, ",") || strings.HasPrefix(value, `"`) {
		return quoted(name) + " TO " + value
	}
	return quoted(name) + " TO " + literal(value)
}

// makeRoles creates the roles that the server does not have, with their memberships and settings.
// Existing roles are not changed. Attributes that bypass access rules are left to the user. The
// notes report all of that.
func makeRoles(ctx context.Context, conn *pgx.Conn, roles []Role) (notes []string, err error) {
	have, err := readRoles(ctx, conn, "TRUE")
	if err != nil {
		return nil, err
	}
	var made []Role
	for _, r := range roles {
		if i := slices.IndexFunc(have, func(h Role) bool { return h.Name == r.Name }); i >= 0 {
			if was, is := r.about(), have[i].about(); was != is {
				notes = append(notes, fmt.Sprintf("the role %s already exists on the new server, as (%s); on the old one it was (%s)", r.Name, is, was))
			}
			continue
		}
		sql := "CREATE ROLE " + quoted(r.Name)
		note := "the role " + r.Name + " was created on the new server"
		if r.Login {
			sql += " LOGIN"
			note += " without a password: set one, and enter it in the app"
		}
		for _, word := range r.May {
			if slices.Contains(trusted, word) {
				note += fmt.Sprintf("; it had %[1]s on the old server, but not here; to give it back: ALTER ROLE %[2]s %[1]s", word, quoted(r.Name))
			} else {
				sql += " " + word
			}
		}
		if _, err := conn.Exec(ctx, sql); err != nil {
			return notes, err
		}
		for _, set := range r.Settings {
			if _, err := conn.Exec(ctx, "ALTER ROLE "+quoted(r.Name)+" SET "+set); err != nil {
				note += fmt.Sprintf("; its setting %s is not supported here", set)
			}
		}
		made, notes = append(made, r), append(notes, note)
	}
	for _, r := range made {
		for _, in := range r.In {
			if slices.Contains(trusted, in.Role) {
				notes = append(notes, fmt.Sprintf("the role %[1]s was a member of %[2]s on the old server, but is not here; to add it: GRANT %[2]s TO %[1]s", quoted(r.Name), in.Role))
				continue
			}
			if _, err := conn.Exec(ctx, "GRANT "+quoted(in.Role)+" TO "+quoted(r.Name)+in.With); err != nil {
				return notes, err
			}
		}
	}
	return notes, nil
}
