package survey

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/firebird"
	"movekit/internal/core/machine"
	"movekit/internal/core/mariadb"
	"movekit/internal/core/postgres"
	"movekit/internal/core/served"
)

// Engine returns what moves the databases of servers of a kind, or nil.
func Engine(kind card.Kind) served.Engine {
	switch kind {
	case card.PostgreSQL:
		return postgres.Engine{}
	case card.MariaDB:
		return mariadb.Engine{}
	case card.Firebird:
		return firebird.Engine{}
	}
	return nil
}

// Server reads from the app's settings which server's database an item is, and
// how to be let in.
func (l *Looker) Server(ctx context.Context, it *card.Item) (served.Server, error) {
	s := served.Server{Kind: it.Kind}
	for _, f := range []struct {
		from card.Setting
		to   *string
	}{{it.Server.Host, &s.Host}, {it.Server.Port, &s.Port}, {it.Server.Database, &s.Database}, {it.Server.User, &s.User}, {card.Setting{From: it.Server.Password}, &s.Password}} {
		*f.to = f.from.Text
		if f.from.From == nil {
			continue
		}
		found, err := l.Prober().Read(ctx, f.from.From, nil)
		if err != nil {
			return s, err
		}
		*f.to = found.Value
	}
	if s.Database == "" {
		return s, fault.New(fault.Missing, "the app's settings here do not name the database of %s", it.Name)
	}
	if local(s.Host) && pulled(l.Computer) {
		return s, fault.New(fault.ServerDown, "the database server of %s was on the computer itself, whose disk this is: its data can only be read by a running server", it.Name)
	}
	if s.Password == "" && l.Passwords != nil {
		s.Password = l.Passwords[s.Address()]
	}
	return s, nil
}

// local reports whether a server is on the computer itself.
func local(host string) bool {
	ip := net.ParseIP(host)
	return host == "" || host == "localhost" || strings.HasPrefix(host, "/") || ip != nil && ip.IsLoopback()
}

// pulled reports whether a computer is a disk of one that does not run, and
// not a simulated one.
func pulled(c machine.Computer) bool {
	if c.Root() == "" {
		return false
	}
	_, err := os.Stat(filepath.Join(c.Root(), machine.IdentityFile))
	return err != nil
}

// Reach runs what needs a server. Where that wants a password that nobody has
// given yet, it is asked for once.
func (l *Looker) Reach(ctx context.Context, it *card.Item, use func(served.Server) error) error {
	s, err := l.Server(ctx, it)
	if err != nil {
		return err
	}
	err = use(s)
	if fault.KindOf(err) != fault.ServerLogin || l.Ask == nil || s.Password != "" {
		return err
	}
	if s.Password, err = l.Ask("Password for " + s.Address() + ": "); err != nil {
		return err
	}
	l.Passwords[s.Address()] = s.Password
	return use(s)
}

// served surveys a database of a server. One that cannot be looked at does not
// keep the survey from the rest; the place says why.
func (l *Looker) served(ctx context.Context, p *Place, is *Item) error {
	err := l.Reach(ctx, p.Item, func(s served.Server) error {
		p.Path, is.Path = s.Address(), s.Address()
		look, err := Engine(p.Item.Kind).LookAt(ctx, s)
		if err != nil {
			return err
		}
		p.Found, is.State = true, Here
		is.Bytes, is.Files, is.Stamp, is.OpenBy, is.Left = look.Bytes, 1, look.Stamp, look.Sessions, look.Left
		is.Sealed = look.Bytes // how it will compress is not known
		is.Details = []string{fmt.Sprintf("%s, %d tables", look.Engine, look.Tables)}
		return nil
	})
	if err == nil {
		return nil
	}
	switch fault.KindOf(err) {
	case fault.Stopped:
		return err
	case fault.Missing:
		is.State = Missing
	default:
		is.State = NotReached
	}
	p.Found, p.Why = false, err.Error()
	is.Details = []string{err.Error()}
	return nil
}
