// Package draft makes the draft of an app card from folders and files. Their content becomes items,
// data that need not be moved is skipped with the reason, and comments ask for what only the
// technician can know.
package draft

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"gopkg.in/ini.v1"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/item/sqlite"
	"movekit/internal/core/machine"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/registry"
	"movekit/internal/core/tree"
	"movekit/internal/core/wide"
)

// Draft is the content of a draft card.
type Draft struct {
	Name, Title string
	System      machine.System
	Items       []*Item
	Version     *card.Version // nil if nothing was found
	VersionHere string        // the version here
	Programs    []string
	Pointers    []Pointer
	Requires    []card.Require
	Around      []string // what runs its programs, or provides something to them
	Notes       []string // what could not be read

	// Answers of the user. If empty, the card has comments that explain the field.
	Vendor, About string
	Licences      []card.Licence
	Opens         *card.Opens
	ByHand        []string
}

// Item is a proposed item.
type Item struct {
	Name        string
	Kind        card.Kind
	Path        string       // in the terms of cards
	From        *card.Source // the setting with the path; nil if none
	About       string       // what was found
	Secret      bool
	Skips       []Skip
	Counts      []card.Count
	Each        string   // for several folders: the pattern that matches them
	UpdatePaths []string // settings that contain paths of the old computer's profiles or of the drafted data
	Notes       []string // notes for the user

	real string // real path; "" for a key
}

// Skip is a pattern of files to leave out of a folder, with the reason.
type Skip struct {
	Pattern, Why string
	Bytes        int64
	Files        int64
}

// Pointer is an absolute path in a text file, which may be wrong on the new computer.
type Pointer struct {
	File string // in the terms of cards
	Line int
	Path string
}

// Limits for proposals.
const (
	maxPointers = 30
	maxText     = 1 << 20 // bytes of a text file that is searched
	maxTexts    = 5000    // files of a folder that are searched for paths
	maxSplit    = 12      // databases and secrets of one folder that become items
	maxCounts   = 3
)

// Drafter drafts cards for one computer.
type Drafter struct {
	Computer machine.Computer
	Temp     string // private folder for databases that cannot be read in place

	paths    *pathmap.Map    // paths to update in settings
	inis     []string        // settings files, by real path
	settings strings.Builder // the searched text files, in lower case
}

// Make drafts a card called name from paths, which are real or in the terms of cards.
func (d *Drafter) Make(ctx context.Context, name, title string, paths []string) (*Draft, error) {
	title = strings.TrimSpace(strings.Map(shown, title)) // a program may have set it
	if title == "" {
		title = strings.ToUpper(name[:1]) + strings.ReplaceAll(name[1:], "-", " ")
	}
	out := &Draft{Name: name, Title: title, System: d.Computer.System()}
	var keys, reals []string
	for _, p := range paths {
		if root, _, _ := strings.Cut(strings.ToUpper(p), `\`); root == "HKLM" || root == "HKCU" {
			keys = append(keys, p)
			continue
		}
		real, err := d.locate(p)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(reals, real) {
			reals = append(reals, real)
		}
	}
	d.paths = d.pathMap(reals)
	for _, real := range reals {
		if err := d.add(ctx, out, real); err != nil {
			return nil, err
		}
	}
	for _, key := range keys {
		if err := d.key(out, key); err != nil {
			return nil, err
		}
	}
	d.version(ctx, out, paths)
	d.around(out, append(reals, keys...))
	d.settingOf(out)
	names := map[string]int{}
	for _, it := range out.Items {
		if names[it.Name]++; names[it.Name] > 1 {
			it.Name = fmt.Sprintf("%s-%d", it.Name, names[it.Name])
		}
	}
	return out, nil
}

// shown removes invisible and control characters, which a card must not contain.
func shown(r rune) rune {
	if !unicode.IsPrint(r) {
		return -1
	}
	return r
}

// settingOf finds the setting of the app that has an item's path, so that the card can read it on each
// computer. If each user has own settings, the user must decide. Only INI files are supported.
func (d *Drafter) settingOf(out *Draft) {
	for _, s := range d.inis {
		f, err := ini.LoadSources(ini.LoadOptions{SkipUnrecognizableLines: true, AllowBooleanKeys: true, IgnoreInlineComment: true, IgnoreContinuation: true}, s)
		if err != nil {
			continue
		}
		term, _ := machine.Term(d.Computer, s)
		for _, it := range out.Items {
			if it.real == "" {
				continue
			}
			where := machine.DisplayPath(d.Computer, it.real)
			for _, section := range f.Sections() {
				for _, key := range section.Keys() {
					value := strings.TrimRight(strings.Trim(key.String(), `"`), `/\`)
					same := value == where || d.Computer.System().Folds() && strings.EqualFold(strings.ReplaceAll(value, "/", `\`), where)
					name := strings.TrimPrefix(section.Name()+"/"+key.Name(), ini.DefaultSection+"/")
					if !same || !plain(name) {
						continue
					}
					from := &card.Source{File: card.Path{Any: term}, Key: name}
					if machine.PerUser(term) || it.From != nil || it.Kind.Info().OneFile || machine.Inside(s, it.real) {
						it.Notes = append(it.Notes, "A setting has its path, which may differ on the new computer: path: "+card.Path{From: from}.OneLine())
					} else {
						it.From = from
					}
				}
			}
		}
	}
}

// around proposes items for the services and schedules of an app, and manual steps for the rest of what belongs to it.
func (d *Drafter) around(out *Draft, places []string) {
	names := []string{bare(out.Title), bare(out.Name)}
	for _, p := range places {
		names = append(names, bare(p[strings.LastIndexAny(p, `/\`)+1:]))
	}
	for _, f := range wide.Around(d.Computer) {
		of := func(text string) bool {
			return slices.ContainsFunc(strings.FieldsFunc(text, func(r rune) bool { return r == '/' || r == '\\' || r == '"' }), func(part string) bool {
				return slices.Contains(names, bare(strings.TrimSuffix(strings.ToLower(part), ".exe")))
			})
		}
		runs := slices.IndexFunc(f.Details, func(detail string) bool {
			return strings.HasPrefix(detail, "runs ") && of(strings.TrimPrefix(detail, "runs "))
		})
		timed := func(k card.KindInfo) bool { return k.Runs && k.Timed == f.Timed }
		switch {
		case runs >= 0 && f.Job != "":
			out.Items = append(out.Items, &Item{Name: slug(f.Job[strings.LastIndexAny(f.Job, `/\`)+1:]), Kind: card.KindThat(timed), Path: f.Job, About: f.What + ", which " + strings.Join(f.Details, ", ")})
		case runs >= 0:
			out.Around = append(out.Around, fmt.Sprintf("Set up again, unless the installer does: %s, %s", f.What, f.Details[runs]))
		case f.Shows != "" && strings.Contains(d.settings.String(), strings.ToLower(f.Named)):
			out.Requires = append(out.Requires, card.Require{Name: f.What, Registry: f.Shows})
		case f.Named != "" && strings.Contains(d.settings.String(), strings.ToLower(f.Named)):
			out.Around = append(out.Around, strings.Join(append([]string{"Set up again, because the settings use it: " + f.What}, f.Details...), ", "))
		}
	}
}

// pathMap returns the paths to update in settings if the new computer has them elsewhere: users'
// profiles, and the drafted data.
func (d *Drafter) pathMap(reals []string) *pathmap.Map {
	var pairs []pathmap.Pair
	for _, u := range d.Computer.Users() {
		reals = append(reals, u.Home)
	}
	for _, real := range reals {
		old := machine.DisplayPath(d.Computer, real)
		pairs = append(pairs, pathmap.Pair{Old: old, New: old + "-elsewhere"})
	}
	return pathmap.New(string(d.Computer.System()), pairs)
}

// key proposes an item for a registry key, from the first user who has it.
func (d *Drafter) key(out *Draft, key string) error {
	users := []*machine.User{nil}
	if strings.HasPrefix(strings.ToUpper(key), "HKCU") {
		users = machine.Profiles(d.Computer, "%USERPROFILE%")
	}
	for _, u := range users {
		k, err := d.Computer.Registry(key, u)
		if err != nil {
			continue
		}
		defer k.Close()
		all, left, err := registry.Read(k, registry.Choice{Enter: func(string) bool { return true }, Take: func(string) bool { return true }, Bare: true})
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read the registry key %s", key)
		}
		it := &Item{Name: slug(key[strings.LastIndex(key, `\`)+1:]), Kind: card.KindThat(func(k card.KindInfo) bool { return k.Keyed }), Path: key}
		var values int64
		for _, b := range all {
			for _, v := range b.Values {
				values++
				name := b.Child(v.Label())
				pattern := strings.ReplaceAll(name, `\`, "/")
				if _, n := d.paths.Text(v.Text()); n > 0 && plain(pattern) {
					it.UpdatePaths = append(it.UpdatePaths, glob(pattern))
				}
				if item.Protected(v.Data) {
					it.Notes = append(it.Notes, name+" is encrypted by Windows and cannot be opened elsewhere: write down its content first.")
				}
			}
		}
		it.About = item.Plural(int64(len(all)), "key") + ", " + item.Plural(values, "value")
		if u != nil {
			it.About += ", of the user " + u.Name
		}
		it.Notes = append(it.Notes, left...)
		out.Items = append(out.Items, it)
		return nil
	}
	return fault.New(fault.Missing, "the registry key %s does not exist", key)
}

// locate returns the real path of a path that the user entered.
func (d *Drafter) locate(p string) (string, error) {
	if strings.HasPrefix(p, "%") || strings.HasPrefix(p, "~") || strings.HasPrefix(p, "$") || d.Computer.Root() != "" && len(p) > 1 && p[1] == ':' {
		for _, u := range machine.Profiles(d.Computer, p) {
			real, err := d.Computer.Locate(p, u)
			if err != nil {
				return "", err
			}
			if there, err := machine.Exists(real); err == nil && there {
				return real, nil
			}
		}
		return "", fault.New(fault.Missing, "%s does not exist", p)
	}
	if p == "" {
		return "", fault.New(fault.Usage, "the path is empty")
	}
	real, err := filepath.Abs(p)
	if err == nil {
		real, err = filepath.EvalSymlinks(real)
	}
	if err != nil {
		return "", fault.Wrap(fault.Missing, err, "%s does not exist", p)
	}
	if root := d.Computer.Root(); root != "" && machine.DisplayPath(d.Computer, real) == real {
		return "", fault.New(fault.Usage, "%s is not on the disk at %s", p, root)
	}
	return real, nil
}

// add proposes items for one folder or file.
func (d *Drafter) add(ctx context.Context, out *Draft, real string) error {
	info, err := os.Stat(real)
	if err != nil {
		return fault.Wrap(fault.Missing, err, "cannot read %s", real)
	}
	term, _ := machine.Term(d.Computer, real)
	if !info.IsDir() && !info.Mode().IsRegular() {
		return fault.New(fault.Usage, "%s is neither a folder nor a file", real)
	}
	if !info.IsDir() {
		it := d.file(ctx, real, term)
		out.Items = append(out.Items, it)
		if d.pointers(out, real) {
			it.UpdatePaths = []string{"*"}
		}
		return nil
	}
	it := &Item{Name: slug(filepath.Base(real)), Kind: kinds.Of(real, true), Path: term, real: real}
	out.Items = append(out.Items, it)
	f := &folder{d: d, out: out, item: it, real: real, skips: map[string]*Skip{}, endings: map[string]int64{}, years: map[string]bool{}}
	src := tree.Source{Root: real}
	st, err := src.Measure(ctx, func(e tree.Entry, _ string) { f.see(e) }, func(p tree.Problem) {
		out.Notes = append(out.Notes, fmt.Sprintf("%s cannot be read: %v", machine.DisplayPath(d.Computer, p.Path), p.Err))
	})
	if err != nil {
		return err
	}
	it.About = fmt.Sprintf("%s, newest change %s", amount(st.Files, st.Bytes), st.Newest.Format("2006-01-02"))
	f.finish(ctx)
	if f.left == 0 && len(f.split) > 0 {
		// Everything in it has become an item of its own.
		out.Items = slices.DeleteFunc(out.Items, func(i *Item) bool { return i == it })
	}
	return nil
}

// kindOf returns the kind of item for a file, from its description.
func kindOf(real, what string) card.Kind {
	if strings.HasPrefix(what, wide.FirebirdFile) {
		// kinds.Of does not return it: an app with an embedded engine moves the database as a plain
		// file.
		return card.KindThat(func(k card.KindInfo) bool { return k.OneFile })
	}
	if what == wide.SQLServerFile {
		return card.KindThat(func(k card.KindInfo) bool { return k.Attached })
	}
	return kinds.Of(real, false)
}

// file proposes an item for a single file.
func (d *Drafter) file(ctx context.Context, real, term string) *Item {
	it := &Item{Name: slug(filepath.Base(real)), Path: term, real: real}
	class, what := wide.Look(real)
	it.About, it.Kind = what, kindOf(real, what)
	switch {
	case it.Kind.Info().OneFile:
		it.Path = machine.DisplayPath(d.Computer, real)
		it.Notes = append(it.Notes, "Its server must run here for the pack, and on the new computer. Move Kit asks for a login that may read all of it,",
			"or takes user and password from server. For an app with its own engine, use kind: file with its path, and close the app.")
	case it.Kind.Info().Attached:
		base := strings.TrimSuffix(filepath.Base(real), filepath.Ext(real))
		it.Path = base
		it.Notes = append(it.Notes, "The file belongs to an instance of SQL Server, which moves the database itself: check its name, and add host (such as .\\SQLEXPRESS),",
			"user and password of a login that may back it up; without user, the user of this computer logs in. The file is never copied while its server runs.")
		if logs, _ := filepath.Glob(filepath.Join(filepath.Dir(real), base+"*.[lL][dD][fF]")); len(logs) == 0 {
			it.Notes = append(it.Notes, "There is no log file (.ldf) beside it. Detached without it, a database may not open again: find it first.")
		}
	case it.Kind.Info().Counts == "query":
		it.Counts = d.tables(ctx, real, it)
	case !it.Kind.Info().Plain:
		it.Notes = append(it.Notes, "Close the app for the pack.")
	case class == wide.Key || class == wide.Certificate || class == wide.Licence:
		it.Secret = true
		it.Notes = append(it.Notes, "Anyone who has this file can act as its owner. If the vendor bound the licence to the", "computer, it must be issued again instead of moved.")
	case class == wide.Database:
		it.Notes = append(it.Notes, "It is moved as a file: close the app for the pack.")
	}
	return it
}

// tables proposes counts for the largest tables of a database.
func (d *Drafter) tables(ctx context.Context, real string, it *Item) []card.Count {
	f, err := sqlite.Take(ctx, real, d.Temp, nil, nil)
	if err != nil {
		it.Notes = append(it.Notes, "Its tables could not be read: "+err.Error())
		return nil
	}
	if it.UpdatePaths, err = sqlite.Holding(ctx, real, d.Temp, d.paths); err != nil {
		it.Notes = append(it.Notes, "It was not searched for paths: "+err.Error())
	}
	tables := slices.DeleteFunc(slices.Clone(f.Tables), func(t dbprint.Table) bool { return ofProgram.MatchString(t.Name) || t.Rows == 0 })
	slices.SortStableFunc(tables, func(a, b dbprint.Table) int { return int(b.Rows - a.Rows) })
	var out []card.Count
	for _, t := range tables[:min(len(tables), maxCounts)] {
		out = append(out, card.Count{Name: strings.ReplaceAll(t.Name, "_", " "), Query: `SELECT count(*) FROM "` + strings.ReplaceAll(t.Name, `"`, `""`) + `"`})
	}
	return out
}

// ofProgram matches tables that a program keeps for itself, and whose number of rows its owner does not know: versions of the
// schema, settings, and the parts of a search index (FTS3 to FTS5 and R-Tree in the SQLite documentation).
var ofProgram = regexp.MustCompile(`(?i)^(sqlite_.*|android_metadata|alembic_version|django_.*|auth_permission|.*migrations?|schema_?(info|version)?|db_?version|version|meta|metadata|settings?|prefs|preferences|.*_(content|segments|segdir|docsize|stat\d?|idx|fts\d?|config|data|node|parent|rowid)|geometry_columns|spatial_ref_sys)$`)

// folder examines the content of one folder.
type folder struct {
	d       *Drafter
	out     *Draft
	item    *Item
	real    string
	skips   map[string]*Skip
	split   []string // databases and secrets, by path in the folder
	other   []string // databases that stay in the folder
	endings map[string]int64
	texts   []string
	left    int64 // files that stay in the folder's own item

	years  map[string]bool // folders directly below it that are named by years
	others bool            // there is something else directly below it
	tables int             // dBase tables directly below it
	beside bool            // there are files that do not belong to them
}

// ofTables lists the suffixes of files that belong to dBase and FoxPro tables.
var ofTables = map[string]bool{".dbf": true, ".dbt": true, ".fpt": true, ".cdx": true, ".mdx": true, ".ndx": true, ".idx": true, ".ntx": true}

var year = regexp.MustCompile(`^(19|20)[0-9][0-9]$`)

// place records the location of an entry in the folder.
func (f *folder) place(e tree.Entry) {
	top, _, below := strings.Cut(e.Path, "/")
	switch {
	case e.Path == ".":
	case year.MatchString(top) && (below || e.Type == tree.Dir):
		f.years[top] = true
	default:
		f.others = true
	}
}

// needless maps suffixes of files that an app recreates to the reason for skipping them.
var needless = map[string]string{
	".log": "logs", ".tmp": "temporary files", ".temp": "temporary files", ".lock": "locks of a running app", ".lck": "locks of a running app",
	".pid": "locks of a running app", ".ldb": "locks of open databases", ".laccdb": "locks of open databases", ".dmp": "crash dumps", ".crash": "crash dumps", ".etl": "traces",
}

// see processes one entry of the folder.
func (f *folder) see(e tree.Entry) {
	f.place(e)
	if e.Type != tree.File {
		return
	}
	if pattern, why := needlessPart(e.Path); why != "" {
		s := f.skips[pattern]
		if s == nil {
			s = &Skip{Pattern: pattern, Why: why}
			f.skips[pattern] = s
		}
		s.Files++
		s.Bytes += e.Size
		return
	}
	if strings.HasSuffix(e.Path, "-wal") || strings.HasSuffix(e.Path, "-shm") || strings.HasSuffix(e.Path, "-journal") {
		return // it belongs to its database
	}
	real := filepath.Join(f.real, filepath.FromSlash(e.Path))
	class, what := wide.Look(real)
	switch {
	case (class == wide.Database && !kindOf(real, what).Info().Plain || class == wide.Key || class == wide.Certificate || class == wide.Licence) && len(f.split) < maxSplit && plain(e.Path):
		f.split = append(f.split, e.Path)
		return
	case class == wide.Database:
		f.other = append(f.other, e.Path+" is a "+what)
	}
	f.left++
	switch {
	case strings.Contains(e.Path, "/") || !ofTables[strings.ToLower(path.Ext(e.Path))]:
		f.beside = true
	case what == wide.DBaseTable:
		f.tables++
	}
	if ext := strings.ToLower(path.Ext(e.Path)); ext != "" && plain(ext) {
		f.endings[ext]++
	}
	if e.Size > 0 && e.Size <= maxText && plain(e.Path) && len(f.texts) < maxTexts {
		f.texts = append(f.texts, e.Path)
	}
}

// needlessPart returns a pattern for files that need not be moved, and the reason.
func needlessPart(rel string) (pattern, why string) {
	dir := path.Dir(rel)
	for at, parts := "", strings.Split(dir, "/"); len(parts) > 0; parts = parts[1:] {
		at = path.Join(at, parts[0])
		if wide.Needless(parts[0]) && plain(at) {
			return glob(at) + "/**", "a cache, temporary folder or log folder, by its name"
		}
	}
	ext := strings.ToLower(path.Ext(rel))
	if why := needless[ext]; why != "" {
		return "**/*" + ext, why
	}
	return "", ""
}

// plain reports whether a path can be written in a card's pattern.
func plain(p string) bool {
	return utf8.ValidString(p) && !strings.ContainsFunc(p, func(r rune) bool { return r == '\\' || !unicode.IsPrint(r) })
}

var special = regexp.MustCompile(`[\[\]{}*?]`)

// glob writes a path as a pattern. A special character is matched by ?.
func glob(p string) string { return special.ReplaceAllString(p, "?") }

// finish turns the findings into items.
func (f *folder) finish(ctx context.Context) {
	separator := f.d.Computer.System().Separator()
	for _, rel := range f.split {
		real := filepath.Join(f.real, filepath.FromSlash(rel))
		it := f.d.file(ctx, real, f.item.Path+separator+strings.ReplaceAll(rel, "/", separator))
		f.out.Items = append(f.out.Items, it)
		why := "becomes the item " + it.Name
		f.item.Skips = append(f.item.Skips, Skip{Pattern: glob(rel), Why: why})
		if len(it.Kind.Info().Sides) > 0 {
			f.item.Skips = append(f.item.Skips, Skip{Pattern: glob(rel) + "-*", Why: "belongs to " + it.Name})
		}
		if it.Secret {
			f.item.Notes = append(f.item.Notes, "If the data cannot be opened without "+rel+", add  needs: ["+it.Name+"]")
		}
	}
	for _, pattern := range sortedKeys(f.skips) {
		f.item.Skips = append(f.item.Skips, *f.skips[pattern])
	}
	for _, o := range f.other[:min(len(f.other), maxSplit)] {
		f.item.Notes = append(f.item.Notes, o+"; it is moved as a file, so close the app for the pack.")
	}
	f.count()
	var holding []string
	for _, rel := range f.texts {
		if f.d.pointers(f.out, filepath.Join(f.real, filepath.FromSlash(rel))) {
			holding = append(holding, rel)
		}
	}
	f.item.UpdatePaths = patterns(holding)
	alone := len(f.split)+len(f.skips) == 0
	switch {
	case alone && f.tables > 0 && !f.beside:
		f.item.Kind, f.item.Counts, f.item.UpdatePaths, f.item.Notes = card.KindThat(func(k card.KindInfo) bool { return k.Tables }), nil, nil, []string{"Close the app for the pack."}
	case alone && len(f.years) > 1 && !f.others && len(f.item.UpdatePaths) == 0:
		f.item.Each = "[12]???"
		f.item.Notes = append(f.item.Notes, fmt.Sprintf("Each of the %d years in it is a separate item. To move only the last ones, add: newest: 3", len(f.years)))
	}
}

// maxNamed limits the files of one suffix that are listed one by one.
const maxNamed = 4

// patterns returns patterns for files, one per suffix if there are many.
func patterns(files []string) (out []string) {
	byEnding := map[string]int{}
	for _, f := range files {
		byEnding[path.Ext(f)]++
	}
	for _, f := range files {
		pattern := glob(f)
		if ext := path.Ext(f); ext != "" && byEnding[ext] > maxNamed {
			pattern = "**/*" + glob(ext)
		}
		if !slices.Contains(out, pattern) {
			out = append(out, pattern)
		}
	}
	return out
}

// count proposes to count the files with the most frequent suffix.
func (f *folder) count() {
	best := ""
	for _, ext := range sortedKeys(f.endings) {
		if f.endings[ext] > f.endings[best] {
			best = ext
		}
	}
	if f.endings[best] >= 5 {
		f.item.Counts = []card.Count{{Name: strings.TrimPrefix(best, ".") + " files", Files: "**/*" + glob(best)}}
	}
}

func sortedKeys[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

var textual = map[string]bool{".ini": true, ".cfg": true, ".conf": true, ".config": true, ".xml": true, ".json": true, ".yaml": true, ".yml": true, ".txt": true, ".properties": true, ".reg": true, ".toml": true, ".inf": true, ".bat": true, ".cmd": true}

// absolute matches absolute paths: with a drive, on a share, or in a Linux user's or the system's
// data.
var absolute = regexp.MustCompile(`(?i)(?:\b[a-z]:(?:\\\\?|/)[^\s"'<>|;,*?\x00-\x1f]+|\\\\[a-z0-9][a-z0-9.-]+\\[^\s"'<>|;,*?\x00-\x1f]+|(?:^|[\s"'=:>])(/(?:home|srv|var|opt|mnt|media|data)/[^\s"'<>|;,*?\x00-\x1f]+))`)

// pointers lists the absolute paths in a text file, except those that Move Kit updates, and reports
// whether there are any of the latter.
func (d *Drafter) pointers(out *Draft, real string) (holds bool) {
	f, err := os.Open(real)
	if err != nil {
		return false
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxText))
	if err != nil {
		return false
	}
	edits, _ := d.paths.File(data)
	if holds = len(edits) > 0; !textual[strings.ToLower(filepath.Ext(real))] || bytes.IndexByte(data, 0) >= 0 {
		return holds
	}
	switch strings.ToLower(filepath.Ext(real)) {
	case ".ini", ".cfg", ".conf", ".inf":
		d.inis = append(d.inis, real)
	}
	if d.settings.Len() < maxText {
		d.settings.WriteString(strings.ToLower(string(data)) + "\n")
	}
	term, _ := machine.Term(d.Computer, real)
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, maxText)
	for n := 1; lines.Scan() && len(out.Pointers) < maxPointers; n++ {
		for _, m := range absolute.FindAllStringSubmatch(lines.Text(), 4) {
			found := cmp.Or(m[1], m[0])
			if _, ours := d.paths.Text(found); ours == 0 {
				out.Pointers = append(out.Pointers, Pointer{term, n, found})
			}
		}
	}
	return holds
}

// amount formats the number and size of files.
func amount(files, bytes int64) string {
	return item.Plural(files, "file") + ", " + humanize.Bytes(uint64(bytes))
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

// slug returns a short name that is valid in cards.
func slug(s string) string {
	s = strings.TrimSuffix(s, filepath.Ext(s))
	s = strings.Trim(notSlug.ReplaceAllString(strings.ToLower(s), "-"), "-")
	if len(s) > 36 {
		s = strings.Trim(s[:36], "-")
	}
	if s == "" {
		return "item"
	}
	return s
}
