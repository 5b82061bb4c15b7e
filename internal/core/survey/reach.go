package survey

import (
	"context"
	"errors"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/served"
	"movekit/internal/core/sqlite"
	"movekit/internal/core/tree"
)

var errSilent = errors.New("it did not answer in time")

// watched runs what looks at a real path. On a network file system it is given
// up, and left to itself, when it was silent for the time limit.
func (l *Looker) watched(path string, look func(alive func()) error) error {
	if !machine.Remote(path) {
		return look(func() {})
	}
	return watch(l.limit(), look)
}

func watch(limit time.Duration, look func(alive func()) error) error {
	var last atomic.Int64
	start := time.Now()
	done := make(chan error, 1)
	go func() { done <- look(func() { last.Store(int64(time.Since(start))) }) }()
	tick := time.NewTicker(limit / 4)
	defer tick.Stop()
	for {
		select {
		case err := <-done:
			return err
		case <-tick.C:
			if time.Since(start)-time.Duration(last.Load()) > limit {
				return errSilent
			}
		}
	}
}

// stays looks at an item that stays where it is: its address, and for a server
// whether it can be reached from here.
func (l *Looker) stays(ctx context.Context, p *Place, is *Item) error {
	is.State = OnServer
	if p.Item.Kind == card.Hosted {
		is.State = Hosted
	}
	is.Path = p.Item.Address
	if p.Item.From != nil {
		found, err := l.Prober().Read(ctx, p.Item.From, nil)
		if err != nil {
			return err
		}
		if found.Value != "" {
			is.Path = found.Value
		}
	}
	p.Path = is.Path
	if is.Path == "" {
		is.State = Missing
	}
	if p.Item.Kind == card.Network && is.Path != "" && l.Computer.Root() == "" {
		reached := Reached(ctx, is.Path, l.limit())
		is.Reached = &reached
		if !reached {
			is.State = NotReached
		}
	}
	return nil
}

// Reached reports whether something answers at an address within a time limit:
// host:port, a URL, or a share (\\host\share).
func Reached(ctx context.Context, address string, limit time.Duration) bool {
	host, port := endpoint(address)
	if host == "" {
		return false
	}
	d := net.Dialer{Timeout: limit}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(host, port))
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

// ports are those of the services that addresses name.
var ports = map[string]string{"http": "80", "https": "443", "smb": "445", "ftp": "21", "sftp": "22", "ssh": "22", "postgresql": "5432", "postgres": "5432", "mysql": "3306", "mariadb": "3306", "firebird": "3050", "ldap": "389", "ldaps": "636"}

// endpoint takes an address apart. One that names no port is a share's.
func endpoint(address string) (host, port string) {
	slashed := strings.ReplaceAll(strings.TrimSpace(address), `\`, "/")
	if strings.HasPrefix(slashed, "//") {
		host, _, _ = strings.Cut(slashed[2:], "/")
		return host, ports["smb"]
	}
	if strings.Contains(slashed, "://") {
		u, err := url.Parse(slashed)
		if err != nil || u.Hostname() == "" {
			return "", ""
		}
		if port = u.Port(); port == "" {
			port = ports[u.Scheme]
		}
		return u.Hostname(), port
	}
	slashed, _, _ = strings.Cut(slashed, "/")
	if h, p, err := net.SplitHostPort(slashed); err == nil {
		return h, p
	}
	return slashed, ports["smb"]
}

// Stay looks at an item that stays where it is.
func (l *Looker) Stay(ctx context.Context, it *card.Item) (Item, error) {
	p := &Place{Item: it}
	is := Item{Item: it.Name, Kind: it.Kind}
	return is, l.stays(ctx, p, &is)
}

// sync looks whether the app has sent everything.
func (l *Looker) sync(ctx context.Context, c *card.Card, s card.Sync, places []Place) (Sync, error) {
	st := Sync{About: s.About, Known: true}
	switch {
	case s.Files != "":
		return st, l.waiting(ctx, s, &st)
	case s.Query != "":
		return st, l.asked(ctx, s, places, &st)
	}
	said, err := l.Prober().Run(ctx, s.Command, nil)
	if err != nil {
		st.Known, st.Why = false, "not known: "+strings.Join(s.Command, " ")+": "+err.Error()
		return st, nil
	}
	st.Finished = matches(s.Pattern, said)
	if !st.Finished {
		st.Why = strings.Join(s.Command, " ") + " does not say that it is finished"
	}
	return st, nil
}

// waiting counts the files that still wait to be sent.
func (l *Looker) waiting(ctx context.Context, s card.Sync, st *Sync) error {
	path := s.Path.On(string(l.Computer.System()))
	st.Finished = true
	if path == "" {
		return nil
	}
	for _, u := range machine.Profiles(l.Computer, path) {
		real, err := l.Computer.Locate(path, u)
		if err != nil {
			return err
		}
		if there, err := machine.Exists(real); err != nil || !there {
			continue
		}
		n, first := int64(0), ""
		src := tree.Source{Root: real, Include: []string{s.Files}, Fold: l.Computer.System() == machine.Windows}
		if _, err := src.Measure(ctx, func(e tree.Entry) {
			if e.Type == tree.File {
				if n++; n == 1 {
					first = e.Path
				}
			}
		}, nil); err != nil {
			return err
		}
		if n > 0 {
			st.Finished = false
			st.Why = strings.TrimPrefix(st.Why+"; "+plural(n, "file")+" waiting in "+real+", such as "+first, "; ")
		}
	}
	return nil
}

// asked asks an item's database.
func (l *Looker) asked(ctx context.Context, s card.Sync, places []Place, st *Sync) error {
	st.Finished = true
	for _, p := range places {
		if p.Item.Name != s.Item || !p.Found {
			continue
		}
		n, err := l.ask(ctx, p, s.Query)
		if err != nil {
			st.Finished, st.Known, st.Why = false, false, "not known: "+err.Error()
			return nil
		}
		if n != s.Expect {
			st.Finished = false
			st.Why = plural(n, "record") + " still to be sent, by " + p.Label()
		}
	}
	return nil
}

// ask returns the number that a query gives of a database.
func (l *Looker) ask(ctx context.Context, p Place, query string) (n int64, err error) {
	if p.Item.Kind.Served() {
		err = l.Reach(ctx, p.Item, func(s served.Server) (err error) {
			n, err = Engine(p.Item.Kind).Ask(ctx, s, query)
			return err
		})
		return n, err
	}
	temp, drop, err := l.temp()
	if err != nil {
		return 0, err
	}
	defer drop()
	return sqlite.Ask(ctx, p.Path, temp, query)
}

// temp makes a private folder, outside of the computer that is looked at where
// that is a disk.
func (l *Looker) temp() (dir string, drop func(), err error) {
	above := l.Temp
	if above != "" {
		if err := os.MkdirAll(above, 0o700); err != nil {
			return "", nil, fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", above)
		}
	}
	if dir, err = os.MkdirTemp(above, "movekit-"); err != nil {
		return "", nil, fault.Wrap(fault.CannotPlace, err, "there is no folder for temporary files")
	}
	return dir, func() {
		tree.RemoveTree(dir)
		if above != "" {
			os.Remove(above)
			os.Remove(filepath.Dir(above))
		}
	}, nil
}
