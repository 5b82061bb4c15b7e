package draft

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/card/value"
	"movekit/internal/core/machine"
	"movekit/internal/core/probe"
	"movekit/internal/core/registry"
)

// version proposes where to read the app's version: the list of installed programs, a package of
// that name, or a file in the folders.
func (d *Drafter) version(_ context.Context, out *Draft, paths []string) {
	switch d.Computer.System() {
	case machine.Windows:
		if d.uninstalled(out) {
			return
		}
	case machine.MacOS:
		for _, name := range []string{out.Title, out.Name} {
			app := "/Applications/" + name + ".app"
			if at, err := d.Computer.Locate(app, nil); err == nil {
				if v, err := probe.AppVersion(at); err == nil && v != "" {
					out.setVersion(v, card.Source{Exe: card.Path{Any: app}})
					out.Programs = []string{name}
					return
				}
			}
		}
	case machine.Linux:
		if v, err := probe.PackageVersion(d.Computer, out.Name); err == nil && v != "" {
			out.setVersion(v, card.Source{Package: out.Name})
			return
		}
	}
	for _, p := range paths {
		if real, err := d.locate(p); err == nil && d.versionFile(out, real) {
			return
		}
	}
	for _, folder := range []string{`%PROGRAMFILES%`, `%PROGRAMFILES(X86)%`, "/opt", "/usr/local"} {
		if at, err := d.Computer.Locate(folder, nil); err == nil {
			for _, name := range []string{out.Title, out.Name} {
				if d.versionFile(out, filepath.Join(at, name)) {
					return
				}
			}
		}
	}
}

// setVersion records the version here, and where it was read.
func (d *Draft) setVersion(version string, from card.Source) {
	d.Version, d.VersionHere = &card.Version{Source: from}, version
}

// uninstalled looks for the app in the list of installed programs.
func (d *Drafter) uninstalled(out *Draft) bool {
	for _, path := range []string{`HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall`, `HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall`} {
		list, err := d.Computer.Registry(path, nil)
		if err != nil {
			continue
		}
		names, _ := list.Keys()
		for _, n := range names {
			title := registry.Text(list, n, "DisplayName")
			if !strings.Contains(strings.ToLower(title), strings.ToLower(out.Title)) || registry.Text(list, n, "DisplayVersion") == "" {
				continue
			}
			out.setVersion(registry.Text(list, n, "DisplayVersion"), card.Source{Registry: path + `\` + n, Value: "DisplayVersion"})
			if folder := registry.Text(list, n, "InstallLocation"); folder != "" {
				if at, err := d.Computer.Locate(folder, nil); err == nil {
					out.Programs = programs(at)
				}
			}
			list.Close()
			return true
		}
		list.Close()
	}
	return false
}

// programs returns the executables in a folder.
func programs(dir string) (out []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if n := strings.ToLower(e.Name()); strings.HasSuffix(n, ".exe") && !strings.HasPrefix(n, "unins") && len(out) < 8 && plain(n) {
			out = append(out, e.Name())
		}
	}
	return out
}

var versionText = regexp.MustCompile(`(?im)^.*?\b(version|v|release)\b[\s:=]*v?(\d+([._]\d+)+\w*)`)

// versionFile looks for an executable or text file with a version in a folder.
func (d *Drafter) versionFile(out *Draft, dir string) bool {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return false
	}
	for _, e := range entries {
		name := filepath.Join(dir, e.Name())
		term, _ := machine.Term(d.Computer, name)
		lower := strings.ToLower(e.Name())
		switch {
		case !e.Type().IsRegular() || !plain(e.Name()):
		case strings.HasSuffix(lower, ".exe") && !strings.HasPrefix(lower, "unins"):
			if v, err := probe.ExeVersion(name); err == nil && v != "" {
				out.setVersion(v, card.Source{Exe: card.Path{Any: term}})
				out.Programs = programs(dir)
				return true
			}
		case strings.HasPrefix(lower, "version") || strings.HasPrefix(lower, "about") || strings.HasPrefix(lower, "release"):
			data, err := os.ReadFile(name)
			if err != nil || len(data) > maxText {
				continue
			}
			if m := versionText.FindStringSubmatch(string(data)); m != nil {
				out.setVersion(m[2], card.Source{File: card.Path{Any: term}, Pattern: value.LinePatternOf(`(?i)\b` + regexp.QuoteMeta(m[1]) + `\b[\s:=]*v?(\S+)`)})
				out.Programs = programs(dir)
				return true
			}
		}
	}
	return false
}
