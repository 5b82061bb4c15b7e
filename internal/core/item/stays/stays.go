// Package stays checks data that stays where it is: servers and shares that the app continues to
// use, and data at its vendor. Nothing is moved. The address is compared with the one on the old
// computer.
package stays

import (
	"cmp"
	"context"
	"net"
	"net/url"
	"strings"
	"time"

	"movekit/internal/core/item"
	"movekit/internal/core/steps"
)

// inspector checks one address.
type inspector struct {
	*item.Instance
	state item.State
	tried bool // check whether something answers there
}

// Network returns the parts for a server or share.
func Network(o *item.Instance) item.Parts {
	return item.Parts{Inspector: inspector{o, item.OnServer, true}}
}

// Hosted returns the parts for an account at the vendor.
func Hosted(o *item.Instance) item.Parts {
	return item.Parts{Inspector: inspector{o, item.Hosted, false}}
}

// Inspect reads the address from the app's settings or the card, and checks whether something
// answers. The default is the old computer's address.
func (m inspector) Inspect(ctx context.Context, _ item.Options) (*item.Inspection, error) {
	is := m.Blank()
	is.State, is.Stays, is.Path = m.state, true, m.Item.Address
	if m.Item.From != nil {
		found, err := m.Prober().Read(ctx, m.Item.From, nil)
		if err != nil {
			return nil, err
		}
		if found.Value != "" {
			is.Path = found.Value
		}
	}
	is.Where = is.Path
	if is.Path == "" {
		is.State = item.Missing
	}
	return is, m.reach(ctx, is)
}

// reach checks whether something answers, if the address has a port.
func (m inspector) reach(ctx context.Context, is *item.Inspection) error {
	if _, port := endpoint(is.Path); !m.tried || is.Path == "" || port == "" || m.Computer.Root() != "" {
		return nil
	}
	reached := Reached(ctx, is.Path, m.Limit)
	is.Reached = &reached
	if !reached {
		is.State = item.NotReached
	}
	return nil
}

// Compare compares the address with the old one, and checks whether something answers.
func (m inspector) Compare(ctx context.Context) (*steps.Checked, error) {
	is, err := m.Inspect(ctx, item.Options{})
	if err != nil {
		return nil, err
	}
	out := &steps.Checked{Equal: true}
	out.Add(steps.Row{What: "address", Old: m.OldAddress, New: is.Path, Same: is.Path == m.OldAddress && is.Path != "", Text: true}, "address: "+cmp.Or(is.Path, "unreadable on this computer"))
	if is.Reached != nil {
		says := map[bool]string{true: "answers", false: "does not answer"}[*is.Reached]
		out.Add(steps.Row{What: "server", New: says, Same: *is.Reached}, "server: "+says)
	}
	return out, nil
}

// Close does nothing: no connection stays open.
func (inspector) Close() {}

// Reached reports whether something answers at an address within a time limit: host:port, a URL, or
// a share (\\host\share).
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

// ports are the default ports of services.
var ports = map[string]string{"http": "80", "https": "443", "smb": "445", "ftp": "21", "sftp": "22", "ssh": "22", "postgresql": "5432", "postgres": "5432", "mysql": "3306", "mariadb": "3306", "firebird": "3050", "sqlserver": "1433", "mssql": "1433", "ldap": "389", "ldaps": "636"}

// endpoint splits an address. The port is "" if it is unknown. For a share it is the port of file
// sharing.
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
