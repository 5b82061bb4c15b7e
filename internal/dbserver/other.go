//go:build !unix

package dbserver

import "errors"

// Server is a private database server, which there is none of here.
type Server struct{ Dir, Port, Socket string }

// ErrMissing says that an engine is not installed.
var ErrMissing = errors.New("the database server is not installed")

// Postgres says that there is no server to start on this system.
func Postgres() (*Server, error) { return nil, ErrMissing }

// MariaDB says the same.
func MariaDB() (*Server, error) { return nil, ErrMissing }

// Firebird says the same.
func Firebird() (*Server, error) { return nil, ErrMissing }

// SQL says the same.
func (s *Server) SQL(database, sql string) (string, error) { return "", ErrMissing }

// Stop does nothing.
func (s *Server) Stop() {}
