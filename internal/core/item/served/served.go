// Package served moves server databases of any engine. It reads the server's address from the app's
// settings, and calls the engine for the work.
package served

import (
	"context"
	"io"
	"net"
	"strconv"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Server is a server and a database on it. Empty fields mean the defaults of the engine's own
// programs.
type Server struct {
	Kind     card.Kind
	Host     string // name, address, or socket folder
	Port     string
	User     string
	Password string
	Database string // its name; for Firebird, the file or alias on the server
	// Files is true if the name of a database is a file name, which may include folders.
	Files bool
}

// On returns the same server with another database.
func (s Server) On(database string) Server {
	s.Database = database
	return s
}

// Address returns the address of the database without the password. It ends with the database name.
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

// At returns the server with the database in an address, which may have been written when the
// server had another port or login.
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

// Look is the result of inspecting a database.
type Look struct {
	Engine   string // with its version
	Bytes    int64  // on the server's disk
	Tables   int64
	Sessions []string // other connections, as text with program and user
	Stamp    string   // changes when the database does; "" if unknown
	Left     []string // what cannot be moved, with the reason
}

// Facts are the sealed facts of a database besides its rows: its fingerprint, and the requirements
// for the new server. They are stored as JSON.
type Facts interface {
	// Print returns the fingerprint.
	Print() *dbprint.Fingerprint
}

// Loading says how to load a sealed database on the new server.
type Loading struct {
	Schema   func() (io.ReadCloser, error) // opens the sealed schema
	Rows     func() (io.ReadCloser, error) // opens the sealed rows
	Stage    string                        // name of the database while it is being created
	Mine     bool                          // objects of a user that is missing on the new server get the loading user
	Progress func(int64)                   // gets the number of bytes since the last call
	Allow    func(question string) error   // asks whether an administrator may run a definition; nil means no
}

// Engine is a database engine. F are its facts.
type Engine[F Facts] interface {
	// Endings returns the suffixes of the sealed streams of the schema and the rows. The first is
	// "" if one stream has both.
	Endings() (schema, rows string)
	// Open prepares a session. It does not connect yet, so the first request reports an unreachable
	// server. private returns a folder that nobody else may read.
	Open(s Server, private func() (string, error)) Session[F]
	// Named appends a suffix to a database name, in a form that the server accepts.
	Named(database, ending string) string
	// SealedRows reads one table of a sealed database. open starts the rows from the beginning. It
	// returns nil if the engine cannot do that.
	SealedRows(open func() (io.ReadCloser, error), t dbprint.Table) dbprint.Rows
}

// Session works on the databases of one server, with connections that stay open until Close. It is
// not safe for concurrent use. Errors are of package fault: ServerDown if the server does not
// answer, ServerLogin if the login fails, Missing if the database does not exist.
type Session[F Facts] interface {
	// Look inspects a database.
	Look(ctx context.Context, database string) (*Look, error)
	// Ask returns the whole number that a query returns. It prevents the query from changing
	// anything.
	Ask(ctx context.Context, database, query string) (int64, error)
	// Seal writes a snapshot of a database, and returns its facts.
	Seal(ctx context.Context, database string, counts []card.Count, schema, rows io.Writer, progress func(int64)) (F, error)
	// Exists reports whether the server has a database. It changes nothing.
	Exists(ctx context.Context, database string) (bool, error)
	// Folder returns the server's folder with the database, or "" if unknown.
	Folder(ctx context.Context, database string) (string, error)
	// Lacks returns the requirements of a sealed database that the server does not meet. database
	// is its future name. Lacks creates nothing.
	Lacks(ctx context.Context, database string, facts F) ([]string, error)
	// Stage creates the sealed database under another name, after dropping leftovers of an earlier
	// run with that name. The notes are for the user, and valid even with an error.
	Stage(ctx context.Context, facts F, p Loading) (notes []string, err error)
	// Rename gives a database an unused name.
	Rename(ctx context.Context, from, to string, as Service) error
	// Drop removes a database and its content.
	Drop(ctx context.Context, database string) error
	// Fingerprint computes the fingerprint of a snapshot of a database.
	Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error)
	// Definitions returns a fingerprint without rows and counts.
	Definitions(ctx context.Context, database string) (*dbprint.Fingerprint, error)
	Rewriter
	// Close closes the connections.
	Close()
}

// Service says whether an app uses a database.
type Service bool

// AtRest is a database that no app uses, so that its scheduled events are disabled. InService is
// one that an app uses: those events are enabled again.
const (
	AtRest    Service = false
	InService Service = true
)

// Resumer is a session that renames in several steps.
type Resumer interface {
	// Unfinished reports whether a rename between two databases was interrupted. It changes
	// nothing.
	Unfinished(ctx context.Context, from, to string) (bool, error)
	// Resume finishes or undoes such a rename, so that the database is complete under one of the
	// names.
	Resume(ctx context.Context, from, to string) error
}

// Shortened appends a suffix to a name, and shortens the name to stay within a limit in bytes. Part of its hash keeps two
// long names apart that begin alike.
func Shortened(name, ending string, most int) string {
	if len(name)+len(ending) <= most {
		return name + ending
	}
	ending = "_" + digest.Of([]byte(name)).String()[:8] + ending
	return strings.ToValidUTF8(name[:min(len(name), max(0, most-len(ending)))], "") + ending
}

// WholeNumber returns the one whole number in the result of a query.
func WholeNumber(rows [][]string, query string) (int64, error) {
	if len(rows) == 1 && len(rows[0]) == 1 {
		if n, err := strconv.ParseInt(rows[0][0], 10, 64); err == nil {
			return n, nil
		}
	}
	return 0, fault.New(fault.BadCard, "the query does not return one whole number: %s", query)
}

// Counting is a reader that reports how many bytes are read.
type Counting struct {
	io.Reader
	Progress func(int64) // nil if nobody listens
}

// Read reads and reports the number of bytes.
func (c Counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if c.Progress != nil {
		c.Progress(int64(n))
	}
	return n, err
}
