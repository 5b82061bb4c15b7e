package mariadb

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/go-sql-driver/mysql"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/client"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// guest is a temporary account with rights on some databases only. The definitions and rows of a kit,
// which somebody with its passphrase can forge, are loaded as a guest: a statement that does more than
// define the database fails.
type guest struct {
	*conn // nil if the login cannot give rights: then it loads everything itself
	admin *conn
	hosts []string
	name  string
}

// newGuest creates an account with all rights on the databases, which need not exist yet, and connects
// with it. The caller closes it.
func (c *conn) newGuest(ctx context.Context, databases ...string) (*guest, error) {
	g := &guest{admin: c, hosts: []string{"localhost", "%"}, name: "movekit_" + strings.ToLower(rand.Text()[:12])}
	password := rand.Text()
	if _, gives, err := c.rights(ctx); err != nil || !gives {
		return g, err
	}
	for _, host := range g.hosts {
		if err := c.Run(ctx, fmt.Sprintf("CREATE USER %s@%s IDENTIFIED BY %s", sqltext.Literal(g.name), sqltext.Literal(host), sqltext.Literal(password))); err != nil {
			g.close(ctx)
			return nil, err
		}
		for _, d := range databases { // a name in GRANT is a pattern
			pattern := strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`).Replace(d)
			if err := c.Run(ctx, fmt.Sprintf("GRANT ALL PRIVILEGES ON %s.* TO %s@%s", sqltext.Quoted(pattern), sqltext.Literal(g.name), sqltext.Literal(host))); err != nil {
				g.close(ctx)
				return nil, err
			}
		}
	}
	s := c.Server
	s.User, s.Password, s.Database = g.name, password, ""
	var err error
	if g.conn, err = connect(ctx, s); err != nil {
		g.close(ctx)
		return nil, err
	}
	return g, nil
}

// everywhere matches rights on all databases, as the server lists them.
var everywhere = regexp.MustCompile(`^GRANT (.+) ON \*\.\* TO `)

// rights returns whether the login has rights on all databases or on the server, and whether it can
// create an account and give it rights.
func (c *conn) rights(ctx context.Context) (all, gives bool, err error) {
	grants, err := c.Column(ctx, "SHOW GRANTS")
	for _, g := range grants {
		what := everywhere.FindStringSubmatch(g)
		if what == nil || what[1] == "USAGE" {
			continue
		}
		all = true
		gives = gives || strings.HasSuffix(g, " GRANT OPTION") && (what[1] == "ALL PRIVILEGES" || strings.Contains(what[1]+",", "CREATE USER,"))
	}
	return all, gives, err
}

// login returns the server with the guest's login, or with the user's if there is no guest.
func (g *guest) login() served.Server {
	if g.conn == nil {
		return g.admin.Server
	}
	return g.conn.Server
}

// on returns the connection of the guest, or the user's if there is no guest.
func (g *guest) on() *conn {
	if g.conn == nil {
		return g.admin
	}
	return g.conn
}

// close removes the account.
func (g *guest) close(ctx context.Context) error {
	if g.conn != nil {
		g.conn.Close()
	}
	ctx = context.WithoutCancel(ctx)
	for _, host := range g.hosts {
		if err := g.admin.Run(ctx, fmt.Sprintf("DROP USER IF EXISTS %s@%s", sqltext.Literal(g.name), sqltext.Literal(host))); err != nil && fault.KindOf(err) != fault.ServerLogin {
			return err
		}
	}
	return nil
}

// provable returns the definitions that a guest can create in the database try, next to empty tables
// like those of stage. They do nothing outside the database. The others are left to the user; the
// notes name them.
func (g *guest) provable(ctx context.Context, d *schema.Sealed, stage, try string) (all []schema.Object, notes []string, err error) {
	c := g.conn
	if c == nil || len(d.Defined) == 0 {
		return d.Defined, nil, nil
	}
	drop := "DROP DATABASE IF EXISTS " + sqltext.Quoted(try)
	defer func() {
		if gone := c.Run(context.WithoutCancel(ctx), append([]string{drop, "USE " + sqltext.Quoted(stage)}, client.Settings...)...); err == nil {
			err = gone
		}
	}()
	if err := c.Run(ctx, drop, d.Create(try)); err != nil {
		return nil, nil, err
	}
	if err := c.emptyTables(ctx, d, stage, try); err != nil {
		return nil, nil, err
	}
	if err := c.Run(ctx, "USE "+sqltext.Quoted(try)); err != nil {
		return nil, nil, err
	}
	for _, o := range d.Defined {
		create := o.Create("", d.Database, try)
		if o.Sort == "EVENT" {
			create = sqltext.Swapped(create, o.Mode, schema.On, schema.Off)
		}
		if o.Sort == "EVENT" {
			c.inPast(ctx)
		}
		if err := c.Run(ctx, o.Session()...); err != nil {
			return nil, nil, err
		}
		raw := client.Refused(create)
		if raw == nil {
			_, raw = c.ExecContext(ctx, create)
		}
		err := client.Explain(c.Server, raw)
		var server *mysql.MySQLError
		switch {
		case raw == nil, errors.As(raw, &server) && server.Number == needsSuper && !library.MatchString(create):
			all = append(all, o)
		case fault.KindOf(err) == fault.ServerLogin:
			notes = append(notes, fmt.Sprintf("the %s %s was not created, because it needs rights outside its database: create it yourself if you trust it", strings.ToLower(o.Sort), o.Name))
		default:
			return nil, nil, fault.Wrap(fault.KindOf(err), err, "the %s %s cannot be created", strings.ToLower(o.Sort), o.Name)
		}
	}
	return all, notes, nil
}

// needsSuper is the error of a server with a binary log, which lets only administrators create
// functions and triggers.
const needsSuper = 1419

// library matches a function of a library of the server.
var library = regexp.MustCompile(`(?i)\bSONAME\b`)

// account matches a user or role, quoted for SQL.
var account = regexp.MustCompile("^(`(?:[^`]|``)*`|'(?:[^'\\\\]|'')*'|[A-Za-z0-9_$]+)(@(`(?:[^`]|``)*`|'(?:[^'\\\\]|'')*'|[A-Za-z0-9_$.%]+))?$")

// word matches the name of a character set or collation.
var word = regexp.MustCompile(`^[A-Za-z0-9_]+$`)

// checkWords returns an error if a name that is not quoted in statements is not a word.
func checkWords(d *schema.Sealed) error {
	words := []string{d.Charset, d.Collation}
	for _, o := range d.Defined {
		if words = append(words, o.Charset, o.Collation); o.Definer != "" && !account.MatchString(o.Definer) {
			return fault.New(fault.Hostile, "the sealed database has the definer %q", o.Definer)
		}
	}
	for _, w := range words {
		if w != "" && !word.MatchString(w) {
			return fault.New(fault.Hostile, "the sealed database has the character set %q", w)
		}
	}
	return nil
}
