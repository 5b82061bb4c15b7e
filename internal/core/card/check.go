package card

import (
	"fmt"
	"reflect"
	"regexp"
	"strings"
)

// fits reports the fields of part that its kind or method does not take.
func (k *checker) fits(at, what string, part any, takes func(string) bool, others func(field string) []string) {
	v := reflect.ValueOf(part).Elem()
	for i := range v.NumField() {
		field, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ",")
		if !v.Field(i).IsZero() && !takes(field) {
			k.fail(at+"."+field, field+" with "+strings.Join(others(field), ", ")+" only", "%s has no %s", what, field)
		}
	}
}

// stays checks an item that stays where it is, such as a network share.
func (k *checker) stays(at string, it *Item) {
	if it.From != nil {
		k.source(at+".from", it.From)
	} else if strings.TrimSpace(it.Address) == "" {
		k.fail(at+".address", "address, or from with the place in the app's settings", "the field \"address\" is missing")
	}
}

// exports checks how an app's own exports are counted and made.
func (k *checker) exports(at string, c *Card, it *Item) {
	e := it.Exports
	if e == nil {
		k.fail(at+".exports", "exports with the expected number and an import instruction", "the item %q has no exports", it.Name)
		return
	}
	at += ".exports"
	k.need(at, "import", e.Import)
	k.command(at+".make", e.Make)
	k.command(at+".load", e.Load)
	if len(e.Load) > 0 && !strings.Contains(strings.Join(e.Load, " "), "{file}") {
		k.fail(at+".load", "an argument with {file}", "the program does not get the file")
	}
	switch {
	case (e.Number == nil) == (e.Query == ""):
		k.fail(at, "number, or item and query", "give the number of exports in exactly one way")
	case e.Number != nil && *e.Number < 0:
		k.fail(at+".number", "a number from 0", "there cannot be %d exports", *e.Number)
	case e.Query != "":
		if from := c.Item(e.Item); from == nil || !from.Kind.queried() {
			k.fail(at+".item", "the name of a database item of this card", "there is no database item %q", e.Item)
		}
		k.readsOnly(at+".query", e.Query, "")
	}
	if e.Count == "" {
		return
	}
	if from := c.Item(e.Item); from == nil || !from.Kind.queried() || !strings.Contains(e.Count, "{name}") {
		k.fail(at+".count", "item with a database of this card, and a SELECT with {name} in it, without quotes", "the count query of the exports is not valid")
		return
	}
	k.readsOnly(at+".count", e.Of("x"), "")
}

// dump checks the programs of a database.
func (k *checker) dump(at string, it *Item) {
	d := it.Dump
	if d == nil {
		k.fail(at, "dump with save, load, exists and figures", "the item %q does not say how its programs save and load it", it.Name)
		return
	}
	for field, c := range map[string]Command{"save": d.Save, "load": d.Load, "exists": d.Exists} {
		if len(c) == 0 {
			k.fail(at+"."+field, "a list that starts with the full path of a program", "the field %q is missing", field)
		}
		takes := strings.Contains(strings.Join(c, " "), "{file}") || strings.Contains(strings.Join(c, " "), "{folder}")
		if len(c) > 0 && field != "exists" && !takes {
			k.fail(at+"."+field, "an argument with {file} or {folder}", "the program does not get the file or folder")
		}
		k.command(at+"."+field, c)
	}
	k.command(at+".remove", d.Remove)
	if len(d.Figures) == 0 {
		k.fail(at+".figures", "at least one number, such as {name: entries, run: [...]}", "there is nothing to compare")
	}
	for i, f := range d.Figures {
		at := fmt.Sprintf("%s.figures[%d]", at, i)
		k.need(at, "name", f.Name)
		k.command(at+".run", f.Run)
		if len(f.Run) == 0 {
			k.fail(at, "run with a program", "no program prints the number of %q", f.Name)
		}
		if !f.Pattern.IsZero() {
			k.grouped(at+".pattern", f.Pattern.Pattern)
		}
	}
}

// Counted reports whether the other item, a database, gives the number of records in the item's
// exports.
func (it *Item) Counted(other string) bool {
	return it.Exports != nil && it.Exports.Count != "" && it.Exports.Item == other
}

// Of returns the query that counts the records of the export called name in the app.
func (e *Export) Of(name string) string {
	return strings.ReplaceAll(e.Count, "{name}", "'"+strings.ReplaceAll(name, "'", "''")+"'")
}

// server checks how to find a server database.
func (k *checker) server(at string, it *Item) {
	s := it.Server
	if s == nil || s.Database.IsZero() {
		k.fail(at+".server", "server with the name of the database", "the item %q names no database", it.Name)
		return
	}
	for name, v := range map[string]*Source{"host": s.Host.From, "port": s.Port.From, "database": s.Database.From, "user": s.User.From, "password": s.Password} {
		if v != nil {
			k.source(at+".server."+name, v)
		}
	}
}

// source checks where a value is read from.
func (k *checker) source(at string, s *Source) {
	if s.IsZero() {
		k.fail(at, "file, exe, registry, package, installed or command", "the field %q does not say where to read the value", at[strings.LastIndexByte(at, '.')+1:])
		return
	}
	if !s.File.IsZero() {
		k.path(at+".file", s.File)
	}
	if !s.Exe.IsZero() {
		k.path(at+".exe", s.Exe)
	}
	switch {
	case s.Key != "" && s.File.IsZero():
		k.fail(at+".key", "key with a file", "the key %q has no file", s.Key)
	case s.Key != "" && s.FileFormat() == "":
		k.fail(at+".key", "format: ini, json, xml or plist", "the file name does not show its format")
	case s.Key == "" && s.Format != "":
		k.fail(at+".format", "key, with the position of the value", "the format %q has no key", s.Format)
	case s.Format != "":
		oneOf(k, at, "format", s.Format, "ini", "json", "xml", "plist")
	}
	k.registry(at+".registry", s.Registry)
	if s.Value != "" && s.Registry == "" {
		k.fail(at+".value", "value with a registry key", "the value %q has no registry key", s.Value)
	}
	k.packageName(at+".package", s.Package)
	k.command(at+".command", s.Command)
	k.grouped(at+".pattern", s.Pattern.Pattern)
}

// FileFormat returns the format of the source's file if a key in it is read: ini, json, xml or
// plist. It returns "" if the format is not known.
func (s *Source) FileFormat() string {
	if s.Format != "" || s.Key == "" {
		return s.Format
	}
	formats := map[string]string{"": ""}
	for _, p := range s.File.Texts() {
		f := strings.TrimPrefix(strings.ToLower(p[strings.LastIndex(p, ".")+1:]), ".")
		switch f {
		case "ini", "json", "xml", "plist":
			formats[f] = f
		case "cfg", "conf", "inf":
			formats["ini"] = "ini"
		case "config":
			formats["xml"] = "xml"
		}
	}
	if len(formats) != 2 {
		return ""
	}
	for f := range formats {
		if f != "" {
			return f
		}
	}
	return ""
}

var (
	rootKey = regexp.MustCompile(`(?i)^(HKLM|HKCU)\\[^\\/]`)
	debName = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`)
)

func (k *checker) registry(at, key string) {
	if key != "" && !rootKey.MatchString(key) {
		k.fail(at, `a key such as HKLM\SOFTWARE\Vendor\App`, "the registry key %q is not valid", key)
	}
}

func (k *checker) packageName(at, name string) {
	if name != "" && !debName.MatchString(name) {
		k.fail(at, "the name of a Debian package", "the package name %q is not valid", name)
	}
}

// command checks a command. Its program must have a full path, so that no search path decides which
// program runs.
func (k *checker) command(at string, args []string) {
	if len(args) > 0 && !rooted.MatchString(args[0]) {
		k.fail(at, `a list that starts with the full path of a program`, "the program %q has no full path", args[0])
	}
}

func (k *checker) require(at string, r *Require) {
	k.need(at, "name", r.Name)
	if r.Path.IsZero() && r.Registry == "" && r.Package == "" {
		k.fail(at, "path, registry or package", "there is no way to check for %q", r.Name)
	}
	if !r.Path.IsZero() {
		k.path(at+".path", r.Path)
	}
	k.registry(at+".registry", r.Registry)
	k.packageName(at+".package", r.Package)
}

func (k *checker) sync(at string, c *Card, s *Sync) {
	k.need(at, "about", s.About)
	ways := 0
	if s.Files != "" {
		ways++
		k.path(at+".path", s.Path)
		k.globs(at+".files", []string{s.Files})
	}
	if s.Query != "" {
		ways++
		if it := c.Item(s.Item); it == nil || !it.Kind.queried() {
			k.fail(at+".item", "the name of a database item of this card", "there is no database item %q", s.Item)
		}
		k.readsOnly(at+".query", s.Query, fmt.Sprintf(" of %q", s.About))
	}
	if len(s.Command) > 0 {
		ways++
		k.command(at+".command", s.Command)
		if s.Pattern.Groups() < 0 || s.Pattern.IsZero() {
			k.fail(at+".pattern", "a regular expression that matches when sync is finished", "the pattern %q is not valid", s.Pattern)
		}
	}
	if ways != 1 {
		k.fail(at, "exactly one of files, query and command", "specify exactly one way to detect unfinished sync")
	}
}
