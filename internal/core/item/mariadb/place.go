package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/item/mariadb/sqltext"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// lacks returns what the new server lacks for a sealed database.
func (c *conn) lacks(ctx context.Context, d *Sealed) ([]string, error) {
	v, err := c.version(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	if !v.takes(parseVersion(d.Engine)) {
		out = append(out, fmt.Sprintf("the server here is %s, and the old one was %s: its databases go to a server of the same maker and of the same version or a newer one", v, d.Engine))
	}
	have, err := c.column(ctx, "SELECT concat('storage engine ', engine) FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT') UNION SELECT concat('collation ', collation_name) FROM information_schema.collations")
	if err != nil {
		return nil, err
	}
	for _, n := range d.Needs {
		if !slices.Contains(have, n) && !slices.Contains(have, "collation "+long(strings.TrimPrefix(n, "collation "))) {
			out = append(out, "the "+n+" is not on the server here")
		}
	}
	most, err := c.number(ctx, "SELECT @@max_allowed_packet")
	if err != nil {
		return nil, err
	}
	if d.Longest > most {
		out = append(out, fmt.Sprintf("the server here takes at most %d bytes at once, and the longest row has %d: set max_allowed_packet=%dM in its settings and start it again", most, d.Longest, d.Longest>>20+2))
	}
	return out, nil
}

// stage makes the whole of a sealed database under another name, at rest: what is made
// there can be made in its place.
func (c *conn) stage(ctx context.Context, d *Sealed, p served.Putting) error {
	if err := c.run(ctx, "DROP DATABASE IF EXISTS "+sqltext.Quoted(p.Stage), d.create(p.Stage), "USE "+sqltext.Quoted(p.Stage)); err != nil {
		return err
	}
	for _, m := range d.Make {
		if err := c.make(ctx, m); err != nil {
			return err
		}
	}
	if err := load(ctx, c.server.On(p.Stage), d, p); err != nil {
		return err
	}
	if err := c.run(ctx, linksOf(d)...); err != nil {
		return err
	}
	missing, err := c.missing(ctx, d)
	if err != nil {
		return err
	}
	all := slices.Clone(d.Defined)
	for i, o := range all {
		if p.Mine && slices.Contains(missing, o.Definer) {
			all[i].Definer = ""
		}
	}
	return c.define(ctx, all, d.Database, p.Stage, true)
}

// make makes a table or a sequence, as it is before the rows.
func (c *conn) make(ctx context.Context, m Make) error {
	if err := c.run(ctx, m.SQL); err != nil {
		return fault.Wrap(fault.KindOf(err), err, "the table %s cannot be made", m.Name)
	}
	if m.After != "" {
		if _, err := c.table(ctx, m.After); err != nil {
			return err
		}
	}
	return nil
}

// settle gives the staged database its name.
func (c *conn) settle(ctx context.Context, database string, p served.Putting, aside string) error {
	if err := c.recover(ctx); err != nil {
		return err
	}
	there, err := c.holds(ctx, database)
	switch {
	case err != nil:
	case there && aside != "":
		err = c.rename(ctx, database, aside)
	case there:
		err = c.run(ctx, "DROP DATABASE "+sqltext.Quoted(database))
	}
	if err != nil {
		return err
	}
	return c.rename(ctx, p.Stage, database)
}

// missing returns those who objects belong to, and who are not on the server.
func (c *conn) missing(ctx context.Context, d *Sealed) (out []string, err error) {
	for _, o := range d.Defined {
		if o.Definer == "" || slices.Contains(out, o.Definer) {
			continue
		}
		user, host, _ := strings.Cut(o.Definer, "@")
		there, err := c.column(ctx, "SELECT 1 FROM mysql.user WHERE user = ? AND (host = ? OR ? = '')", sqltext.Unquoted(user), sqltext.Unquoted(host), host)
		if err != nil {
			return nil, err
		}
		if len(there) == 0 {
			out = append(out, o.Definer)
		}
	}
	return out, nil
}

// notes tells who is not on the new server: those the database was used by, and
// those its objects belong to.
func (c *conn) notes(ctx context.Context, d *Sealed, database string, mine bool) (out []string, err error) {
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
			out = append(out, fmt.Sprintf("%s ran as %s, who is not on the new server: now as who unpacked", strings.Join(named, ", "), m))
		} else {
			out = append(out, fmt.Sprintf("%s run as %s, who is not on the new server: make that user, or let them run as who unpacks", strings.Join(named, ", "), m))
		}
	}
	for _, u := range d.Users {
		have, err := c.column(ctx, "SELECT 1 FROM mysql.user WHERE concat(quote(user), if(host = '', '', concat('@', quote(host)))) = ?", u.Name)
		if err != nil {
			return nil, err
		}
		grants := strings.ReplaceAll(strings.Join(u.Grants, "; "), "``.", sqltext.Quoted(database)+".")
		switch {
		case len(have) == 0 && u.Role:
			out = append(out, fmt.Sprintf("the role %s is not on the new server: make it, then: %s", u.Name, grants))
		case len(have) == 0:
			out = append(out, fmt.Sprintf("the user %s is not on the new server: make it with the password that the app uses, then: %s", u.Name, grants))
		default:
			out = append(out, fmt.Sprintf("see that %s has the same rights on the new server: %s", u.Name, grants))
		}
	}
	if len(d.Unseen) > 0 {
		out = append(out, "who may use the database was not shown to the user that packed it: see that the app's user is on the new server")
	}
	return out, nil
}
