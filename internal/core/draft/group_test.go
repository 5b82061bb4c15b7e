package draft

import (
	"strings"
	"testing"
	"time"

	"movekit/internal/core/wide"
)

func TestGroup(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	at := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	got := Group([]wide.Finding{
		{Class: wide.Server, What: "PostgreSQL", Where: "/srv/pg"}, {Class: wide.Program, What: "Tidewright 8", Details: []string{"by Ebb and Flow"}}, {Class: wide.Surrounding, Where: "/etc/x"}, {Class: wide.Folder, Where: "/srv/tide.set-aside-20261120-083000"},
		{Class: wide.Registry, What: "registry tree of software", Where: `HKLM\SOFTWARE\Winch`, Newest: at(30)},
		{Class: wide.Database, Where: `C:\ProgramData\Tidewright\bookings.db`, Bytes: 5, Newest: at(1)},
		{Class: wide.Folder, Where: `C:\ProgramData\Tidewright`, Bytes: 10, Newest: at(1)},
		{Class: wide.Folder, Where: `C:\Users\maren\AppData\Roaming\TideWright`, Bytes: 1, Newest: at(3)},
		{Class: wide.Key, Where: `C:\ProgramData\Chartroom\keys\office.key`, Newest: at(0)},
		{Class: wide.Folder, Where: `C:\ProgramData\Chartroom`, Newest: at(9)},
		{Class: wide.Certificate, Where: `C:\ProgramData\alone.pem`},
		{Class: wide.Folder, Where: "/home/maren/.hoist-book", Newest: at(20)},
		{Class: wide.Registry, What: "registry tree of software", Where: `HKCU\Software\Slipway`, Details: []string{"Chartroom", "Rota"}},
		{Class: wide.Registry, What: "ODBC data source Berths", Where: `HKLM\SOFTWARE\ODBC\ODBC.INI\Berths`, Details: []string{"server QUAY-SRV"}},
	})
	var all []string
	for _, a := range got {
		var places []string
		for _, p := range a.Places {
			places = append(places, p.Where[strings.LastIndexAny(p.Where, `/\`)+1:])
		}
		all = append(all, a.Title+" by "+a.Maker+": "+strings.Join(places, " "))
	}
	want := `Tidewright 8 by Ebb and Flow: Tidewright TideWright
Chartroom by : Chartroom Chartroom
.hoist-book by : .hoist-book
Winch by : Winch
Berths by : Berths
Rota by : Rota`
	if s := strings.Join(all, "\n"); s != want {
		t.Errorf("\n%s\nwant\n%s", s, want)
	}
	if got[1].Places[1].Where != `HKCU\Software\Slipway\Chartroom` {
		t.Errorf("%+v", got[1].Places)
	}
}
