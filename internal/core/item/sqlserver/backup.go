package sqlserver

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// Statements about backups. The first %s is a database, the next one a file.
const (
	backup   = "BACKUP DATABASE %s TO DISK = %s WITH COPY_ONLY, CHECKSUM, FORMAT, INIT"
	verify   = "RESTORE VERIFYONLY FROM DISK = %s WITH CHECKSUM"
	contents = "RESTORE FILELISTONLY FROM DISK = %s"
	restore  = "RESTORE DATABASE %s FROM DISK = %s WITH CHECKSUM, %s"
	moveTo   = "MOVE %s TO %s"
	checkdb  = "DBCC CHECKDB (%s) WITH NO_INFOMSGS, ALL_ERRORMSGS"

	askUsers    = "SELECT p.name, p.type, CONVERT(nvarchar(200), p.sid, 1), CASE WHEN s.sid IS NULL THEN N'' ELSE s.name END, CASE WHEN n.name IS NULL THEN N'' ELSE N'1' END FROM sys.database_principals p LEFT JOIN master.sys.server_principals s ON s.sid = p.sid LEFT JOIN master.sys.server_principals n ON n.name COLLATE DATABASE_DEFAULT = p.name COLLATE DATABASE_DEFAULT AND n.type COLLATE DATABASE_DEFAULT = p.type COLLATE DATABASE_DEFAULT WHERE p.type IN ('S', 'U', 'G') AND p.authentication_type IN (1, 3) AND p.principal_id > 4"
	askTriggers = "SELECT name FROM sys.triggers WHERE parent_class = 0 AND is_disabled = 0 AND is_ms_shipped = 0"
	mapUser     = "ALTER USER %s WITH LOGIN = %s"
	newLogin    = "CREATE LOGIN %s WITH PASSWORD = %s, SID = %s, CHECK_POLICY = OFF; ALTER LOGIN %s DISABLE"
)

// handOver returns the file through which Move Kit and the server exchange a backup: in the server's own folder, which the
// server's account can use. An interrupted run leaves it behind, and the next one overwrites it.
func (o *session) handOver(ctx context.Context, database, way string) (string, about, error) {
	a, err := o.ask(ctx)
	if err != nil {
		return "", a, err
	}
	if !served.Local(o.server.Host) {
		return "", a, fault.New(fault.ServerRefused, "the server %s is another computer: run Move Kit there, where it can read the server's backup", o.server.Host)
	}
	if info, err := os.Stat(a.backup); a.backup == "" || err != nil || !info.IsDir() {
		return "", a, fault.New(fault.Unreadable, "the server's folder for backups (%s) cannot be used from here: run Move Kit as an administrator of the computer with the server", a.backup)
	}
	return filepath.Join(a.backup, "movekit-"+digest.Of([]byte(database)).String()[:12]+"-"+way+".bak"), a, nil
}

// writes returns counters that change when somebody writes to a database.
func (o *session) writes(ctx context.Context, database string) (string, error) {
	n, err := o.first(ctx, master, one(askWrites, database), 1)
	if err != nil {
		return "", err
	}
	at, err := o.first(ctx, database, askChanged, 1)
	if err != nil {
		return "", err
	}
	return n[0] + " " + at[0], nil
}

// Seal lets the server make a backup and verify it, and computes the fingerprint. Nobody may use the database meanwhile.
func (o *session) Seal(ctx context.Context, database string, counts []card.Count, _, to io.Writer, progress func(int64)) (*Sealed, error) {
	file, _, err := o.handOver(ctx, database, "pack")
	if err != nil {
		return nil, err
	}
	before, err := o.unused(ctx, database)
	if err != nil {
		return nil, err
	}
	if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot remove the backup of an earlier run")
	}
	defer os.Remove(file)
	if err := o.run(ctx, master, fmt.Sprintf(backup, quoted(database), literal(file))); err != nil {
		return nil, err
	}
	if err := o.run(ctx, master, fmt.Sprintf(verify, literal(file))); err != nil {
		return nil, err
	}
	d := &Sealed{}
	if err := o.take(ctx, database, d, counts, nil); err != nil {
		return nil, err
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "the server made a backup, which cannot be read: run Move Kit as an administrator")
	}
	defer f.Close()
	if _, err := io.Copy(to, served.Counting{Reader: f, Progress: progress}); err != nil {
		return nil, err
	}
	after, err := o.unused(ctx, database)
	if err == nil && after != before {
		err = fault.New(fault.Changed, "%s was modified while it was being read: close the app on every computer", o.server.On(database).Address())
	}
	return d, err
}

// unused returns the counters of a database that nobody else uses.
func (o *session) unused(ctx context.Context, database string) (string, error) {
	others, err := o.others(ctx, database)
	if err != nil {
		return "", err
	}
	if len(others) > 0 {
		return "", fault.New(fault.Changed, "%s is in use by %s: close the app on every computer", o.server.On(database).Address(), strings.Join(others, ", "))
	}
	return o.writes(ctx, database)
}

// Stage restores the sealed backup under another name, into files of its own, and checks it.
func (o *session) Stage(ctx context.Context, d *Sealed, p served.Loading) (notes []string, err error) {
	file, a, err := o.handOver(ctx, p.Stage, "unpack")
	if err != nil {
		return nil, err
	}
	there, err := o.Exists(ctx, p.Stage)
	if err == nil && there {
		err = o.Drop(ctx, p.Stage)
	}
	if err != nil {
		return nil, err
	}
	defer os.Remove(file)
	if err := write(file, p); err != nil {
		return nil, err
	}
	if err := o.run(ctx, master, fmt.Sprintf(verify, literal(file))); err != nil {
		return nil, err
	}
	moves, err := o.places(ctx, file, p.Stage, a)
	if err != nil {
		return nil, err
	}
	if err := o.run(ctx, master, fmt.Sprintf(restore, quoted(p.Stage), literal(file), moves)); err != nil {
		return nil, err
	}
	if err := o.run(ctx, master, fmt.Sprintf(checkdb, literal(p.Stage))); err != nil {
		return nil, errors.Join(err, o.Drop(context.WithoutCancel(ctx), p.Stage))
	}
	notes, err = o.users(ctx, p.Stage)
	o.kept.Leave(p.Stage)
	if made, werr := o.whole(ctx, p.Stage); werr == nil && d.Owner != "" && made[3] != d.Owner {
		notes = append(notes, "its owner was "+d.Owner+", and is now the login that Move Kit used")
	}
	if d.Trusted {
		notes = append(notes, "the server trusted the database (TRUSTWORTHY), and the new one does not: switch that on if its programs need it")
	}
	if d.Broker {
		notes = append(notes, "the database used Service Broker, which is off after a restore: switch it on with ALTER DATABASE ... SET ENABLE_BROKER")
	}
	return notes, err
}

// write writes the sealed backup where the server reads it.
func write(file string, p served.Loading) error {
	data, err := p.Rows()
	if err != nil {
		return err
	}
	defer data.Close()
	f, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o640)
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write to the server's folder for backups: run Move Kit as an administrator")
	}
	_, err = io.Copy(f, served.Counting{Reader: data, Progress: p.Progress})
	if err = errors.Join(err, f.Close()); err != nil {
		var known *fault.Error
		if errors.As(err, &known) {
			return known
		}
		return fault.Wrap(fault.CannotPlace, err, "cannot write to the server's folder for backups")
	}
	if err := asFolder(file); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot give the server the backup")
	}
	return nil
}

// places returns the MOVE clauses that put each file of a backup into the server's own folders, under an unused name.
func (o *session) places(ctx context.Context, file, stage string, a about) (string, error) {
	files, err := o.table(ctx, master, fmt.Sprintf(contents, literal(file)))
	if err != nil {
		return "", err
	}
	separator := `\`
	if strings.HasPrefix(a.data, "/") {
		separator = "/"
	}
	tag := digest.Of([]byte(stage + rand.Text())).String()[:12]
	var out []string
	for i, f := range files {
		if len(f) < 3 {
			return "", fault.New(fault.BadDatabase, "the backup does not say which files it has")
		}
		folder, ending := a.data, ".ndf"
		switch {
		case f[2] == "L":
			folder, ending = a.logs, ".ldf"
		case f[2] == "D" && i == 0:
			ending = ".mdf"
		case f[2] != "D":
			ending = "" // a folder of file streams, or of full-text
		}
		name := strings.TrimRight(folder, `/\`) + separator + fmt.Sprintf("movekit-%s-%d%s", tag, i+1, ending)
		out = append(out, fmt.Sprintf(moveTo, literal(f[0]), literal(name)))
	}
	return strings.Join(out, ", "), nil
}

// users gives the database's users their logins again: by their number (SID), by their name, or a new login that nobody can use
// until it has a password. If a trigger of the database would run, nothing is changed.
func (o *session) users(ctx context.Context, database string) (notes []string, err error) {
	all, err := o.table(ctx, database, askUsers)
	if err != nil {
		return nil, err
	}
	triggers, err := o.table(ctx, database, askTriggers)
	if err != nil {
		return nil, err
	}
	for _, u := range all {
		name, sql, sid, byNumber, byName := u[0], strings.TrimSpace(u[1]) == "S", u[2], u[3] != "", u[4] != ""
		switch {
		case byNumber:
		case !sql:
			notes = append(notes, fmt.Sprintf("the login %s is missing: create it, and it can use the database as before", name))
		case byName && len(triggers) > 0:
			notes = append(notes, fmt.Sprintf("the user %s has no login here; a trigger of the database (%s) would run, so Move Kit did not change that: ALTER USER %s WITH LOGIN = %s", name, triggers[0][0], quoted(name), quoted(name)))
		case byName:
			if err := o.run(ctx, database, fmt.Sprintf(mapUser, quoted(name), quoted(name))); err != nil {
				return notes, err
			}
			notes = append(notes, fmt.Sprintf("the user %s now belongs to the login of that name here", name))
		default:
			if err := o.run(ctx, master, fmt.Sprintf(newLogin, quoted(name), literal(rand.Text()+"aA1!"), sid, quoted(name))); err != nil {
				return notes, err
			}
			notes = append(notes, fmt.Sprintf("the login %s was created and cannot be used yet: give it a password, and enable it", name))
		}
	}
	return notes, nil
}
