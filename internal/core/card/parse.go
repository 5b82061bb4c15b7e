package card

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
	"movekit/internal/core/version"
	"movekit/internal/core/yamltext"
)

// MaxSize is the size limit of a card, in bytes.
const MaxSize = 1 << 20

// Problem is one mistake in a card, with its position.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Source string `json:"source"` // the line of the card
	What   string `json:"what"`
	Want   string `json:"expected,omitempty"` // the expected value
}

// Error returns the problem as "file:line:column: what; expected want".
func (p *Problem) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.What)
	if p.Want != "" {
		s += "; expected " + p.Want
	}
	return s
}

// Problems lists all mistakes in a card, in line order.
type Problems []*Problem

// Error returns one problem per line.
func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// Read reads a card from a file. If the card has mistakes, the error wraps Problems.
func Read(name string) (*Card, error) {
	data, err := text(name)
	if err != nil {
		return nil, err
	}
	return Parse(name, data)
}

// Cache reads cards and parses each text only once. Callers share the cards and must not change
// them.
type Cache struct{ cards sync.Map }

// Read returns the card in a file.
func (c *Cache) Read(name string) (*Card, error) {
	data, err := text(name)
	if err != nil {
		return nil, err
	}
	if known, ok := c.cards.Load(string(data)); ok {
		return known.(*Card), nil
	}
	one, err := Parse(name, data)
	if err == nil {
		c.cards.Store(string(data), one)
	}
	return one, err
}

// text returns the text of a card file.
func text(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err == nil && info.Size() > MaxSize {
		return nil, fault.New(fault.BadCard, "the card %s is too large: %d bytes (limit %d)", name, info.Size(), MaxSize)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "cannot read the card")
	}
	return data, nil
}

// ReadDir reads every card (*.yaml, *.yml) in a folder, in order of file names.
func ReadDir(dir string) ([]*Card, error) {
	files, err := os.ReadDir(dir)
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "cannot read the folder of cards")
	}
	var cards []*Card
	seen := map[string]string{}
	for _, f := range files {
		if f.IsDir() || !IsCardName(f.Name()) {
			continue
		}
		c, err := Read(filepath.Join(dir, f.Name()))
		if err != nil {
			return nil, err
		}
		if other := seen[c.Name]; other != "" {
			return nil, fault.New(fault.BadCard, "two cards have the name %q: %s and %s", c.Name, other, f.Name())
		}
		seen[c.Name] = f.Name()
		cards = append(cards, c)
	}
	return cards, nil
}

// IsCardName reports whether a file name is the name of a card.
func IsCardName(name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return (ext == ".yaml" || ext == ".yml") && !strings.HasPrefix(name, ".")
}

// Parse reads a card from data. Problems give name as the file.
func Parse(name string, data []byte) (*Card, error) {
	lines := bytes.Split(data, []byte("\n"))
	k := &checker{file: name, lines: lines}
	c := &Card{Source: name, Text: data}
	err := yamltext.Decode(data, c, yaml.Strict(), yaml.DisallowUnknownField())
	if doc, perr := yamltext.Parse(data); perr == nil && len(doc.Docs) > 0 {
		k.doc = doc
		var other *yaml.UnknownFieldError
		if errors.As(err, &other) {
			// Report unknown fields together with all other mistakes.
			k.unknown(doc.Docs[0].Body, reflect.TypeFor[Card]())
			c = &Card{Source: name, Text: data}
			err = yamltext.Decode(data, c)
			if len(k.found) == 0 && err == nil {
				err = other // this part of the card parses itself
			}
		}
	} else if err == nil {
		err = cmp.Or(perr, io.EOF)
	}
	if err != nil {
		k.found = append(k.found, fromYAML(name, lines, err))
	} else {
		misspelt := len(k.found) > 0
		k.texts()
		k.card(c)
		if misspelt { // a misspelt field is probably the missing one
			k.found = slices.DeleteFunc(k.found, func(p *Problem) bool { return strings.HasSuffix(p.What, " is missing") })
		}
	}
	if len(k.found) > 0 {
		sort.SliceStable(k.found, func(i, j int) bool { return k.found[i].Line < k.found[j].Line })
		return nil, bad(name, k.found)
	}
	return c, nil
}

func bad(name string, ps Problems) error {
	return fault.Wrap(fault.BadCard, ps, "the card %s is not valid", filepath.Base(name))
}

// fromYAML converts an error of the YAML reader to a Problem.
func fromYAML(file string, lines [][]byte, err error) *Problem {
	p := &Problem{File: file, Line: 1, Column: 1, What: "the file is empty", Want: "a card"}
	var at yaml.Error
	switch {
	case errors.As(err, &at):
		p.What, p.Want = at.GetMessage(), ""
		if tk := at.GetToken(); tk != nil && tk.Position != nil {
			p.Line, p.Column = tk.Position.Line, tk.Position.Column
		}
		var unknown *yaml.UnknownFieldError
		if errors.As(err, &unknown) {
			p.Want = "a field of the card format (docs/cards.md)"
		}
	case err != nil && !errors.Is(err, fs.ErrInvalid) && err.Error() != "EOF":
		p.What, p.Want = err.Error(), ""
	}
	p.Source = sourceLine(lines, p.Line)
	p.Want = cmp.Or(quoting(p.Source), p.Want)
	return p
}

// quoting returns advice for a line that YAML misreads: a text cannot start with %, and a backslash
// starts an escape in double quotes.
func quoting(line string) string {
	if m := bare.FindStringSubmatch(line); m != nil {
		return "single quotes: '" + strings.TrimSpace(m[1]) + "'"
	}
	if m := escaped.FindStringSubmatch(line); m != nil {
		return "single quotes: '" + m[1] + "'"
	}
	return ""
}

var (
	bare    = regexp.MustCompile(`[:\[,{-]\s*(%[^'"\],}#]*)`)
	escaped = regexp.MustCompile(`"([^"]*\\[^"]*)"`)
)

func sourceLine(lines [][]byte, n int) string {
	if n < 1 || n > len(lines) {
		return ""
	}
	return strings.TrimRight(string(lines[n-1]), "\r")
}

// checker checks a decoded card for rules that the types cannot express.
type checker struct {
	file  string
	lines [][]byte
	doc   *ast.File
	found Problems
}

var shortName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// fail records a problem at a YAML path, or at its nearest parent in the file.
func (k *checker) fail(path, want, format string, args ...any) {
	p := &Problem{File: k.file, Line: 1, Column: 1, What: fmt.Sprintf(format, args...), Want: want}
	for at := path; at != "$" && at != ""; at = at[:max(strings.LastIndexAny(at, ".["), 0)] {
		yp, err := yaml.PathString(at)
		if err != nil {
			continue
		}
		node, err := yp.FilterFile(k.doc)
		if err != nil || node == nil {
			continue
		}
		if pos := node.GetToken().Position; pos != nil {
			p.Line, p.Column = pos.Line, pos.Column
			break
		}
	}
	p.Source = sourceLine(k.lines, p.Line)
	k.found = append(k.found, p)
}

// texts rejects texts with invisible characters.
func (k *checker) texts() {
	for _, d := range k.doc.Docs {
		ast.Walk(hiding{k}, d.Body)
	}
}

type hiding struct{ *checker }

// Visit checks one node.
func (h hiding) Visit(n ast.Node) ast.Visitor {
	s, ok := n.(*ast.StringNode)
	if !ok {
		return h
	}
	if i := strings.IndexFunc(s.Value, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Cf, r) }); i >= 0 {
		p := &Problem{File: h.file, Line: s.Token.Position.Line, Column: s.Token.Position.Column, What: fmt.Sprintf("the text contains an invisible character (%+q)", []rune(s.Value[i:])[0]), Want: "a text without invisible characters"}
		p.Source = sourceLine(h.lines, p.Line)
		h.found = append(h.found, p)
	}
	return h
}

func (k *checker) need(path, field, value string) {
	if strings.TrimSpace(value) == "" {
		k.fail(path+"."+field, "a text", "the field %q is missing", field)
	}
}

func (k *checker) name(path, value string, taken map[string]bool) {
	switch {
	case value == "":
		k.fail(path+".name", "a short name", `the field "name" is missing`)
	case !shortName.MatchString(value):
		k.fail(path+".name", "a-z, 0-9 and -, at most 40 characters", "the name %q is not valid", value)
	case taken[value]:
		k.fail(path+".name", "a unique name", "the name %q is used twice", value)
	}
	taken[value] = true
}

func oneOf[T ~string](k *checker, path, field string, value T, allowed ...T) {
	want := make([]string, len(allowed))
	for i, a := range allowed {
		want[i] = string(a)
	}
	if !slices.Contains(allowed, value) {
		what := fmt.Sprintf("the field %q is missing", field)
		if value != "" {
			what = fmt.Sprintf("%q is not a %s", value, field)
		}
		k.fail(path+"."+field, strings.Join(want, ", "), "%s", what)
	}
}

func (k *checker) card(c *Card) {
	if c.Format != Format {
		k.fail("$.card", fmt.Sprint(Format), "this version of Move Kit cannot read card format %d", c.Format)
	}
	k.name("$", c.Name, map[string]bool{})
	k.need("$", "title", c.Title)
	if v := c.Version; v != nil {
		k.source("$.version", &v.Source)
		if v.Edition != nil {
			k.source("$.version.edition", v.Edition)
		}
		if v.Rule == "" {
			v.Rule = version.SameMajor
		}
		oneOf(k, "$.version", "rule", v.Rule, version.Rules...)
	}
	if len(c.Items) == 0 {
		k.fail("$.items", "at least one item", `the field "items" is missing`)
	}
	taken := map[string]bool{}
	for i := range c.Items {
		k.item(fmt.Sprintf("$.items[%d]", i), c, &c.Items[i], taken)
	}
	for i := range c.Requires {
		k.require(fmt.Sprintf("$.requires[%d]", i), &c.Requires[i])
	}
	if c.Opens != nil {
		k.opens(c)
	}
	if c.Installer != nil {
		k.installer(c.Installer)
	}
	for i := range c.Sync {
		k.sync(fmt.Sprintf("$.sync[%d]", i), c, &c.Sync[i])
	}
	for i, s := range c.Untested {
		oneOf(k, "$", fmt.Sprintf("untested[%d]", i), s, "windows", "linux", "macos")
	}
	for i, tried := range c.Tried {
		if _, err := time.Parse(time.DateOnly, tried.Date); tried.System == "" || tried.Version == "" || err != nil {
			k.fail(fmt.Sprintf("$.tried[%d]", i), "system, version and date", "it does not say what was tried, and when")
		}
	}
	taken = map[string]bool{}
	for i := range c.Licences {
		k.licence(fmt.Sprintf("$.licences[%d]", i), c, &c.Licences[i], taken)
	}
}

func (k *checker) installer(i *Installer) {
	if i.Path.IsZero() == (i.Beside == "") {
		k.fail("$.installer", "exactly one of path and beside", "specify exactly one place of the installer")
	}
	if !i.Path.IsZero() {
		k.path("$.installer.path", i.Path)
	}
	for field, name := range map[string]string{"beside": i.Beside, "run": i.Run} {
		if name != "" && (!filepath.IsLocal(name) || strings.Contains(name, `\\`)) {
			k.fail("$.installer."+field, "a name without .., written with /", "the name %q leads elsewhere", name)
		}
	}
}

func (k *checker) opens(c *Card) {
	o := c.Opens
	if (len(o.Run) > 0) == (o.Look != "") {
		k.fail("$.opens", "exactly one of run and look", "specify exactly one way to check that the app has its data")
	}
	if len(o.Run) > 0 {
		k.command("$.opens.run", o.Run)
		k.grouped("$.opens.pattern", o.Pattern.Pattern)
		if o.Pattern.IsZero() {
			k.fail("$.opens", "pattern, a regular expression with a group", "the command has no pattern for its output")
		}
	}
	if o.Count != "" && !slices.ContainsFunc(c.Items, func(it Item) bool {
		return slices.ContainsFunc(it.Counts, func(n Count) bool { return n.Name == o.Count })
	}) {
		k.fail("$.opens.count", "the name of a count in this card", "there is no count %q", o.Count)
	}
}

func (k *checker) item(at string, c *Card, it *Item, taken map[string]bool) {
	k.name(at, it.Name, taken)
	info := it.Kind.Info()
	with := func(field string) (out []string) {
		for _, i := range Kinds {
			if i.takes(field) {
				out = append(out, string(i.Kind))
			}
		}
		return out
	}
	oneOf(k, at, "kind", string(it.Kind), with("name")...)
	if info.Fields != nil {
		k.fits(at, "a "+string(it.Kind)+" item", it, info.takes, with)
	}
	switch {
	case info.StaysAt != "":
		k.stays(at, it)
	case info.takes("key"):
		k.need(at, "key", it.Key)
		k.registry(at+".key", it.Key)
	case info.takes("server"):
		k.server(at, it)
	case info.Runs:
		k.job(at+".job", it)
	case it.Path.From != nil:
		k.source(at+".path.from", it.Path.From)
		if len(it.Path.Texts()) > 0 {
			k.fail(at+".path", "from, or windows, linux and macos", "the path of %q is given twice", it.Name)
		}
	default:
		k.path(at+".path", it.Path)
	}
	if it.Each != "" {
		k.globs(at+".each", []string{it.Each})
	} else if it.Newest != 0 {
		k.fail(at+".newest", "newest with each", "newest needs each, which the item %q does not have", it.Name)
	}
	if id := it.Identity; id != nil {
		if !filepath.IsLocal(id.File) || strings.Contains(id.File, `\`) {
			k.fail(at+".identity.file", "a file in the folder, written with /", "the file %q is not in the folder", id.File)
		}
		if !id.Pattern.IsZero() {
			k.grouped(at+".identity.pattern", id.Pattern.Pattern)
		}
	}
	if info.takes("dump") {
		k.dump(at+".dump", it)
	}
	if info.takes("exports") {
		k.exports(at, c, it)
	}
	if to := c.Item(it.Attached); it.Attached != "" && (to == nil || to.Kind != it.Kind || to.Attached != "" || to == it) {
		k.fail(at+".attached-to", "the name of another "+string(it.Kind)+" item that is not attached itself", "the item %q cannot be attached to %q", it.Name, it.Attached)
	}
	k.globs(at+".include", it.Include)
	k.globs(at+".skip", it.Skip)
	if it.Kind.queried() {
		for i, c := range it.UpdatePaths {
			if table, column, _ := strings.Cut(c, "."); table == "" || column == "" {
				k.fail(fmt.Sprintf("%s.update-paths[%d]", at, i), "a table and a column, such as recent.path", "the column %q is not valid", c)
			}
		}
	} else {
		k.globs(at+".update-paths", it.UpdatePaths)
	}
	for i, cnt := range it.Counts {
		k.count(fmt.Sprintf("%s.counts[%d]", at, i), info, cnt)
	}
	for i, n := range it.Needs {
		licence := slices.ContainsFunc(c.Licences, func(l Licence) bool { return l.Name == n })
		if !licence && (c.Item(n) == nil || n == it.Name) {
			k.fail(fmt.Sprintf("%s.needs[%d]", at, i), "the name of another item of this card, or of a licence", "there is no other item and no licence named %q", n)
		}
	}
}

func (k *checker) globs(at string, patterns []string) {
	for i, g := range patterns {
		if !doublestar.ValidatePattern(g) || strings.HasPrefix(g, "/") || strings.Contains(g, `\`) {
			k.fail(fmt.Sprintf("%s[%d]", at, i), "a pattern written with /, such as cache/**", "the pattern %q is not valid", g)
		}
	}
}

var (
	selectOnly = regexp.MustCompile(`(?is)^\s*(select|with)\b[^;]*;?\s*$`)
	// reaches matches the parts of a query that do more than read the database, as far as the text
	// shows it. The rest is stopped when the query runs (item.Querier).
	reaches = regexp.MustCompile("(?is)\\b(?:(into|outfile|dumpfile|execute\\s+(?:block|statement)|next\\s+value\\s+for|for\\s+(?:update|share|no\\s+key|key\\s+share)|u&)\\b|(u)&['\"]|(load_file|load_extension|readfile|writefile|edit|fts3_tokenizer|pg_\\w+|lo_\\w+|loread|lowrite|dblink\\w*|set_config|\\w+_to_xml\\w*|sleep|benchmark|get_lock|release_lock|nextval|setval|sys_exec|sys_eval|gen_id|rdb\\$set_context)[\"`\\]]?\\s*\\()")
)

// readsOnly checks that a query is a single SELECT that only reads.
func (k *checker) readsOnly(path, query, what string) {
	if !selectOnly.MatchString(query) {
		k.fail(path, "one SELECT that returns one whole number", "the query%s is not valid", what)
		return
	}
	for _, m := range reaches.FindAllStringSubmatch(query, -1) {
		word := strings.ToLower(m[1] + m[2] + m[3])
		if word == "pg_size_pretty" || strings.HasSuffix(word, "_size") { // these functions inspect the database itself
			continue
		}
		k.fail(path, "a SELECT that only reads the database", "the query%s uses %q, which does more than read", what, word)
		return
	}
}

func (k *checker) count(at string, kind KindInfo, c Count) {
	k.need(at, "name", c.Name)
	switch kind.Counts {
	case "query":
		k.readsOnly(at+".query", c.Query, fmt.Sprintf(" of %q", c.Name))
		if c.Files != "" {
			k.fail(at, "query for a database", "the count %q does not suit a %s", c.Name, kind.Kind)
		}
	case "files":
		if c.Files == "" || !doublestar.ValidatePattern(c.Files) {
			k.fail(at+".files", "a pattern of files, such as **/*.rec", "the count %q has no valid pattern", c.Name)
		}
		if c.Query != "" {
			k.fail(at, "files for a folder", "the count %q does not suit a %s", c.Name, kind.Kind)
		}
	}
}

func (k *checker) licence(at string, c *Card, l *Licence, taken map[string]bool) {
	k.name(at, l.Name, taken)
	info := l.Method.Info()
	with := func(field string) (out []string) {
		for _, i := range Methods {
			if i.takes(field) {
				out = append(out, string(i.Method))
			}
		}
		return out
	}
	oneOf(k, at, "method", string(l.Method), with("name")...)
	if info.Fields != nil {
		k.fits(at, "a licence with the method "+string(l.Method), l, info.takes, with)
	}
	if info.Sealed() && (l.Typed == "" || !l.Serial.IsZero()) {
		k.source(at+".serial", &l.Serial)
	}
	if info.Sealed() && (l.Typed == "" && !info.Unnamed || !l.Code.IsZero()) {
		k.source(at+".code", &l.Code)
	}
	if !l.Token.IsZero() {
		k.path(at+".token", l.Token)
		k.ownToken(at, l)
	}
	if l.Wait.Bad() {
		k.fail(at+".wait", "a time such as 24h, or calendar-day with or without a time zone", "the waiting time %q is not valid", l.Wait.Written())
	}
	k.duration(at+".trial", l.Trial)
	if l.Expires.Bad() {
		k.fail(at+".expires", "a day such as 2027-03-31", "the day %q is not valid", l.Expires.Written())
	}
	if l.BackBy.Bad() {
		k.fail(at+".reactivate-by", "a day such as 2027-03-31, or a time such as 720h", "the day %q is not valid", l.BackBy.Written())
	}
	k.matching(at+".form", l.Form.Pattern)
	if l.Check != "" {
		oneOf(k, at, "check", l.Check, "luhn", "mod-11-10", "mod-37-36", "mod-97-10")
	}
	if l.USB != "" && !usbID.MatchString(l.USB) {
		k.fail(at+".usb", "the vendor and product id of a token, such as 1d6b:0002", "the USB id %q is not valid", l.USB)
	}
	if info.takes("desk") {
		k.desk(at, l)
	}
	if info.takes("items") {
		k.files(at, c, l)
	}
	if info.takes("show") {
		k.show(at, l)
	}
	if info.takes("activate") {
		k.change(at+".deactivate", l, l.Deactivate)
		k.change(at+".activate", l, l.Activate)
	}
	if l.Lost != nil {
		if len(l.Lost.Steps) == 0 || len(l.Lost.Run) > 0 {
			k.fail(at+".lost", "manual steps", "a program on a lost computer cannot run")
		}
		k.guides(at+".lost", l.Lost.Steps)
	}
}

// inProfile matches a path or key that every user has.
var inProfile = regexp.MustCompile(`(?i)^(?:%(?:APPDATA|LOCALAPPDATA|USERPROFILE)%|~|\$(?:HOME|XDG_\w+)\b|HKCU\b|HKEY_CURRENT_USER\b)`)

// ownToken checks that users who each have a serial do not share one token file: every activation would replace
// that of the user before.
func (k *checker) ownToken(at string, l *Licence) {
	each := func(all []string) bool { return slices.ContainsFunc(all, inProfile.MatchString) }
	serial := each(append(append(l.Serial.File.Texts(), l.Code.File.Texts()...), l.Serial.Registry, l.Code.Registry))
	if token := l.Token.Texts(); serial && len(token) > 0 && !each(token) {
		k.fail(at+".token", "a path in the user's profile, as the serial", "every user has a serial, but all share the token file %s: each activation would replace the one before", token[0])
	}
}

// files checks the file items of a licence.
func (k *checker) files(at string, c *Card, l *Licence) {
	if len(l.Items) == 0 {
		k.fail(at+".items", "the names of file items of this card", "the licence %q has no files", l.Name)
	}
	for i, name := range l.Items {
		if it := c.Item(name); it == nil || it.Kind != File {
			k.fail(fmt.Sprintf("%s.items[%d]", at, i), "the name of a file item of this card", "there is no file item %q", name)
		}
	}
}

// show checks how a vendor's program reports the state.
func (k *checker) show(at string, l *Licence) {
	if l.Show == nil || len(l.Show.Run) == 0 || l.Show.Active.IsZero() {
		k.fail(at+".show", "run, and the pattern active", "the licence %q does not say how to read its state", l.Name)
		return
	}
	k.command(at+".show.run", l.Show.Run)
	k.matching(at+".show.active", l.Show.Active)
	k.matching(at+".show.inactive", l.Show.Inactive)
	k.grouped(at+".show.left", l.Show.Left)
	k.matching(at+".show.expired", l.Show.Over)
	k.duration(at+".show.limit", l.Show.Limit)
}

func (k *checker) duration(at string, d value.Duration) {
	if d.Bad() {
		k.fail(at, "a time such as 24h or 90m", "the time %q is not valid", d.Written())
	}
}

func (k *checker) guides(at string, all []Guide) {
	for i, g := range all {
		k.need(fmt.Sprintf("%s.steps[%d]", at, i), "do", g.Do)
		k.matching(fmt.Sprintf("%s.steps[%d].answer", at, i), g.Answer)
	}
}

var usbID = regexp.MustCompile(`^[0-9a-fA-F]{4}:[0-9a-fA-F]{4}$`)

// change checks how to deactivate or activate a licence: a vendor's program by commands, all other
// methods by steps. A product key may omit both.
func (k *checker) change(at string, l *Licence, c *Change) {
	byProgram := l.Method.Info().takes("show")
	switch {
	case c == nil && l.Method.Info().Sealed():
	case c == nil:
		k.fail(at, "run or steps", "the licence %q does not say how", l.Name)
	case byProgram && len(c.Run) == 0:
		k.fail(at+".run", "the vendor's program with its arguments", "the licence %q has no command", l.Name)
	case !byProgram && (len(c.Steps) == 0 || len(c.Run) > 0):
		k.fail(at+".steps", "the manual steps", "the licence %q needs manual steps, not a program", l.Name)
	default:
		k.command(at+".run", c.Run)
		k.matching(at+".done", c.Done)
		for i, f := range c.Fails {
			k.need(fmt.Sprintf("%s.fails[%d]", at, i), "match", f.Match.String())
			k.need(fmt.Sprintf("%s.fails[%d]", at, i), "means", f.Means)
			k.matching(fmt.Sprintf("%s.fails[%d].match", at, i), f.Match)
		}
		k.guides(at, c.Steps)
	}
}

func (k *checker) desk(at string, l *Licence) {
	k.need(at, "product", l.Product)
	if l.Desk == nil {
		k.fail(at+".desk", "the desk's url and key", "the licence %q has no desk", l.Name)
		return
	}
	if !SafeURL(l.Desk.URL) {
		k.fail(at+".desk.url", "an https address, or http on this computer (127.0.0.1)", "the desk's address %q is not valid", l.Desk.URL)
	}
	if l.Desk.Pin != "" && (len(l.Desk.Pin) != 43 || !strings.HasPrefix(l.Desk.URL, "https://")) {
		k.fail(at+".desk.certificate", "with https, the SHA-256 of a public key: 32 bytes in base64url", "the certificate %q is not valid", l.Desk.Pin)
	}
	if !l.Desk.Key.Usable() {
		k.fail(at+".desk.key", "an Ed25519 public key: 32 bytes in base64url", "the desk's key is not valid")
	}
}

// SafeURL reports whether secrets can be sent to an address: with https, or to this computer.
func SafeURL(s string) bool {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" {
		return false
	}
	if u.Scheme == "https" {
		return true
	}
	ip := net.ParseIP(u.Hostname())
	return u.Scheme == "http" && (u.Hostname() == "localhost" || ip != nil && ip.IsLoopback())
}

// matching checks a regular expression.
func (k *checker) matching(at string, p value.Pattern) {
	if !p.IsZero() && p.Groups() < 0 {
		k.fail(at, "a regular expression (RE2)", "the pattern %q is not valid", p)
	}
}

// grouped checks a regular expression whose group is the value.
func (k *checker) grouped(at string, p value.Pattern) {
	if !p.IsZero() && p.Groups() != 1 {
		k.fail(at, `a regular expression with one group, such as Version: (\S+)`, "the pattern %q is not valid", p)
	}
}

// path checks that a path starts with a term or a root. A relative path would depend on the current
// folder.
func (k *checker) path(at string, p Path) {
	if p.From != nil {
		k.fail(at, "a path, or a mapping with windows, linux and macos", "only the path of an item can come from a setting")
		return
	}
	if p.IsZero() {
		field := at[strings.LastIndex(at, ".")+1:]
		k.fail(at, "a path, or a mapping with windows, linux and macos", "the field %q is missing", field)
		return
	}
	for field, s := range map[string]string{"": p.Any, ".windows": p.Windows, ".linux": p.Linux, ".macos": p.MacOS} {
		if s != "" && !rooted.MatchString(s) {
			k.fail(at+field, `a path that starts with a term (%APPDATA%, ~, $XDG_CONFIG_HOME), a drive or /`, "the path %q is relative", s)
		}
		if slices.Contains(strings.FieldsFunc(s, func(r rune) bool { return r == '/' || r == '\\' }), "..") {
			k.fail(at+field, "a path without ..", "the path %q contains ..", s)
		}
		if what, want := likelyMistake(s); what != "" {
			k.fail(at+field, want, "the path %q %s", s, what)
		}
	}
}

// Terms lists the terms that can start a path.
var Terms = []string{"%APPDATA%", "%LOCALAPPDATA%", "%USERPROFILE%", "%PROGRAMDATA%", "%ALLUSERSPROFILE%", "%PROGRAMFILES%", "%PROGRAMFILES(X86)%", "%PUBLIC%", "%WINDIR%", "%SYSTEMROOT%", "%SYSTEMDRIVE%",
	"~", "$HOME", "$XDG_CONFIG_HOME", "$XDG_DATA_HOME", "$XDG_STATE_HOME", "$XDG_CACHE_HOME"}

var (
	term       = regexp.MustCompile(`^(?:%[^%\\/]*%|\$[A-Za-z_]+)`)
	windows    = regexp.MustCompile(`^(?:[A-Za-z]:|%)|\\`)
	device     = regexp.MustCompile(`(?i)^(?:con|prn|aux|nul|com[0-9]|lpt[0-9])(?:\.|$)`)
	profile    = regexp.MustCompile(`(?i)^[a-z]:[\\/](?:users|documents and settings)[\\/]([^\\/]+)[\\/]?(.*)$`)
	home       = regexp.MustCompile(`^/home/([^/]+)/?(.*)$`)
	noProfiles = []string{"public", "default", "all users"}
)

// likelyMistake returns a description of a likely mistake in a path, and the correction.
func likelyMistake(s string) (what, want string) {
	if t := term.FindString(s); t != "" && !slices.Contains(Terms, strings.ToUpper(t)) {
		return "starts with " + t + ", which is not a known term", strings.Join(Terms, ", ")
	}
	if t := term.FindString(s); t != "" && len(s) > len(t) && s[len(t)] != '/' && s[len(t)] != '\\' || strings.HasPrefix(s, "~") && len(s) > 1 && s[1] != '/' {
		return "has other characters directly after its term", "a separator after the term"
	}
	if m := profile.FindStringSubmatch(s); m != nil && !slices.Contains(noProfiles, strings.ToLower(m[1])) {
		return "is in the profile of one user", `%USERPROFILE%\` + m[2] + ", which means every user's profile"
	}
	if m := home.FindStringSubmatch(s); m != nil {
		return "is in the home of one user", "~/" + m[2] + ", which means every user's home"
	}
	if strings.ContainsAny(s, "*?") {
		return "contains a pattern", "one path; use include and skip for patterns"
	}
	if !windows.MatchString(s) || strings.HasPrefix(s, "/") {
		return "", ""
	}
	if strings.ContainsAny(s, `"<>|`) || strings.LastIndexByte(s, ':') > 1 {
		return "contains a character that Windows does not allow", "a path without \" < > | and without : except after the drive"
	}
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == '/' || r == '\\' }) {
		if device.MatchString(part) {
			return "names the device " + part, "the path of a file or folder"
		}
	}
	return "", ""
}

var rooted = regexp.MustCompile(`^(%[A-Za-z()0-9]+%|~|\$[A-Z_]+|[A-Za-z]:[\\/]|/)`)
