package stays

import (
	"net"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/test/fatal"
)

func TestReached(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	fatal.If(t, err)
	address := l.Addr().String()
	if !Reached(t.Context(), address, time.Second) || !Reached(t.Context(), "postgresql://"+address+"/ledger", time.Second) {
		t.Error("a server that listens is not reached")
	}
	l.Close()
	if Reached(t.Context(), address, time.Second) || Reached(t.Context(), "", time.Second) {
		t.Error("a server that does not listen is reached")
	}
	c, err := machine.Open("")
	fatal.If(t, err)
	for at, tried := range map[string]bool{"quayp://" + address: true, "quayp://127.0.0.1/x": false, "": false} { // which port that is, nobody knows
		is, err := Network(&item.Instance{Host: run.NewHost(c), Item: &card.Item{Address: at}}).Inspect(t.Context(), item.Options{})
		if err != nil || is.Reached != nil != tried {
			t.Errorf("%q: %+v, %v", at, is, err)
		}
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
