package stays

import (
	"net"
	"strings"
	"testing"
	"time"
)

func TestReached(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	if !Reached(t.Context(), address, time.Second) || !Reached(t.Context(), "postgresql://"+address+"/ledger", time.Second) {
		t.Error("a server that listens is not reached")
	}
	l.Close()
	if Reached(t.Context(), address, time.Second) || Reached(t.Context(), "", time.Second) {
		t.Error("a server that does not listen is reached")
	}
	for in, want := range map[string]string{
		`\\QUAY-SRV\ledger\x`: "QUAY-SRV:445", "//QUAY-SRV/ledger": "QUAY-SRV:445", "QUAY-SRV:5432": "QUAY-SRV:5432", "QUAY-SRV": "QUAY-SRV:445", "https://l.example/x": "l.example:443",
		"firebird://srv/x": "srv:3050", "[::1]:80": "::1:80", "://": "", "QUAY-SRV:1234/ledger": "QUAY-SRV:1234",
	} {
		host, port := endpoint(in)
		if got := strings.Trim(host+":"+port, ":"); got != strings.Trim(want, ":") {
			t.Errorf("%s is %s, want %s", in, got, want)
		}
	}
}
