package cli

import (
	"net"
	"slices"
	"testing"
	"time"
)

// TestNearby finds a kit that is announced in this network, if the network here passes multicast on.
func TestNearby(t *testing.T) {
	stop := announce(40022, "0123456789abcdef", "QUAY-DESK-1", []net.IP{net.IPv4(127, 0, 0, 1)})
	defer stop()
	found := browse(t.Context(), time.Second)
	if len(found) == 0 {
		t.Skip("this network has no multicast")
	}
	if !slices.Contains(found, nearby{"sftp://127.0.0.1:40022/", "QUAY-DESK-1"}) {
		t.Errorf("%+v", found)
	}
}
