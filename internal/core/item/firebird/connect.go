// Package firebird moves databases of Firebird servers (version 3 and newer) with the server's own
// backup and restore streams, through its services interface. The rows are fingerprinted
// separately.
package firebird

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/nakagami/firebirdsql"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// login returns the server with defaults for empty fields.
func login(s served.Server) served.Server {
	if s.Host == "" {
		s.Host = "localhost"
	}
	if s.Port == "" {
		s.Port = "3050"
	}
	if s.User == "" {
		s.User = "SYSDBA"
	}
	if s.Password == "" && strings.EqualFold(s.User, "SYSDBA") && served.Local(s.Host) {
		s.Password = firstPassword()
	}
	return s
}

// firstPassword returns the password that the server's installation created, if its file still
// exists.
func firstPassword() string {
	files, _ := filepath.Glob("/etc/firebird/*/SYSDBA.password")
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			if value, ok := strings.CutPrefix(strings.TrimSpace(line), "ISC_PASSWORD="); ok {
				return strings.Trim(value, `"`)
			}
		}
	}
	return ""
}

// tx is one transaction, with a snapshot of the database. server identifies the database.
type tx struct {
	server served.Server
	*sql.Tx
	end func() // called after it ends
}

// noTriggers is the attachment parameter isc_dpb_no_db_triggers (Firebird API Guide, chapter 4), which
// keeps triggers ON CONNECT, ON DISCONNECT and ON TRANSACTION from running. The server allows it for
// administrators and for the owner of the database, as it does a backup. The driver has no option for
// it, and writes the length of a role as one byte without a check. So the server reads a role of 256
// bytes as an empty one, and then the bytes as further parameters.
var noTriggers = func() string {
	const noDBTriggers, processName = 72, 74
	name := strings.Repeat("-", 256-3-2)
	return string([]byte{noDBTriggers, 1, 1, processName, byte(len(name))}) + name
}()

// open opens a database without running its triggers. With the character set NONE the server does not convert texts, so their
// bytes are returned unchanged. One idle connection is kept.
func open(ctx context.Context, s served.Server, charset string) (*sql.DB, error) {
	s = login(s)
	conn, err := (&net.Dialer{Timeout: served.ConnectTime}).DialContext(ctx, "tcp", net.JoinHostPort(s.Host, s.Port))
	if err != nil {
		return nil, explain(s, err)
	}
	conn.Close()
	at := url.URL{Scheme: "firebird", User: url.UserPassword(s.User, s.Password), Host: net.JoinHostPort(s.Host, s.Port), Path: "/" + strings.TrimPrefix(filepath.ToSlash(s.Database), "/"), RawQuery: url.Values{"charset": {charset}, "auth_plugin_name": {"Srp"}, "role": {noTriggers}}.Encode()}
	db, err := sql.Open("firebirdsql", at.String())
	if err != nil {
		return nil, fault.New(fault.BadCard, "the address of the database %s is not valid", s.Address())
	}
	db.SetMaxIdleConns(1)
	return db, nil
}

// begin begins a transaction.
func begin(ctx context.Context, s served.Server, db *sql.DB) (*tx, error) {
	t, err := db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return nil, explain(s, err)
	}
	return &tx{s, t, func() {}}, nil
}

// openWith begins a transaction on a new connection.
func openWith(ctx context.Context, s served.Server, charset string) (*tx, *sql.DB, error) {
	db, err := open(ctx, s, charset)
	if err != nil {
		return nil, nil, err
	}
	t, err := begin(ctx, s, db)
	if err != nil {
		db.Close()
	}
	return t, db, err
}

// connect begins a transaction on its own connection.
func connect(ctx context.Context, s served.Server, charset string) (*tx, error) {
	t, db, err := openWith(ctx, s, charset)
	if err != nil {
		return nil, err
	}
	t.end = func() { db.Close() }
	return t, nil
}

func (c *tx) close() {
	c.Rollback()
	c.end()
}

// table returns the result of a query. NULL becomes "", and padding spaces are removed.
func (c *tx) table(ctx context.Context, query string, args ...any) ([][]string, error) {
	rows, err := c.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, explain(c.server, err)
	}
	_, out, err := served.Texts(rows)
	for _, row := range out {
		for i := range row {
			row[i] = strings.TrimRight(row[i], " ")
		}
	}
	return out, explain(c.server, err)
}

// column returns the first column of a query.
func (c *tx) column(ctx context.Context, query string, args ...any) ([]string, error) {
	rows, err := c.table(ctx, query, args...)
	return served.First(rows), err
}

// errShut means that the database is shut down, as it is while it is being renamed.
var errShut = errors.New("the database is shut down")

// explain classifies a server error.
func explain(s served.Server, err error) error {
	return served.Explain(s, err, func(err error) error {
		var said *firebirdsql.FbError
		switch {
		case errors.As(err, &said) && slices.Contains(said.GDSCodes, 335544528):
			return fault.Wrap(fault.ServerDown, errShut, "the server of %s says: %s", s.Address(), oneLine(said.Message))
		case errors.As(err, &said):
			return fault.New(kindOf(said.GDSCodes), "the server of %s says: %s", s.Address(), oneLine(said.Message))
		case strings.Contains(err.Error(), "user name and password"):
			return fault.New(fault.ServerLogin, "the server of %s rejected the user or password", s.Address())
		}
		return nil
	})
}

// oneLine returns the first 500 bytes of a message as one line.
func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 500 {
		return strings.ToValidUTF8(text[:500], "") + " ..."
	}
	return text
}

// kindOf classifies server errors by code (Firebird 3 Language Reference, appendix B: exception
// codes).
func kindOf(codes []int) fault.Kind {
	has := func(any ...int) bool {
		return slices.ContainsFunc(codes, func(c int) bool { return slices.Contains(any, c) })
	}
	switch {
	case has(335544472, 335544352, 335545106, 335544753):
		return fault.ServerLogin
	case has(335544734): // the file cannot be opened
		return fault.Missing
	case has(335544721, 335544726, 335544727, 335544741):
		return fault.ServerDown
	case has(335544345, 335544336, 335544510, 335544453):
		return fault.Changed
	case has(335544335, 335544405, 335544649, 335544363, 335544665, 335544558, 335544466, 335544347):
		return fault.BadDatabase
	case has(335544344):
		return fault.Unreadable
	}
	return fault.ServerRefused
}

// kindOfText classifies the output of the server's programs, which has no codes.
func kindOfText(text string) fault.Kind {
	for part, kind := range map[string]fault.Kind{
		"user name and password": fault.ServerLogin, "no permission": fault.ServerLogin, "unable to complete network request": fault.ServerDown, "Failed to establish": fault.ServerDown, "connection rejected": fault.ServerDown, "connection lost": fault.ServerDown,
		"No space left": fault.NoSpace, "No such file": fault.Missing, "violation of": fault.BadDatabase, "validation error": fault.BadDatabase, "failure to activate": fault.BadDatabase, "database file appears corrupt": fault.BadDatabase, "lock conflict": fault.Changed,
	} {
		if strings.Contains(text, part) {
			return kind
		}
	}
	return fault.ServerRefused
}

// program finds the newest gbak in PATH or the usual folders.
func program() (string, error) {
	name, patterns := "gbak", []string{"/opt/firebird/bin/gbak", "/usr/lib/firebird/*/bin/gbak"}
	if runtime.GOOS == "windows" {
		name, patterns = "gbak.exe", nil
		for _, root := range []string{"ProgramFiles", "ProgramFiles(x86)"} {
			patterns = append(patterns, filepath.Join(os.Getenv(root), "Firebird", "*", "gbak.exe"), filepath.Join(os.Getenv(root), "Firebird", "*", "bin", "gbak.exe"))
		}
	}
	var all []string
	for _, p := range patterns {
		found, _ := filepath.Glob(p)
		all = append(all, found...)
	}
	if len(all) > 0 {
		return slices.Max(all), nil
	}
	if found, err := exec.LookPath(name); err == nil {
		return found, nil
	}
	return "", fault.New(fault.Missing, "the program gbak, which is part of Firebird, is not on this computer")
}

// backup runs gbak through the services interface. The password is in a temporary file that only
// this user can read.
func (o *session) backup(ctx context.Context, in io.Reader, out io.Writer, args func(service string) []string) error {
	s := login(o.server)
	name, err := program()
	if err != nil {
		return err
	}
	secret, remove, err := served.Secret(o.private, s.Password+"\n")
	if err != nil {
		return err
	}
	defer remove()
	cmd := exec.CommandContext(ctx, name, append(args(s.Host+"/"+s.Port+":service_mgr"), "-user", s.User, "-fetch_password", secret)...)
	said, err := served.Run(ctx, cmd, in, out)
	var own *fault.Error
	switch {
	case errors.As(err, &own): // an error of the stream, or stopped
		return own
	case err != nil || said != "":
		return fault.New(kindOfText(said), "gbak failed for %s: %s", s.Address(), oneLine(or(said, fmt.Sprint(err))))
	}
	return nil
}

func or(s, otherwise string) string {
	if strings.TrimSpace(s) == "" {
		return otherwise
	}
	return s
}
