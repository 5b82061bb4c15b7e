package wide

import (
	"bufio"
	"bytes"
	"cmp"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"movekit/internal/core/card"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
)

// Around lists what applications depend on besides their data: services, scheduled tasks, programs that start at
// sign-in, printers, drivers, shares, certificates, names of other computers. The details have the command of each. Parts
// of the system itself are left out.
func Around(c machine.Computer) (out []Finding) {
	switch c.System() {
	case machine.Windows:
		out = slices.Concat(aroundWindows(c), hosts(c, `%WINDIR%\System32\drivers\etc\hosts`))
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
			if job := strings.TrimSuffix(pattern, "*.service"); job != pattern {
				f.Job = filepath.Base(name)
				if user != nil {
					f.Job = "~/" + f.Job
				}
			}
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
			f := Finding{What: "scheduled commands", Where: name, Job: machine.DisplayPath(c, name), Timed: true}
			if strings.HasPrefix(pattern, "/var/spool/") {
				f.Job = card.Crontab
			} else if pattern == "/etc/crontab" {
				f.Job = "" // the system's own jobs are in it too
			}
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
				what := Finding{What: "started by the system: " + strings.TrimSuffix(filepath.Base(f), ".plist"), Where: f, Job: dir + "/" + filepath.Base(f), Details: []string{"runs " + runs}}
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
