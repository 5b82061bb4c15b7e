package demo

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/dbserver"
)

// pontoon is Pontoon Ledger. Its database is on a real server on each computer if PostgreSQL is
// installed, else in a SQLite file.
type pontoon struct{ old, now *dbserver.Server }

// piers are the piers that have a statement each.
var piers = []string{"A", "B", "C", "D"}

// openPontoon starts the servers, and creates the app's data on both computers.
func (d *Demo) openPontoon() (*pontoon, error) {
	p := &pontoon{}
	var err error
	if p.old, err = dbserver.Postgres(); err == nil {
		if p.now, err = dbserver.Postgres(); err != nil {
			p.stop()
		}
	}
	if errors.Is(err, dbserver.ErrMissing) {
		p.old, p.now = nil, nil
		fmt.Fprintln(d.Out, "PostgreSQL is not installed: Pontoon Ledger keeps its accounts in SQLite here.")
	} else if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot start a database server for the example")
	} else {
		fmt.Fprintln(d.Out, "PostgreSQL is installed: Pontoon Ledger keeps its accounts on a separate server on each computer.")
	}
	if err := p.fill(d); err != nil {
		p.stop()
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot make the example in %s", d.Dir)
	}
	return p, nil
}

func (p *pontoon) stop() {
	for _, s := range []*dbserver.Server{p.old, p.now} {
		if s != nil {
			s.Stop()
		}
	}
}

// fill writes the app's files, and its accounts to the old computer's database.
func (p *pontoon) fill(d *Demo) error {
	for i, c := range []struct {
		dir     string
		server  *dbserver.Server
		version string
	}{{"old", p.old, "4_1b"}, {"new", p.now, "4.1c"}} {
		ini := "[app]\r\nversion=" + c.version + "\r\n"
		if c.server != nil {
			ini += fmt.Sprintf("[ledger]\r\nhost=%s\r\nport=%s\r\n", c.server.Dir, c.server.Port)
		}
		files := []file{{"ProgramData/Pontoon/pontoon.ini", ini}}
		for _, pier := range piers {
			if i == 0 {
				files = append(files, file{"ProgramData/Pontoon/statements/pier " + pier + ".pox", "statement of pier " + pier + "\r\n"},
					file{"ProgramData/Pontoon/service/reminders-" + pier + ".queue", "every first of the month\r\n"})
			}
		}
		for _, f := range files {
			if err := write(filepath.Join(d.Dir, c.dir), f, day); err != nil {
				return err
			}
		}
	}
	r := rand.New(rand.NewPCG(4, 1))
	if p.old == nil {
		return sqliteFile(filepath.Join(d.Dir, "old", "ProgramData", "Pontoon", "ledger.db"), ledgerSQL(r))
	}
	if _, err := p.old.SQL("postgres", "CREATE ROLE pontoon_app LOGIN; CREATE DATABASE ledger OWNER pontoon_app"); err != nil {
		return err
	}
	_, err := p.old.SQL("ledger", "SET ROLE pontoon_app;\nBEGIN;\n"+ledgerSQL(r)+"COMMIT")
	return err
}

// ledgerSQL returns the accounts as SQL for both engines.
func ledgerSQL(r *rand.Rand) string {
	var b strings.Builder
	b.WriteString("CREATE TABLE account (id INTEGER PRIMARY KEY, boat TEXT NOT NULL, pier TEXT NOT NULL, phone TEXT);\n")
	b.WriteString("CREATE TABLE entry (id INTEGER PRIMARY KEY, account INTEGER NOT NULL REFERENCES account (id), day DATE NOT NULL, cents INTEGER NOT NULL);\nCREATE INDEX entry_account ON entry (account);\n")
	for i := range 60 {
		fmt.Fprintf(&b, "INSERT INTO account VALUES (%d, '%s', '%s', '0%d');\n", i+1, boat(r), piers[i%len(piers)], 100000+r.IntN(800000))
	}
	for i := range 900 {
		fmt.Fprintf(&b, "INSERT INTO entry VALUES (%d, %d, '%s', %d);\n", i+1, 1+r.IntN(60), day.AddDate(0, 0, -r.IntN(700)).Format("2006-01-02"), r.IntN(9000)-2000)
	}
	return b.String()
}

// card changes the app's card if there is no server.
func (p *pontoon) card(text string) string {
	from := strings.Index(text, "    kind: postgresql\n")
	to := strings.Index(text, "    mask:")
	if p.old != nil || from < 0 || to < from {
		return text
	}
	return text[:from] + "    kind: sqlite\n    path: '%PROGRAMDATA%\\Pontoon\\ledger.db'\n" + text[to:]
}
