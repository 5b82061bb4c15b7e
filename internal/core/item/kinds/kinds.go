// Package kinds has the table of item kinds: how to move each, and how to recognise it.
package kinds

import (
	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/item/dbase"
	"movekit/internal/core/item/dump"
	"movekit/internal/core/item/exports"
	"movekit/internal/core/item/files"
	"movekit/internal/core/item/firebird"
	"movekit/internal/core/item/jet"
	"movekit/internal/core/item/jobs"
	"movekit/internal/core/item/keys"
	"movekit/internal/core/item/mariadb"
	"movekit/internal/core/item/postgres"
	"movekit/internal/core/item/sqlite"
	"movekit/internal/core/item/sqlserver"
	"movekit/internal/core/item/stays"
)

// All maps each kind in card.Kinds to its implementation.
var All = item.Table{
	card.Folder:     files.Folder,
	card.File:       files.File,
	card.SQLite:     sqlite.New,
	card.DBase:      dbase.New,
	card.Jet:        jet.New,
	card.Exports:    exports.New,
	card.Dumped:     dump.New,
	card.PostgreSQL: postgres.New,
	card.MariaDB:    mariadb.New,
	card.Firebird:   firebird.New,
	card.SQLServer:  sqlserver.New,
	card.Registry:   keys.New,
	card.Service:    jobs.New,
	card.Schedule:   jobs.New,
	card.Network:    stays.Network,
	card.Hosted:     stays.Hosted,
}

// known lists the kinds that can be recognised by a file's content.
var known = []struct {
	kind card.Kind
	is   func(path string) bool
}{
	{card.SQLite, sqlite.Is},
	{card.Jet, func(path string) bool { is, err := jet.IsJet(path); return is && err == nil }},
}

// Of returns the likely kind of a folder or file.
func Of(path string, folder bool) card.Kind {
	if folder {
		return card.Folder
	}
	for _, k := range known {
		if k.is(path) {
			return k.kind
		}
	}
	return card.File
}
