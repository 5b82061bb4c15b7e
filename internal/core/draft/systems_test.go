package draft

import (
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/machine"
	"movekit/test/hivetest"
	"movekit/test/lay"
)

// of drafts on the disk of a computer.
func of(t *testing.T, root string) *Drafter {
	t.Helper()
	c, err := machine.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	return &Drafter{Computer: c, Temp: t.TempDir()}
}

// TestDraftOnWindows drafts from folders and registry keys of a Windows disk.
func TestDraftOnWindows(t *testing.T) {
	root := lay.Disk(t, "windows", map[string]string{
		"Users/maren/AppData/Roaming/Tidewright/tide.ini": "[Data]\r\nPath=\"c:/programdata/TIDEWRIGHT/\"\r\nHome=C:\\Users\\maren\\Berths\r\nPlans=P:\\2026\r\nPrinter=Berth plans\r\nConnect=Driver={Berth Driver 2};Port=1\r\n[More]\r\nOther=C:\\ProgramData\\Tidewright\\sub\r\n",
		"ProgramData/Tidewright/a.rec":                    "x", "ProgramData/Tidewright/common.cfg": "where=C:\\Yard\n", "Yard/y.mdb": "\x00\x01\x00\x00Standard Jet DB\x00" + strings.Repeat("\x00", 90), "Yard/n.rec": "x", "Users/tobias/x": "",
		"Program Files/Tidewright/tide.exe": "MZ", "Program Files/Tidewright/TRAY.EXE": "MZ", "Program Files/Tidewright/unins000.exe": "MZ", "Program Files/Tidewright/readme.txt": "x",
		"Program Files/Slipway/about.txt": "Slipway Boatyard\r\nRelease v3_07\r\n", "Program Files/Slipway/slip.exe": "MZ", "Program Files (x86)/winch/version.txt": "none",
	})
	uninstall := `\Microsoft\Windows\CurrentVersion\Uninstall\`
	hivetest.Lay(t, root, map[string]string{
		"Windows/System32/config/SOFTWARE": "[" + uninstall + "Part]\n\"DisplayName\"=\"Tidewright language\"\n[" + uninstall + "Other]\n\"DisplayName\"=\"Rota\"\n\"DisplayVersion\"=\"9\"\n[\\WOW6432Node" + uninstall + "A]\n\"DisplayName\"=\"Rota\"\n[\\WOW6432Node" + uninstall + `T]
"DisplayName"="TIDEWRIGHT 8"
"DisplayVersion"="8.2.1"
"InstallLocation"="C:\\Program Files\\Tidewright"
[\Ebb\Tidewright]
"Seat"="7"
[\ODBC\ODBCINST.INI\ODBC Drivers]
"Berth Driver 2"="Installed"
"Other Driver"="Installed"
[\Microsoft\Windows\CurrentVersion\Run]
"Tray"="\"C:\\Program Files\\Tidewright\\TRAY.exe\" /min"
"Other"="C:\\Program Files\\Other\\x.exe"
`,
		"Windows/System32/config/SYSTEM": "[\\ControlSet001\\Services\\TideNight]\n\"Type\"=dword:00000010\n\"ImagePath\"=\"C:\\\\Program Files\\\\Tidewright\\\\night.exe\"\n[\\ControlSet001\\Control\\Print\\Printers\\Berth plans]\n\"Printer Driver\"=\"Wide plotter\"\n[\\ControlSet001\\Control\\Print\\Printers\\Unnamed]\n",
		"Users/tobias/NTUSER.DAT": `[\Software\Ebb\Tidewright]
@="C:\\Users\\tobias\\Berths"
"Backup"="c:\\users\\TOBIAS\\Back[1]"
"Plain"="C:\\Windows"
"Sealed"=hex:01,00,00,00,d0,8c,9d,df,01,15,d1,11,8c,7a,00,c0,4f,c2,97,eb,01
[\Software\Ebb\Tidewright\Re{1}]
"Last"="C:\\ProgramData\\Tidewright\\a.rec"
"Link"=hex(6):41,00
[\Network\P]
"RemotePath"="\\\\QUAY-SRV\\plans"
`,
	})
	d := of(t, root)
	c, text := d.made(t, "tidewright", "", "%APPDATA%\\Tidewright", `C:\ProgramData\Tidewright`, `C:\Yard`, `HKCU\Software\Ebb\Tidewright`, `HKLM\SOFTWARE\Ebb\Tidewright`)
	if len(c.Requires) != 1 || c.Requires[0].Registry != `HKLM\SOFTWARE\ODBC\ODBCINST.INI\Berth Driver 2` {
		t.Errorf("requires %+v", c.Requires)
	}
	if it := c.Item("tidenight"); it == nil || it.Job.Windows != "TideNight" {
		t.Errorf("the service: %+v", it)
	}
	if c.Version == nil || c.Version.Registry != `HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall\T` || c.Version.Value != "DisplayVersion" || !strings.Contains(text, "# It is 8.2.1 here.") || !slices.Equal(c.Programs, []string{"TRAY.EXE", "tide.exe"}) {
		t.Errorf("version %+v, programs %q", c.Version, c.Programs)
	}
	var items []string
	for _, it := range c.Items {
		items = append(items, strings.TrimSpace(string(it.Kind)+" "+it.Name+" "+it.Path.Windows+it.Key+" "+strings.Join(it.UpdatePaths, " ")))
	}
	want := []string{`folder tidewright %APPDATA%\Tidewright tide.ini`, `folder tidewright-2 %PROGRAMDATA%\Tidewright common.cfg`, "folder yard", `jet y C:\Yard\y.mdb`, `registry tidewright-3 HKCU\Software\Ebb\Tidewright @ Backup Re?1?/Last`, `registry tidewright-4 HKLM\SOFTWARE\Ebb\Tidewright`, "service tidenight"}
	if !slices.Equal(items, want) {
		t.Errorf("items\n%s\nand not\n%s\n%s", strings.Join(items, "\n"), strings.Join(want, "\n"), text)
	}
	for _, comment := range []string{"# 2 keys, 5 values, of the user tobias\n", "# Sealed is encrypted by Windows", `# Re{1}\Link (it is a link to another key)`, "# 1 key, 1 value\n", "path: {from: {file: '%APPDATA%\\Tidewright\\tide.ini', key: 'Data/Path'}}\n"} {
		if !strings.Contains(text, comment) {
			t.Errorf("no %q in\n%s", comment, text)
		}
	}
	if yard := c.Item("yard"); yard.Path.From == nil || yard.Path.From.Key != "where" || yard.Path.From.File.Windows+yard.Path.From.File.Any != `%PROGRAMDATA%\Tidewright\common.cfg` {
		t.Errorf("where the yard lies: %+v\n%s", yard.Path, text)
	}
	wantBy := []string{`Set up again, unless the installer does: started at sign-in: Tray, runs "C:\Program Files\Tidewright\TRAY.exe" /min`, `Set up again, because the settings use it: drive P:, mapped to a share, \\QUAY-SRV\plans`, "Set up again, because the settings use it: printer Berth plans, Wide plotter"}
	for _, by := range wantBy {
		if !slices.Contains(c.ByHand, by) {
			t.Errorf("no %q in %q", by, c.ByHand)
		}
	}
	if len(c.ByHand) != len(wantBy)+1 || c.ByHand[len(wantBy)] != `Check the path in %APPDATA%\Tidewright\tide.ini, line 4: P:\2026` {
		t.Errorf("by hand %q", c.ByHand)
	}
	if _, err := d.Make(t.Context(), "x", "", []string{`HKCU\Software\None`}); fault.KindOf(err) != fault.Missing {
		t.Errorf("no key: %v", err)
	}
	if c, text := of(t, root).made(t, "slip", "Slipway", `C:\Yard\n.rec`); c.Version == nil || c.Version.File.Any+c.Version.File.Windows != `%PROGRAMFILES%\Slipway\about.txt` || !strings.Contains(text, "# It is 3_07 here.") || !slices.Equal(c.Programs, []string{"slip.exe"}) {
		t.Errorf("%+v\n%s", c.Version, text)
	}
	if c, _ := of(t, root).made(t, "winch", "", `C:\Yard\n.rec`); c.Version != nil {
		t.Errorf("%+v", c.Version)
	}
}

// TestDraftOnMac reads the version from the application's property list, and on Linux from
// packages.
func TestDraftOnMac(t *testing.T) {
	root := lay.Disk(t, "macos", map[string]string{
		"Applications/Tidewright.app/Contents/Info.plist": `<plist version="1.0"><dict><key>CFBundleVersion</key><string>812</string></dict></plist>`, "Users/maren/Library/Application Support/Tidewright/a.rec": "x",
		"Applications/Odd.app/x": "x",
	})
	c, text := of(t, root).made(t, "tidewright", "Tidewright", "~/Library/Application Support/Tidewright")
	if c.Version == nil || c.Version.Exe.Any+c.Version.Exe.MacOS != "/Applications/Tidewright.app" || !slices.Equal(c.Programs, []string{"Tidewright"}) || !strings.Contains(text, "# It is 812 here.") {
		t.Errorf("%+v %q", c.Version, c.Programs)
	}
	if c, _ := of(t, root).made(t, "odd", "", "~/Library/Application Support/Tidewright"); c.Version != nil {
		t.Errorf("%+v", c.Version)
	}
	d := found(t, map[string]string{"var/lib/dpkg/status": "Package: tide\nStatus: install ok installed\nVersion: 8.2-1\n", "srv/a": "x"})
	if c, text := d.made(t, "tide", "", "/srv/a"); c.Version == nil || c.Version.Package != "tide" || !strings.Contains(text, "# It is 8.2-1 here.") {
		t.Errorf("%+v", c.Version)
	}
}

// TestWritten writes a user's answers, and names that YAML or patterns would misread.
func TestWritten(t *testing.T) {
	d := &Draft{Name: "tide", Title: "It's new", System: machine.Linux, Vendor: "Ebb & Flow: the #1", About: "tides", Opens: &card.Opens{Look: "how many boats"}, Notes: []string{"odd\nnote"}, ByHand: []string{"plug it in"},
		Licences: []card.Licence{{Name: "seat", Method: card.MethodAccount, Deactivate: &card.Change{Steps: []card.Guide{{Do: "x"}}}, Activate: &card.Change{Steps: []card.Guide{{Do: "x"}}}}}, Programs: []string{"tide", "it's"}, Pointers: []Pointer{{"/etc/a", 3, "/srv/\x01"}},
		Items: []*Item{{Name: "data", Kind: kinds.Of("/", true), Path: "/srv/a", About: "1 file\nof one line", Notes: []string{"a\tb"}, Skips: []Skip{{"a", "why", 3, 1}, {"b", "not", 0, 0}, {"c", "many", 4, 2}}, Counts: []card.Count{{Name: "recs", Files: "**/*.rec"}}}}}
	text, err := d.YAML("check it")
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for _, line := range []string{"title: 'It''s new'", "vendor: 'Ebb & Flow: the #1'", "about: 'tides'", "licences:\n  - name: 'seat'\n    method: account\n", "opens:\n  look: 'how many boats'\n", "# Not read: odd?note", "  # 1 file?of one line\n  # a?b\n", "- 'a' # why (1 file, 3 B)\n      - 'b' # not\n      - 'c' # many (2 files, 4 B)\n",
		"- name: 'recs'\n        files: '**/*.rec'\n", "  - 'plug it in'\n", "programs: ['tide', 'it''s']", "line 3: /srv/?'"} {
		if !strings.Contains(string(text), line) {
			t.Errorf("no %q in\n%s", line, text)
		}
	}
	d.Items[0].Name = "no name"
	if text, err := d.YAML("check it"); fault.KindOf(err) != fault.BadCard || len(text) == 0 {
		t.Errorf("a draft that is no card: %v", err)
	}
}

// TestNames creates short names and patterns that are valid in cards.
func TestNames(t *testing.T) {
	for name, want := range map[string]string{"Tide Wright.db": "tide-wright", "ÄÖ": "item", "-a-": "a", strings.Repeat("a", 40): strings.Repeat("a", 36), strings.Repeat("a", 35) + "-bc": strings.Repeat("a", 35)} {
		if got := slug(name); got != want {
			t.Errorf("%s is %s", name, got)
		}
	}
	if got := patterns([]string{"a.ini", "b.ini", "c.ini", "d.ini", "x.cfg", "n"}); !slices.Equal(got, []string{"a.ini", "b.ini", "c.ini", "d.ini", "x.cfg", "n"}) {
		t.Errorf("four: %q", got)
	}
	if got := patterns([]string{"a.ini", "x[1].cfg", "b.ini", "c.ini", "d.ini", "e.ini", "n", "o", "p", "q", "r"}); !slices.Equal(got, []string{"**/*.ini", "x?1?.cfg", "n", "o", "p", "q", "r"}) {
		t.Errorf("five: %q", got)
	}
	for rel, want := range map[string]string{"a/Cache/b/c": "a/Cache/**", "cache": "", "x/run.LOG": "**/*.log", "a/b.rec": "", "a\\b/cache/x": "", "Temp/x.log": "Temp/**"} {
		if got, why := needlessPart(rel); got != want || (why == "") != (want == "") {
			t.Errorf("%s: %q, %s", rel, got, why)
		}
	}
}
