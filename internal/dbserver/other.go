//go:build !unix

package dbserver

import "errors"

// Server is a private database server. There is none on this system.
type Server struct{ Dir, Port, Socket string }

// ErrMissing means that an engine is not installed.
var ErrMissing = errors.New("the database server is not installed")

// Postgres returns ErrMissing.
func Postgres() (*Server, error) { return nil, ErrMissing }

// MariaDB returns ErrMissing.
func MariaDB() (*Server, error) { return nil, ErrMissing }

// Firebird returns ErrMissing.
func Firebird() (*Server, error) { return nil, ErrMissing }

// SQL returns ErrMissing.
func (s *Server) SQL(database, sql string) (string, error) { return "", ErrMissing }

// Stop does nothing.
func (s *Server) Stop() {}
