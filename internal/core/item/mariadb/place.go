package mariadb

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// lacks returns the requirements of a sealed database that the new server does not meet.
func (c *conn) lacks(ctx context.Context, d *schema.Sealed) ([]string, error) {
	v, err := c.Version(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	if !v.Takes(client.ParseVersion(d.Engine)) {
		out = append(out, fmt.Sprintf("the server here is %s, but the old one was %s: the new server must have the same vendor and at least the same version", v, d.Engine))
	}
	have, err := c.Column(ctx, "SELECT concat('storage engine ', engine) FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT') UNION SELECT concat('collation ', collation_name) FROM information_schema.collations")
	if err != nil {
		return nil, err
	}
	for _, n := range d.Needs {
		if !slices.Contains(have, n) && !slices.Contains(have, "collation "+schema.Long(strings.TrimPrefix(n, "collation "))) {
			out = append(out, "the "+n+" is not on the server here")
		}
	}
	limits, err := c.One(ctx, "SELECT @@max_allowed_packet")
	if err != nil {
		return nil, err
	}
	most, err := strconv.ParseInt(limits[0], 10, 64)
	if err != nil {
		return nil, fault.Wrap(fault.ServerRefused, err, "the server's max_allowed_packet is not a number")
	}
	more, err := c.refuses(ctx, d)
	if err != nil {
		return nil, err
	}
	out = append(out, more...)
	if d.Longest > most {
		out = append(out, fmt.Sprintf("the server here accepts at most %d bytes in one statement, but the longest row has %d: set max_allowed_packet=%dM in its settings and restart it", most, d.Longest, d.Longest>>20+2))
	}
	return out, nil
}

// refuses returns which definitions the server will not accept, from tests in the session and its
// settings.
func (c *conn) refuses(ctx context.Context, d *schema.Sealed) (out []string, err error) {
	facts, err := c.One(ctx, "SELECT @@lower_case_table_names, @@log_bin AND NOT @@log_bin_trust_function_creators, (SELECT count(*) FROM information_schema.user_privileges WHERE grantee = concat(quote(substring_index(current_user(), '@', 1)), '@', quote(substring_index(current_user(), '@', -1))) AND privilege_type IN ('SUPER', 'SET USER', 'SET_USER_ID')), (SELECT count(*) FROM information_schema.user_privileges WHERE grantee = concat(quote(substring_index(current_user(), '@', 1)), '@', quote(substring_index(current_user(), '@', -1))) AND privilege_type = 'CREATE')")
	if err != nil {
		return nil, err
	}
	super := facts[2] != "0"
	if facts[0] != "0" {
		seen := map[string]string{}
		for _, m := range d.Make {
			lower := strings.ToLower(m.Name)
			if other := seen[lower]; other != "" {
				out = append(out, fmt.Sprintf("the server here ignores letter case, but the tables %s and %s differ only in letter case: start it with lower_case_table_names=0", other, m.Name))
			}
			seen[lower] = m.Name
		}
	}
	if facts[3] == "0" {
		out = append(out, "the login on the server here cannot create databases: allow it with GRANT ALL ON *.* ... WITH GRANT OPTION")
	}
	if all, gives, err := c.rights(ctx); err != nil {
		return nil, err
	} else if all && !gives {
		out = append(out, "the login on the server here has rights on all databases, and cannot load this one with fewer: log in as an administrator who may give rights (WITH GRANT OPTION), or as an account with rights on this database only")
	}
	modes, binlog, others := map[string]bool{}, "", ""
	for _, o := range d.Defined {
		if !modes[o.Mode] {
			modes[o.Mode] = true
			if err := c.Run(ctx, o.Session()[0]); fault.KindOf(err) == fault.ServerRefused {
				out = append(out, fmt.Sprintf("the %s %s was created with the sql_mode %s, which the server here does not support", strings.ToLower(o.Sort), o.Name, o.Mode))
			} else if err != nil {
				return nil, err
			}
		}
		logged := facts[1] == "1" && (o.Sort == "TRIGGER" || o.Sort == "FUNCTION")
		if logged && (!super || o.Sort == "FUNCTION" && !determined.MatchString(o.SQL)) {
			binlog = cmp.Or(binlog, strings.ToLower(o.Sort)+" "+o.Name)
		}
		if o.Definer != "" && !super && others == "" {
			others = o.Definer
		}
	}
	if binlog != "" {
		out = append(out, "the server here has a binary log and rejects the "+binlog+": set log_bin_trust_function_creators=1 in its settings, or for functions that are DETERMINISTIC log in as an administrator (SUPER)")
	}
	if others != "" {
		out = append(out, "only an administrator (SET USER or SUPER) can create objects that run as "+others+": log in as an administrator")
	}
	return out, c.Run(ctx, client.Settings...)
}

// determined matches the keywords of a function that returns the same result each time.
var determined = regexp.MustCompile(`(?i)\bDETERMINISTIC\b|\bNO SQL\b|\bREADS SQL DATA\b`)

// stage creates a complete sealed database under another name, at rest. A guest does everything but
// give views, routines, triggers and events their owners. After an error, nothing is left.
func (c *conn) stage(ctx context.Context, d *schema.Sealed, p served.Loading) (notes []string, err error) {
	if err := checkWords(d); err != nil {
		return nil, err
	}
	drop := "DROP DATABASE IF EXISTS " + sqltext.Quoted(p.Stage)
	if err := c.Run(ctx, drop); err != nil {
		return nil, err
	}
	try := Engine{}.Named(p.Stage, "_try")
	g, err := c.newGuest(ctx, p.Stage, try)
	if err != nil {
		return nil, err
	}
	defer func() {
		err = cmp.Or(err, g.close(ctx))
		if err != nil {
			c.Run(context.WithoutCancel(ctx), drop) //nolint:errcheck // the next run drops it
		}
	}()
	if err := g.on().Run(ctx, d.Create(p.Stage), "USE "+sqltext.Quoted(p.Stage)); err != nil {
		return nil, err
	}
	for _, m := range d.Make {
		if err := g.on().make(ctx, m); err != nil {
			return nil, err
		}
	}
	if err := load(ctx, g.login().On(p.Stage), d, p); err != nil {
		return nil, err
	}
	if err := g.on().Run(ctx, schema.Links(d)...); err != nil {
		return nil, err
	}
	missing, err := c.missing(ctx, d)
	if err != nil {
		return nil, err
	}
	all, notes, err := g.provable(ctx, d, p.Stage, try)
	if err != nil {
		return nil, err
	}
	all = slices.Clone(all)
	for i, o := range all {
		if p.Mine && slices.Contains(missing, o.Definer) {
			all[i].Definer = ""
		}
	}
	return notes, c.define(ctx, all, d.Database, p.Stage, true)
}

// make creates a table or a sequence, before the rows are loaded.
func (c *conn) make(ctx context.Context, m schema.Make) error {
	if err := c.Run(ctx, m.SQL); err != nil {
		return fault.Wrap(fault.KindOf(err), err, "the table %s cannot be created", m.Name)
	}
	if m.After != "" {
		if _, err := c.Table(ctx, m.After); err != nil {
			return err
		}
	}
	return nil
}

// missing returns the owners of objects that do not exist on the server.
func (c *conn) missing(ctx context.Context, d *schema.Sealed) (out []string, err error) {
	for _, o := range d.Defined {
		if o.Definer == "" || slices.Contains(out, o.Definer) {
			continue
		}
		user, host, _ := strings.Cut(o.Definer, "@")
		there, err := c.Column(ctx, "SELECT 1 FROM mysql.user WHERE user = ? AND (host = ? OR ? = '')", sqltext.Unquoted(user), sqltext.Unquoted(host), host)
		if err != nil {
			return nil, err
		}
		if len(there) == 0 {
			out = append(out, o.Definer)
		}
	}
	return out, nil
}

// notes returns notes on users of the database and owners of objects that do not exist on the new
// server.
func (c *conn) notes(ctx context.Context, d *schema.Sealed, mine bool) (out []string, err error) {
	missing, err := c.missing(ctx, d)
	if err != nil {
		return nil, err
	}
	for _, m := range missing {
		var named []string
		for _, o := range d.Defined {
			if o.Definer == m {
				named = append(named, strings.ToLower(o.Sort)+" "+o.Name)
			}
		}
		if mine {
			out = append(out, fmt.Sprintf("%s ran as %s, who does not exist on the new server: now they run as the user who unpacked", strings.Join(named, ", "), m))
		} else {
			out = append(out, fmt.Sprintf("%s run as %s, who does not exist on the new server: create that user, or let them run as the user who unpacks", strings.Join(named, ", "), m))
		}
	}
	for _, u := range d.Users {
		have, err := c.Column(ctx, "SELECT 1 FROM mysql.user WHERE concat(quote(user), if(host = '', '', concat('@', quote(host)))) = ?", u.Name)
		if err != nil {
			return nil, err
		}
		grants := strings.ReplaceAll(strings.Join(u.Grants, "; "), "``.", sqltext.Quoted(d.Database)+".")
		switch {
		case len(have) == 0 && u.Role:
			out = append(out, fmt.Sprintf("the role %s does not exist on the new server: create it, then: %s", u.Name, grants))
		case len(have) == 0:
			out = append(out, fmt.Sprintf("the user %s does not exist on the new server: create it with the password that the app uses, then: %s", u.Name, grants))
		default:
			out = append(out, fmt.Sprintf("make sure that %s has the same rights on the new server: %s", u.Name, grants))
		}
	}
	if len(d.Unseen) > 0 {
		out = append(out, "the login used for the pack could not see the users of the database: make sure that the app's user exists on the new server")
	}
	return out, nil
}
