package sqlserver

import (
	_ "github.com/microsoft/go-mssqldb/namedpipe"    // a server that does not listen on the network
	_ "github.com/microsoft/go-mssqldb/sharedmemory" // the Express edition as it is installed
)

// asFolder does nothing: the file inherits the rights of its folder.
func asFolder(string) error { return nil }
