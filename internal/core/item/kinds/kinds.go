// Package kinds is the table of the kinds of item: how each is moved, and told from
// plain files.
package kinds

import (
	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/item/dbase"
	"movekit/internal/core/item/exports"
	"movekit/internal/core/item/files"
	"movekit/internal/core/item/firebird"
	"movekit/internal/core/item/jet"
	"movekit/internal/core/item/keys"
	"movekit/internal/core/item/mariadb"
	"movekit/internal/core/item/postgres"
	"movekit/internal/core/item/sqlite"
	"movekit/internal/core/item/stays"
)

// All are the kinds of card.Kinds.
var All = item.Table{
	card.Folder:     files.Folder,
	card.File:       files.File,
	card.SQLite:     sqlite.New,
	card.DBase:      dbase.New,
	card.Jet:        jet.New,
	card.Exports:    exports.New,
	card.PostgreSQL: postgres.New,
	card.MariaDB:    mariadb.New,
	card.Firebird:   firebird.New,
	card.Registry:   keys.New,
	card.Network:    stays.Network,
	card.Hosted:     stays.Hosted,
}

// known are the kinds that a file is of by its content.
var known = []struct {
	kind card.Kind
	is   func(path string) bool
}{
	{card.SQLite, sqlite.Is},
	{card.Jet, func(path string) bool { is, err := jet.IsJet(path); return is && err == nil }},
}

// Of is the kind that a folder or file is of, by all that can be seen.
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
