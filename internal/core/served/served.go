// Package served says what the steps ask of a database server, whichever
// engine it runs.
package served

import (
	"context"
	"io"
	"net"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
)

// Server is a server and a database on it. Empty fields stand for what the
// engine's own programs would use.
type Server struct {
	Kind     card.Kind
	Host     string // name, address, or folder of the socket
	Port     string
	User     string
	Password string
	Database string // its name; for Firebird the file or alias, as the server sees it
}

// On returns the same server with another database.
func (s Server) On(database string) Server {
	s.Database = database
	return s
}

// Address names the database for a person, without the password. It ends with
// the database.
func (s Server) Address() string {
	host := s.Host
	if host == "" {
		host = "local"
	}
	if s.Port != "" && !strings.HasPrefix(host, "/") {
		host = net.JoinHostPort(host, s.Port)
	} else if s.Port != "" {
		host += ":" + s.Port
	}
	if s.User != "" {
		host = s.User + "@" + host
	}
	return string(s.Kind) + ":" + host + "/" + s.Database
}

// At returns the same server with the database that an address ends with: one
// of this server, or of the same one when it had another port or login.
func (s Server) At(address string) Server {
	if database, ok := strings.CutPrefix(address, s.On("").Address()); ok {
		return s.On(database)
	}
	if s.Kind == card.Firebird { // a file, which may have folders
		_, database, _ := strings.Cut(address, "/")
		return s.On(database)
	}
	return s.On(address[strings.LastIndexByte(address, '/')+1:])
}

// Look is what is there of a database.
type Look struct {
	Engine   string // with its version, for a person
	Bytes    int64  // on the server's disk
	Tables   int64
	Sessions []string // who else is connected, one text a program and user
	Stamp    string   // changes when the database does; empty where that is not known
	Left     []string // what does not move, with the reason
}

// Putting is how a sealed database is put on the new server.
type Putting struct {
	Facts    []byte                        // what Seal returned, as JSON
	Schema   func() (io.ReadCloser, error) // opens the sealed schema
	Rows     func() (io.ReadCloser, error) // opens the sealed rows
	Stage    string                        // name of the database while it is made
	Temp     string                        // a private folder
	Mine     bool                          // what names somebody who is not on the new server belongs to who puts it there
	Progress func(int64)                   // bytes of rows, since the call before
}

// Engine moves the databases of one engine. Errors are of package fault: those
// of a server that does not answer have the kind ServerDown, a login that fails
// ServerLogin, a database that is not there Missing.
type Engine interface {
	// Endings are those of the sealed streams of the schema and of the rows;
	// an engine whose one stream holds both has no first.
	Endings() (schema, rows string)
	// LookAt looks at a database.
	LookAt(ctx context.Context, s Server) (*Look, error)
	// Ask returns the whole number that a query gives, which may change nothing.
	Ask(ctx context.Context, s Server, query string) (int64, error)
	// Seal writes a database as it is at one moment. The facts are those of a
	// dbprint.Fingerprint of that moment, and what the new server must have; they
	// are kept as JSON.
	Seal(ctx context.Context, s Server, counts []card.Count, schema, rows io.Writer, progress func(int64)) (facts any, err error)
	// Exists reports whether the server has the database.
	Exists(ctx context.Context, s Server) (bool, error)
	// Lacks returns what the server lacks for a sealed database. Nothing is made.
	Lacks(ctx context.Context, s Server, facts []byte) ([]string, error)
	// Stage makes the sealed database under another name. What an earlier run
	// left under that name is dropped. The notes are for a person, and hold as
	// well where an error is returned.
	Stage(ctx context.Context, s Server, p Putting) (notes []string, err error)
	// Settle gives the staged database its name, after what has that name was
	// renamed to aside, or dropped where aside is empty. Where nothing has the
	// name, an interrupted run may have put it aside already.
	Settle(ctx context.Context, s Server, p Putting, aside string) error
	// Rename gives a database another name.
	Rename(ctx context.Context, s Server, to string) error
	// Drop removes a database, with all that is in it.
	Drop(ctx context.Context, s Server) error
	// Named puts an ending behind the name of a database, so that the server
	// takes it.
	Named(database, ending string) string
	// Fingerprint takes that of a database as it is at one moment.
	Fingerprint(ctx context.Context, s Server, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error)
	// Rows reads one table of a database.
	Rows(ctx context.Context, s Server, t dbprint.Table) dbprint.Rows
	// SealedRows reads one table of a sealed database; open starts its rows
	// from their beginning. It gives nil where the engine cannot.
	SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows
}

// Shortened puts an ending behind a name of at most some bytes.
func Shortened(name, ending string, most int) string {
	return strings.ToValidUTF8(name[:min(len(name), max(0, most-len(ending)))], "") + ending
}
