package wide

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/registry"
)

// eachKey opens a key, for every user if it is a per-user key.
func (s *Search) eachKey(path string, do func(k registry.Key, user string)) {
	users := []machine.User{{}}
	if strings.HasPrefix(path, "HKCU") {
		users = s.Computer.Users()
	}
	for _, u := range users {
		k, err := s.Computer.Registry(path, &u)
		if err != nil {
			continue
		}
		do(k, u.Name)
		k.Close()
	}
}

// installed returns the installed programs without a card. Parts of the system and of other
// programs are left out.
func (s *Search) installed() []Finding {
	switch s.Computer.System() {
	case machine.MacOS:
		return s.applications()
	case machine.Linux:
		return nil
	}
	var out []Finding
	for _, path := range probe.Uninstall {
		s.eachKey(path, func(k registry.Key, user string) {
			names, _ := k.Keys()
			for _, n := range names {
				text := func(value string) string { return strings.TrimSpace(registry.Text(k, n, value)) }
				title := text("DisplayName")
				if title == "" || text("SystemComponent") == "1" || text("ParentKeyName") != "" || s.aboutCard(title, text("InstallLocation")) {
					continue
				}
				f := Finding{Class: Program, What: title, Where: path + `\` + n, User: user}
				for _, d := range [][2]string{{"version", text("DisplayVersion")}, {"by", text("Publisher")}, {"in", text("InstallLocation")}} {
					if d[1] != "" {
						f.Details = append(f.Details, d[0]+" "+d[1])
					}
				}
				if at, err := time.Parse("20060102", text("InstallDate")); err == nil {
					f.Newest = at
				}
				if kib, err := strconv.ParseInt(text("EstimatedSize"), 10, 64); err == nil {
					f.Bytes = kib << 10
				}
				out = append(out, f)
			}
		})
	}
	return out
}

// applications returns the applications in /Applications without a card, with their versions.
func (s *Search) applications() (out []Finding) {
	dir, err := s.Computer.Locate("/Applications", nil)
	if err != nil {
		return nil
	}
	apps, _ := filepath.Glob(filepath.Join(dir, "*.app"))
	for _, app := range apps {
		title := strings.TrimSuffix(filepath.Base(app), ".app")
		if s.aboutCard(title, machine.DisplayPath(s.Computer, app)) {
			continue
		}
		f := Finding{Class: Program, What: title, Where: app}
		if v, err := probe.AppVersion(app); err == nil && v != "" {
			f.Details = []string{"version " + v}
		}
		out = append(out, f)
	}
	return out
}

// aboutCard reports whether a card covers an installed program: its title contains the app's name,
// or its folder contains one of the app's programs.
func (s *Search) aboutCard(title, folder string) bool {
	return slices.ContainsFunc(s.Cards, func(c *card.Card) bool {
		if strings.Contains(strings.ToLower(title), strings.ToLower(c.Title)) {
			return true
		}
		at, err := s.Computer.Locate(folder, nil)
		if folder == "" || err != nil {
			return false
		}
		return slices.ContainsFunc(c.Programs, func(p string) bool {
			there, err := machine.Exists(filepath.Join(at, p))
			return err == nil && there
		})
	})
}

// systemTrees lists the keys below SOFTWARE that belong to the system, not a vendor.
var systemTrees = map[string]bool{"microsoft": true, "classes": true, "clients": true, "policies": true, "registeredapplications": true, "wow6432node": true, "odbc": true, "windows": true, "khronos": true, "openssh": true, "partner": true, "default": true, "appdatalow": true, "wine": true}

// maxTree limits the counted keys of one vendor.
const maxTree = 20000

// registry returns the vendors' trees below SOFTWARE, and configured data sources.
func (s *Search) registry(ctx context.Context) []Finding {
	if s.Computer.System() != machine.Windows {
		return nil
	}
	var out []Finding
	for _, path := range []string{`HKLM\SOFTWARE`, `HKLM\SOFTWARE\WOW6432Node`, `HKCU\Software`} {
		s.eachKey(path, func(k registry.Key, user string) {
			names, _ := k.Keys()
			for _, n := range names {
				if systemTrees[strings.ToLower(n)] || ctx.Err() != nil {
					continue
				}
				f := Finding{Class: Registry, What: "registry tree of software", Where: path + `\` + n, User: user}
				if sub, err := k.Open(n); err == nil && !s.hasKey(f.Where) {
					names, _ := sub.Keys()
					countKey(sub, &f)
					for _, name := range names {
						if below, err := sub.Open(name); err == nil && !s.hasKey(f.Where+`\`+name) {
							f.Details = append(f.Details, name)
							countTree(below, &f, 1)
							below.Close()
						}
					}
					f.Details = f.Details[:min(len(f.Details), maxDetails)]
					sub.Close()
				}
				if f.Files > 0 {
					out = append(out, f)
				}
			}
		})
	}
	for _, path := range []string{`HKLM\SOFTWARE\ODBC\ODBC.INI`, `HKLM\SOFTWARE\WOW6432Node\ODBC\ODBC.INI`, `HKCU\Software\ODBC\ODBC.INI`} {
		s.eachKey(path, func(k registry.Key, user string) {
			names, _ := k.Keys()
			for _, n := range names {
				if strings.EqualFold(n, "ODBC Data Sources") || strings.EqualFold(n, "ODBC File DSN") {
					continue
				}
				f := Finding{Class: Registry, What: "ODBC data source " + n, Where: path + `\` + n, User: user, Count: 1}
				if s.hasKey(f.Where) {
					continue
				}
				for _, v := range []string{"Server", "Database", "DBQ", "Driver"} {
					if t := registry.Text(k, n, v); t != "" {
						f.Details = append(f.Details, fmt.Sprintf("%s %s", strings.ToLower(v), t))
					}
				}
				out = append(out, f)
			}
		})
	}
	return out
}

// hasKey reports whether a card covers a key.
func (s *Search) hasKey(key string) bool {
	return slices.ContainsFunc(s.Cards, func(c *card.Card) bool {
		return slices.ContainsFunc(c.Items, func(it card.Item) bool { return it.Key != "" && strings.EqualFold(it.Key, key) })
	})
}

// countTree counts the keys, values and bytes of a tree, and finds the latest change. Files is the
// number of values.
func countTree(k registry.Key, f *Finding, depth int) {
	if f.Count > maxTree || depth > 64 {
		return
	}
	countKey(k, f)
	names, err := k.Keys()
	if err != nil {
		return
	}
	for _, n := range names {
		if sub, err := k.Open(n); err == nil {
			countTree(sub, f, depth+1)
			sub.Close()
		}
	}
}

// countKey counts one key with its values.
func countKey(k registry.Key, f *Finding) {
	f.Count++
	if t := k.Modified(); t.After(f.Newest) {
		f.Newest = t
	}
	values, _ := k.Values()
	for _, v := range values {
		f.Files++
		f.Bytes += int64(len(v.Data))
	}
}
