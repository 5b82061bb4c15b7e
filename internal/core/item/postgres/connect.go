// Package postgres moves PostgreSQL databases (version 12 and newer). The schema is moved with the
// server's own pg_dump and pg_restore. The rows are moved in COPY text format, which any server
// reads, from the same exported snapshot, and are fingerprinted at the same time.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/jackc/pgpassfile"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/wire"
	"movekit/internal/core/item/served"
)

// Oldest is the oldest server version that is supported.
const Oldest = 120000

// settings make every server return values in the same form.
var settings = map[string]string{
	"client_encoding": "UTF8", "timezone": "UTC", "datestyle": "ISO, YMD", "intervalstyle": "postgres", "extra_float_digits": "1", "bytea_output": "hex",
	"lc_monetary": "C", "xmloption": "content", "statement_timeout": "0", "lock_timeout": "10000", "idle_in_transaction_session_timeout": "0",
	"row_security": "off", "synchronize_seqscans": "off", "default_transaction_isolation": "read committed", "default_transaction_read_only": "off", "standard_conforming_strings": "on", "array_nulls": "on", "quote_all_identifiers": "off", "application_name": "movekit",
}

// notices is where a connection keeps the server's messages, if a string is there.
const notices = "notices"

// tracer lets tests interrupt statements.
var tracer pgx.QueryTracer

// connect opens a connection with the same settings every time. Missing parts of the address have
// the defaults of the server's own programs (PGHOST and so on, pgpass).
func (s *session) connect(ctx context.Context, database string) (*pgx.Conn, error) {
	var b strings.Builder
	for _, kv := range [][2]string{{"host", s.Host}, {"port", s.Port}, {"user", s.User}, {"password", s.Password}, {"dbname", database}, {"connect_timeout", fmt.Sprint(int(served.ConnectTime.Seconds()))}} {
		if kv[1] != "" {
			fmt.Fprintf(&b, "%s='%s' ", kv[0], strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(kv[1]))
		}
	}
	config, err := pgx.ParseConfig(b.String())
	if err != nil {
		return nil, fault.New(fault.BadCard, "the address of the database %s is not valid", s.Address())
	}
	if config.Password == "" && strings.HasPrefix(config.Host, "/") {
		config.Password = ofSocket(config)
	}
	for k, v := range settings {
		config.RuntimeParams[k] = v
	}
	config.DefaultQueryExecMode, config.Tracer = pgx.QueryExecModeExec, tracer
	config.OnNotice = func(c *pgconn.PgConn, n *pgconn.Notice) {
		if said, listens := c.CustomData()[notices].(string); listens && len(said) < 16<<20 {
			c.CustomData()[notices] = said + n.Message + "\n" + n.Detail + "\n"
		}
	}
	build := config.BuildFrontend
	config.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend { return build(wire.Split(r), w) }
	conn, err := pgx.ConnectConfig(ctx, config)
	if err == nil {
		_, err = conn.Exec(ctx, "SET search_path TO ''") // names are written with their schema
	}
	return conn, s.explain(err)
}

// ofSocket returns the password in the server's password file for a socket folder (PostgreSQL
// documentation, 34.16).
func ofSocket(c *pgx.ConnConfig) string {
	name := os.Getenv("PGPASSFILE")
	if home, err := os.UserHomeDir(); name == "" && err == nil {
		name = filepath.Join(home, ".pgpass")
	}
	file, err := pgpassfile.ReadPassfile(name)
	if err != nil {
		return ""
	}
	return file.FindPassword(c.Host, strconv.Itoa(int(c.Port)), c.Database, c.User)
}

// explain classifies a server error.
func (s *session) explain(err error) error {
	return served.Explain(s.Server, err, func(err error) error {
		var pg *pgconn.PgError
		var connect *pgconn.ConnectError
		switch {
		case errors.As(err, &pg):
		case errors.As(err, &connect), pgconn.SafeToRetry(err):
			return fault.New(fault.ServerDown, "the server of %s does not answer: %s", s.Address(), served.LastLine(err.Error()))
		default:
			return nil
		}
		kind := kindOf(pg.Code)
		if pg.Routine == "RequestCheckpoint" { // its code is an internal error: it cannot write its data
			kind = fault.NoSpace
		}
		says, detail := "says", ""
		if kind == fault.ServerDown {
			says = "is not ready" // it is starting, stopping, or recovering from a full disk
		}
		if pg.Detail != "" && !strings.HasPrefix(pg.Code, "28") {
			detail = " (" + pg.Detail + ")"
		}
		return fault.New(kind, "the server of %s %s: %s%s", s.Address(), says, pg.Message, detail)
	})
}

// kindOf classifies server errors by code (PostgreSQL documentation, appendix A).
func kindOf(code string) fault.Kind {
	switch {
	case strings.HasPrefix(code, "28"), code == "42501":
		return fault.ServerLogin
	case code == "3D000":
		return fault.Missing
	case code == "55P03", code == "40001", code == "40P01", code == "42P01", code == "55006":
		return fault.Changed
	case code == "53100":
		return fault.NoSpace
	case strings.HasPrefix(code, "57P"), strings.HasPrefix(code, "08"), strings.HasPrefix(code, "53"):
		return fault.ServerDown
	case strings.HasPrefix(code, "XX"), strings.HasPrefix(code, "23"):
		return fault.BadDatabase
	}
	return fault.ServerRefused
}

// kindOfText classifies the output of the server's programs, which has no codes.
func kindOfText(text string) fault.Kind {
	switch {
	case strings.Contains(text, "permission denied"), strings.Contains(text, "authentication failed"), strings.Contains(text, "must be "):
		return fault.ServerLogin
	case strings.Contains(text, "canceling statement due to lock timeout"), strings.Contains(text, "does not exist"):
		return fault.Changed
	case strings.Contains(text, "No space left"):
		return fault.NoSpace
	case strings.Contains(text, "connection to server"):
		return fault.ServerDown
	}
	return fault.ServerRefused
}

// versionOf returns a server's version as a number (150004 is 15.4) and as text.
func versionOf(ctx context.Context, conn *pgx.Conn) (int, string, error) {
	var num, text string
	if err := conn.QueryRow(ctx, "SELECT current_setting('server_version_num'), current_setting('server_version')").Scan(&num, &text); err != nil {
		return 0, "", err
	}
	n, err := strconv.Atoi(num)
	text, _, _ = strings.Cut(text, " ")
	return n, text, err
}

var programVersion = regexp.MustCompile(`\) (\d+)`)

// program finds one of the server's own programs with at least a given major version, in the usual
// folders or in PATH. It returns the oldest suitable one, so that older servers can read its
// output.
func program(ctx context.Context, name string, major int) (string, error) {
	patterns := []string{"/usr/lib/postgresql/*/bin/" + name, "/usr/pgsql-*/bin/" + name, "/opt/postgresql/*/bin/" + name}
	if runtime.GOOS == "windows" {
		name += ".exe"
		patterns = []string{filepath.Join(os.Getenv("ProgramFiles"), "PostgreSQL", "*", "bin", name)}
	}
	var tries []string
	for _, p := range patterns {
		found, _ := filepath.Glob(p)
		tries = append(tries, found...)
	}
	if inPath, err := exec.LookPath(name); err == nil && !isWrapper(inPath) {
		tries = append(tries, inPath)
	}
	type found struct {
		name  string
		major int
	}
	var all []found
	for _, t := range tries {
		if n := majorOf(ctx, t); n > 0 {
			all = append(all, found{t, n})
		}
	}
	slices.SortStableFunc(all, func(a, b found) int { return a.major - b.major })
	for _, f := range all {
		if f.major >= major {
			return f.name, nil
		}
	}
	return "", fault.New(fault.Missing, "the program %s of PostgreSQL %d or newer is not on this computer (older ones: %d)", name, major, len(all))
}

// isWrapper detects Debian's wrapper, which selects one of the programs in the usual folders.
func isWrapper(program string) bool {
	is, err := filepath.EvalSymlinks(program)
	return err == nil && filepath.Base(is) == "pg_wrapper"
}

// majors caches the major versions of programs.
var majors sync.Map

// majorOf returns the major version of a program, or 0. Each program is asked once.
func majorOf(ctx context.Context, program string) int {
	if known, asked := majors.Load(program); asked {
		return known.(int)
	}
	out, err := exec.CommandContext(ctx, program, "--version").Output()
	m := programVersion.FindStringSubmatch(string(out))
	if err != nil || m == nil {
		return 0
	}
	n, _ := strconv.Atoi(m[1])
	majors.Store(program, n)
	return n
}

// run runs one of the server's own programs, and returns its stderr. The address is in its
// environment; the password is in a temporary file that only this user can read.
func (s *session) run(ctx context.Context, database string, in io.Reader, out io.Writer, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, append([]string{"--no-password"}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C", "PGAPPNAME=movekit", "PGCONNECT_TIMEOUT="+fmt.Sprint(int(served.ConnectTime.Seconds())))
	for _, kv := range [][2]string{{"PGHOST", s.Host}, {"PGPORT", s.Port}, {"PGUSER", s.User}, {"PGDATABASE", database}} {
		if kv[1] != "" {
			cmd.Env = append(cmd.Env, kv[0]+"="+kv[1])
		}
	}
	if s.Password != "" {
		secret, remove, err := served.Secret(s.private, "*:*:*:*:"+strings.NewReplacer(`\`, `\\`, ":", `\:`).Replace(s.Password)+"\n")
		if err != nil {
			return "", err
		}
		defer remove()
		cmd.Env = append(cmd.Env, "PGPASSFILE="+secret)
	}
	return served.Run(ctx, cmd, in, out)
}

// programFailed explains the output of a server program. what describes its task, with %s for the
// database.
func (s *session) programFailed(err error, said, what string) error {
	if said == "" || fault.KindOf(err) == fault.Stopped {
		return fault.Wrap(kindOfText(said), err, what, s.Address())
	}
	return fault.Wrap(kindOfText(said), errors.New(said), what, s.Address())
}
