package sqlserver

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Sealed has the sealed facts of a database, other than its rows.
type Sealed struct {
	dbprint.Fingerprint
	Version    string `json:"version"` // such as 15.0.4261.1
	Bytes      int64  `json:"bytes"`   // of its files
	Owner      string `json:"owner,omitempty"`
	Key        string `json:"key,omitempty"` // thumbprint of the certificate that encrypts it, hex
	Trusted    bool   `json:"trusted,omitempty"`
	Broker     bool   `json:"broker,omitempty"`
	FileStream bool   `json:"file_stream,omitempty"`
	FullText   bool   `json:"full_text,omitempty"`
	CLR        bool   `json:"clr,omitempty"`
}

// take reads everything that is compared.
func (o *session) take(ctx context.Context, database string, d *Sealed, counts []card.Count, progress func(int64)) error {
	whole, err := o.whole(ctx, database)
	if err != nil {
		return err
	}
	d.Bytes, _ = strconv.ParseInt(whole[1], 10, 64)
	d.Owner, d.Trusted, d.Broker, d.FileStream = whole[3], whole[4] == "1", whole[5] == "1", whole[6] != "0"
	if whole[2] == "1" {
		key, err := o.first(ctx, master, one(askKey, database), 1)
		if err != nil {
			return err
		}
		d.Key = key[0]
	}
	needs, err := o.first(ctx, database, askNeeds, 2)
	if err != nil {
		return err
	}
	d.FullText, d.CLR = needs[0] != "0", needs[1] != "0"
	if err := o.schema(ctx, database, d); err != nil {
		return err
	}
	tables, err := o.tables(ctx, database)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if err := d.AddTable(t.Table, progress, func(each func([]byte) error) error {
			return o.rows(ctx, database, t, nil, func(row []byte, _ []string) error { return each(row) })
		}); err != nil {
			return err
		}
	}
	d.Sort()
	return d.RunCounts(counts, func(query string) (int64, error) { return o.Ask(ctx, database, query) })
}

// table is a table whose rows are compared.
type table struct {
	dbprint.Table
	from     string   // its quoted name
	exact    []string // expressions for the bytes of each column
	readable []string // expressions for a readable form
}

// Columns is the query for the columns of all tables, without computed ones, whose values follow from the others.
const Columns = "SELECT SCHEMA_NAME(t.schema_id), t.name, c.name, TYPE_NAME(c.system_type_id), CONVERT(nvarchar(10), ISNULL(k.key_ordinal, 0)) FROM sys.tables t JOIN sys.columns c ON c.object_id = t.object_id LEFT JOIN sys.indexes i ON i.object_id = t.object_id AND i.is_primary_key = 1 LEFT JOIN sys.index_columns k ON k.object_id = i.object_id AND k.index_id = i.index_id AND k.column_id = c.column_id WHERE t.is_ms_shipped = 0 AND c.is_computed = 0 AND c.is_column_set = 0 ORDER BY t.schema_id, t.name, c.column_id"

// Exactly returns the expressions for the bytes of a column, and for a readable form. The server converts texts of a code page
// to Unicode and loses what that lacks, so bytes are asked for.
func Exactly(name, kind string) (exact, readable string) {
	q := quoted(name)
	readable = "CONVERT(nvarchar(max), " + q + ")"
	switch kind {
	case "text":
		return "CONVERT(varbinary(max), CONVERT(varchar(max), " + q + "))", readable
	case "ntext", "xml":
		return "CONVERT(varbinary(max), CONVERT(nvarchar(max), " + q + "))", readable
	case "sql_variant": // of the same bytes, an integer and a text differ
		return "CONVERT(varbinary(max), CONCAT(CONVERT(nvarchar(128), SQL_VARIANT_PROPERTY(" + q + ", 'BaseType')), N' ', CONVERT(nvarchar(128), SQL_VARIANT_PROPERTY(" + q + ", 'Collation')), N' ', CONVERT(nvarchar(max), CONVERT(varbinary(8000), " + q + "), 1)))", readable
	case "binary", "varbinary", "image", "timestamp", "hierarchyid", "geometry", "geography":
		return "CONVERT(varbinary(max), " + q + ")", "CONVERT(nvarchar(max), CONVERT(varbinary(max), " + q + "), 1)"
	case "date", "time", "datetime", "datetime2", "smalldatetime", "datetimeoffset":
		readable = "CONVERT(nvarchar(60), " + q + ", 121)"
	}
	return "CONVERT(varbinary(max), " + q + ")", readable
}

// tables returns the tables with the columns that are compared.
func (o *session) tables(ctx context.Context, database string) (out []*table, err error) {
	cols, err := o.table(ctx, database, Columns)
	if err != nil {
		return nil, err
	}
	keys := map[int]string{} // of the last table, by ordinal
	for _, c := range cols {
		name := c[0] + "." + c[1]
		if len(out) == 0 || out[len(out)-1].Name != name {
			out = append(out, &table{Table: dbprint.Table{Name: name}, from: quoted(c[0]) + "." + quoted(c[1])})
			clear(keys)
		}
		t := out[len(out)-1]
		exact, readable := Exactly(c[2], c[3])
		t.Columns, t.exact, t.readable = append(t.Columns, c[2]), append(t.exact, exact), append(t.readable, readable)
		if n, _ := strconv.Atoi(c[4]); n > 0 {
			keys[n] = c[2]
			t.Key = t.Key[:0]
			for i := 1; i <= len(keys); i++ {
				t.Key = append(t.Key, keys[i])
			}
		}
	}
	return out, nil
}

// rows reads a table: each row in the form that is hashed (for each cell 'n', or its length and bytes), and the further
// expressions as text.
func (o *session) rows(ctx context.Context, database string, t *table, further []string, each func(row []byte, further []string) error) error {
	db, err := o.on(database)
	if err != nil {
		return err
	}
	rows, err := db.QueryContext(ctx, "SELECT "+strings.Join(append(append([]string{}, t.exact...), further...), ", ")+" FROM "+t.from)
	if err != nil {
		return o.explain(database, err)
	}
	defer rows.Close()
	cells, texts := make([]sql.RawBytes, len(t.exact)), make([]sql.NullString, len(further))
	var into []any
	for i := range cells {
		into = append(into, &cells[i])
	}
	for i := range texts {
		into = append(into, &texts[i])
	}
	var line []byte
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return o.explain(database, err)
		}
		line = line[:0]
		for _, c := range cells {
			if c == nil {
				line = append(line, 'n')
				continue
			}
			line = append(append(strconv.AppendInt(line, int64(len(c)), 10), ' '), c...)
		}
		var more []string
		for _, s := range texts {
			if !s.Valid {
				s.String = "NULL"
			}
			more = append(more, s.String)
		}
		if err := each(line, more); err != nil {
			return err
		}
	}
	return o.explain(database, rows.Err())
}

// Rows reads one table of a database.
func (o *session) Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		found, err := o.named(ctx, database, t.Name)
		if err != nil {
			return err
		}
		return o.rows(ctx, database, found, found.readable, func(row []byte, readable []string) error {
			return each(dbprint.Row{Hash: digest.Of(row), Cells: func() []string { return readable }})
		})
	}
}

// named returns a table by its name.
func (o *session) named(ctx context.Context, database, name string) (*table, error) {
	all, err := o.tables(ctx, database)
	for _, t := range all {
		if t.Name == name {
			return t, nil
		}
	}
	if err == nil {
		err = fault.New(fault.BadDatabase, "the table is missing")
	}
	return nil, err
}

// Texts reads a column of a table.
func (o *session) Texts(ctx context.Context, database string, t dbprint.Table, column string, each func(key, text string) error) error {
	found, err := o.named(ctx, database, t.Name)
	if err != nil {
		return err
	}
	further := []string{"CONVERT(nvarchar(max), " + quoted(column) + ")"}
	for _, k := range t.Key {
		further = append(further, "CONVERT(nvarchar(400), "+quoted(k)+")")
	}
	found.exact = nil
	found.from += " WHERE " + quoted(column) + " IS NOT NULL"
	return o.rows(ctx, database, found, further, func(_ []byte, texts []string) error {
		return each(strings.Join(texts[1:], ", "), texts[0])
	})
}

// Statements of Rewrite. A text is compared by its bytes, because the collation of a column may ignore case or spaces.
const (
	askOwn  = "SELECT CONCAT(N'the trigger ', name) FROM sys.triggers WHERE parent_id = OBJECT_ID(%[1]s) AND is_disabled = 0 UNION SELECT CONCAT(N'the check ', c.name, N' with a function') FROM sys.check_constraints c JOIN sys.sql_expression_dependencies d ON d.referencing_id = c.object_id WHERE c.parent_object_id = OBJECT_ID(%[1]s) UNION SELECT CONCAT(N'the computed column ', name) FROM sys.computed_columns WHERE object_id = OBJECT_ID(%[1]s)"
	replace = "UPDATE x SET x.%s = v.new FROM %s x JOIN (VALUES %s) v (old, new) ON CONVERT(varbinary(max), CONVERT(nvarchar(max), x.%s)) = CONVERT(varbinary(max), v.old)"
)

// Rewrite changes texts in a column, in one statement.
func (o *session) Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error {
	found, err := o.named(ctx, database, t.Name)
	if err != nil {
		return err
	}
	own, err := o.table(ctx, database, one(askOwn, found.from))
	if err != nil {
		return err
	}
	if len(own) > 0 {
		return fault.New(fault.ServerRefused, "it has %s, which would run", own[0][0])
	}
	var pairs []string
	for old, text := range now {
		pairs = append(pairs, "("+literal(old)+", "+literal(text)+")")
	}
	return o.run(ctx, database, fmt.Sprintf(replace, quoted(column), found.from, strings.Join(pairs, ", "), quoted(column)))
}

// Statements are the forms of the statements that this package sends, by name, for a simulated server. Columns, Options and
// Definitions have the rest.
var Statements = map[string]string{
	"server": askServer, "folder": askFolder, "exists": askExists, "whole": askWhole, "others": askOthers, "key": askKey, "certificates": askCerts, "jobs": askJobs, "writes": askWrites, "rename": rename, "drop": drop,
	"tables": askTables, "log": askLog, "changed": askChanged, "far": askFar, "code": askCode, "needs": askNeeds, "backup": backup, "verify": verify, "contents": contents, "restore": restore, "check": checkdb,
	"users": askUsers, "triggers": askTriggers, "map user": mapUser, "new login": newLogin, "own triggers": askOwn, "update": replace, "columns": Columns, "options": Options,
}
