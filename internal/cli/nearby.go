package cli

import (
	"context"
	"io"
	"log"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/mdns"

	"movekit/internal/core/remote"
)

// service identifies shared kits in multicast DNS (RFC 6762 and 6763). Finding one does not open it: the passphrase does.
const service = "_movekit-sftp._tcp"

// nearby describes a shared kit in this network.
type nearby struct {
	address string // for --kit
	old     string // the computer that the kit comes from
}

// silent keeps the library from writing to the terminal.
var silent = log.New(io.Discard, "", 0)

// announce tells the network about a shared kit until stop is called. Networks without multicast learn nothing.
func announce(port int, kitID, old string, addresses []net.IP) (stop func()) {
	zone, err := mdns.NewMDNSService(kitID, service, "", "", port, addresses, []string{"old=" + old})
	if err != nil {
		return func() {}
	}
	server, err := mdns.NewServer(&mdns.Config{Zone: zone, Logger: silent})
	if err != nil {
		return func() {}
	}
	return func() { server.Shutdown() } //nolint:errcheck // the program ends
}

// browse looks for shared kits for a while.
func browse(ctx context.Context, wait time.Duration) (out []nearby) {
	found := make(chan *mdns.ServiceEntry, 32)
	go func() {
		mdns.QueryContext(ctx, &mdns.QueryParam{Service: service, Timeout: wait, Entries: found, DisableIPv6: true, Logger: silent}) //nolint:errcheck // a network without multicast has none
		close(found)
	}()
	seen := map[string]bool{}
	for e := range found {
		if e.AddrV4 == nil || e.Port < 1 || e.Port > 65535 {
			continue
		}
		n := nearby{address: remote.Scheme + net.JoinHostPort(e.AddrV4.String(), strconv.Itoa(e.Port)) + "/"}
		for _, field := range e.InfoFields {
			if old, is := strings.CutPrefix(field, "old="); is {
				n.old = old
			}
		}
		if !seen[n.address] {
			seen[n.address] = true
			out = append(out, n)
		}
	}
	return out
}
