package demo

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/dbserver"
	"movekit/internal/simsql"
)

// pontoon is Pontoon Ledger. Its database is on a real server on each computer if PostgreSQL is installed, else on a simulated
// SQL Server.
type pontoon struct {
	old, now  *dbserver.Server
	simulated []*simsql.Server // old and new
	ports     []string         // of the simulated ones
}

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
		if err := p.simulate(d); err != nil {
			p.stop()
			return nil, fault.Wrap(fault.CannotPlace, err, "cannot start the simulated database server")
		}
		fmt.Fprintln(d.Out, "PostgreSQL is not installed: Pontoon Ledger keeps its accounts on a simulated SQL Server on each computer.")
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

// simulate starts a simulated server for each computer.
func (p *pontoon) simulate(d *Demo) error {
	for _, side := range []string{"old", "new"} {
		s := &simsql.Server{Dir: filepath.Join(d.Dir, "sqlserver-"+side), Version: "15.0.2000.5", Express: true, Password: simulatedPassword}
		port, err := s.Start()
		if err != nil {
			return err
		}
		p.simulated, p.ports = append(p.simulated, s), append(p.ports, port)
	}
	return nil
}

func (p *pontoon) stop() {
	for _, s := range []*dbserver.Server{p.old, p.now} {
		if s != nil {
			s.Stop()
		}
	}
	for _, s := range p.simulated {
		s.Close()
	}
}

// simulatedPassword is the password of the simulated servers' login.
const simulatedPassword = "quay"

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
		if len(p.ports) > 0 {
			ini += fmt.Sprintf("[ledger]\r\nhost=127.0.0.1\r\nport=%s\r\npassword=%s\r\n", p.ports[i], simulatedPassword)
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
	accounts, entries := ledger(rand.New(rand.NewPCG(4, 1)))
	if p.old == nil {
		return p.simulated[0].Put("ledger", simulatedLedger(accounts, entries))
	}
	if _, err := p.old.SQL("postgres", "CREATE ROLE pontoon_app LOGIN; CREATE DATABASE ledger OWNER pontoon_app"); err != nil {
		return err
	}
	var b strings.Builder
	b.WriteString("SET ROLE pontoon_app;\nBEGIN;\nCREATE TABLE account (id INTEGER PRIMARY KEY, boat TEXT NOT NULL, pier TEXT NOT NULL, phone TEXT);\n")
	b.WriteString("CREATE TABLE entry (id INTEGER PRIMARY KEY, account INTEGER NOT NULL REFERENCES account (id), day DATE NOT NULL, cents INTEGER NOT NULL);\nCREATE INDEX entry_account ON entry (account);\n")
	for _, a := range accounts {
		fmt.Fprintf(&b, "INSERT INTO account VALUES (%s, '%s', '%s', '%s');\n", a[0], a[1], a[2], a[3])
	}
	for _, e := range entries {
		fmt.Fprintf(&b, "INSERT INTO entry VALUES (%s, %s, '%s', %s);\n", e[0], e[1], e[2], e[3])
	}
	b.WriteString("COMMIT")
	_, err := p.old.SQL("ledger", b.String())
	return err
}

// ledger returns the accounts (number, boat, pier, phone) and their entries (number, account, day, cents).
func ledger(r *rand.Rand) (accounts, entries [][4]string) {
	for i := range 60 {
		accounts = append(accounts, [4]string{fmt.Sprint(i + 1), boat(r), piers[i%len(piers)], fmt.Sprintf("0%d", 100000+r.IntN(800000))})
	}
	for i := range 900 {
		entries = append(entries, [4]string{fmt.Sprint(i + 1), fmt.Sprint(1 + r.IntN(60)), day.AddDate(0, 0, -r.IntN(700)).Format("2006-01-02"), fmt.Sprint(r.IntN(9000) - 2000)})
	}
	return accounts, entries
}

// simulatedLedger is the database of the simulated server.
func simulatedLedger(accounts, entries [][4]string) *simsql.Database {
	d := &simsql.Database{Owner: "sa", Objects: map[string][][]string{}, Options: map[string]string{"collation": "Latin1_General_CI_AS", "compatibility level": "150", "recovery model": "SIMPLE"}, Users: []simsql.User{{Name: "pontoon_app", SID: "0x6D6F6F72"}}}
	for _, t := range []struct {
		name    string
		columns []string // NAME TYPE
		rows    [][4]string
	}{{"account", []string{"id int", "boat nvarchar", "pier nvarchar", "phone nvarchar"}, accounts}, {"entry", []string{"id int", "account int", "day date", "cents int"}, entries}} {
		table := simsql.Table{Schema: "dbo", Name: t.name}
		d.Objects["table"] = append(d.Objects["table"], []string{"dbo." + t.name, "TABLE"})
		for i, c := range t.columns {
			name, kind, _ := strings.Cut(c, " ")
			column := simsql.Column{Name: name, Type: kind}
			if i == 0 {
				column.Key = 1
			}
			table.Columns = append(table.Columns, column)
			d.Objects["column"] = append(d.Objects["column"], []string{"dbo." + t.name + "." + name, "U", "sys." + kind})
		}
		for _, r := range t.rows {
			var cells []simsql.Cell
			for _, text := range r {
				cells = append(cells, simsql.Chars(text))
			}
			table.Rows = append(table.Rows, cells)
		}
		d.Tables = append(d.Tables, table)
	}
	return d
}

// card changes the app's card if there is no real server.
func (p *pontoon) card(text string) string {
	if p.old != nil {
		return text
	}
	const password = "{file: {windows: '%PROGRAMDATA%\\Pontoon\\pontoon.ini', linux: /etc/pontoon.ini}, key: ledger/password}"
	return strings.NewReplacer("    kind: postgresql\n", "    kind: sqlserver\n", "      user: postgres\n", "      user: sa\n      password: "+password+"\n").Replace(text)
}
