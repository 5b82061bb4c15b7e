package wide

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/registry"
)

// Around lists parts of applications that are not moved with their data: services, scheduled tasks,
// programs that start at sign-in, names of other computers. The details have the command of each.
// Parts of the system itself are left out.
func Around(c machine.Computer) (out []Finding) {
	switch c.System() {
	case machine.Windows:
		out = slices.Concat(services(c), starts(c), tasks(c), attached(c), hosts(c, `%WINDIR%\System32\drivers\etc\hosts`))
	case machine.MacOS:
		out = slices.Concat(agents(c), keychains(c), hosts(c, "/etc/hosts"))
	default:
		out = slices.Concat(units(c), crons(c), hosts(c, "/etc/hosts"))
	}
	for i := range out {
		out[i].Class = Surrounding
	}
	return out
}

// ofSystem reports whether a command belongs to the system itself.
func ofSystem(command string) bool {
	path := strings.ToLower(strings.Trim(command, `"' `))
	for _, lead := range []string{`%systemroot%`, `%windir%`, `\systemroot`, `\??\c:\windows`, `c:\windows`, "system32", "/usr/lib", "/lib/", "/usr/bin", "/bin/", "/usr/sbin", "/sbin/", "/system/"} {
		if strings.HasPrefix(path, lead) {
			return true
		}
	}
	return path == ""
}

// services returns the Windows services that run their own program (Type in winnt.h).
func services(c machine.Computer) (out []Finding) {
	const path = `HKLM\SYSTEM\CurrentControlSet\Services`
	k, err := c.Registry(path, nil)
	if err != nil {
		return nil
	}
	defer k.Close()
	names, _ := k.Keys()
	for _, n := range names {
		command := registry.Text(k, n, "ImagePath")
		if kind := registry.Text(k, n, "Type"); kind != "16" && kind != "32" && kind != "272" || ofSystem(command) {
			continue
		}
		f := Finding{What: "service " + n, Where: path + `\` + n, Details: []string{"runs " + command}}
		if as := registry.Text(k, n, "ObjectName"); as != "" && !strings.EqualFold(as, "LocalSystem") {
			f.Details = append(f.Details, "as "+as)
		}
		out = append(out, f)
	}
	return out
}

// starts returns the programs that start at sign-in.
func starts(c machine.Computer) (out []Finding) {
	for _, path := range []string{`HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run`, `HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Run`, `HKCU\Software\Microsoft\Windows\CurrentVersion\Run`} {
		users := []*machine.User{nil}
		if strings.HasPrefix(path, "HKCU") {
			users = machine.Profiles(c, "%USERPROFILE%")
		}
		for _, u := range users {
			k, err := c.Registry(path, u)
			if err != nil {
				continue
			}
			values, _ := k.Values()
			for _, v := range values {
				if command := v.Text(); !ofSystem(command) {
					f := Finding{What: "started at sign-in: " + v.Name, Where: path, Details: []string{"runs " + command}}
					if u != nil {
						f.User = u.Name
					}
					out = append(out, f)
				}
			}
			k.Close()
		}
	}
	return out
}

// tasks returns the scheduled tasks of Windows that a user or an app created. Each is an XML file
// (the Task Scheduler schema).
func tasks(c machine.Computer) (out []Finding) {
	root, err := c.Locate(`%WINDIR%\System32\Tasks`, nil)
	if err != nil {
		return nil
	}
	filepath.WalkDir(root, func(name string, e os.DirEntry, err error) error { //nolint:errcheck // unreadable files are not shown
		if err != nil {
			return nil
		}
		if e.IsDir() && strings.EqualFold(e.Name(), "Microsoft") {
			return filepath.SkipDir
		}
		if e.IsDir() {
			return nil
		}
		data, err := readText(name)
		if err != nil {
			return nil
		}
		var task struct {
			Commands []string `xml:"Actions>Exec>Command"`
		}
		dec := xml.NewDecoder(bytes.NewReader(data))
		dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
		if dec.Decode(&task) != nil || len(task.Commands) == 0 || ofSystem(task.Commands[0]) {
			return nil
		}
		out = append(out, Finding{What: "scheduled task " + e.Name(), Where: name, Details: []string{"runs " + task.Commands[0]}})
		return nil
	})
	return out
}

// maxSmall is the number of bytes of a small text file that are read.
const maxSmall = 1 << 20

// readText reads a small text file in UTF-8, or in UTF-16 with a byte order mark.
func readText(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(transform.NewReader(io.LimitReader(f, maxSmall), unicode.BOMOverride(unicode.UTF8.NewDecoder())))
}

// hosts returns the names that a user entered for other computers (hosts(5)).
func hosts(c machine.Computer, path string) []Finding {
	name, err := c.Locate(path, nil)
	if err != nil {
		return nil
	}
	f := Finding{What: "computer names that were entered by hand", Where: name}
	eachLine(name, func(line string) {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		if len(words) < 2 || strings.HasPrefix(words[0], "127.") || strings.HasPrefix(words[0], "::1") || strings.HasPrefix(words[0], "ff") || strings.HasPrefix(words[0], "fe00") || len(f.Details) == maxDetails {
			return
		}
		f.Details = append(f.Details, strings.Join(words, " "))
	})
	if f.Details == nil {
		return nil
	}
	return []Finding{f}
}

func eachLine(name string, each func(string)) {
	data, err := readText(name)
	if err != nil {
		return
	}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		each(strings.TrimSpace(lines.Text()))
	}
}

// units returns the systemd units that a user created (systemd.unit(5)), and the programs that the
// desktop starts (the Desktop Application Autostart Specification).
func units(c machine.Computer) (out []Finding) {
	look := func(term, pattern, what, field string, user *machine.User) {
		dir, err := c.Locate(term, user)
		if err != nil {
			return
		}
		names, _ := filepath.Glob(filepath.Join(dir, pattern))
		for _, name := range names {
			if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() {
				continue // a link to a unit elsewhere
			}
			f := Finding{What: what + filepath.Base(name), Where: name}
			eachLine(name, func(line string) {
				if command, is := strings.CutPrefix(line, field); is && len(f.Details) < maxDetails {
					f.Details = append(f.Details, "runs "+strings.TrimLeft(command, "@-:+! "))
				}
			})
			if user != nil {
				f.User = user.Name
			}
			if f.Details != nil {
				out = append(out, f)
			}
		}
	}
	look("/etc/systemd/system", "*.service", "service ", "ExecStart=", nil)
	for _, u := range machine.Profiles(c, "~") {
		look("~/.config/systemd/user", "*.service", "service ", "ExecStart=", u)
		look("~/.config/autostart", "*.desktop", "started at sign-in: ", "Exec=", u)
	}
	return out
}

// crons returns the crontab lines that users created (crontab(5)).
func crons(c machine.Computer) (out []Finding) {
	for _, pattern := range []string{"/etc/crontab", "/etc/cron.d/*", "/var/spool/cron/crontabs/*"} {
		at, err := c.Locate(pattern, nil)
		if err != nil {
			continue
		}
		names, _ := filepath.Glob(at)
		for _, name := range names {
			f := Finding{What: "scheduled commands", Where: name}
			eachLine(name, func(line string) {
				words := strings.Fields(line)
				if len(words) < 6 || strings.HasPrefix(line, "#") || strings.Contains(words[0], "=") || strings.Contains(line, "run-parts") || len(f.Details) == maxDetails {
					return
				}
				if command := words[len(words)-1]; strings.HasPrefix(line, "@") || !ofSystem(command) || !ofSystem(words[5]) {
					f.Details = append(f.Details, "runs "+line)
				}
			})
			if f.Details != nil {
				out = append(out, f)
			}
		}
	}
	return out
}

// agents returns the programs that macOS starts automatically, at sign-in or for the whole computer
// (launchd.plist(5)).
func agents(c machine.Computer) (out []Finding) {
	for _, dir := range []string{"/Library/LaunchDaemons", "/Library/LaunchAgents", "~/Library/LaunchAgents"} {
		for _, u := range machine.Profiles(c, dir) {
			at, err := c.Locate(dir, u)
			if err != nil {
				continue
			}
			files, _ := filepath.Glob(filepath.Join(at, "*.plist"))
			for _, f := range files {
				runs := ""
				for _, key := range []string{"Program", "ProgramArguments/0"} {
					if v, err := probe.ListValue(f, key); err == nil {
						runs = cmp.Or(runs, v)
					}
				}
				if ofSystem(runs) {
					continue
				}
				what := Finding{What: "started by the system: " + strings.TrimSuffix(filepath.Base(f), ".plist"), Where: f, Details: []string{"runs " + runs}}
				if u != nil {
					what.User = u.Name
				}
				out = append(out, what)
			}
		}
	}
	return out
}

// keychains returns a Mac's stores for passwords and certificates. They can be opened only on that
// computer, or moved with the system's own tools.
func keychains(c machine.Computer) (out []Finding) {
	for _, u := range c.Users() {
		at, err := c.Locate("~/Library/Keychains", &u)
		if err != nil {
			continue
		}
		if there, err := machine.Exists(at); err == nil && there {
			out = append(out, Finding{What: "the keychain, with passwords and certificates of apps", Where: at, User: u.Name, Details: []string{"cannot be moved as files: write down the passwords, and export the certificates"}})
		}
	}
	return out
}

// attached returns things that a user set up on a Windows computer for its apps: drives mapped to
// shares, printers, fonts of one user, ODBC drivers.
func attached(c machine.Computer) (out []Finding) {
	for _, l := range []struct {
		path, what string
		values     bool   // they are values, not keys
		told       string // for a key: the value with more information
	}{
		{`HKCU\Network`, "drive %s:, mapped to a share", false, "RemotePath"},
		{`HKLM\SYSTEM\CurrentControlSet\Control\Print\Printers`, "printer %s", false, "Printer Driver"},
		{`HKCU\Software\Microsoft\Windows NT\CurrentVersion\Fonts`, "font %s of one user", true, ""},
		{`HKLM\SOFTWARE\ODBC\ODBCINST.INI\ODBC Drivers`, "ODBC driver %s", true, ""},
		{`HKLM\SOFTWARE\WOW6432Node\ODBC\ODBCINST.INI\ODBC Drivers`, "ODBC driver %s (32 bit)", true, ""},
	} {
		users := []*machine.User{nil}
		if strings.HasPrefix(l.path, "HKCU") {
			users = machine.Profiles(c, "%USERPROFILE%")
		}
		for _, u := range users {
			k, err := c.Registry(l.path, u)
			if err != nil {
				continue
			}
			told := map[string]string{}
			if l.values {
				values, _ := k.Values()
				for _, v := range values {
					told[v.Name] = ""
				}
			} else if names, err := k.Keys(); err == nil {
				for _, n := range names {
					told[n] = registry.Text(k, n, l.told)
				}
			}
			k.Close()
			for _, n := range slices.Sorted(maps.Keys(told)) {
				if n == "" || ofEveryWindows(n) {
					continue
				}
				f := Finding{What: fmt.Sprintf(l.what, n), Where: l.path, Named: n}
				if len(n) == 1 {
					f.Named = n + `:\`
				}
				if told[n] != "" {
					f.Details = []string{told[n]}
				}
				if u != nil {
					f.User = u.Name
				}
				out = append(out, f)
			}
		}
	}
	return out
}

// ofEveryWindows reports whether a printer or driver is part of Windows.
func ofEveryWindows(name string) bool {
	for _, lead := range []string{"Microsoft ", "Fax", "OneNote", "SQL Server", "Driver da ", "Driver do ", "Microsoft-"} {
		if strings.HasPrefix(name, lead) {
			return true
		}
	}
	return false
}
