package card

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"movekit/internal/core/fault"
)

// MaxSize is the largest card that is read, in bytes.
const MaxSize = 1 << 20

// Problem is one mistake in a card, with the place where it stands.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Source string `json:"source"` // the line itself
	What   string `json:"what"`
	Want   string `json:"expected,omitempty"` // what was expected there
}

// Error returns the problem as file:line:column: what; expected want.
func (p *Problem) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.What)
	if p.Want != "" {
		s += "; expected " + p.Want
	}
	return s
}

// Problems are all mistakes found in a card, in the order of their lines.
type Problems []*Problem

// Error returns one problem a line.
func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// Read reads the card in a file. A card with mistakes gives an error that
// wraps Problems.
func Read(name string) (*Card, error) {
	info, err := os.Stat(name)
	if err == nil && info.Size() > MaxSize {
		return nil, fault.New(fault.BadCard, "the card %s has %d bytes; a card has at most %d", name, info.Size(), MaxSize)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "cannot read the card")
	}
	return Parse(name, data)
}

// ReadDir reads every card (*.yaml, *.yml) of a folder, by file name.
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
			return nil, fault.New(fault.BadCard, "two cards are named %q: %s and %s", c.Name, other, f.Name())
		}
		seen[c.Name] = f.Name()
		cards = append(cards, c)
	}
	return cards, nil
}

// IsCardName reports whether a file name is that of a card.
func IsCardName(name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return (ext == ".yaml" || ext == ".yml") && !strings.HasPrefix(name, ".")
}

// Parse reads a card from data; name is the file named in problems.
func Parse(name string, data []byte) (*Card, error) {
	lines := bytes.Split(data, []byte("\n"))
	c := &Card{Source: name}
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict(), yaml.DisallowUnknownField()).Decode(c); err != nil {
		return nil, bad(name, Problems{fromYAML(name, lines, err)})
	}
	doc, err := parser.ParseBytes(data, 0)
	if err != nil || len(doc.Docs) == 0 {
		return nil, bad(name, Problems{fromYAML(name, lines, err)})
	}
	k := &checker{file: name, lines: lines, doc: doc}
	k.card(c)
	if len(k.found) > 0 {
		sort.SliceStable(k.found, func(i, j int) bool { return k.found[i].Line < k.found[j].Line })
		return nil, bad(name, k.found)
	}
	return c, nil
}

func bad(name string, ps Problems) error {
	return fault.Wrap(fault.BadCard, ps, "the card %s cannot be used", filepath.Base(name))
}

// fromYAML turns an error of the YAML reader into a Problem.
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
	return p
}

func sourceLine(lines [][]byte, n int) string {
	if n < 1 || n > len(lines) {
		return ""
	}
	return strings.TrimRight(string(lines[n-1]), "\r")
}

// checker holds a decoded card against the rules that its types cannot say.
type checker struct {
	file  string
	lines [][]byte
	doc   *ast.File
	found Problems
}

var shortName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// fail notes a problem at the YAML path, or at its nearest parent that stands
// in the file.
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
		k.fail(path+".name", "a-z, 0-9 and -, at most 40 characters", "the name %q cannot be used", value)
	case taken[value]:
		k.fail(path+".name", "a name of its own", "the name %q is used twice", value)
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
		k.fail("$.card", fmt.Sprint(Format), "the card format %d is not one this tool reads", c.Format)
	}
	k.name("$", c.Name, map[string]bool{})
	k.need("$", "title", c.Title)
	if v := c.Version; v != nil {
		k.source("$.version", &v.Source)
		if v.Edition != nil {
			k.source("$.version.edition", v.Edition)
		}
		if v.Rule == "" {
			v.Rule = SameMajor
		}
		oneOf(k, "$.version", "rule", v.Rule, Exact, SameMinor, SameMajor, SameOrNewer)
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
	for i := range c.Sync {
		k.sync(fmt.Sprintf("$.sync[%d]", i), c, &c.Sync[i])
	}
	taken = map[string]bool{}
	for i := range c.Licences {
		k.licence(fmt.Sprintf("$.licences[%d]", i), c, &c.Licences[i], taken)
	}
}

func (k *checker) item(at string, c *Card, it *Item, taken map[string]bool) {
	k.name(at, it.Name, taken)
	oneOf(k, at, "kind", it.Kind, Folder, File, SQLite, DBase, Jet, Exports, PostgreSQL, MariaDB, Firebird, Network, Hosted)
	switch {
	case it.Kind.Stays():
		k.stays(at, it)
	case it.Kind.Served():
		k.server(at, it)
	default:
		k.path(at+".path", it.Path)
		if it.Address != "" || it.From != nil {
			k.fail(at+".address", "address and from with the kinds network and hosted only", "the item %q is a %s", it.Name, it.Kind)
		}
	}
	k.exports(at, c, it)
	if it.Server != nil && !it.Kind.Served() {
		k.fail(at+".server", "server with databases of a server only", "the item %q is a %s", it.Name, it.Kind)
	}
	if len(it.Mask) > 0 && !it.Kind.Queried() {
		k.fail(at+".mask", "mask with databases only", "the item %q is a %s", it.Name, it.Kind)
	}
	if it.Kind != Folder && it.Kind != Exports && len(it.Include)+len(it.Skip) > 0 {
		k.fail(at, "include and skip with the kind folder only", "the item %q is a %s", it.Name, it.Kind)
	}
	if to := c.Item(it.Attached); it.Attached != "" && (it.Kind != SQLite || to == nil || to.Kind != SQLite || to.Attached != "" || to == it) {
		k.fail(at+".attached-to", "the name of another sqlite item, which is attached to none", "the item %q cannot be attached to %q", it.Name, it.Attached)
	}
	k.globs(at+".include", it.Include)
	k.globs(at+".skip", it.Skip)
	for i, cnt := range it.Counts {
		k.count(fmt.Sprintf("%s.counts[%d]", at, i), it.Kind, cnt)
	}
	for i, n := range it.Needs {
		if c.Item(n) == nil || n == it.Name {
			k.fail(fmt.Sprintf("%s.needs[%d]", at, i), "the name of another item of this card", "no other item is named %q", n)
		}
	}
}

func (k *checker) globs(at string, patterns []string) {
	for i, g := range patterns {
		if !doublestar.ValidatePattern(g) || strings.HasPrefix(g, "/") || strings.Contains(g, `\`) {
			k.fail(fmt.Sprintf("%s[%d]", at, i), "a pattern with / between folders, such as cache/**", "the pattern %q cannot be used", g)
		}
	}
}

var selectOnly = regexp.MustCompile(`(?is)^\s*(select|with)\b[^;]*;?\s*$`)

func (k *checker) count(at string, kind Kind, c Count) {
	k.need(at, "name", c.Name)
	switch {
	case kind.Queried() && !selectOnly.MatchString(c.Query):
		k.fail(at+".query", "one SELECT that gives one whole number", "the query of %q cannot be used", c.Name)
	case kind.Tree() && (c.Files == "" || !doublestar.ValidatePattern(c.Files)):
		k.fail(at+".files", "a pattern of files, such as **/*.rec", "the count %q has no pattern that can be used", c.Name)
	case kind.Single(), kind.Stays():
		k.fail(at, "counts with folders and databases only", "a %s item has nothing to count", kind)
	case kind.Queried() && c.Files != "", kind.Tree() && c.Query != "":
		k.fail(at, "files for a folder, query for a database", "the count %q does not fit a %s", c.Name, kind)
	}
}

func (k *checker) licence(at string, c *Card, l *Licence, taken map[string]bool) {
	k.name(at, l.Name, taken)
	oneOf(k, at, "method", l.Method, MethodDesk, MethodCommand, MethodGuided, MethodFile, MethodKey, MethodToken, MethodAccount)
	if l.Method.Sealed() && (l.Typed == "" || !l.Serial.IsZero()) {
		k.source(at+".serial", &l.Serial)
	}
	if l.Method.Sealed() && (l.Typed == "" || !l.Code.IsZero()) {
		k.source(at+".code", &l.Code)
	}
	if !l.Token.IsZero() {
		k.path(at+".token", l.Token)
	}
	k.duration(at+".wait", l.Wait)
	k.duration(at+".trial", l.Trial)
	k.day(at+".expires", "a day such as 2027-03-31", l.Expires)
	if _, err := time.ParseDuration(l.BackBy); err != nil {
		k.day(at+".back-by", "a day such as 2027-03-31, or a time such as 720h", l.BackBy)
	}
	k.serial(at, l)
	if l.Takeover && (l.Method == MethodFile || l.Method == MethodToken) {
		k.fail(at+".takeover", "takeover with other methods", "a %s is on one computer at a time", l.Method)
	}
	if l.Method == MethodDesk && (l.Takeover || l.Seats != 0 || l.Covers != "" || l.Edition != "" || l.Expires != "") {
		k.fail(at, "takeover, seats, covers, edition and expires where no service tells them", "the desk of the licence %q tells its rules itself", l.Name)
	}
	if l.Bound && l.Method != MethodFile {
		k.fail(at+".bound", "bound with the method file only", "the licence %q is no file", l.Name)
	}
	if l.USB != "" && (l.Method != MethodToken || !usbID.MatchString(l.USB)) {
		k.fail(at+".usb", "vendor and product id of a token, such as 1d6b:0002", "the USB id %q cannot be used", l.USB)
	}
	switch l.Method {
	case MethodDesk:
		k.desk(at, l)
	case MethodFile:
		if len(l.Items) == 0 {
			k.fail(at+".items", "the names of file items of this card", "the licence %q names no file", l.Name)
		}
		for i, name := range l.Items {
			if it := c.Item(name); it == nil || it.Kind != File {
				k.fail(fmt.Sprintf("%s.items[%d]", at, i), "the name of a file item of this card", "no file item is named %q", name)
			}
		}
	case MethodCommand:
		if l.Show == nil || len(l.Show.Run) == 0 || l.Show.Active == "" {
			k.fail(at+".show", "run, and the pattern active", "the licence %q does not say how its state is told", l.Name)
		} else {
			k.matching(at+".show.active", l.Show.Active)
			k.pattern(at+".show.left", l.Show.Left, false)
			k.matching(at+".show.expired", l.Show.Over)
			k.duration(at+".show.limit", l.Show.Limit)
		}
	}
	k.change(at+".deactivate", l, l.Deactivate)
	k.change(at+".activate", l, l.Activate)
	if l.Lost != nil {
		if len(l.Lost.Steps) == 0 || len(l.Lost.Run) > 0 {
			k.fail(at+".lost", "steps that a person takes", "the program of a lost computer cannot be run")
		}
		k.guides(at+".lost", l.Lost.Steps)
	}
}

// serial checks how a serial is told from a mistyped one.
func (k *checker) serial(at string, l *Licence) {
	k.matching(at+".form", l.Form)
	if l.Check != "" {
		oneOf(k, at, "check", l.Check, "luhn", "mod-11-10", "mod-37-36", "mod-97-10")
	}
	if (l.Form+l.Check+l.Typed != "" || l.Parts) && !l.Method.Sealed() {
		k.fail(at, "form, check and typed with the methods desk and key", "the licence %q has no serial", l.Name)
	}
}

func (k *checker) duration(at, s string) {
	if d, err := time.ParseDuration(s); s != "" && (err != nil || d <= 0) {
		k.fail(at, "a time such as 24h or 90m", "the time %q cannot be used", s)
	}
}

func (k *checker) day(at, want, s string) {
	if _, err := time.Parse(time.DateOnly, s); s != "" && err != nil {
		k.fail(at, want, "the day %q cannot be used", s)
	}
}

func (k *checker) guides(at string, all []Guide) {
	for i, g := range all {
		k.need(fmt.Sprintf("%s.steps[%d]", at, i), "do", g.Do)
		k.matching(fmt.Sprintf("%s.steps[%d].answer", at, i), g.Answer)
	}
}

var usbID = regexp.MustCompile(`^[0-9a-fA-F]{4}:[0-9a-fA-F]{4}$`)

// change checks how a licence is freed or taken up.
func (k *checker) change(at string, l *Licence, c *Change) {
	switch {
	case c == nil && (l.Method == MethodCommand || l.Method.Person()):
		k.fail(at, "run or steps", "the licence %q does not say how that is done", l.Name)
	case c == nil:
	case l.Method == MethodCommand && len(c.Run) == 0:
		k.fail(at+".run", "the maker's program with its arguments", "the licence %q names no command", l.Name)
	case (l.Method.Person() || l.Method == MethodKey) && (len(c.Steps) == 0 || len(c.Run) > 0):
		k.fail(at+".steps", "what a person does, step by step", "the licence %q is carried out by a person", l.Name)
	case l.Method == MethodDesk || l.Method == MethodFile:
		k.fail(at, "nothing here with the methods desk and file", "the licence %q needs no steps", l.Name)
	default:
		k.matching(at+".done", c.Done)
		for i, f := range c.Fails {
			k.need(fmt.Sprintf("%s.fails[%d]", at, i), "match", f.Match)
			k.need(fmt.Sprintf("%s.fails[%d]", at, i), "means", f.Means)
			k.matching(fmt.Sprintf("%s.fails[%d].match", at, i), f.Match)
		}
		k.guides(at, c.Steps)
	}
}

func (k *checker) desk(at string, l *Licence) {
	k.need(at, "product", l.Product)
	if l.Desk == nil {
		k.fail(at+".desk", "the desk's url and key", "the licence %q names no desk", l.Name)
		return
	}
	if !SafeURL(l.Desk.URL) {
		k.fail(at+".desk.url", "an https address, or http on this computer (127.0.0.1)", "the desk's address %q cannot be used", l.Desk.URL)
	}
	if l.Desk.Pin != "" && (len(l.Desk.Pin) != 43 || !strings.HasPrefix(l.Desk.URL, "https://")) {
		k.fail(at+".desk.certificate", "with https, the SHA-256 of a public key: 32 bytes in base64url", "the certificate %q cannot be used", l.Desk.Pin)
	}
	if _, err := l.Desk.PublicKey(); err != nil {
		k.fail(at+".desk.key", "an Ed25519 public key: 32 bytes in base64url", "the desk's key cannot be used")
	}
}

// SafeURL reports whether secrets may be sent to an address: by https, or to
// this computer.
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

// matching checks a regular expression that something is held against.
func (k *checker) matching(at, expr string) {
	if _, err := regexp.Compile(expr); err != nil {
		k.fail(at, "a regular expression (RE2)", "the pattern %q cannot be used", expr)
	}
}

func (k *checker) pattern(at, expr string, required bool) {
	if expr == "" && !required {
		return
	}
	re, err := regexp.Compile(expr)
	if err != nil || re.NumSubexp() != 1 {
		k.fail(at, `a regular expression with one group, such as Version: (\S+)`, "the pattern %q cannot be used", expr)
	}
}

// path checks that a path starts with a term or a root: a relative path
// would depend on where the tool is started.
func (k *checker) path(at string, p Path) {
	if p.IsZero() {
		field := at[strings.LastIndex(at, ".")+1:]
		k.fail(at, "a path, or a mapping with windows and linux", "the field %q is missing", field)
		return
	}
	for field, s := range map[string]string{"": p.Any, ".windows": p.Windows, ".linux": p.Linux} {
		if s != "" && !rooted.MatchString(s) {
			k.fail(at+field, `a path that starts with a term (%APPDATA%, ~, $XDG_CONFIG_HOME), a drive or /`, "the path %q does not say where it starts", s)
		}
		if slices.Contains(strings.FieldsFunc(s, func(r rune) bool { return r == '/' || r == '\\' }), "..") {
			k.fail(at+field, "a path without ..", "the path %q leads upwards", s)
		}
	}
}

var rooted = regexp.MustCompile(`^(%[A-Za-z()0-9]+%|~|\$[A-Z_]+|[A-Za-z]:[\\/]|/)`)
