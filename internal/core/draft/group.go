package draft

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/spare"
	"movekit/internal/core/wide"
)

// App is a likely application, with findings in several places.
type App struct {
	Name   string // name of its folder, or of the installed program
	Title  string // title of the installed program, or the name
	Vendor string // "" if unknown
	Places []wide.Finding
	Bytes  int64
	Newest time.Time
}

// Group groups findings by application, by the name of their folder. The most recently changed
// comes first.
func Group(all []wide.Finding) (out []App) {
	by := map[string]*App{}
	var order []string
	app := func(name string) *App {
		key := bare(name)
		if by[key] == nil {
			by[key] = &App{Name: name, Title: name}
			order = append(order, key)
		}
		return by[key]
	}
	for _, f := range all {
		if f.Class == wide.Program || f.Class == wide.Server || f.Class == wide.Surrounding || spare.IsAside(f.Where) {
			continue
		}
		names := []string{folderOf(f)}
		if f.Class == wide.Registry && strings.Contains(strings.ToUpper(f.Where), `\SOFTWARE\`) && len(f.Details) > 0 && !strings.HasPrefix(f.What, "ODBC") {
			names = f.Details // for a vendor, the key of each app
		}
		for _, n := range names {
			at := f
			if f.Class == wide.Registry && len(names) > 0 && names[0] != folderOf(f) {
				at.Where = f.Where + `\` + n
			}
			a := app(n)
			a.Places = append(a.Places, at)
			a.Bytes += f.Bytes
			if f.Newest.After(a.Newest) {
				a.Newest = f.Newest
			}
		}
	}
	for _, f := range all {
		if f.Class != wide.Program {
			continue
		}
		for key, a := range by {
			if b := bare(f.What); key != "" && (strings.Contains(b, key) || strings.Contains(key, b)) {
				a.Title, a.Vendor = f.What, cmp.Or(a.Vendor, detail(f, "by "))
			}
		}
	}
	for _, key := range order {
		a := by[key]
		if shared[key] || slices.ContainsFunc(order, func(other string) bool { return other != key && within(a, by[other]) }) {
			continue
		}
		// A database in a folder that was found too belongs to that folder.
		a.Places = slices.DeleteFunc(a.Places, func(f wide.Finding) bool {
			return f.Class != wide.Folder && slices.ContainsFunc(a.Places, func(g wide.Finding) bool { return g.Class == wide.Folder && below(f.Where, g.Where) })
		})
		out = append(out, *a)
	}
	slices.SortStableFunc(out, func(a, b App) int { return cmp.Or(b.Newest.Compare(a.Newest), strings.Compare(a.Name, b.Name)) })
	return out
}

// shared lists system folders that contain the folders of many apps.
var shared = map[string]bool{"programdata": true, "roaming": true, "local": true, "appdata": true, "users": true, "documents": true, "desktop": true, "programfiles": true, "home": true, "config": true, "share": true, "srv": true, "var": true, "lib": true, "opt": true, "etc": true, "": true}

// within reports whether everything of an app is in a folder of another.
func within(a, in *App) bool {
	return !slices.ContainsFunc(a.Places, func(f wide.Finding) bool {
		return !slices.ContainsFunc(in.Places, func(g wide.Finding) bool { return g.Class == wide.Folder && below(f.Where, g.Where) })
	})
}

// folderOf returns the name of the folder or key of a finding.
func folderOf(f wide.Finding) string {
	at := strings.ReplaceAll(f.Where, `\`, "/")
	if f.Class != wide.Folder && f.Class != wide.Registry {
		at = path.Dir(at)
	}
	return path.Base(at)
}

func below(name, folder string) bool {
	return strings.HasPrefix(strings.ReplaceAll(name, `\`, "/"), strings.ReplaceAll(folder, `\`, "/")+"/")
}

func detail(f wide.Finding, lead string) string {
	for _, d := range f.Details {
		if rest, is := strings.CutPrefix(d, lead); is {
			return rest
		}
	}
	return ""
}

var notLetters = regexp.MustCompile(`[^\pL\pN]+`)

// bare returns a name without the parts that differ between places.
func bare(name string) string {
	return notLetters.ReplaceAllString(strings.ToLower(strings.TrimLeft(name, ".")), "")
}
