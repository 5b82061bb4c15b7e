//go:build unix

package test

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// carded is a real program that a built-in card moves. In its texts and commands, HOME stands for the home of its user or, for a
// program of the whole computer, ROOT for the folder that has the computer's disk.
type carded struct {
	card     string
	packages string            // Debian packages
	files    map[string]string // of the user or the computer
	begin    []string          // shell commands that make more data, with the program itself
	shows    string            // shell command that shows the data, with the program itself
	place    string            // a destination that unpack must be told: ITEM=PATH
	names    bool              // some files keep the old home in them, which the program does not use
}

const post = "From: a@tern.example\nTo: office@tern.example\nSubject: Berth A7\nMessage-ID: <1@tern.example>\nDate: Fri, 20 Nov 2026 10:00:00 +0000\n\nPlease.\n"

var withCards = []carded{
	{card: "taskwarrior", packages: "taskwarrior", files: map[string]string{".taskrc": "data.location=HOME/.task\nconfirmation=off\ncolor=off\n"},
		begin: []string{"task add Paint buoy 7", "task add Call the chandler"}, shows: "task rc.verbose=nothing minimal"},
	{card: "ledger", packages: "ledger", files: map[string]string{"books/main.ledger": "include HOME/books/2026.ledger\n", "books/2026.ledger": "2026/11/20 Mooring fees\n  Assets:Harbour  $120.00\n  Income:Moorings\n", ".ledgerrc": "--file HOME/books/main.ledger\n"}, shows: "ledger balance"},
	{card: "notmuch", packages: "notmuch", files: map[string]string{".notmuch-config": "[database]\npath=HOME/Post\n[user]\nname=Harbour office\nprimary_email=office@tern.example\n[new]\ntags=new\n", "Post/new/1.mail": post},
		begin: []string{"notmuch new"}, place: "mail@maren=HOME/Post", shows: "notmuch search subject:berth"},
	{card: "timewarrior", packages: "timewarrior", begin: []string{"timew :yes track 2026-11-20T08:00 - 2026-11-20T12:00 berths"}, shows: "timew export"},
	{card: "hledger", packages: "hledger", files: map[string]string{".hledger.journal": "include HOME/finance/2026.journal\n", "finance/2026.journal": "2026-11-20 Mooring fees\n  assets:harbour  120\n  income:moorings\n"}, shows: "hledger balance"},
	{card: "beancount", packages: "beancount", files: map[string]string{"beancount/main.beancount": "option \"documents\" \"HOME/beancount/docs\"\n2026-01-01 open Assets:Harbour EUR\n2026-01-01 open Income:Moorings EUR\n2026-11-20 * \"Mooring fees\"\n  Assets:Harbour  120 EUR\n  Income:Moorings\n", "beancount/docs/x": ""},
		shows: "bean-query HOME/beancount/main.beancount 'SELECT account, sum(position) GROUP BY account'"},
	{card: "gnupg", packages: "gnupg pass", begin: []string{"mkdir -p -m 700 HOME/.gnupg", "gpg --batch --passphrase '' --quick-gen-key office@tern.example", "pass init office@tern.example", "echo open-the-gate | pass insert -e harbour/door", "gpgconf --kill all"},
		shows: "pass show harbour/door; gpg --list-secret-keys --with-colons 2>/dev/null | grep ^fpr; gpgconf --kill all"},
	{card: "keepassxc", packages: "keepassxc", begin: []string{"mkdir -p HOME/Documents", `printf 'gate\ngate\n' | keepassxc-cli db-create -q -p HOME/Documents/office.kdbx`, `printf 'gate\nopen\n' | keepassxc-cli add -q -p -u maren HOME/Documents/office.kdbx Door`},
		shows: `echo gate | keepassxc-cli show -q -s HOME/Documents/office.kdbx Door`},
	{card: "khal", packages: "khal khard", files: map[string]string{
		".config/khal/config":      "[calendars]\n[[office]]\npath = HOME/.calendars/office\n[locale]\ntimeformat = %H:%M\ndateformat = %Y-%m-%d\nlongdateformat = %Y-%m-%d\ndatetimeformat = %Y-%m-%d %H:%M\nlongdatetimeformat = %Y-%m-%d %H:%M\n[default]\ndefault_calendar = office\n",
		".calendars/office/1.ics":  "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20261120T100000Z\r\nDTSTART:20261120T100000Z\r\nDTEND:20261120T110000Z\r\nSUMMARY:Lift of boat 7\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
		".config/khard/khard.conf": "[addressbooks]\n[[office]]\npath = HOME/.contacts/office\n[general]\ndefault_action = list\n", ".contacts/office/1.vcf": "BEGIN:VCARD\r\nVERSION:3.0\r\nUID:1\r\nFN:Quay Chandler\r\nN:Chandler;Quay;;;\r\nTEL;TYPE=work:555 0100\r\nEND:VCARD\r\n"},
		shows: "khal list 2026-11-20 2d; khard list"},
	{card: "abook", packages: "abook", files: map[string]string{".abook/addressbook": "[format]\nprogram=abook\nversion=0.6.1\n\n[0]\nname=Quay Chandler\nemail=quay@tern.example\n"}, shows: "abook --datafile HOME/.abook/addressbook --mutt-query quay"},
	{card: "remind", packages: "remind", files: map[string]string{".reminders": "INCLUDE HOME/reminders/berths.rem\n", "reminders/berths.rem": "REM 20 November 2026 MSG Lift of boat 7\n"}, shows: "remind HOME/.reminders 20 November 2026"},
	{card: "todo-txt", packages: "todotxt-cli", files: map[string]string{".todo/config": "export TODO_DIR=\"HOME/todo\"\nexport TODO_FILE=\"$TODO_DIR/todo.txt\"\nexport DONE_FILE=\"$TODO_DIR/done.txt\"\nexport REPORT_FILE=\"$TODO_DIR/report.txt\"\n", "todo/todo.txt": "(A) Paint buoy 7 +harbour\n"}, shows: "todo-txt -p -d HOME/.todo/config ls"},
	{card: "ssh", packages: "openssh-client", begin: []string{"mkdir -p -m 700 HOME/.ssh", "ssh-keygen -q -t ed25519 -N '' -C office -f HOME/.ssh/id_ed25519", "printf 'Host quay\\n  HostName quay.tern.example\\n  IdentityFile HOME/.ssh/id_ed25519\\n' > HOME/.ssh/config"},
		shows: "ssh -F HOME/.ssh/config -G quay | grep -E '^(hostname|identityfile)'; ssh-keygen -lf HOME/.ssh/id_ed25519"},
	{card: "chromium", packages: "chromium", names: true, files: map[string]string{"set.html": "<script>localStorage.boat='Grey Wagtail'</script>", "get.html": "<p id=p></p><script>p.textContent='boat: '+localStorage.boat</script>"},
		begin: []string{"chromium --headless --no-sandbox --disable-gpu --password-store=basic --user-data-dir=HOME/.config/chromium --timeout=4000 --dump-dom file://HOME/set.html >/dev/null 2>&1; cp HOME/get.html ROOT/get.html; for i in $(seq 40); do pgrep -x chromium >/dev/null || break; sleep 0.5; done"},
		shows: "chromium --headless --no-sandbox --disable-gpu --password-store=basic --user-data-dir=HOME/.config/chromium --timeout=4000 --dump-dom file://ROOT/get.html 2>/dev/null | grep -o 'boat: Grey Wagtail'"},
	{card: "calibre", packages: "calibre", begin: []string{"calibredb add --empty -t 'Berth plan' -a 'Harbour office' --with-library 'HOME/Calibre Library' 2>/dev/null"}, names: true, shows: "calibredb list --with-library 'HOME/Calibre Library' 2>/dev/null"},
	{card: "gnucash", packages: "gnucash python3-gnucash libdbd-sqlite3", begin: []string{"mkdir -p HOME/Documents HOME/.local/share/gnucash", `/usr/bin/python3 -c "
import gnucash
from gnucash import Session, SessionOpenMode, Account
s = Session('xml://HOME/Documents/office.gnucash', SessionOpenMode.SESSION_NEW_STORE)
b = s.book; a = Account(b); b.get_root_account().append_child(a)
a.SetName('Mooring fees'); a.SetType(gnucash.ACCT_TYPE_INCOME); a.SetCommodity(b.get_table().lookup('CURRENCY', 'EUR'))
s.save(); s.end()
"`}, shows: `/usr/bin/python3 -c "
from gnucash import Session, SessionOpenMode
s = Session('xml://HOME/Documents/office.gnucash', SessionOpenMode.SESSION_READ_ONLY)
print([a.GetName() for a in s.book.get_root_account().get_children()]); s.end()
"`},
	// Programs of the whole computer.
	{card: "samba", packages: "samba", files: map[string]string{"etc/samba/smb.conf": "[global]\nnetbios name = OLD\nworkgroup = TERN\n[plans]\npath = /srv/plans\n", "var/lib/samba/private/.keep": ""},
		begin: []string{`printf 'gate\ngate\n' | smbpasswd -c ROOT/samba.conf -s -a root`}, shows: "testparm -s ROOT/DISK/etc/samba/smb.conf 2>/dev/null | grep -v -i netbios; pdbedit -s ROOT/samba.conf -L -w"},
	{card: "wireguard", packages: "wireguard-tools", files: map[string]string{"etc/wireguard/wg0.conf": "[Interface]\nPrivateKey = gI6EdUSYvn8ugXOt8QQD6Yc+JyiZxIhp3GInSWRfWGE=\nListenPort = 51820\nAddress = 192.0.2.1/24\n[Peer]\nPublicKey = HIgo9xNzJMWLKASShiTqIybxZ0U3wGLiUeJ1PKf8ykw=\nAllowedIPs = 192.0.2.2/32\n"}, shows: "wg-quick strip ROOT/DISK/etc/wireguard/wg0.conf"},
	{card: "dnsmasq", packages: "dnsmasq-base bind9-dnsutils", files: map[string]string{"etc/dnsmasq.conf": "no-resolv\nno-hosts\naddress=/quay-srv.tern/192.0.2.7\n", "etc/dnsmasq.d/x.conf": "# more\n"},
		shows: "dnsmasq -C ROOT/DISK/etc/dnsmasq.conf --port=53531 --listen-address=127.0.0.1 --bind-interfaces --user=root --pid-file=ROOT/pid && dig +short -p 53531 @127.0.0.1 quay-srv.tern; kill $(cat ROOT/pid)"},
	{card: "bind", packages: "bind9 bind9-utils", files: map[string]string{"etc/bind/named.conf": "options { directory \"/var/cache/bind\"; };\nzone \"tern\" { type master; file \"/etc/bind/db.tern\"; };\n", "etc/bind/db.tern": "$TTL 300\n@ IN SOA quay-srv.tern. office.tern. 7 300 300 300 300\n@ IN NS quay-srv.tern.\nquay-srv IN A 192.0.2.7\n", "var/cache/bind/x": ""},
		shows: "named-checkconf -t ROOT/DISK -p /etc/bind/named.conf; named-checkzone -D tern ROOT/DISK/etc/bind/db.tern"},
	{card: "dhcpd", packages: "isc-dhcp-server", files: map[string]string{"etc/dhcp/dhcpd.conf": "subnet 192.0.2.0 netmask 255.255.255.0 { range 192.0.2.10 192.0.2.20; }\n", "var/lib/dhcp/dhcpd.leases": "lease 192.0.2.11 {\n  starts 5 2026/11/20 10:00:00;\n  ends 5 2026/11/20 22:00:00;\n  hardware ethernet 02:00:00:00:00:01;\n}\n"},
		shows: "dhcpd -t -cf ROOT/DISK/etc/dhcp/dhcpd.conf 2>&1"},
	{card: "postfix", packages: "postfix", files: map[string]string{"etc/postfix/main.cf": "myhostname = OLD.tern.example\nmydestination = tern.example\nrelayhost = [mail.tern.example]\n", "etc/postfix/master.cf": "smtp inet n - y - - smtpd\n", "etc/aliases": "office: maren\n"},
		shows: "postconf -c ROOT/DISK/etc/postfix -n 2>/dev/null | grep -v myhostname; postconf -c ROOT/DISK/etc/postfix -M 2>/dev/null"},
	{card: "dovecot", packages: "dovecot-core dovecot-imapd", files: map[string]string{"etc/dovecot/dovecot.conf": "protocols = imap\nmail_location = maildir:~/Maildir\nssl = no\n"}, shows: "doveconf -c ROOT/DISK/etc/dovecot/dovecot.conf -n 2>/dev/null | grep -v '^#'"},
	{card: "radicale", packages: "radicale python3-radicale", place: "collections=/var/lib/radicale/collections", files: map[string]string{"etc/radicale/config": "[storage]\nfilesystem_folder = /var/lib/radicale/collections\n", "var/lib/radicale/collections/collection-root/maren/lifts/.Radicale.props": `{"tag": "VCALENDAR"}`,
		"var/lib/radicale/collections/collection-root/maren/lifts/1.ics": "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20261120T100000Z\r\nDTSTART:20261120T100000Z\r\nSUMMARY:Lift\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"},
		shows: `/usr/bin/python3 -c "
from radicale import config, storage
c = config.load(); c.update({'storage': {'filesystem_folder': 'ROOT/DISK/var/lib/radicale/collections'}}, 'test')
for col in storage.load(c).discover('/maren/lifts/', '1'): print(col.path if hasattr(col, 'path') else col.href, getattr(col, 'etag', ''))
" 2>/dev/null | grep -v '^/'; ls ROOT/DISK/var/lib/radicale/collections/collection-root/maren`},
	{card: "cups", packages: "cups-daemon cups-client", files: map[string]string{"etc/cups/cupsd.conf": "Listen 127.0.0.1:6310\nLogLevel warn\nDefaultAuthType None\n<Location />\nAllow all\n</Location>\n<Location /admin>\nAllow all\n</Location>\n<Policy default>\n<Limit All>\nAllow all\n</Limit>\n</Policy>\n"},
		begin: []string{"sh ROOT/cups.sh 'lpadmin -h 127.0.0.1:6310 -p pier -E -v file:///dev/null -m raw -D \"Wall plotter\"'"}, shows: "sh ROOT/cups.sh 'lpstat -h 127.0.0.1:6310 -v; lpstat -h 127.0.0.1:6310 -l -p pier | grep Description'"},
	{card: "orthanc", packages: "orthanc curl", files: map[string]string{"etc/orthanc/orthanc.json": "{\"Name\": \"Harbour clinic\"}\n", "var/lib/orthanc/db-v6/.keep": ""},
		begin: []string{`sh ROOT/orthanc.sh "curl -s -X POST http://127.0.0.1:8342/tools/create-dicom -d '{\"Tags\":{\"PatientName\":\"Wagtail^Grey\",\"PatientID\":\"7\"},\"Content\":\"data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAAAAAA6fptVAAAACklEQVR4nGNgAAAAAgABSK+kcQAAAABJRU5ErkJggg==\"}'"`},
		shows: "sh ROOT/orthanc.sh \"curl -s http://127.0.0.1:8342/patients?expand\" | grep -v -i -E 'lastupdate|isstable'"},
}

// helpers start servers on a disk, run a command, and end the server.
var helpers = map[string]string{
	"samba.conf": "[global]\nnetbios name = OLD\nprivate dir = ROOT/DISK/var/lib/samba/private\nstate directory = ROOT/state\nlock directory = ROOT/state\ncache directory = ROOT/state\npassdb backend = tdbsam\n", "state/.keep": "",
	"cups.sh":    "mkdir -p ROOT/run ROOT/cache ROOT/spool/tmp\nprintf 'ServerRoot ROOT/DISK/etc/cups\\nRequestRoot ROOT/spool\\nStateDir ROOT/run\\nCacheDir ROOT/cache\\nTempDir ROOT/spool/tmp\\nErrorLog ROOT/log\\nAccessLog ROOT/log\\nPageLog ROOT/log\\nFileDevice yes\\nUser lp\\nGroup lp\\nSystemGroup root\\n' > ROOT/cups-files.conf\nchmod -R a+rwX ROOT\n/usr/sbin/cupsd -f -c ROOT/DISK/etc/cups/cupsd.conf -s ROOT/cups-files.conf & P=$!\nfor i in $(seq 40); do lpstat -h 127.0.0.1:6310 -r 2>/dev/null | grep -q 'is running' && break; sleep 0.5; done\nsh -c \"$1\"\nkill $P; wait $P\ntrue\n",
	"orthanc.sh": "printf '{\"StorageDirectory\":\"ROOT/DISK/var/lib/orthanc/db-v6\",\"IndexDirectory\":\"ROOT/DISK/var/lib/orthanc/db-v6\",\"HttpPort\":8342,\"DicomServerEnabled\":false,\"RemoteAccessAllowed\":false}' > ROOT/o.json\nOrthanc ROOT/o.json >/dev/null 2>&1 & P=$!\nfor i in 1 2 3 4 5 6 7 8 9 10 11 12; do curl -s http://127.0.0.1:8342/system >/dev/null && break; sleep 0.5; done\nsh -c \"$1\"\nkill $P; wait $P\ntrue\n",
}

// installed reports whether the program is on this computer.
func (a carded) installed() bool {
	out, err := exec.Command("dpkg-query", append([]string{"-W", "-f", "${db:Status-Abbrev}\n"}, strings.Fields(a.packages)...)...).Output()
	return err == nil && strings.Count(string(out), "ii ") == len(strings.Fields(a.packages))
}

// wholeComputer reports whether the program serves a whole computer. Then DISK is that computer's disk.
func (a carded) wholeComputer() bool {
	return slices.ContainsFunc(slices.Collect(maps.Keys(a.files)), func(name string) bool { return strings.HasPrefix(name, "etc/") })
}

// always are the programs that every run of the tests tries; MOVEKIT_CARDS=all installs and tries all of them.
var always = []string{"taskwarrior", "ledger", "notmuch"}

// TestBuiltInCards moves the data of real programs with the built-in cards, to a user with another name and another home or to
// another disk, and compares what the program itself prints there. With MOVEKIT_CARDS=all it installs the programs one after the
// other, removes them, and writes the report and the cards' fields.
func TestBuiltInCards(t *testing.T) {
	all := os.Getenv("MOVEKIT_CARDS")
	rows := map[string]string{}
	for _, a := range withCards {
		if all == "" && !slices.Contains(always, a.card) || all != "" && all != "all" && !slices.Contains(strings.Split(all, ","), a.card) {
			continue
		}
		t.Run(a.card, func(t *testing.T) {
			if all != "" {
				a.install(t)
			} else {
				need(t, map[string]string{"taskwarrior": "task"}[a.card]+strings.TrimPrefix(a.card, "taskwarrior"))
			}
			version, shown := a.move(t)
			if !t.Failed() {
				rows[a.card] = fmt.Sprintf("| %s | %s | `%s` |", a.card, version, telling(shown))
			}
		})
	}
	if all != "" {
		report(t, rows)
	}
}

var packagesHere = func() string {
	out, _ := exec.Command("dpkg-query", "-W", "-f", "${db:Status-Abbrev} ${Package}\n").Output()
	return string(out)
}

// install installs the program, and removes at the end what was not there before.
func (a carded) install(t *testing.T) {
	t.Helper()
	before := packagesHere()
	apt := func(args ...string) {
		cmd := exec.Command("apt-get", append([]string{"-qq", "-y"}, args...)...)
		cmd.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Logf("apt-get %v: %v\n%.500s", args, err, out)
		}
	}
	apt(append([]string{"install", "--no-install-recommends"}, strings.Fields(a.packages)...)...)
	t.Cleanup(func() {
		var own []string
		for line := range strings.Lines(packagesHere()) {
			if !strings.Contains(before, line) && strings.HasPrefix(line, "ii") {
				own = append(own, strings.Fields(line)[1])
			}
		}
		if len(own) > 0 {
			apt(append([]string{"purge"}, own...)...)
		}
	})
}

// TestMoveByGuide moves all programs of a user at once, with the guide alone, and counts the lines that somebody types who has
// never used it. Each disk stands where the program looks for it: its home folders are mounted at /home.
func TestMoveByGuide(t *testing.T) {
	if err := exec.Command("unshare", "--mount", "true").Run(); err != nil {
		t.Skip("the home folders of a disk cannot be mounted here:", err)
	}
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/etc/passwd": "maren:x:1001:1001::/home/maren:/bin/sh\n", "new/etc/passwd": "mholm:x:1002:1002::/home/mholm:/bin/sh\n", "old/home/maren/.profile": "", "new/home/mholm/.profile": ""})
	on := func(disk, user, words string) string {
		t.Helper()
		return says(t, dir, "/home/"+user, "unshare --mount sh -c 'mount --bind "+filepath.Join(dir, disk, "home")+" /home && cd /home/"+user+" && exec sh -c \"$0\"' "+shellQuote(words), false)
	}
	shown, packages := map[string]string{}, []string{"-s"}
	for _, a := range withCards {
		if !a.installed() || a.wholeComputer() || a.names {
			continue
		}
		for name, text := range a.files {
			lay.Out(t, filepath.Join(dir, "old/home/maren"), map[string]string{name: strings.ReplaceAll(text, "HOME", "/home/maren")})
		}
		for _, words := range a.begin {
			on("old", "maren", words)
		}
		shown[a.card] = on("old", "maren", a.shows)
		packages = append(packages, strings.Fields(a.packages)...)
	}
	if len(shown) == 0 {
		need(t, "task")
	}
	status, err := exec.Command("dpkg", packages...).Output()
	fatal.If(t, err)
	lay.Out(t, dir, map[string]string{"old/var/lib/dpkg/status": string(status), "new/var/lib/dpkg/status": string(status)})
	typed, secret := 0, ""
	guide := func(disk string, answers map[string]string) string {
		return conversation(t, dir, func(shown string) (string, bool) {
			if at := regexp.MustCompile(`[a-z]+(-[a-z]+){5}`).FindString(shown); at != "" {
				secret = at
			}
			lines := strings.Split(strings.TrimSpace(shown), "\n")
			question, answer := lines[len(lines)-1], ""
			for start, text := range answers {
				if strings.HasPrefix(question, start) {
					answer = text
				}
			}
			if asked := regexp.MustCompile(`^Type word (\d) and word (\d)`).FindStringSubmatch(question); asked != nil {
				word := strings.Split(secret, "-")
				answer = word[asked[1][0]-'1'] + " " + word[asked[2][0]-'1']
			}
			if strings.HasPrefix(question, "What now?") && !strings.Contains(shown, "  Enter  ") {
				answer = "q"
			}
			typed++
			return answer + "\n", typed < 40
		}, "--root", disk)
	}
	first := guide("old", map[string]string{"What do you want": "new", "Name of the new": "NEW"})
	second := guide("new", map[string]string{"Passphrase": secret, "Update them?": "all"})
	for _, a := range withCards {
		if was := shown[a.card]; was != "" {
			if now := on("new", "mholm", a.shows); now != was {
				t.Errorf("%s shows %q and not %q", a.card, now, was)
			}
		}
	}
	if t.Logf("%d programs: %d lines typed", len(shown), typed); typed > 25 || t.Failed() {
		t.Errorf("%d lines were typed: %s", typed, strings.ReplaceAll(first+second, "\r", "\n"))
	}
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// says runs a shell command for a home, and returns what it prints.
func says(t *testing.T, dir, home, words string, disk bool) string {
	t.Helper()
	text := strings.NewReplacer("ROOT/DISK", home, "HOME", home, "ROOT", dir)
	if disk {
		for name, s := range helpers {
			lay.Out(t, dir, map[string]string{name: text.Replace(s)})
		}
	}
	cmd := exec.CommandContext(t.Context(), "sh", "-c", text.Replace(words))
	if _, err := os.Stat(home); err == nil {
		cmd.Dir = home
	}
	cmd.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home+"/.config", "XDG_DATA_HOME="+home+"/.local/share", "TERM=dumb", "LC_ALL=C.UTF-8", "QT_QPA_PLATFORM=offscreen", "PATH="+os.Getenv("PATH")+":/usr/sbin")
	cmd.WaitDelay = 10 * time.Second
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %v\n%s", words, err, out)
	}
	return strings.ReplaceAll(string(out), home, "HOME")
}

// begun creates the program's data in a home, with the program itself.
func (a carded) begun(t *testing.T, dir, home string, disk bool) {
	t.Helper()
	for name, s := range a.files {
		lay.Out(t, home, map[string]string{name: strings.NewReplacer("HOME", home, "ROOT", dir).Replace(s)})
	}
	for _, words := range a.begin {
		says(t, dir, home, words, disk)
	}
}

// move moves the program's data, and returns its version and what it shows.
func (a carded) move(t *testing.T) (version, shown string) {
	t.Helper()
	dir := t.TempDir()
	fatal.If(t, os.Chmod(dir, 0o755))
	old, now := filepath.Join(dir, "office-a/maren"), filepath.Join(dir, "other/homes/mholm")
	disk := a.wholeComputer()
	if disk {
		old, now = filepath.Join(dir, "old"), filepath.Join(dir, "new")
		lay.Out(t, dir, map[string]string{"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n"})
		for _, folder := range []string{"etc", "var/lib/misc", "var/cache/bind"} {
			fatal.If(t, os.MkdirAll(filepath.Join(now, folder), 0o755))
		}
		status, err := exec.Command("dpkg", "-s", strings.Fields(a.packages)[0]).Output() // the program is installed on both disks
		fatal.If(t, err)
		for _, d := range []string{old, now} {
			lay.Out(t, d, map[string]string{"var/lib/dpkg/status": string(status)})
		}
	}
	lay.Out(t, dir, map[string]string{"other/x": ""})
	for _, home := range []string{old, now} {
		lay.Out(t, home, map[string]string{".profile": ""})
	}
	a.begun(t, dir, old, disk)
	before := says(t, dir, old, a.shows, disk)
	if s := strings.TrimSpace(before); s == "" || s == "0" {
		t.Fatalf("%s shows nothing to begin with: %q", a.card, before)
	}
	move := func(home string, args ...string) string {
		t.Helper()
		if disk {
			args = append(args, "--root", home)
		}
		cmd := command(t.Context(), dir, append(args, "--kit", "kit")...)
		if args[0] == "new" {
			cmd = command(t.Context(), dir, args...)
		}
		cmd.Env = append(cmd.Env, "HOME="+home, "XDG_CONFIG_HOME=", "XDG_DATA_HOME=")
		s := finish(t, cmd)
		if s.code != 0 {
			t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
		}
		return s.out
	}
	make := []string{"new", "kit", "--app", a.card, "--yes", "--keep"}
	if disk {
		make = []string{"new", "kit", "--app", a.card, "--to", "NEW"}
	}
	move(old, make...)
	move(old, "pack")
	user := []string{"--user", "maren=mholm"}
	if disk {
		user = nil
	} else {
		fatal.If(t, os.Rename(filepath.Join(dir, "office-a"), filepath.Join(dir, "gone")))
	}
	if a.place != "" {
		user = append(user, "--place", a.card+"/"+strings.ReplaceAll(a.place, "HOME", now))
	}
	move(now, append([]string{"unpack", "--yes"}, user...)...)
	if !disk && !a.names {
		filepath.WalkDir(now, func(path string, e fs.DirEntry, _ error) error {
			if data, err := os.ReadFile(path); err == nil && bytes.Contains(data, []byte(old)) {
				t.Errorf("%s names the old home", path)
			}
			return nil
		})
	}
	move(now, "verify")
	if after := says(t, dir, now, a.shows, disk); after != before {
		t.Errorf("%s shows\n%s\nand showed\n%s", a.card, after, before)
	}
	out, _ := exec.Command("dpkg-query", "-W", "-f", "${Version}", strings.Fields(a.packages)[0]).Output()
	return string(out), before
}

// telling returns the line of an output that tells most: the longest of the last few, without marks of tables.
func telling(shown string) string {
	best := ""
	lines := strings.Split(strings.TrimSpace(shown), "\n")
	for _, l := range lines[max(0, len(lines)-6):] {
		if l = strings.Join(strings.Fields(strings.NewReplacer("|", "/", "`", "'").Replace(l)), " "); len(l) > len(best) {
			best = l
		}
	}
	return best[:min(len(best), 80)]
}

var triedField = regexp.MustCompile(`(?m)^tried:.*\n`)

// report writes docs/cards-tried.md and the field tried of each card.
func report(t *testing.T, rows map[string]string) {
	t.Helper()
	system := "Debian 12"
	date := time.Now().UTC().Format(time.DateOnly)
	var b strings.Builder
	fmt.Fprintf(&b, "# Built-in cards that a test has tried\n\n`make cards` wrote this, last on %s, on %s. It installed each program, made data with the program itself,\nmoved it with the built-in card to a user with another name and another home (or, for a program of the\nwhole computer, to another disk), and compared what the program printed before and after. Of the others, the\ncards were written from the programs' documentation.\n\n| card | version | of what the program printed |\n|---|---|---|\n", date, system)
	known, _ := os.ReadFile("../docs/cards-tried.md")
	for _, a := range withCards {
		if rows[a.card] == "" { // not tried now
			if line := regexp.MustCompile(`(?m)^\| ` + a.card + ` \|.*$`).Find(known); line != nil {
				b.WriteString(string(line) + "\n")
			}
			continue
		}
		b.WriteString(rows[a.card] + "\n")
		name := filepath.Join("../cards", a.card+".yaml")
		data, err := os.ReadFile(name)
		fatal.If(t, err)
		version := strings.Split(rows[a.card], " | ")[1]
		tried := fmt.Sprintf("tried: [{system: %s, version: '%s', date: %s}]\n", system, version, date)
		text := strings.TrimRight(triedField.ReplaceAllString(string(data), ""), "\n") + "\n" + tried
		fatal.If(t, os.WriteFile(name, []byte(text), 0o644))
	}
	fatal.If(t, os.WriteFile("../docs/cards-tried.md", []byte(b.String()), 0o644))
}
