package card

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"movekit/examples"
	"movekit/internal/core/fault"
	"movekit/internal/core/version"
	"movekit/test/fatal"
)

const good = `card: 1
name: tidewright
title: Tidewright
items:
  - name: data
    kind: sqlite
    path: '%PROGRAMDATA%\Tidewright\b.db'
    counts:
      - {name: boats, query: SELECT count(*) FROM boat}
  - name: settings
    kind: folder
    path: {windows: '%APPDATA%\Tidewright', linux: ~/.config/tidewright}
    skip: [cache/**]
    needs: [data]
licences:
  - name: seat
    method: desk
    product: tw
    serial: {file: '%PROGRAMDATA%\l.ini', pattern: 'S=(\S+)'}
    code: {file: '%PROGRAMDATA%\l.ini', pattern: 'C=(\S+)'}
    desk: {url: 'http://127.0.0.1:1', key: ozSfO2Sa_kxMIBWYMRr5LNe1V6adT6O9NzGuLV1yuGQ}
`

// mistake is a change of a valid card, and the expected message.
type mistake struct{ old, new, what string }

// mistakes makes each change, and checks the message.
func mistakes(t *testing.T, card string, all map[string]mistake) {
	t.Helper()
	for name, m := range all {
		text := strings.Replace(card, m.old, m.new, 1)
		if text == card {
			t.Fatalf("%s: nothing was changed", name)
		}
		if _, err := Parse("x.yaml", []byte(text)); fault.KindOf(err) != fault.BadCard || !strings.Contains(err.Error(), m.what) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestGoodCard(t *testing.T) {
	c, err := Parse("x.yaml", []byte(good))
	fatal.If(t, err)
	if got := c.Item("settings").Path.On("linux"); got != "~/.config/tidewright" {
		t.Errorf("the Linux path is %q", got)
	}
	if got := c.Item("data").Path.On("windows"); got != `%PROGRAMDATA%\Tidewright\b.db` {
		t.Errorf("the Windows path is %q", got)
	}
	files, _ := examples.Cards.ReadDir("cards")
	for _, f := range files {
		text, _ := examples.Cards.ReadFile("cards/" + f.Name())
		if _, err := Parse(f.Name(), text); err != nil {
			t.Errorf("%s: %v", f.Name(), err)
		}
	}
	if len(files) == 0 {
		t.Error("there are no example cards")
	}
}

// TestMistakesAreShownWhereTheyAre changes one place of a valid card, and checks the position in
// the message.
func TestMistakesAreShownWhereTheyAre(t *testing.T) {
	for name, c := range map[string]struct {
		old, new  string
		line, col int
		what      string
	}{
		"unknown field":     {"title: Tidewright", "titel: Tidewright", 3, 1, "unknown field"},
		"wrong type":        {"items:", "version: 8\nitems:", 4, 10, "mapping is expected"},
		"missing title":     {"title: Tidewright\n", "", 1, 1, `"title" is missing`},
		"other format":      {"card: 1", "card: 2", 1, 7, "format 2"},
		"bad name":          {"name: tidewright", "name: Tide Wright", 2, 7, "is not valid"},
		"unknown kind":      {"kind: sqlite", "kind: oracle", 6, 11, `"oracle" is not a kind`},
		"after a term":      {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%PROGRAMDATA%.'`, 7, 11, "has other characters directly after its term"},
		"relative path":     {`'%PROGRAMDATA%\Tidewright\b.db'`, `Tidewright\b.db`, 7, 11, "is relative"},
		"a profile":         {`'%PROGRAMDATA%\Tidewright\b.db'`, `'C:\Users\anna\Tide\b.db'`, 7, 11, "profile of one user"},
		"a home":            {`'%PROGRAMDATA%\Tidewright\b.db'`, `/home/anna/tide/b.db`, 7, 11, "home of one user"},
		"a device":          {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%PROGRAMDATA%\Tidewright\nul.db'`, 7, 11, "names the device nul.db"},
		"a stream":          {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%PROGRAMDATA%\Tidewright\b.db:x'`, 7, 11, "that Windows does not allow"},
		"a pattern":         {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%PROGRAMDATA%\*\b.db'`, 7, 11, "contains a pattern"},
		"an odd term":       {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%TIDE%\b.db'`, 7, 11, "not a known term"},
		"upward path":       {`'%PROGRAMDATA%\Tidewright\b.db'`, `'%PROGRAMDATA%\..\b.db'`, 7, 11, "contains"},
		"two statements":    {"SELECT count(*) FROM boat", "SELECT 1; DROP TABLE boat", 9, 30, "is not valid"},
		"a file is written": {"SELECT count(*) FROM boat", "SELECT 1 INTO OUTFILE '/srv/x'", 9, 30, `uses "into"`},
		"a file is read":    {"SELECT count(*) FROM boat", `SELECT length("pg_read_file" ('/etc/passwd'))`, 9, 30, `uses "pg_read_file"`},
		"a sequence counts": {"SELECT count(*) FROM boat", "SELECT nextval('n')", 9, 30, `uses "nextval"`},
		"an odd name":       {"SELECT count(*) FROM boat", `SELECT U&"p\\0067_sleep"(9)`, 9, 30, `uses "u"`},
		"no select":         {"SELECT count(*) FROM boat", "ATTACH 'x' AS y", 9, 30, "is not valid"},
		"same name twice":   {"name: settings", "name: data", 10, 11, "used twice"},
		"bad pattern":       {"cache/**", `'c[ache/**'`, 13, 12, "is not valid"},
		"needs nothing":     {"needs: [data]", "needs: [date]", 14, 13, `named "date"`},
		"no group":          {`S=(\S+)`, `S=\S+`, 19, 52, "is not valid"},
		"plain http":        {"http://127.0.0.1:1", "http://desk.example", 21, 17, "address"},
		"key":               {"ozSfO2Sa", "ozSf", 21, 44, "key"},
		"not yaml":          {"items:", "items: [", 0, 0, ""},
		"card is a list":    {"card: 1\n", "- card: 1\n", 0, 0, ""},
		"empty":             {good, "", 1, 1, "empty"},
		"skip on database":  {"    counts:", "    skip: [x]\n    counts:", 8, 11, "a sqlite item has no skip"},
	} {
		text := strings.Replace(good, c.old, c.new, 1)
		if text == good {
			t.Fatalf("%s: nothing was changed", name)
		}
		_, err := Parse("cards/x.yaml", []byte(text))
		var ps Problems
		if fault.KindOf(err) != fault.BadCard || !errors.As(err, &ps) || len(ps) == 0 {
			t.Errorf("%s: %v", name, err)
			continue
		}
		p := ps[0]
		if c.line > 0 && (p.Line != c.line || p.Column != c.col) || !strings.Contains(p.What, c.what) {
			t.Errorf("%s: got %v", name, p)
		}
		if lines := strings.Split(text, "\n"); p.Source != lines[p.Line-1] {
			t.Errorf("%s: the line shown is %q", name, p.Source)
		}
	}
}

func TestSchemaIsCurrent(t *testing.T) {
	want, err := Schema()
	fatal.If(t, err)
	have, err := os.ReadFile("../../../docs/card.schema.json")
	if err != nil || string(have) != string(want) {
		t.Errorf("docs/card.schema.json is not what the types say (%v); run make docs", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("card: 1\nitems: {a: [b"))
	f.Add([]byte("&a [*a]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if c, err := Parse("x.yaml", data); err == nil && c.Name == "" {
			t.Error("a card without a name was taken")
		}
	})
}

const wideCard = `card: 1
name: ledger
title: Pontoon Ledger
version:
  exe: '%PROGRAMFILES%\Pontoon\pontoon.exe'
  registry: HKLM\SOFTWARE\Mole Head\Pontoon
  value: Version
  package: pontoon
  command: [/opt/pontoon/pontoon, --version]
  pattern: '(\d\S*)'
  edition: {file: '%PROGRAMDATA%\Pontoon\pontoon.ini', key: app/edition}
requires:
  - {name: The driver, path: 'C:\Windows\driver.sys', registry: HKLM\SOFTWARE\Driver, package: driver}
sync:
  - {about: mail to the town, path: '%PROGRAMDATA%\Pontoon\out', files: '*.out'}
  - {about: bookings, item: data, query: SELECT count(*) FROM outbox}
  - {about: the cloud, command: [/opt/pontoon/sync, status], pattern: 'all sent'}
items:
  - {name: data, kind: sqlite, path: /var/lib/pontoon.db}
  - {name: key, kind: file, path: /etc/pontoon.key, secret: true}
  - {name: server, kind: network, address: 'QUAY-SRV:5432'}
  - {name: account, kind: hosted, from: {file: /etc/pontoon.json, key: cloud/url}}
`

func TestCardWithEverySource(t *testing.T) {
	c, err := Parse("x.yaml", []byte(wideCard))
	fatal.If(t, err)
	if c.Version.Rule != version.SameMajor || c.Version.Value != "Version" || c.Version.Edition.FileFormat() != "ini" || c.Items[3].From.FileFormat() != "json" {
		t.Errorf("%+v", c.Version)
	}
	if got := c.Commands(); len(got) != 2 || got[0][1] != "--version" || got[1][1] != "status" {
		t.Errorf("commands %v", got)
	}
	if c.Items[2].Kind.Info().StaysAt == "" || c.Items[1].Kind.Info().StaysAt != "" {
		t.Error("what stays")
	}
	for name, f := range map[Path]string{{Any: "/a.cfg"}: "ini", {Any: `%X%\app.config`}: "xml", {Windows: `C:\a.ini`, Linux: "/a.conf"}: "ini", {Windows: `C:\a.ini`, Linux: "/a.json"}: "", {Any: "/noname"}: ""} {
		if got := (&Source{File: name, Key: "k"}).FileFormat(); got != f {
			t.Errorf("%v is %q", name, got)
		}
	}
}

func TestMistakesInSources(t *testing.T) {
	mistakes(t, wideCard, map[string]mistake{
		"nothing to read":       {"edition: {file: '%PROGRAMDATA%\\Pontoon\\pontoon.ini', key: app/edition}", "edition: {pattern: '(x)'}", `the field "edition" does not say`},
		"key without format":    {"pontoon.ini', key", "pontoon', key", "does not show its format"},
		"format without key":    {", key: app/edition", ", format: ini", "has no key"},
		"unknown format":        {"key: app/edition", "key: app/edition, format: toml", `"toml" is not a format`},
		"registry root":         {`HKLM\SOFTWARE\Mole Head\Pontoon`, `HKCR\Mole Head`, "registry key"},
		"value alone":           {`  registry: HKLM\SOFTWARE\Mole Head\Pontoon` + "\n", "", "has no registry key"},
		"package name":          {"package: pontoon", "package: Pontoon!", "package name"},
		"relative program":      {"[/opt/pontoon/pontoon, --version]", "[pontoon, --version]", "has no full path"},
		"requirement":           {", path: 'C:\\Windows\\driver.sys', registry: HKLM\\SOFTWARE\\Driver, package: driver", "", "no way to check for"},
		"sync of no item":       {"item: data, query", "item: dato, query", `no database item "dato"`},
		"sync that writes":      {"SELECT count(*) FROM outbox", "DELETE FROM outbox", "is not valid"},
		"sync without pattern":  {", pattern: 'all sent'", "", "pattern"},
		"sync in two ways":      {"files: '*.out'", "files: '*.out', command: [/x], pattern: x", "one way"},
		"a server with a path":  {"address: 'QUAY-SRV:5432'", "address: x, path: /x", "has no path"},
		"a server with nothing": {", address: 'QUAY-SRV:5432'", "", `"address" is missing`},
		"a secret server":       {"address: 'QUAY-SRV:5432'", "address: x, secret: true", "a network item has no secret"},
		"a path given twice":    {"path: /etc/pontoon.key", "path: {from: {file: /a.ini, key: app/key}, macos: /etc/pontoon.key}", "given twice"},
		"a file with address":   {"path: /etc/pontoon.key", "path: /etc/pontoon.key, address: x", "a file item has no address"},
		"counts on a server":    {"address: 'QUAY-SRV:5432'", "address: x, counts: [{name: n, files: x}]", "item has no counts"},
	})
}

const servedCard = `card: 1
name: ledger
title: Pontoon Ledger
items:
  - {name: data, kind: postgresql, server: {host: {file: /a.ini, key: db/host}, port: 5432, database: ledger, password: {file: /a.ini, key: db/pw}}, mask: [phone], counts: [{name: n, query: SELECT 1}]}
  - {name: out, kind: exports, path: /out, include: ['*.pox'], exports: {item: data, query: SELECT 1, make: [/opt/x, out], import: take it in}}
  - {name: tables, kind: dbase, path: /t, counts: [{name: n, files: '*.dbf'}]}
  - {name: yard, kind: jet, path: /y.mdb}
`

func TestCardOfDatabases(t *testing.T) {
	c, err := Parse("x.yaml", []byte(servedCard))
	fatal.If(t, err)
	s := c.Items[0].Server
	if s.Port.Text != "5432" || s.Host.From.Key != "db/host" || s.Database.Text != "ledger" || !s.User.IsZero() {
		t.Errorf("%+v", s)
	}
	typed := strings.Replace(strings.Replace(licensedCard, "serial: {file: /srv/reg.ini, key: a/b}, ", "typed: the label, ", 1), "code: {file: /srv/reg.ini, key: a/c}", "check: mod-97-10, check-parts: true", 1)
	if _, err := Parse("x.yaml", []byte(typed)); err != nil {
		t.Errorf("a serial that is typed: %v", err)
	}
	if len(c.Reads()) != 2 || len(c.Commands()) != 1 {
		t.Errorf("%v %v", c.Reads(), c.Commands())
	}
	for column, masked := range map[string]bool{"phone": true, "PHONE": true, "note": true, "Pin": true, "name": false, "notes": false} {
		for _, table := range []string{"public.owner", `"public"."Owner"`, "OWNER", "owner"} {
			if (&Item{Mask: []string{"phone", "owner.note", "OWNER.pin", "other.name"}}).Masks(table)(column) != masked {
				t.Errorf("%s of %s: masked is not %v", column, table, masked)
			}
		}
	}
	mistakes(t, servedCard, map[string]mistake{
		"no database":         {"database: ledger, ", "", "names no database"},
		"a server with path":  {"kind: postgresql,", "kind: postgresql, path: /x,", "has no path"},
		"a file with server":  {"kind: jet,", "kind: jet, server: {database: x},", "a jet item has no server"},
		"password as text":    {"password: {file: /a.ini, key: db/pw}", "password: secret", ""},
		"mask on files":       {"kind: dbase,", "kind: dbase, mask: [x],", "a dbase item has no mask"},
		"counts in a jet":     {"path: /y.mdb", "path: /y.mdb, counts: [{name: n, files: x}]", "item has no counts"},
		"exports of a folder": {"kind: exports", "kind: folder", "a folder item has no exports"},
		"no exports":          {", exports: {item: data, query: SELECT 1, make: [/opt/x, out], import: take it in}", "", "has no exports"},
		"two numbers":         {"item: data, query", "number: 3, item: data, query", "one way"},
		"less than none":      {"item: data, query: SELECT 1,", "number: -1,", "cannot be -1"},
		"of no database":      {"item: data, query", "item: yard, query", `no database item "yard"`},
		"nothing to do":       {", import: take it in", "", `"import" is missing`},
	})
}

const licensedCard = `card: 1
name: hoist
title: Hoistbook
items:
  - {name: certificate, kind: file, path: /srv/office.pem}
  - {name: diary, kind: folder, path: /srv/diary}
licences:
  - {name: signing, method: file, items: [certificate]}
  - {name: registration, method: key, serial: {file: /srv/reg.ini, key: a/b}, code: {file: /srv/reg.ini, key: a/c}}
  - {name: seat, method: guided, wait: 24h, transfers: 3, deactivate: {steps: [{do: release it}]}, activate: {steps: [{do: take it, ask: which, answer: "^[A-Z]+$", evidence: true}]}}
  - {name: module, method: command, show: {run: [/opt/lic, show], active: "(?m)^active", left: "left: ([0-9]+)"}, deactivate: {run: [/opt/lic, free], done: "^ok"}, activate: {run: [/opt/lic, take]}}
`

// TestTokenOfEachUser refuses a card whose users each have a serial and share one token file.
func TestTokenOfEachUser(t *testing.T) {
	for places, shared := range map[[2]string]bool{
		{"~/.app.ini", "/opt/app/token"}: true, {"~/.app.ini", "~/.app/token"}: false, {"/etc/app.ini", "/opt/app/token"}: false,
		{`'%APPDATA%\app.ini'`, `'%PROGRAMDATA%\token'`}: true, {`'%APPDATA%\app.ini'`, `'%LOCALAPPDATA%\token'`}: false,
	} {
		_, err := Parse("x.yaml", fmt.Appendf(nil, "card: 1\nname: a\ntitle: A\nitems: [{name: d, kind: folder, path: /srv/d}]\nlicences:\n  - {name: seat, method: desk, product: a, serial: {file: %s, key: a/b}, code: {file: /etc/x.ini, key: a/c}, token: %s, desk: {url: 'http://127.0.0.1:1', key: ozSfO2Sa_kxMIBWYMRr5LNe1V6adT6O9NzGuLV1yuGQ}}\n", places[0], places[1]))
		if (err != nil && strings.Contains(err.Error(), "share the token file")) != shared {
			t.Errorf("%q: %v", places, err)
		}
	}
}

func TestCardOfLicences(t *testing.T) {
	c, err := Parse("x.yaml", []byte(licensedCard))
	fatal.If(t, err)
	if got := c.Commands(); len(got) != 3 || got[1][1] != "free" {
		t.Errorf("commands: %q", got)
	}
	if len(c.Reads()) != 2 || c.Licences[2].Change(true).Steps[0].Do != "release it" || c.Licences[3].Change(false).Run[1] != "take" {
		t.Errorf("%v", c.Reads())
	}
	mistakes(t, licensedCard, map[string]mistake{
		"unknown method":      {"method: file", "method: magic", `"magic" is not a method`},
		"a file of no item":   {"items: [certificate]}", "items: [other]}", `no file item "other"`},
		"a file of a folder":  {"items: [certificate]}", "items: [diary]}", `no file item "diary"`},
		"attached to a file":  {"{name: diary, kind: folder, path: /srv/diary}", "{name: diary, kind: sqlite, path: /srv/diary, attached-to: certificate}", "cannot be attached"},
		"no files":            {"items: [certificate]}", "items: []}", "has no files"},
		"no key":              {"serial: {file: /srv/reg.ini, key: a/b}, ", "", `the field "serial" does not say`},
		"usb of no token":     {"method: guided, wait", "method: guided, usb: '1d6b:0002', wait", "method guided has no usb"},
		"a usb of words":      {"method: guided, wait", "method: token, usb: dongle, wait", "USB id"},
		"a wait of words":     {"wait: 24h", "wait: a day", "a time such as 24h"},
		"a trial of nothing":  {"wait: 24h", "trial: 0s", "a time such as 24h"},
		"a day of words":      {"wait: 24h", "expires: soon", "a day such as"},
		"back by words":       {"wait: 24h", "reactivate-by: soon", "a day such as"},
		"taking a file over":  {"method: file,", "method: file, takeover: true,", "method file has no takeover"},
		"a bound seat":        {"wait: 24h", "bound: true", "method guided has no bound"},
		"a lost program":      {"wait: 24h", "lost: {run: [/x]}", "cannot run"},
		"checks of no serial": {"wait: 24h", "check: luhn", "method guided has no check"},
		"an unknown check":    {"method: key,", "method: key, check: sum,", `"sum" is not a check`},
		"a bad form":          {"method: key,", "method: key, form: '[',", "is not valid"},
		"no steps":            {"deactivate: {steps: [{do: release it}]}, ", "", "does not say how"},
		"steps without do":    {"{do: take it, ask", "{ask", `"do" is missing`},
		"a bad answer":        {`"^[A-Z]+$"`, `"^[A-Z+$"`, "is not valid"},
		"a command and steps": {"deactivate: {steps: [{do: release it}]}", "deactivate: {run: [/x], steps: [{do: release it}]}", "needs manual steps"},
		"no show":             {`show: {run: [/opt/lic, show], active: "(?m)^active", left: "left: ([0-9]+)"}, `, "", "how to read its state"},
		"left without group":  {`"left: ([0-9]+)"`, `"left"`, "is not valid"},
		"a command as steps":  {"activate: {run: [/opt/lic, take]}", "activate: {steps: [{do: x}]}", "has no command"},
		"steps for a file":    {"method: file,", "method: file, activate: {steps: [{do: x}]},", "method file has no activate"},
		"a desk without desk": {"method: file, items: [certificate]", "method: desk, product: x, serial: {file: /a}, code: {file: /a}", "has no desk"},
	})
}

// TestAllMistakes checks that all mistakes of a card are reported together, each with a suggestion.
func TestAllMistakes(t *testing.T) {
	_, err := Parse("app.yaml", []byte("card: 1\nname: app\ntittle: The App\nitems:\n  - {name: data, knid: folder, path: /srv}\n  - name: more\n    kind: folder\n    path: /srv/../x\n    incldue: [a]\n    quite-another: 1\nlicences:\n  - {name: seat, method: desk, serial: {fiel: /x}}\n"))
	var all Problems
	if !errors.As(err, &all) {
		t.Fatal(err)
	}
	var got []string
	for _, p := range all {
		got = append(got, fmt.Sprintf("%d:%d %s; %s", p.Line, p.Column, p.What, p.Want))
	}
	text := strings.Join(got, "\n")
	for _, want := range []string{`3:1 unknown field "tittle"; title, perhaps`, `5:18 unknown field "knid"; kind, perhaps`, "8:11 the path", `9:5 unknown field "incldue"; include, perhaps`, `10:5 unknown field "quite-another"; a field of the card format`, `12:41 unknown field "fiel"; file, perhaps`} {
		if strings.Count(text, want) != 1 {
			t.Errorf("%q is told %d times in\n%s", want, strings.Count(text, want), text)
		}
	}
	if strings.Contains(text, "is missing") {
		t.Errorf("what is misspelt is told as missing, too:\n%s", text)
	}
	// Texts that YAML reads differently than the author expects.
	for card, want := range map[string]string{"path: \"C:\\Tide\"": `single quotes: 'C:\Tide'`, "path: @x": "", "path: {windows: %APPDATA%\\Tide}x": `single quotes: '%APPDATA%\Tide'`} {
		_, err := Parse("app.yaml", []byte("card: 1\n"+card+"\n"))
		if !errors.As(err, &all) || want != "" && !strings.Contains(all.Error(), want) {
			t.Errorf("%s: %v", card, err)
		}
	}
}
