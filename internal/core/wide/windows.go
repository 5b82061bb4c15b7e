package wide

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/registry"
)

// surveyor lists what surrounds the apps of a Windows computer.
type surveyor struct {
	c        machine.Computer
	programs map[string]string // names of installed programs, by folder in lower case
	out      []Finding
}

func aroundWindows(c machine.Computer) []Finding {
	s := &surveyor{c: c, programs: map[string]string{}}
	for _, path := range probe.Uninstall {
		s.each(path, func(k registry.Key, _ *machine.User) {
			names, _ := k.Keys()
			for _, n := range names {
				if in, title := registry.Text(k, n, "InstallLocation"), registry.Text(k, n, "DisplayName"); len(in) > 3 && title != "" {
					s.programs[strings.ToLower(strings.TrimRight(strings.Trim(in, `"`), `\`))] = strings.TrimSpace(title)
				}
			}
		})
	}
	s.services()
	s.starts()
	s.tasks()
	s.keys()
	s.shares()
	s.instances()
	s.environment()
	s.firewall()
	s.associations()
	s.certificates()
	s.credentials()
	return s.out
}

// each opens a key, for every user if it is a key of users.
func (s *surveyor) each(path string, do func(registry.Key, *machine.User)) {
	users := []*machine.User{nil}
	if strings.HasPrefix(path, "HKCU") {
		users = machine.Profiles(s.c, "%USERPROFILE%")
	}
	for _, u := range users {
		if k, err := s.c.Registry(path, u); err == nil {
			do(k, u)
			k.Close()
		}
	}
}

func (s *surveyor) add(f Finding, u *machine.User) {
	if u != nil {
		f.User = u.Name
	}
	s.out = append(s.out, f)
}

// hostPrograms run what their arguments name.
var hostPrograms = set("cmd.exe cmd powershell.exe powershell pwsh.exe pwsh cscript.exe cscript wscript.exe wscript rundll32.exe rundll32 mshta.exe java.exe javaw.exe java javaw python.exe pythonw.exe")

// pathIn matches paths in a command.
var pathIn = regexp.MustCompile(`(?i)(?:[a-z]:\\|%[a-z()0-9_]+%\\|\\\\[a-z0-9])[^"*?<>|;]*`)

// foreign returns the path of the program or script in a command that does not belong to Windows, or "".
func (s *surveyor) foreign(command string) string {
	program, args := splitCommand(command)
	base := strings.ToLower(program[strings.LastIndexAny(program, `\/`)+1:])
	if !hostPrograms[base] && !ofSystem(program) {
		return program
	}
	if hostPrograms[base] {
		for _, path := range pathIn.FindAllString(args, -1) {
			if !ofSystem(path) {
				return strings.TrimRight(path, ` )'`)
			}
		}
		return ""
	}
	// A vendor's program in the folder of Windows.
	real, err := s.c.Locate(program, nil)
	if maker := ""; err == nil && strings.HasSuffix(base, ".exe") {
		if maker = probe.ExeMaker(real); maker != "" && !strings.Contains(strings.ToLower(maker), "microsoft") {
			return program
		}
	}
	return ""
}

// splitCommand splits a command into its program and arguments.
func splitCommand(command string) (program, args string) {
	command = strings.TrimSpace(command)
	if rest, quoted := strings.CutPrefix(command, `"`); quoted {
		program, args, _ = strings.Cut(rest, `"`)
		return program, strings.TrimSpace(args)
	}
	if i := strings.Index(strings.ToLower(command), ".exe"); i >= 0 {
		return command[:i+4], strings.TrimSpace(command[i+4:])
	}
	program, args, _ = strings.Cut(command, " ")
	return program, args
}

// appOf returns the installed program, or the folder of programs, that a path belongs to.
func (s *surveyor) appOf(path string) string {
	for at := strings.ToLower(strings.TrimSpace(path)); strings.Contains(at, `\`); at = at[:strings.LastIndex(at, `\`)] {
		if title := s.programs[at]; title != "" {
			return title
		}
	}
	parts := strings.Split(path, `\`)
	for i, part := range parts {
		if lower := strings.ToLower(part); i > 0 && i < len(parts)-1 && lower != "program files" && lower != "program files (x86)" && lower != "programdata" && lower != "windows" && lower != "system32" {
			return part
		}
	}
	return ""
}

// services returns the services that run a program of their own (Type in winnt.h), or a library in a host of Windows, and the
// drivers of hardware tokens.
func (s *surveyor) services() {
	const path = `HKLM\SYSTEM\CurrentControlSet\Services`
	s.each(path, func(k registry.Key, _ *machine.User) {
		names, _ := k.Keys()
		for _, n := range names {
			command, kind := registry.Text(k, n, "ImagePath"), registry.Text(k, n, "Type")
			if kind == "1" && dongle.MatchString(n) {
				s.add(Finding{What: "driver of a hardware token: " + n, Where: path + `\` + n, Named: n, Shows: path + `\` + n, Details: []string{command}}, nil)
			}
			if kind != "16" && kind != "32" && kind != "272" && kind != "288" {
				continue
			}
			f := Finding{What: "service " + n, Where: path + `\` + n, Job: n, Details: []string{"runs " + command}}
			at := s.foreign(command)
			if library := cmp.Or(registry.Text(k, n+`\Parameters`, "ServiceDll"), registry.Text(k, n, "ServiceDll")); at == "" && library != "" && !ofSystem(library) {
				at, f.Details = library, []string{"runs " + library + " in a host of Windows"}
			}
			if at == "" {
				continue
			}
			f.App = s.appOf(at)
			if as := registry.Text(k, n, "ObjectName"); as != "" && !strings.EqualFold(as, "LocalSystem") {
				f.Details = append(f.Details, "as "+as)
			}
			s.add(f, nil)
		}
	})
}

// dongle matches names of drivers for hardware tokens that applications check.
var dongle = regexp.MustCompile(`(?i)^(aks(hasp|fridge|usb|df)|hasp|hardlock|sentinel|sntnl|wibu|cmdongle|rockey|senselock|smartlock|keylok|unikey|matrixusb|guardant|grdusb|marx|cbusb)`)

// starts returns the programs that start at sign-in.
func (s *surveyor) starts() {
	for _, root := range []string{`HKLM\SOFTWARE\Microsoft`, `HKLM\SOFTWARE\WOW6432Node\Microsoft`, `HKCU\Software\Microsoft`} {
		for name, what := range map[string]string{"Run": "started at sign-in: ", "RunOnce": "started at the next sign-in: "} {
			path := root + `\Windows\CurrentVersion\` + name
			s.each(path, func(k registry.Key, u *machine.User) {
				values, _ := k.Values()
				for _, v := range values {
					if at := s.foreign(v.Text()); at != "" {
						s.add(Finding{What: what + v.Name, Where: path, App: s.appOf(at), Details: []string{"runs " + v.Text()}}, u)
					}
				}
			})
		}
	}
	const menu = `\Microsoft\Windows\Start Menu\Programs\Startup`
	for _, term := range []string{`%PROGRAMDATA%` + menu, `%APPDATA%` + menu} {
		for _, u := range machine.Profiles(s.c, term) {
			dir, err := s.c.Locate(term, u)
			if err != nil {
				continue
			}
			entries, _ := os.ReadDir(dir)
			for _, e := range entries {
				if e.IsDir() || strings.EqualFold(e.Name(), "desktop.ini") {
					continue
				}
				f := Finding{What: "started at sign-in: " + e.Name(), Where: filepath.Join(dir, e.Name())}
				if to := shortcut(f.Where); to != "" {
					f.App, f.Details = s.appOf(to), []string{"runs " + to}
				}
				s.add(f, u)
			}
		}
	}
}

// shortcut returns the path in a shortcut (LinkInfo in the Shell Link format, MS-SHLLINK), or "".
func shortcut(name string) string {
	f, err := os.Open(name)
	if err != nil || !strings.EqualFold(filepath.Ext(name), ".lnk") {
		return ""
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxSmall))
	if err != nil {
		return ""
	}
	if m := regexp.MustCompile(`(?i)[a-z]:\\[^\x00-\x1f"*?<>|]{3,259}\x00`).Find(data); m != nil {
		return string(bytes.TrimRight(m, "\x00"))
	}
	return ""
}

// tasks returns the scheduled tasks that a user or an app created. Each is an XML file (the Task Scheduler schema).
func (s *surveyor) tasks() {
	root, err := s.c.Locate(`%WINDIR%\System32\Tasks`, nil)
	if err != nil {
		return
	}
	filepath.WalkDir(root, func(name string, e os.DirEntry, err error) error { //nolint:errcheck // unreadable files are not shown
		if err != nil || e.IsDir() {
			if err == nil && strings.EqualFold(e.Name(), "Microsoft") {
				return filepath.SkipDir
			}
			return nil
		}
		data, err := readText(name)
		if err != nil {
			return nil
		}
		var task struct {
			Exec []struct {
				Command          string
				Arguments        string
				WorkingDirectory string
			} `xml:"Actions>Exec"`
			User string `xml:"Principals>Principal>UserId"`
		}
		dec := xml.NewDecoder(bytes.NewReader(data))
		dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
		if dec.Decode(&task) != nil {
			return nil
		}
		rel, _ := filepath.Rel(root, name)
		f := Finding{What: "scheduled task " + e.Name(), Where: name, Job: `\` + strings.ReplaceAll(filepath.ToSlash(rel), "/", `\`), Timed: true}
		at := ""
		for _, x := range task.Exec {
			command := strings.TrimSpace(x.Command + " " + x.Arguments)
			if path := s.foreign(command); path != "" && len(f.Details) < maxDetails {
				at = cmp.Or(at, path)
				f.Details = append(f.Details, "runs "+command)
				if x.WorkingDirectory != "" {
					f.Details = append(f.Details, "in "+x.WorkingDirectory)
				}
			}
		}
		if at == "" {
			return nil
		}
		if f.App = s.appOf(at); task.User != "" && task.User != "S-1-5-18" {
			f.Details = append(f.Details, "as "+task.User)
		}
		s.add(f, nil)
		return nil
	})
}

// keys returns what keys and values in the registry name: mapped drives, printers, fonts, ODBC drivers.
func (s *surveyor) keys() {
	for _, l := range []struct {
		path, what string
		values     bool   // they are values, not keys
		told, as   string // for a key: the value with more information, and the one with an account
	}{
		{`HKCU\Network`, "drive %s:, mapped to a share", false, "RemotePath", "UserName"},
		{`HKLM\SYSTEM\CurrentControlSet\Control\Print\Printers`, "printer %s", false, "Printer Driver", ""},
		{`HKCU\Printers\Connections`, "printer %s of another computer", false, "", ""},
		{`HKCU\Software\Microsoft\Windows NT\CurrentVersion\Fonts`, "font %s of one user", true, "", ""},
		{`HKLM\SOFTWARE\ODBC\ODBCINST.INI\ODBC Drivers`, "ODBC driver %s (64 bit)", true, "", ""},
		{`HKLM\SOFTWARE\WOW6432Node\ODBC\ODBCINST.INI\ODBC Drivers`, "ODBC driver %s (32 bit)", true, "", ""},
	} {
		s.each(l.path, func(k registry.Key, u *machine.User) {
			told := map[string][]string{}
			if l.values {
				values, _ := k.Values()
				for _, v := range values {
					told[v.Name] = nil
				}
			} else if names, err := k.Keys(); err == nil {
				for _, n := range names {
					told[n] = nil
					if text := registry.Text(k, n, l.told); l.told != "" && text != "" {
						told[n] = append(told[n], text)
					}
					if as := registry.Text(k, n, l.as); l.as != "" && as != "" && as != "0" {
						told[n] = append(told[n], "as "+as)
					}
				}
			}
			for _, n := range slices.Sorted(maps.Keys(told)) {
				name := strings.ReplaceAll(n, ",", `\`) // of a printer connection: ,,SERVER,PRINTER
				if l.path != `HKCU\Printers\Connections` {
					name = n
				}
				if name == "" || ofEveryWindows(name) {
					continue
				}
				f := Finding{What: fmt.Sprintf(l.what, name), Where: l.path, Named: name, Details: told[n]}
				if ini, is := strings.CutSuffix(l.path, `\ODBC Drivers`); is {
					f.Shows = ini + `\` + name
				}
				if len(name) == 1 {
					f.Named = name + `:\`
				}
				s.add(f, u)
			}
		})
	}
}

// everyWindows matches the printers and the ODBC drivers that are part of Windows. Newer drivers of the same maker, which also
// open .accdb and .xlsx, are not.
var everyWindows = regexp.MustCompile(`^(SQL Server|Fax|OneNote.*|Microsoft (Print|XPS|Shared Fax).*|Microsoft ODBC for Oracle|(Microsoft|Driver d[ao] Microsoft) [^(]*\(\*\.(mdb|dbf|xls|db ?|txt; ?\*\.csv|vfp.*)\))$`)

// ofEveryWindows reports whether a printer or driver is part of Windows.
func ofEveryWindows(name string) bool { return everyWindows.MatchString(name) }

// shares returns the folders that this computer shares ("LanmanServer" in the Windows documentation).
func (s *surveyor) shares() {
	const path = `HKLM\SYSTEM\CurrentControlSet\Services\LanmanServer\Shares`
	s.each(path, func(k registry.Key, _ *machine.User) {
		values, _ := k.Values()
		for _, v := range values {
			f := Finding{What: "share " + v.Name, Where: path, Named: v.Name}
			for line := range strings.Lines(v.Text()) {
				if folder, is := strings.CutPrefix(strings.TrimSpace(line), "Path="); is {
					f.Details, f.App = []string{"of " + folder}, s.appOf(folder+`\`)
				}
			}
			s.add(f, nil)
		}
	})
}

// instances returns the installed instances of SQL Server, as a card names them ("File Locations for Default and Named Instances"
// in the documentation of SQL Server).
func (s *surveyor) instances() {
	const path = `HKLM\SOFTWARE\Microsoft\Microsoft SQL Server`
	s.each(path+`\Instance Names\SQL`, func(names registry.Key, _ *machine.User) {
		values, _ := names.Values()
		s.each(path, func(k registry.Key, _ *machine.User) {
			for _, v := range values {
				id, host := v.Text(), `.\`+v.Name
				if v.Name == "MSSQLSERVER" { // the default instance
					host = "."
				}
				f := Finding{What: "instance " + host + " of SQL Server", Where: path + `\` + id, Named: v.Name, Details: []string{"its databases move with items of kind sqlserver and host " + host}}
				for _, fact := range [][2]string{{`\Setup`, "Version"}, {`\Setup`, "Edition"}, {`\Setup`, "SQLDataRoot"}, {`\MSSQLServer\SuperSocketNetLib\Tcp\IPAll`, "TcpPort"}} {
					if text := registry.Text(k, id+fact[0], fact[1]); text != "" {
						f.Details = append(f.Details, fact[1]+" "+text)
					}
				}
				s.add(f, nil)
			}
		})
	})
}

// ownVariables are the environment variables that Windows itself sets.
var ownVariables = regexp.MustCompile(`(?i)^(ComSpec|DriverData|NUMBER_OF_PROCESSORS|OS|PATHEXT|PROCESSOR_.*|PSModulePath|TEMP|TMP|USERNAME|windir|OneDrive.*)$`)

// environment returns the environment variables that somebody set, and the folders that were added to the path.
func (s *surveyor) environment() {
	for _, path := range []string{`HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Environment`, `HKCU\Environment`} {
		s.each(path, func(k registry.Key, u *machine.User) {
			values, _ := k.Values()
			for _, v := range values {
				if ownVariables.MatchString(v.Name) {
					continue
				}
				if !strings.EqualFold(v.Name, "Path") {
					s.add(Finding{What: "environment variable " + v.Name, Where: path, Named: v.Name, App: s.appOf(v.Text() + `\`), Details: []string{"is " + v.Text()}}, u)
					continue
				}
				for _, folder := range strings.Split(v.Text(), ";") {
					if folder = strings.TrimSpace(folder); folder != "" && !ofSystem(folder) && !strings.Contains(strings.ToLower(folder), `\microsoft\windowsapps`) {
						s.add(Finding{What: "folder in the path: " + folder, Where: path, App: s.appOf(folder + `\`)}, u)
					}
				}
			}
		})
	}
}

// firewall returns the rules for programs and ports that are not part of Windows (the string form of firewall rules, MS-FASP).
func (s *surveyor) firewall() {
	const path = `HKLM\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules`
	s.each(path, func(k registry.Key, _ *machine.User) {
		values, _ := k.Values()
		for _, v := range values {
			rule := map[string]string{}
			for _, part := range strings.Split(v.Text(), "|") {
				if name, text, ok := strings.Cut(part, "="); ok {
					rule[name] = text
				}
			}
			app := rule["App"]
			if strings.EqualFold(rule["Active"], "FALSE") || strings.HasPrefix(rule["Name"], "@") || app != "" && ofSystem(app) || app == "" && rule["LPort"] == "" {
				continue
			}
			f := Finding{What: "firewall rule " + rule["Name"], Where: path, App: s.appOf(app)}
			f.Details = append(f.Details, strings.TrimSpace(strings.ToLower(rule["Action"])+" "+map[string]string{"In": "incoming", "Out": "outgoing"}[rule["Dir"]]))
			for _, d := range [][2]string{{"port ", rule["LPort"]}, {"runs ", app}} {
				if d[1] != "" {
					f.Details = append(f.Details, d[0]+d[1])
				}
			}
			s.add(f, nil)
		}
	})
}

// associations returns the programs that open files of a type, one finding for each program.
func (s *surveyor) associations() {
	for _, path := range []string{`HKLM\SOFTWARE\Classes`, `HKCU\Software\Classes`} {
		s.each(path, func(k registry.Key, u *machine.User) {
			names, _ := k.Keys()
			types := map[string][]string{}
			for _, n := range names {
				if !strings.HasPrefix(n, ".") {
					continue
				}
				opens := registry.Text(k, registry.Text(k, n, "")+`\shell\open\command`, "")
				if opens = cmp.Or(opens, registry.Text(k, n+`\shell\open\command`, "")); opens != "" && s.foreign(opens) != "" {
					types[opens] = append(types[opens], n)
				}
			}
			for _, command := range slices.Sorted(maps.Keys(types)) {
				all := types[command]
				f := Finding{What: "opens files " + strings.Join(all[:min(len(all), 5)], " "), Where: path, App: s.appOf(s.foreign(command)), Details: []string{"runs " + command}}
				if len(all) > 5 {
					f.What += fmt.Sprintf(" and %d more types", len(all)-5)
				}
				s.add(f, u)
			}
		})
	}
}

// certificates returns the own certificates of the computer and of its users, with their keys. Those of users are files in
// their profiles.
func (s *surveyor) certificates() {
	const own = `SOFTWARE\Microsoft\SystemCertificates\MY\Certificates`
	for _, path := range []string{`HKLM\` + own, `HKCU\` + own} {
		s.each(path, func(k registry.Key, u *machine.User) {
			names, _ := k.Keys()
			for _, n := range names {
				sub, err := k.Open(n)
				if err != nil {
					continue
				}
				if v, err := registry.Get(sub, "Blob"); err == nil {
					s.certificate(v.Data, path+`\`+n, u)
				}
				sub.Close()
			}
		})
	}
	const files = `%APPDATA%\Microsoft\SystemCertificates\My\Certificates`
	for _, u := range machine.Profiles(s.c, files) {
		dir, err := s.c.Locate(files, u)
		if err != nil {
			continue
		}
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			if info, err := e.Info(); err == nil && info.Mode().IsRegular() && info.Size() <= maxSmall {
				if data, err := os.ReadFile(filepath.Join(dir, e.Name())); err == nil {
					s.certificate(data, filepath.Join(dir, e.Name()), u)
				}
			}
		}
	}
}

// Properties in a serialised certificate (CERT_CONTEXT properties in wincrypt.h).
const (
	propertyKey  = 2  // where its private key is
	propertyText = 32 // the certificate, in DER
)

// certificate reads a serialised certificate: properties with a number, a one and a length, all of 32 bits.
func (s *surveyor) certificate(data []byte, where string, u *machine.User) {
	var der []byte
	key := false
	for len(data) >= 12 {
		id, n := binary.LittleEndian.Uint32(data), uint64(binary.LittleEndian.Uint32(data[8:]))
		if data = data[12:]; n > uint64(len(data)) {
			return
		}
		switch id {
		case propertyKey:
			key = true
		case propertyText:
			der = data[:n]
		}
		data = data[n:]
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return
	}
	f := Finding{What: "certificate of " + cmp.Or(c.Subject.CommonName, c.Subject.String()), Where: where, Named: c.Subject.CommonName, Details: []string{"valid until " + c.NotAfter.Format("2006-01-02")}}
	if key {
		f.Details = append(f.Details, "with a private key: export both with certmgr.msc (certlm.msc for the computer); if Windows refuses, request a new one")
	}
	s.add(f, u)
}

// credentials returns how many passwords the Credential Manager of each user has. Their names are encrypted too.
func (s *surveyor) credentials() {
	for _, u := range s.c.Users() {
		n := 0
		for _, folder := range []string{`%APPDATA%\Microsoft\Credentials`, `%LOCALAPPDATA%\Microsoft\Credentials`} {
			if dir, err := s.c.Locate(folder, &u); err == nil {
				entries, _ := os.ReadDir(dir)
				n += len(entries)
			}
		}
		if n > 0 {
			s.add(Finding{What: fmt.Sprintf("passwords in the Credential Manager (%d)", n), Where: `%APPDATA%\Microsoft\Credentials`, Details: []string{"cannot be opened on another computer: back them up in the Control Panel, or write them down"}}, &u)
		}
	}
}
