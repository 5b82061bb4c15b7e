package served

import (
	"strings"
	"testing"
	"unicode/utf8"

	"movekit/internal/core/card"
)

func TestAddress(t *testing.T) {
	for want, s := range map[string]Server{
		"postgresql:local/ledger":                      {Kind: card.PostgreSQL, Database: "ledger"},
		"mariadb:me@QUAY-SRV:3306/ledger":              {Kind: card.MariaDB, Host: "QUAY-SRV", Port: "3306", User: "me", Password: "p", Database: "ledger"},
		"postgresql:/run/pg:5433/x":                    {Kind: card.PostgreSQL, Host: "/run/pg", Port: "5433", Database: "x"},
		"firebird:[::1]:3050//data/ledger.fdb":         {Kind: card.Firebird, Files: true, Host: "::1", Port: "3050", Database: "/data/ledger.fdb"},
		`firebird:local/C:\Pontoon\ledger of 2026.fdb`: {Kind: card.Firebird, Files: true, Database: `C:\Pontoon\ledger of 2026.fdb`},
	} {
		if got := s.Address(); got != want {
			t.Errorf("%s, want %s", got, want)
		}
		if back := s.On("other").At(want); back != s {
			t.Errorf("%s leads to %+v", want, back)
		}
	}
}

func TestLocal(t *testing.T) {
	for host, want := range map[string]bool{"": true, "LocalHost": true, "/run/quay": true, "127.0.0.1": true, "::1": true, "10.0.0.1": false, "quay-srv": false} {
		if Local(host) != want {
			t.Errorf("%q is on the computer itself: %v", host, !want)
		}
	}
}

// TestAtAnotherPort parses addresses that were written when the server had another port, login or
// socket.
func TestAtAnotherPort(t *testing.T) {
	for address, want := range map[string]Server{
		"postgresql:me@/run/old:5432/ledger_set_aside_1": {Kind: card.PostgreSQL, Database: "ledger_set_aside_1"},
		"mariadb:local:3307/ledger":                      {Kind: card.MariaDB, Database: "ledger"},
		"firebird:local:3051//data/a/ledger.fdb":         {Kind: card.Firebird, Files: true, Database: "/data/a/ledger.fdb"},
		`firebird:me@QUAY-SRV:3050/C:\Data\ledger.fdb`:   {Kind: card.Firebird, Files: true, Database: `C:\Data\ledger.fdb`},
	} {
		now := Server{Kind: want.Kind, Files: want.Files, Host: "127.0.0.1", Port: "1", User: "u", Database: "x"}
		if got := now.At(address).Database; got != want.Database {
			t.Errorf("%s is %s", address, got)
		}
	}
}

// TestShortened appends a suffix. Two long names that begin alike stay apart, and letters are not cut.
func TestShortened(t *testing.T) {
	if got := Shortened("ledger", "_x", 8); got != "ledger_x" {
		t.Errorf("%s", got)
	}
	for _, letter := range []string{"a", "ä", "日"} {
		long := strings.Repeat(letter, 70)
		a, b := Shortened(long+"1", "_x", 63), Shortened(long+"2", "_x", 63)
		if a == b || len(a) > 63 || len(a) < 60 || !utf8.ValidString(a) || !strings.HasSuffix(a, "_x") || !strings.HasPrefix(a, letter) {
			t.Errorf("two long names become %s and %s", a, b)
		}
	}
}
