package served

import (
	"bytes"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"

	"movekit/internal/core/fault"
)

// Code shared by the clients of database servers.

// ConnectTime is the time limit for connecting to a server.
const ConnectTime = 5 * time.Second

// Explain classifies a server error. said explains the engine's own errors, and returns nil for
// others.
func Explain(s Server, err error, said func(error) error) error {
	var known *fault.Error
	if err == nil || errors.As(err, &known) {
		return err
	}
	if errors.Is(err, context.Canceled) {
		return fault.Wrap(fault.Stopped, err, "reading %s was stopped", s.Address())
	}
	if own := said(err); own != nil {
		return own
	}
	var network net.Error // includes a connection that was reset
	switch {
	case errors.As(err, &network), errors.Is(err, net.ErrClosed):
		return fault.New(fault.ServerDown, "the server of %s does not answer: %s", s.Address(), LastLine(err.Error()))
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, driver.ErrBadConn), errors.Is(err, sql.ErrConnDone), errors.Is(err, sql.ErrTxDone):
		return fault.New(fault.ServerDown, "the connection to the server of %s was lost", s.Address())
	}
	return fault.Wrap(fault.Unreadable, err, "cannot read the database %s", s.Address())
}

// LastLine returns the last line of a text that is not empty.
func LastLine(s string) string {
	s = strings.TrimSpace(s)
	return strings.TrimSpace(s[strings.LastIndexByte(s, '\n')+1:])
}

// Texts reads all rows of a query as text, with the names of the columns. NULL becomes "".
func Texts(rows *sql.Rows) (cols []string, out [][]string, err error) {
	defer rows.Close()
	if cols, err = rows.Columns(); err != nil {
		return nil, nil, err
	}
	cells, into := make([]any, len(cols)), make([]any, len(cols))
	for i := range cells {
		into[i] = &cells[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, nil, err
		}
		row := make([]string, len(cols))
		for i, cell := range cells {
			switch v := cell.(type) {
			case nil:
			case []byte:
				row[i] = string(v)
			default:
				row[i] = fmt.Sprint(v)
			}
		}
		out = append(out, row)
	}
	return cols, out, rows.Err()
}

// Kept has the open connections of a session, by database.
type Kept map[string]*sql.DB

// Leave closes the connections to a database.
func (k Kept) Leave(database string) {
	if db := k[database]; db != nil {
		db.Close()
		delete(k, database)
	}
}

// Close closes all connections.
func (k Kept) Close() {
	for database := range k {
		k.Leave(database)
	}
}

// First returns the first column of rows.
func First(rows [][]string) (out []string) {
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out
}

// Secret writes a text to a new file in a private folder that only this user can read. remove
// deletes the file.
func Secret(private func() (string, error), text string) (name string, remove func(), err error) {
	dir, err := private()
	if err != nil {
		return "", nil, err
	}
	f, err := os.CreateTemp(dir, "secret-*") // mode 0600
	if err == nil {
		_, err = f.WriteString(text)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return "", nil, fault.Wrap(fault.CannotPlace, err, "cannot write a temporary file")
	}
	return f.Name(), func() { os.Remove(f.Name()) }, nil
}

// maxSaid limits the kept part of a program's output, in bytes.
const maxSaid = 2000

// Run runs one of a server's own programs. said is at most maxSaid bytes of its stderr. An error of
// the input stream takes precedence over the program's own error.
func Run(ctx context.Context, cmd *exec.Cmd, in io.Reader, out io.Writer) (said string, err error) {
	var text bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, &text
	err = cmd.Run()
	if said = strings.TrimSpace(text.String()); len(said) > maxSaid {
		said = said[:maxSaid] + "…"
	}
	if ctx.Err() != nil {
		return said, fault.Wrap(fault.Stopped, ctx.Err(), "the work on the database was stopped")
	}
	return said, err
}
