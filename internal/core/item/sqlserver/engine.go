package sqlserver

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// New returns the parts for databases on servers of SQL Server.
var New = served.New[*Sealed](Engine{}, served.KindOf{})

// Engine is the SQL Server engine.
type Engine struct{}

var _ served.Engine[*Sealed] = Engine{}

// Endings returns the suffix for the server's backup, which has both schema and rows.
func (Engine) Endings() (schema, rows string) { return "", ".bak" }

// Open prepares a session.
func (Engine) Open(s served.Server, _ func() (string, error)) served.Session[*Sealed] {
	return &session{server: s, kept: served.Kept{}}
}

// maxName is the longest name of a database, in UTF-16 units.
const maxName = 128

// Named appends a suffix.
func (Engine) Named(database, ending string) string {
	return served.Shortened(database, ending, maxName)
}

// SealedRows returns nil, because only a server can read a backup.
func (Engine) SealedRows(func() (io.ReadCloser, error), dbprint.Table) dbprint.Rows { return nil }

// session works on one server.
type session struct {
	server served.Server
	kept   served.Kept
	asked  *about // nil if it was not asked yet
}

var _ served.Session[*Sealed] = (*session)(nil)

// master is the database that every server has.
const master = "master"

// Statements about the server and a database as a whole. %s is the name of the database as a text.
const (
	askServer = "SELECT CAST(SERVERPROPERTY('ProductVersion') AS nvarchar(128)), CAST(SERVERPROPERTY('Edition') AS nvarchar(128)), CAST(SERVERPROPERTY('EngineEdition') AS nvarchar(128)), CAST(SERVERPROPERTY('IsFullTextInstalled') AS nvarchar(128)), CAST(SERVERPROPERTY('FilestreamEffectiveLevel') AS nvarchar(128)), CAST((SELECT value_in_use FROM sys.configurations WHERE name = N'clr enabled') AS nvarchar(128)), CAST(SERVERPROPERTY('InstanceDefaultDataPath') AS nvarchar(4000)), CAST(SERVERPROPERTY('InstanceDefaultLogPath') AS nvarchar(4000)), CAST(SERVERPROPERTY('InstanceDefaultBackupPath') AS nvarchar(4000))"
	askFolder = "EXEC master.dbo.xp_instance_regread N'HKEY_LOCAL_MACHINE', N'Software\\Microsoft\\MSSQLServer\\MSSQLServer', N'BackupDirectory'" // before 2019
	askExists = "SELECT COUNT(*) FROM sys.databases WHERE name = %s"
	askWhole  = "SELECT CAST(d.state_desc AS nvarchar(60)), CAST((SELECT SUM(CAST(size AS bigint)) * 8192 FROM sys.master_files WHERE database_id = d.database_id) AS nvarchar(30)), CAST(d.is_encrypted AS nvarchar(1)), SUSER_SNAME(d.owner_sid), CAST(d.is_trustworthy_on AS nvarchar(1)), CAST(d.is_broker_enabled AS nvarchar(1)), CAST((SELECT COUNT(*) FROM sys.master_files WHERE database_id = d.database_id AND type = 2) AS nvarchar(30)) FROM sys.databases d WHERE d.name = %s"
	askOthers = "SELECT DISTINCT CONCAT(ISNULL(s.program_name, N'a program'), N' as ', s.login_name, N' from ', s.host_name) FROM sys.dm_exec_sessions s WHERE s.is_user_process = 1 AND s.database_id = DB_ID(%s) AND ISNULL(s.program_name, N'') <> N'Move Kit'"
	askKey    = "SELECT CONVERT(nvarchar(100), k.encryptor_thumbprint, 2) FROM sys.dm_database_encryption_keys k WHERE k.database_id = DB_ID(%s)"
	askCerts  = "SELECT CONVERT(nvarchar(100), thumbprint, 2) FROM sys.certificates UNION ALL SELECT CONVERT(nvarchar(100), thumbprint, 2) FROM sys.asymmetric_keys"
	askJobs   = "SELECT DISTINCT j.name FROM msdb.dbo.sysjobs j JOIN msdb.dbo.sysjobsteps s ON s.job_id = j.job_id WHERE s.database_name = %s"
	askWrites = "SELECT CAST(ISNULL(SUM(user_updates), 0) AS nvarchar(30)) FROM sys.dm_db_index_usage_stats WHERE database_id = DB_ID(%s)"
	rename    = "ALTER DATABASE %s MODIFY NAME = %s"
	drop      = "DROP DATABASE %s"
)

// Statements in the database itself.
const (
	askTables  = "SELECT COUNT(*) FROM sys.tables WHERE is_ms_shipped = 0"
	askLog     = "SELECT CAST(log_end_lsn AS nvarchar(60)) FROM sys.dm_db_log_stats(DB_ID())" // from 2016 SP 2
	askChanged = "SELECT CONVERT(nvarchar(40), MAX(modify_date), 126) FROM sys.objects"
	askFar     = "SELECT DISTINCT CONCAT(OBJECT_SCHEMA_NAME(referencing_id), N'.', OBJECT_NAME(referencing_id)), ISNULL(referenced_server_name, N''), ISNULL(referenced_database_name, N'') FROM sys.sql_expression_dependencies WHERE referenced_server_name IS NOT NULL OR referenced_database_name IS NOT NULL AND referenced_database_name <> DB_NAME()"
	askCode    = "SELECT name FROM sys.objects WHERE type IN ('V', 'FN', 'IF', 'TF', 'FS', 'FT', 'SN') AND is_ms_shipped = 0 UNION SELECT name FROM sys.computed_columns"
	askNeeds   = "SELECT CAST((SELECT COUNT(*) FROM sys.fulltext_catalogs) AS nvarchar(30)), CAST((SELECT COUNT(*) FROM sys.assemblies WHERE is_user_defined = 1) AS nvarchar(30))"
)

// about is what a server says about itself.
type about struct {
	version, edition   string
	express            bool
	fullText, clr      bool
	fileStream         bool
	data, logs, backup string // folders
}

// ask asks the server about itself, once.
func (o *session) ask(ctx context.Context) (a about, err error) {
	if o.asked != nil {
		return *o.asked, nil
	}
	r, err := o.first(ctx, master, askServer, 9)
	if err != nil {
		return a, err
	}
	const express = "4" // SERVERPROPERTY('EngineEdition')
	a = about{version: r[0], edition: r[1], express: r[2] == express, fullText: r[3] == "1", fileStream: r[4] != "" && r[4] != "0", clr: r[5] == "1", data: r[6], logs: r[7], backup: r[8]}
	if major(a.version) < 11 {
		return a, fault.New(fault.ServerRefused, "the server of %s is SQL Server %s; 2012 (11.0) or newer is needed", o.server.On(master).Address(), a.version)
	}
	if a.backup == "" {
		if all, err := o.table(ctx, master, askFolder); err == nil && len(all) == 1 && len(all[0]) == 2 {
			a.backup = all[0][1]
		}
	}
	o.asked = &a
	return a, nil
}

// major returns the first number of a version.
func major(version string) int {
	first, _, _ := strings.Cut(version, ".")
	n, _ := strconv.Atoi(first)
	return n
}

// one formats a statement with a database name as a text.
func one(statement, database string) string { return fmt.Sprintf(statement, literal(database)) }

// Look inspects a database.
func (o *session) Look(ctx context.Context, database string) (*served.Look, error) {
	a, err := o.ask(ctx)
	if err != nil {
		return nil, err
	}
	whole, err := o.whole(ctx, database)
	if err != nil {
		return nil, err
	}
	l := &served.Look{Engine: "SQL Server " + a.version + ", " + a.edition, Stamp: time.Now().UTC().Format(time.RFC3339Nano)}
	l.Bytes, _ = strconv.ParseInt(whole[1], 10, 64)
	if l.Sessions, err = o.others(ctx, database); err != nil {
		return nil, err
	}
	n, err := o.first(ctx, database, askTables, 1)
	if err != nil {
		return nil, err
	}
	l.Tables, _ = strconv.ParseInt(n[0], 10, 64)
	if lsn, err := o.first(ctx, database, askLog, 1); err == nil {
		l.Stamp = "lsn " + lsn[0]
	}
	l.Left, err = o.left(ctx, database)
	return l, err
}

// whole returns the row of askWhole.
func (o *session) whole(ctx context.Context, database string) ([]string, error) {
	rows, err := o.table(ctx, master, one(askWhole, database))
	switch {
	case err != nil:
		return nil, err
	case len(rows) == 0:
		return nil, fault.New(fault.Missing, "the server of %s has no such database", o.server.On(database).Address())
	case rows[0][0] != "ONLINE":
		return nil, fault.New(fault.ServerRefused, "the database %s is %s on its server", o.server.On(database).Address(), rows[0][0])
	}
	return rows[0], nil
}

// others returns the other connections.
func (o *session) others(ctx context.Context, database string) ([]string, error) {
	rows, err := o.table(ctx, master, one(askOthers, database))
	return served.First(rows), err
}

// left returns what belongs to a database and is not in it.
func (o *session) left(ctx context.Context, database string) (out []string, err error) {
	jobs, err := o.table(ctx, master, one(askJobs, database))
	if err != nil && fault.KindOf(err) != fault.ServerLogin && fault.KindOf(err) != fault.ServerRefused {
		return nil, err
	}
	for _, j := range jobs {
		out = append(out, "the job "+j[0]+" of SQL Server Agent: create it again on the new server")
	}
	far, err := o.table(ctx, database, askFar)
	if err != nil {
		return nil, err
	}
	for _, f := range far {
		where := "the database " + f[2]
		if f[1] != "" {
			where = "the linked server " + f[1]
		}
		out = append(out, f[0]+" uses "+where+", which is not in this database")
	}
	return append(out, "passwords of logins: unpack creates a missing login, which works once it has a password"), nil
}

// Ask returns the whole number that a query of tables returns. It prevents the query from changing anything.
func (o *session) Ask(ctx context.Context, database, query string) (int64, error) {
	names, err := served.CheckQuery(query)
	if err != nil {
		return 0, err
	}
	// A function of the database can call programs of the server, with the rights of this login.
	code, err := o.table(ctx, database, askCode)
	if err != nil {
		return 0, err
	}
	for _, c := range code {
		if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, c[0]) }) {
			return 0, fault.New(fault.BadCard, "the card's query uses %s, which is not a table, and could do anything as an administrator: %s", c[0], query)
		}
	}
	return dbprint.Limited(ctx, query, func(ctx context.Context) (int64, error) {
		rows, err := o.table(ctx, database, query)
		if err != nil {
			return 0, err
		}
		return served.WholeNumber(rows, query)
	})
}

// Exists reports whether the server has a database.
func (o *session) Exists(ctx context.Context, database string) (bool, error) {
	n, err := o.first(ctx, master, one(askExists, database), 1)
	return err == nil && n[0] != "0", err
}

// Folder returns the folder of new databases.
func (o *session) Folder(ctx context.Context, _ string) (string, error) {
	a, err := o.ask(ctx)
	return a.data, err
}

// Rename gives a database an unused name. The server allows it only while nobody uses the database.
func (o *session) Rename(ctx context.Context, from, to string, _ served.Service) error {
	o.kept.Leave(from)
	others, err := o.others(ctx, from)
	if err != nil {
		return err
	}
	if len(others) > 0 {
		return fault.New(fault.Changed, "other users are connected to %s: %s", o.server.On(from).Address(), strings.Join(others, ", "))
	}
	return o.run(ctx, master, fmt.Sprintf(rename, quoted(from), quoted(to)))
}

// Drop removes a database and its files.
func (o *session) Drop(ctx context.Context, database string) error {
	o.kept.Leave(database)
	return o.run(ctx, master, fmt.Sprintf(drop, quoted(database)))
}

// expressMost is the size limit of the free edition, in bytes: 10 GB, and 50 GB from version 17 (2025).
func expressMost(version string) int64 {
	if major(version) >= 17 {
		return 50 << 30
	}
	return 10 << 30
}

// Lacks reports why the server cannot take the sealed database.
func (o *session) Lacks(ctx context.Context, database string, d *Sealed) (out []string, err error) {
	if !served.Local(o.server.Host) {
		return []string{fmt.Sprintf("the server %s is another computer: run Move Kit there, where it can give the server the backup", o.server.Host)}, nil
	}
	a, err := o.ask(ctx)
	if err != nil {
		return nil, err
	}
	if major(a.version) < major(d.Version) {
		out = append(out, fmt.Sprintf("the server here is SQL Server %s, but the old one was %s: no older server can read the database; install that version or a newer one, or move the data with the app's own export", a.version, d.Version))
	}
	if most := expressMost(a.version); a.express && d.Bytes > most {
		out = append(out, fmt.Sprintf("the server here is an %s, which takes %d GB, and the database has %d GB", a.edition, most>>30, d.Bytes>>30))
	}
	if d.FullText && !a.fullText {
		out = append(out, "the database has a full-text index: install Full-Text Search on the server here")
	}
	if d.FileStream && !a.fileStream {
		out = append(out, "the database has file streams: enable FILESTREAM on the server here")
	}
	if d.CLR && !a.clr {
		out = append(out, "the database has assemblies: enable 'clr enabled' on the server here, if you trust them")
	}
	if d.Key != "" {
		certs, err := o.table(ctx, master, askCerts)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(served.First(certs), d.Key) {
			out = append(out, "the database is encrypted: restore the certificate with the thumbprint "+d.Key+" on the server here, with its private key")
		}
	}
	if a.backup == "" {
		out = append(out, "the server does not say where its backups are")
	}
	return out, nil
}

// Fingerprint computes the fingerprint of a database.
func (o *session) Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (*dbprint.Fingerprint, error) {
	d := &Sealed{}
	if err := o.take(ctx, database, d, counts, progress); err != nil {
		return nil, err
	}
	return &d.Fingerprint, nil
}

// Definitions returns a fingerprint without rows and counts.
func (o *session) Definitions(ctx context.Context, database string) (*dbprint.Fingerprint, error) {
	d := &Sealed{}
	if err := o.schema(ctx, database, d); err != nil {
		return nil, err
	}
	d.Sort()
	return &d.Fingerprint, nil
}
