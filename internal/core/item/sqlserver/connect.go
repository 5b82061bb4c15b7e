// Package sqlserver moves databases of Microsoft SQL Server, from version 2012. The server itself makes a backup and restores
// it; the content is compared by all rows and by the definitions in the catalogs.
//
// The statements are those of the Transact-SQL Reference; what the driver sends is MS-TDS.
package sqlserver

import (
	"context"
	"crypto/x509"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	mssql "github.com/microsoft/go-mssqldb"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// located splits the ways in which programs name a server: HOST, HOST,PORT, HOST\INSTANCE, .\INSTANCE, (local) and tcp:HOST.
func located(s served.Server) (host, port, instance string, err error) {
	host = strings.TrimSpace(s.Host)
	if protocol, rest, ok := strings.Cut(host, ":"); ok && (strings.EqualFold(protocol, "tcp") || strings.EqualFold(protocol, "lpc") || strings.EqualFold(protocol, "np")) {
		host = rest
	}
	if strings.HasPrefix(strings.ToLower(host), "(localdb)") {
		return "", "", "", fault.New(fault.ServerRefused, "%s is a LocalDB, which only the programs of one user can reach: attach its files to an instance of SQL Server, and move them from there", s.Host)
	}
	host, port, _ = strings.Cut(host, ",")
	host, instance, _ = strings.Cut(host, `\`)
	if s.Port != "" {
		port = s.Port
	}
	if host == "" || host == "." || strings.EqualFold(host, "(local)") {
		host = "localhost"
	}
	if port = strings.TrimSpace(port); port != "" {
		if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
			return "", "", "", fault.New(fault.BadCard, "%q is not a port of a server", port)
		}
		instance = "" // the port alone says which one
	}
	return host, port, instance, nil
}

// open prepares connections to a database. Without a user, the driver logs in as the Windows user. On this computer the
// certificate that the server made for itself is accepted; from another computer it must be trusted.
func open(s served.Server) (*sql.DB, error) {
	host, port, instance, err := located(s)
	if err != nil {
		return nil, err
	}
	at := url.URL{Scheme: "sqlserver", Host: host, Path: instance}
	if port != "" {
		at.Host = host + ":" + port
	}
	if s.User != "" {
		at.User = url.UserPassword(s.User, s.Password)
	}
	options := url.Values{"database": {s.Database}, "app name": {"Move Kit"}, "dial timeout": {fmt.Sprint(int(served.ConnectTime.Seconds()))}, "encrypt": {"true"}}
	if served.Local(s.Host) {
		options.Set("encrypt", "false") // as the server wants it
		options.Set("TrustServerCertificate", "true")
	}
	at.RawQuery = options.Encode()
	db, err := sql.Open("sqlserver", at.String())
	if err != nil {
		return nil, fault.New(fault.BadCard, "the address of the database %s is not valid", s.Address())
	}
	db.SetMaxIdleConns(2)
	return db, nil
}

// quoted quotes a name.
func quoted(name string) string { return "[" + strings.ReplaceAll(name, "]", "]]") + "]" }

// literal quotes a text.
func literal(text string) string { return "N'" + strings.ReplaceAll(text, "'", "''") + "'" }

// on returns the open connections to a database; "master" has those for the server as a whole.
func (o *session) on(database string) (*sql.DB, error) {
	if db := o.kept[database]; db != nil {
		return db, nil
	}
	db, err := open(o.server.On(database))
	if err == nil {
		o.kept[database] = db
	}
	return db, err
}

// table returns the result of a query as text. NULL becomes "".
func (o *session) table(ctx context.Context, database, query string) ([][]string, error) {
	db, err := o.on(database)
	if err != nil {
		return nil, err
	}
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, o.explain(database, err)
	}
	_, out, err := served.Texts(rows)
	return out, o.explain(database, err)
}

// first returns the only row of a query.
func (o *session) first(ctx context.Context, database, query string, columns int) ([]string, error) {
	rows, err := o.table(ctx, database, query)
	if err == nil && (len(rows) == 0 || len(rows[0]) != columns) {
		err = fault.New(fault.ServerRefused, "the server of %s gave no answer to a question about the database", o.server.On(database).Address())
	}
	if err != nil {
		return nil, err
	}
	return rows[0], nil
}

// run runs a statement that returns nothing.
func (o *session) run(ctx context.Context, database, statement string) error {
	db, err := o.on(database)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, statement)
	return o.explain(database, err)
}

// Close closes the connections.
func (o *session) Close() { o.kept.Close() }

// explain classifies a server error.
func (o *session) explain(database string, err error) error {
	s := o.server.On(database)
	return served.Explain(s, err, func(err error) error {
		var said mssql.Error
		var authority x509.UnknownAuthorityError
		var name x509.HostnameError
		switch {
		case errors.As(err, &said) && said.Number == 4060:
			return fault.New(fault.Missing, "the server of %s has no such database, or the login may not open it", s.Address())
		case errors.As(err, &said):
			return fault.New(kindOf(said.Number), "the server of %s says: %s (error %d)", s.Address(), served.LastLine(said.Message), said.Number)
		case errors.As(err, &authority), errors.As(err, &name):
			return fault.New(fault.ServerRefused, "the certificate of the server of %s is not trusted here, so the connection might not be private: run Move Kit on the server's computer, or install that certificate on this one (%s)", s.Address(), served.LastLine(err.Error()))
		case strings.Contains(err.Error(), "SSPI"), strings.Contains(err.Error(), "integrated"):
			return fault.New(fault.ServerLogin, "the login to %s as the user of this computer failed: %s", s.Address(), served.LastLine(err.Error()))
		case strings.Contains(err.Error(), "instance matching"), strings.Contains(err.Error(), "unable to open tcp connection"):
			return fault.New(fault.ServerDown, "the server of %s does not answer: %s", s.Address(), served.LastLine(err.Error()))
		}
		return nil
	})
}

// kindOf classifies errors by number (Database Engine events and errors, in the documentation of SQL Server).
func kindOf(number int32) fault.Kind {
	switch number {
	case 18456, 18452, 18486, 18487, 18488, 229, 262, 300, 916:
		return fault.ServerLogin
	case 911, 5011:
		return fault.Missing
	case 5030, 3702, 3101, 5061, 924:
		return fault.Changed
	case 3241, 3242, 3183, 3189, 3203, 8921, 8939, 8928, 8976, 824, 823, 825:
		return fault.BadDatabase
	case 112, 3257, 1105, 9002, 3202:
		return fault.NoSpace
	}
	return fault.ServerRefused
}
