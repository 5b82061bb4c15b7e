// Package client connects to MariaDB and MySQL servers, and classifies their errors.
package client

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"
	"gopkg.in/ini.v1"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// Settings make every server return and accept values in the same form.
var Settings = []string{
	"SET NAMES utf8mb4", "SET timestamp = DEFAULT", "SET time_zone = '+00:00'", "SET sql_mode = " + sqltext.Literal(schema.Mode), "SET foreign_key_checks = 0, unique_checks = 0, sql_quote_show_create = 1, lock_wait_timeout = 10, innodb_lock_wait_timeout = 10, net_write_timeout = 600, net_read_timeout = 600, group_concat_max_len = 1048576",
}

// places lists the usual paths of a server's socket.
var places = []string{"/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"}

type silent struct{}

func (silent) Print(...any) {}

// open prepares connections to a server, with the same settings every time.
func open(s served.Server) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.DBName = s.User, s.Password, s.Database
	if user, password := optionFile(); c.Passwd == "" && (c.User == "" || c.User == user) {
		c.User, c.Passwd = user, password
	}
	if c.User == "" {
		if u, err := user.Current(); err == nil {
			c.User = u.Username
		}
	}
	c.Net, c.Addr = "tcp", net.JoinHostPort(or(s.Host, "127.0.0.1"), or(s.Port, "3306"))
	c.TLSConfig = "preferred"
	if socket := socketOf(s); socket != "" {
		c.Net, c.Addr, c.TLSConfig = "unix", socket, ""
	}
	c.Timeout, c.Logger, c.MaxAllowedPacket = served.ConnectTime, silent{}, 1<<30-1
	c.InterpolateParams = true
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fault.New(fault.BadCard, "the address of the database %s is not valid", s.Address())
	}
	return sql.OpenDB(connector), nil
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// socketOf returns the socket of a server on this computer, or "".
func socketOf(s served.Server) string {
	if strings.HasPrefix(s.Host, "/") {
		return s.Host
	}
	if s.Host != "" && (s.Host != "localhost" || s.Port != "") {
		return ""
	}
	for _, p := range places {
		if _, err := os.Stat(p); err == nil {
			return p
		}
	}
	return ""
}

// optionFile reads the user and password from the client's own option file, ~/.my.cnf, section
// [client].
func optionFile() (user, password string) {
	home, err := os.UserHomeDir()
	if err != nil {
		return "", ""
	}
	f, err := ini.LoadSources(ini.LoadOptions{AllowBooleanKeys: true, SkipUnrecognizableLines: true}, filepath.Join(home, ".my.cnf"))
	if err != nil {
		return "", ""
	}
	client := f.Section("client")
	return client.Key("user").String(), client.Key("password").String()
}

// Conn is one connection. Server identifies its database.
type Conn struct {
	Server served.Server
	db     *sql.DB
	*sql.Conn
}

// Connect opens a connection to a database, or without a database to read the server's own tables.
func Connect(ctx context.Context, s served.Server) (*Conn, error) {
	db, err := open(s)
	if err != nil {
		return nil, err
	}
	own, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, Explain(s, err)
	}
	c := &Conn{s, db, own}
	if err := c.Run(ctx, Settings...); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// Close closes the connection.
func (c *Conn) Close() {
	c.Conn.Close()
	c.db.Close()
}

// Refused lets tests make the server reject a statement.
var Refused = func(string) error { return nil }

// Run runs statements in order.
func (c *Conn) Run(ctx context.Context, statements ...string) error {
	for _, q := range statements {
		if err := Refused(q); err != nil {
			return Explain(c.Server, err)
		}
		if _, err := c.ExecContext(ctx, q); err != nil {
			return Explain(c.Server, err)
		}
	}
	return nil
}

// Table returns the result of a query. NULL becomes "".
func (c *Conn) Table(ctx context.Context, query string, args ...any) ([][]string, error) {
	_, out, err := c.Headed(ctx, query, args...)
	return out, err
}

// Headed also returns the column names.
func (c *Conn) Headed(ctx context.Context, query string, args ...any) (cols []string, out [][]string, err error) {
	rows, err := c.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, nil, Explain(c.Server, err)
	}
	cols, out, err = served.Texts(rows)
	return cols, out, Explain(c.Server, err)
}

// Column returns the first column of a query.
func (c *Conn) Column(ctx context.Context, query string, args ...any) ([]string, error) {
	rows, err := c.Table(ctx, query, args...)
	return served.First(rows), err
}

// One returns the single row of a query, or empty texts if there is none.
func (c *Conn) One(ctx context.Context, query string, args ...any) ([]string, error) {
	rows, err := c.Table(ctx, query, args...)
	if err == nil && len(rows) == 0 {
		return make([]string, 20), nil
	}
	if err != nil {
		return nil, err
	}
	return rows[0], nil
}

// Each reads a query's rows as the driver returns them. The values are valid until each returns.
func (c *Conn) Each(ctx context.Context, query string, each func([]driver.Value) error) error {
	err := c.Raw(func(conn any) error {
		rows, err := conn.(driver.QueryerContext).QueryContext(ctx, query, nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		cells := make([]driver.Value, len(rows.Columns()))
		for {
			if err := rows.Next(cells); err != nil {
				if errors.Is(err, io.EOF) {
					return nil
				}
				return err
			}
			if err := each(cells); err != nil {
				return err
			}
		}
	})
	return Explain(c.Server, err)
}

// Explain classifies a server error.
func Explain(s served.Server, err error) error {
	return served.Explain(s, err, func(err error) error {
		var said *mysql.MySQLError
		switch {
		case errors.As(err, &said):
			return fault.New(kindOf(said.Number, said.Message), "the server of %s says: %s", s.Address(), said.Message)
		case errors.Is(err, mysql.ErrInvalidConn):
			return fault.New(fault.ServerDown, "the connection to the server of %s was lost", s.Address())
		}
		return nil
	})
}

// inner matches the number of the system's or the storage engine's own error, which some messages
// contain.
var inner = regexp.MustCompile(`(?i)\b(?:errno|errcode|error):? (\d+)\b`)

// full lists the errors for a full disk or storage engine file (errno.h; MariaDB's my_base.h).
var full = []string{"28", "122", "135", "136"}

// kindOf classifies server errors (MariaDB knowledge base, "MariaDB Error Code Reference").
func kindOf(number uint16, message string) fault.Kind {
	for _, m := range inner.FindAllStringSubmatch(message, -1) {
		if slices.Contains(full, m[1]) {
			return fault.NoSpace
		}
	}
	switch number {
	case 1044, 1045, 1142, 1143, 1227, 1370, 1698, 1449:
		return fault.ServerLogin
	case 1049:
		return fault.Missing
	case 1205, 1213, 1146, 1412, 1051, 1969, 3024:
		return fault.Changed
	case 1021, 1114, 1180: // 1180: a COMMIT cannot be written
		return fault.NoSpace
	case 1040, 1053, 1152, 1159, 1161, 1927, 1203:
		return fault.ServerDown
	case 1062, 1586, 1451, 1452, 3819, 4025, 1033, 1034, 1035, 1194, 1195, 1932:
		return fault.BadDatabase
	}
	return fault.ServerRefused
}

// Text returns a value of Each as text.
func Text(v driver.Value) string {
	if b, is := v.([]byte); is {
		return string(b)
	}
	return fmt.Sprint(v)
}
