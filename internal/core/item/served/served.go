// Package served moves databases of servers, whichever engine those run: it finds
// the server from the app's settings, and asks of the engine what moving takes.
package served

import (
	"context"
	"io"
	"net"
	"strconv"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
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
	// Files says that a database's name is that of a file, which may have folders.
	Files bool
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
	if s.Files {
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

// Facts are what is known of a sealed database besides its rows: those of a
// dbprint.Fingerprint, and what the new server must have. They are kept as JSON.
type Facts interface {
	// Print is the fingerprint.
	Print() *dbprint.Fingerprint
}

// Putting is how a sealed database is put on the new server.
type Putting struct {
	Schema   func() (io.ReadCloser, error) // opens the sealed schema
	Rows     func() (io.ReadCloser, error) // opens the sealed rows
	Stage    string                        // name of the database while it is made
	Mine     bool                          // what names somebody who is not on the new server belongs to who puts it there
	Progress func(int64)                   // bytes of rows, since the call before
}

// Engine knows the servers of one sort. F are its facts.
type Engine[F Facts] interface {
	// Endings are those of the sealed streams of the schema and of the rows;
	// an engine whose one stream holds both has no first.
	Endings() (schema, rows string)
	// Open prepares to work on a server. Nothing is asked of it yet, so that one
	// which is down is told by what is asked first. private makes a folder that
	// nobody else may read.
	Open(s Server, private func() (string, error)) Session[F]
	// Named puts an ending behind the name of a database, so that the server
	// takes it.
	Named(database, ending string) string
	// SealedRows reads one table of a sealed database; open starts its rows
	// from their beginning. It gives nil where the engine cannot.
	SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows
}

// Session works on the databases of one server, by connections that it keeps
// until Close. It is used by one goroutine. Errors are of package fault: those of
// a server that does not answer have the kind ServerDown, a login that fails
// ServerLogin, a database that is not there Missing.
type Session[F Facts] interface {
	// Look looks at a database.
	Look(ctx context.Context, database string) (*Look, error)
	// Ask returns the whole number that a query gives, which may change nothing.
	Ask(ctx context.Context, database, query string) (int64, error)
	// Seal writes a database as it is at one moment, and returns its facts of
	// that moment.
	Seal(ctx context.Context, database string, counts []card.Count, schema, rows io.Writer, progress func(int64)) (F, error)
	// Exists reports whether the server has a database. It changes nothing.
	Exists(ctx context.Context, database string) (bool, error)
	// Folder is the one that the server keeps a database in, as the server sees it; ""
	// where it does not say.
	Folder(ctx context.Context, database string) (string, error)
	// Lacks returns what the server lacks for a sealed database that is to have
	// some name. Nothing is made.
	Lacks(ctx context.Context, database string, facts F) ([]string, error)
	// Stage makes the sealed database under another name. What an earlier run
	// left under that name is dropped. The notes are for a person, and hold as
	// well where an error is returned.
	Stage(ctx context.Context, facts F, p Putting) (notes []string, err error)
	// Rename gives a database another name, which nothing has.
	Rename(ctx context.Context, from, to string, as Service) error
	// Drop removes a database, with all that is in it.
	Drop(ctx context.Context, database string) error
	// Fingerprint takes that of a database as it is at one moment.
	Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error)
	// Definitions is a fingerprint without rows and counts.
	Definitions(ctx context.Context, database string) (*dbprint.Fingerprint, error)
	Rewriter
	// Close ends the connections.
	Close()
}

// Service says whether an app uses a database under a name.
type Service bool

// AtRest is a database that no app uses: what runs in it by itself is switched off. InService is one that an app
// uses: what was switched off is on again.
const (
	AtRest    Service = false
	InService Service = true
)

// Resumer is a session that renames in several steps.
type Resumer interface {
	// Unfinished reports whether a rename between two databases was interrupted. It changes nothing.
	Unfinished(ctx context.Context, from, to string) (bool, error)
	// Resume finishes such a rename or undoes it, so that the database is complete under one of the names.
	Resume(ctx context.Context, from, to string) error
}

// Shortened puts an ending behind a name of at most some bytes.
func Shortened(name, ending string, most int) string {
	return strings.ToValidUTF8(name[:min(len(name), max(0, most-len(ending)))], "") + ending
}

// WholeNumber is the one whole number that a query gives.
func WholeNumber(rows [][]string, query string) (int64, error) {
	if len(rows) == 1 && len(rows[0]) == 1 {
		if n, err := strconv.ParseInt(rows[0][0], 10, 64); err == nil {
			return n, nil
		}
	}
	return 0, fault.New(fault.BadCard, "the query does not give one whole number: %s", query)
}

// Counting is what a server reads, and tells how many bytes that are.
type Counting struct {
	io.Reader
	Progress func(int64) // nil where nobody listens
}

// Read reads, and tells it.
func (c Counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if c.Progress != nil {
		c.Progress(int64(n))
	}
	return n, err
}
