// Package card reads app cards: YAML files that describe one application, where it keeps its data and how its licence
// is held.
//
// Parse, Read and ReadDir return a card that is checked completely, or an error with every mistake by line and column.
// Schema returns the JSON Schema. kinds.go has the tables of the kinds of item and of the licence methods.
//
// Cards are untrusted: nothing of a card is used before it is checked, and its commands run only after the user has
// agreed to them.
package card

import (
	"reflect"
	"slices"
	"strings"
)

// Format is the version of the card format that this package reads.
const Format = 1

// Rule says which versions of an app may take over the data of another.
type Rule string

// The version rules.
const (
	Exact       Rule = "exact"         // the very same version
	SameMinor   Rule = "same-minor"    // the first two numbers agree
	SameMajor   Rule = "same-major"    // the first number agrees
	SameOrNewer Rule = "same-or-newer" // the new one is not older
)

// Card describes one application.
type Card struct {
	Format     int       `yaml:"card" jsonschema:"required,enum=1" jsonschema_description:"Version of the card format; 1."`
	Name       string    `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name used on the command line: a-z, 0-9 and -."`
	Title      string    `yaml:"title" jsonschema:"required" jsonschema_description:"The name people know the app by."`
	Vendor     string    `yaml:"vendor,omitempty" jsonschema_description:"Who makes the app."`
	About      string    `yaml:"about,omitempty" jsonschema_description:"What the office uses the app for."`
	Version    *Version  `yaml:"version,omitempty" jsonschema_description:"Where the app's version is read, and which versions may take over its data."`
	Programs   []string  `yaml:"programs,omitempty" jsonschema_description:"Names of the app's programs, to see whether it is running."`
	Requires   []Require `yaml:"requires,omitempty" jsonschema_description:"What must be on the new computer beside the app."`
	Sync       []Sync    `yaml:"sync,omitempty" jsonschema_description:"How unfinished sync shows."`
	Items      []Item    `yaml:"items" jsonschema:"required,minItems=1" jsonschema_description:"What moves."`
	Licences   []Licence `yaml:"licences,omitempty" jsonschema_description:"The app's licences."`
	Opens      *Opens    `yaml:"opens,omitempty" jsonschema_description:"How the app itself shows that it has its data, once it is on the new computer."`
	LeftBehind []string  `yaml:"left-behind,omitempty" jsonschema_description:"What does not move, each with the reason."`
	ByHand     []string  `yaml:"by-hand,omitempty" jsonschema_description:"What a person must do on the new computer."`

	// Source is the file the card was read from. It is not part of the card.
	Source string `yaml:"-" json:"-"`
}

// Version says how an app's version is read, and the rule the version on the
// new computer must keep.
type Version struct {
	Source  `yaml:",inline"`
	Rule    Rule    `yaml:"rule,omitempty" jsonschema:"enum=exact,enum=same-minor,enum=same-major,enum=same-or-newer" jsonschema_description:"Which version must be on the new computer. Default: same-major."`
	Edition *Source `yaml:"edition,omitempty" jsonschema_description:"Where the app's edition is read, where it has several; it must be the same on both computers."`
}

// Source says where a value is read: in a file, an executable, the registry,
// the package manager or what a command says. Where several are given, the
// first that has a value on the computer counts, in the order of the fields.
type Source struct {
	File     Path        `yaml:"file,omitempty" jsonschema_description:"A text file. Without pattern and key: its first line."`
	Key      string      `yaml:"key,omitempty" jsonschema_description:"File: the value at this place in an INI (Section/Key), JSON (a/b/c) or XML (a/b/@attribute) file."`
	Format   string      `yaml:"format,omitempty" jsonschema:"enum=ini,enum=json,enum=xml,enum=plist" jsonschema_description:"File with key: its format, where the name does not end in it."`
	Exe      Path        `yaml:"exe,omitempty" jsonschema_description:"A Windows executable, or an application of macOS (NAME.app), read for the version it carries."`
	Registry string      `yaml:"registry,omitempty" jsonschema_description:"A registry key that starts with HKLM or HKCU."`
	Value    string      `yaml:"value,omitempty" jsonschema_description:"Registry: the name of the value; empty for the key's own."`
	Package  string      `yaml:"package,omitempty" jsonschema_description:"An installed Debian package, read for its version."`
	Command  Command     `yaml:"command,omitempty" jsonschema_description:"The app's own program with its arguments, read for what it says. It runs only on the computer itself, and when a person has agreed."`
	Pattern  LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Regular expression (RE2) whose first group is the value."`
}

// IsZero reports whether the source names nothing to read.
func (s *Source) IsZero() bool {
	return s.File.IsZero() && s.Exe.IsZero() && s.Registry == "" && s.Package == "" && len(s.Command) == 0
}

// Require is something the app cannot work without on the new computer, such
// as a driver or a runtime.
type Require struct {
	Name     string `yaml:"name" jsonschema:"required" jsonschema_description:"What it is."`
	Path     Path   `yaml:"path,omitempty" jsonschema_description:"A file or folder that is there when it is."`
	Registry string `yaml:"registry,omitempty" jsonschema_description:"A registry key that is there when it is."`
	Package  string `yaml:"package,omitempty" jsonschema_description:"A Debian package that is installed when it is."`
}

// Opens says how the app itself shows that it has its data: by its own command, or by what a
// person sees in it.
type Opens struct {
	Run     Command     `yaml:"run,omitempty" jsonschema_description:"The app's own program with its arguments; no shell. It runs only when a person has agreed."`
	Pattern LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Run: regular expression (RE2) that what it says matches when it has its data; its first group is kept."`
	Limit   Duration    `yaml:"limit,omitempty" jsonschema_description:"Run: how long it may take, such as 30s. Default: 10s."`
	Look    string      `yaml:"look,omitempty" jsonschema_description:"Or: what a person looks at, such as: open it and look under Boats: how many are there?"`
	Count   string      `yaml:"count,omitempty" jsonschema_description:"Look: name of the figure of this card that must be seen."`
}

// Sync says how it shows that the app has not sent everything yet.
type Sync struct {
	About   string      `yaml:"about" jsonschema:"required" jsonschema_description:"What is sent where."`
	Files   string      `yaml:"files,omitempty" jsonschema_description:"Folder: sync is unfinished while files match this pattern below path."`
	Path    Path        `yaml:"path,omitempty" jsonschema_description:"Files: the folder that is looked in."`
	Item    string      `yaml:"item,omitempty" jsonschema_description:"Query: the database item that is asked."`
	Query   string      `yaml:"query,omitempty" jsonschema_description:"Query: one SELECT that gives one whole number."`
	Expect  int64       `yaml:"expect,omitempty" jsonschema_description:"Query: the number when sync is finished. Default: 0."`
	Command Command     `yaml:"command,omitempty" jsonschema_description:"The app's own program with its arguments; it runs only when a person has agreed."`
	Pattern LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Command: regular expression (RE2) that what it says matches when sync is finished."`
}

// Item is one thing of an app that moves.
type Item struct {
	Name     string    `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name, unique in the card."`
	Kind     Kind      `yaml:"kind" jsonschema:"required" jsonschema_description:"What the item is."`
	Path     Path      `yaml:"path,omitempty" jsonschema_description:"Where it lies, in the system's own terms. Not for network, hosted and databases of a server."`
	Key      string    `yaml:"key,omitempty" jsonschema_description:"Registry: the key, such as HKCU\\\\Software\\\\Vendor\\\\App; one of HKCU stands for every user's."`
	Server   *Server   `yaml:"server,omitempty" jsonschema_description:"Database of a server: which, and how to be let in."`
	Address  string    `yaml:"address,omitempty" jsonschema_description:"Network and hosted: its address, such as QUAY-SRV:5432, //QUAY-SRV/ledger or https://ledger.example."`
	From     *Source   `yaml:"from,omitempty" jsonschema_description:"Network and hosted: where the app's settings name the address."`
	Secret   bool      `yaml:"secret,omitempty" jsonschema_description:"True for a key file, a certificate or a licence file: whoever has it can do what its owner can."`
	About    string    `yaml:"about,omitempty" jsonschema_description:"What is in it."`
	Each     string    `yaml:"each,omitempty" jsonschema_description:"An item of each folder or file below path that matches this pattern, such as * or Profiles/*."`
	Newest   int       `yaml:"newest,omitempty" jsonschema:"minimum=1" jsonschema_description:"Each: so many only, those that were worked in last."`
	Optional bool      `yaml:"optional,omitempty" jsonschema_description:"True where a computer may do without it."`
	Include  []string  `yaml:"include,omitempty" jsonschema_description:"Folder and registry: only what matches one of these patterns (** spans folders). A value is named after its key, with / between, and @ is the key's own."`
	Skip     []string  `yaml:"skip,omitempty" jsonschema_description:"Folder and registry: not what matches one of these patterns."`
	Repoint  []string  `yaml:"update-paths,omitempty" jsonschema_description:"Settings that hold paths, which are to say where things are on the new computer. Folder: patterns of its text files; file: any pattern; database: columns (TABLE.COLUMN); registry: patterns of values."`
	Renames  bool      `yaml:"update-computer-name,omitempty" jsonschema_description:"True where they hold the old computer's name, too."`
	Exports  *Export   `yaml:"exports,omitempty" jsonschema_description:"Exports: how many there must be, how they are made and taken in."`
	Counts   []Count   `yaml:"counts,omitempty" jsonschema_description:"Figures that a person knows, shown old and new side by side."`
	Attached string    `yaml:"attached-to,omitempty" jsonschema_description:"SQLite: name of the database item that the app attaches this one to; both are packed as of one moment."`
	Mask     []string  `yaml:"mask,omitempty" jsonschema_description:"Database: columns (TABLE.COLUMN, or COLUMN of any table) whose content is not shown where it differs."`
	Needs    []string  `yaml:"needs,omitempty" jsonschema_description:"Names of items without which this one is useless, or of licences: the token without which it cannot be opened."`
	OneSyncs bool      `yaml:"single-sync,omitempty" jsonschema_description:"True where only one copy of it may sync."`
	Identity *Identity `yaml:"identity,omitempty" jsonschema_description:"Folder: what in it tells this profile from another of the same name."`
}

// Identity is what tells a profile from another of the same name.
type Identity struct {
	File    string      `yaml:"file" jsonschema:"required" jsonschema_description:"A file in the folder, with / between. Without pattern all of it counts, as of a key file."`
	Pattern LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Regular expression (RE2) whose first group is what counts, such as the profile's number."`
}

// Server says which database of which server, and how to be let in. What is not
// given is what the server's own programs would use.
type Server struct {
	Host     Setting `yaml:"host,omitempty" jsonschema_description:"Name or address of the server, or the folder of its socket."`
	Port     Setting `yaml:"port,omitempty" jsonschema_description:"Its port."`
	Database Setting `yaml:"database" jsonschema:"required" jsonschema_description:"Name of the database; for Firebird its file or alias, as the server sees it."`
	User     Setting `yaml:"user,omitempty" jsonschema_description:"Who may read all of it, and make databases on the new server."`
	Password *Source `yaml:"password,omitempty" jsonschema_description:"Where the app's settings keep the password; without one the server's own password file is used, or it is asked for."`
}

// Export says how an app's own exports are made and taken in.
type Export struct {
	Number *int64  `yaml:"number,omitempty" jsonschema_description:"How many there must be."`
	Item   string  `yaml:"item,omitempty" jsonschema_description:"Or: the database item that tells how many."`
	Query  string  `yaml:"query,omitempty" jsonschema_description:"One SELECT that gives the number."`
	Count  string  `yaml:"count,omitempty" jsonschema_description:"One SELECT on that item that tells how many records of one export there are; {name} stands for what it is called in the app: its file's name without ending, or what was said when it was ticked."`
	Make   Command `yaml:"make,omitempty" jsonschema_description:"The app's own program that makes them, with its arguments; it runs only when a person has agreed."`
	Import string  `yaml:"import" jsonschema:"required" jsonschema_description:"What a person does with each file on the new computer."`
}

// Setting is a text, or the source in the app's settings that names it.
type Setting struct {
	Text string
	From *Source
}

// IsZero reports whether nothing is given.
func (s Setting) IsZero() bool { return s.Text == "" && s.From == nil }

// Count is a figure that a person knows the app by: a number of rows or of
// files.
type Count struct {
	Name   string `yaml:"name" jsonschema:"required" jsonschema_description:"What is counted."`
	Query  string `yaml:"query,omitempty" jsonschema_description:"Database: one SELECT that gives one whole number."`
	Files  string `yaml:"files,omitempty" jsonschema_description:"Folder: pattern of the files that are counted."`
	Expect *int64 `yaml:"expect,omitempty" jsonschema_description:"The number there must be, where it is known."`
}

// Licence is a right to run the app.
type Licence struct {
	Name    string `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name, unique in the card."`
	Method  Method `yaml:"method" jsonschema:"required" jsonschema_description:"How it is held."`
	Product string `yaml:"product,omitempty" jsonschema_description:"Desk: the product's name there."`
	Serial  Source `yaml:"serial,omitempty" jsonschema_description:"Desk and key: where the serial number or product key is read on the old computer."`
	Code    Source `yaml:"code,omitempty" jsonschema_description:"Desk: where the activation code is read on the old computer. Key: the registered name."`
	Token   Path   `yaml:"token,omitempty" jsonschema_description:"Desk: file in which the app keeps the desk's signed answer."`
	Desk    *Desk  `yaml:"desk,omitempty" jsonschema_description:"Desk: the licence desk."`

	Form  WholePattern `yaml:"form,omitempty" jsonschema_description:"Desk and key: regular expression (RE2) that the whole serial matches; its parts are told apart by -."`
	Check string       `yaml:"check,omitempty" jsonschema:"enum=luhn,enum=mod-11-10,enum=mod-37-36,enum=mod-97-10" jsonschema_description:"Desk and key: how the serial's last characters check the rest (ISO/IEC 7812-1, ISO 7064)."`
	Parts bool         `yaml:"check-parts,omitempty" jsonschema_description:"True where each part of the serial has its own check characters."`
	Typed string       `yaml:"typed,omitempty" jsonschema_description:"Desk and key: where a person finds what is not on the computer, such as: the label of the box. It is asked for when packing."`

	Takeover bool     `yaml:"takeover,omitempty" jsonschema_description:"Where no service tells: true where activating it on the new computer disables it on the old one."`
	Seats    int      `yaml:"seats,omitempty" jsonschema:"minimum=1" jsonschema_description:"Where no service tells: on how many computers it may be active at a time. Default: 1."`
	Covers   string   `yaml:"covers,omitempty" jsonschema_description:"Where no service tells: the major version it covers."`
	Edition  string   `yaml:"edition,omitempty" jsonschema_description:"Where no service tells: the edition it covers."`
	Expires  Day      `yaml:"expires,omitempty" jsonschema_description:"Where no service tells: its last day, such as 2027-03-31."`
	BackBy   Deadline `yaml:"reactivate-by,omitempty" jsonschema_description:"By when it must be activated again: a day such as 2027-03-31, or a time after it was deactivated such as 720h."`
	Trial    Duration `yaml:"trial,omitempty" jsonschema_description:"How long the app runs on a new computer without it, such as 336h: the data can be verified there before the licence is moved."`

	Items      []string `yaml:"items,omitempty" jsonschema_description:"File: names of the file items that hold it; a certificate and its key are told apart by what is in them."`
	Show       *Show    `yaml:"show,omitempty" jsonschema_description:"Command: how the vendor's program tells the state."`
	Deactivate *Change  `yaml:"deactivate,omitempty" jsonschema_description:"Command, guided, key, token and account: how it is deactivated on the old computer."`
	Activate   *Change  `yaml:"activate,omitempty" jsonschema_description:"Command, guided, key, token and account: how it is activated on the new computer."`
	Lost       *Change  `yaml:"lost,omitempty" jsonschema_description:"What a person does to deactivate it when the old computer cannot be started any more."`
	Bound      bool     `yaml:"bound,omitempty" jsonschema_description:"File: true where it holds for one computer only, and its vendor must issue another for the new one."`
	Transfers  *int     `yaml:"transfers,omitempty" jsonschema_description:"How often the vendor lets it be moved, where no service tells."`
	USB        string   `yaml:"usb,omitempty" jsonschema:"pattern=^[0-9a-fA-F]{4}:[0-9a-fA-F]{4}$" jsonschema_description:"Token: its USB vendor and product id, such as 1d6b:0002."`
	Notice     string   `yaml:"notice,omitempty" jsonschema_description:"What the vendor wants to be told once it is moved; {app}, {licence}, {old}, {new}, {deactivated} and {activated} stand for the facts. The hand-over writes it as a text file."`
	OneSyncs   bool     `yaml:"single-sync,omitempty" jsonschema_description:"True where only one copy of the app may be signed in and sync; account: always."`
	Wait       Wait     `yaml:"wait,omitempty" jsonschema_description:"How long after deactivating it the vendor lets it be activated again: a time such as 24h, or calendar-day (to the next midnight), with a time zone behind it where it is the vendor's."`
}

// Show is a command that tells a licence's state.
type Show struct {
	Run    Command  `yaml:"run" jsonschema:"required" jsonschema_description:"The vendor's program with its arguments; no shell. It runs only when a person has agreed."`
	Active Pattern  `yaml:"active" jsonschema:"required" jsonschema_description:"Regular expression (RE2) that what it says matches where the licence is active."`
	Left   Pattern  `yaml:"left,omitempty" jsonschema_description:"Regular expression whose first group is the number of transfers left."`
	Over   Pattern  `yaml:"expired,omitempty" jsonschema_description:"Regular expression that what it says matches where the licence has run out."`
	Limit  Duration `yaml:"limit,omitempty" jsonschema_description:"How long each of the vendor's commands may take, such as 30s. Default: 2m."`
}

// Change is how a licence is deactivated or activated: by a command, or by steps that
// a person takes.
type Change struct {
	Run   Command `yaml:"run,omitempty" jsonschema_description:"Command: the vendor's program with its arguments; no shell."`
	Done  Pattern `yaml:"done,omitempty" jsonschema_description:"Command: regular expression (RE2) that what it says matches when it is done. Default: that it ends with one of codes."`
	Codes []int   `yaml:"codes,omitempty" jsonschema_description:"Command: exit codes that mean that it is done. Default: 0."`
	Fails []Fail  `yaml:"fails,omitempty" jsonschema_description:"Command: what its errors mean."`
	Steps []Guide `yaml:"steps,omitempty" jsonschema_description:"Guided and key: what a person does, one after the other."`
}

// Fail is an error of a vendor's program, in the words of the office.
type Fail struct {
	Match Pattern `yaml:"match" jsonschema:"required" jsonschema_description:"Regular expression (RE2) that what it says matches."`
	Means string  `yaml:"means" jsonschema:"required" jsonschema_description:"What that means, and what to do."`
}

// Guide is one step that a person takes.
type Guide struct {
	Do       string  `yaml:"do" jsonschema:"required" jsonschema_description:"What to do. {serial} and {code} stand for those of the licence; they are shown at that moment only."`
	Ask      string  `yaml:"ask,omitempty" jsonschema_description:"What the person is asked to type from what was seen."`
	Answer   Pattern `yaml:"answer,omitempty" jsonschema_description:"Regular expression (RE2) that the answer must match."`
	Evidence bool    `yaml:"evidence,omitempty" jsonschema_description:"True where a file, such as a picture of the screen, proves it; its hash is kept."`
}

// Shown reports whether the computer itself shows that the licence is there: by a token that
// is plugged in, a serial, files.
func (l *Licence) Shown() bool { return l.USB != "" || l.Method.Info().Sealed() || len(l.Items) > 0 }

// Whole reports whether a serial and a code are all that it takes: some keys have no name.
func (l *Licence) Whole(serial, code string) bool {
	return serial != "" && (code != "" || l.Method.Info().Unnamed && l.Code.IsZero())
}

// Sole reports whether only one copy of the app may be signed in and sync, as a licence or an
// item says.
func (c *Card) Sole() bool {
	return slices.ContainsFunc(c.Licences, func(l Licence) bool { return l.OneSyncs || l.Method.Info().OneSyncs }) ||
		slices.ContainsFunc(c.Items, func(it Item) bool { return it.OneSyncs })
}

// Change returns how a licence is deactivated (deactivate) or activated, or nil.
func (l *Licence) Change(deactivate bool) *Change {
	if deactivate {
		return l.Deactivate
	}
	return l.Activate
}

// Desk is a licence desk and the key its answers are signed with.
type Desk struct {
	URL string `yaml:"url" jsonschema:"required" jsonschema_description:"Base address: https, or http on this computer only."`
	Key Key    `yaml:"key" jsonschema:"required" jsonschema_description:"The desk's Ed25519 public key: 32 bytes in base64url."`
	Pin string `yaml:"certificate,omitempty" jsonschema:"pattern=^[A-Za-z0-9_-]{43}$" jsonschema_description:"SHA-256 of the public key of its TLS certificate, in base64url, where no authority that the system trusts has signed it."`
}

// TableNames are the names by which a card may call a table that an engine calls by one: as it
// is, without quotes, and without the schema as well.
func TableNames(table string) []string {
	plain := strings.ReplaceAll(table, `"`, "")
	_, bare, _ := strings.Cut(plain, ".")
	return []string{table, plain, bare}
}

// Masks reports which columns of a table are not to be shown. What is shown cannot be taken
// back: letter case does not count.
func (it *Item) Masks(table string) func(column string) bool {
	return func(column string) bool {
		return slices.ContainsFunc(it.Mask, func(mask string) bool {
			return strings.EqualFold(mask, column) || slices.ContainsFunc(TableNames(table), func(name string) bool { return strings.EqualFold(mask, name+"."+column) })
		})
	}
}

// Item returns the item called name, or nil. NAME@WHICH is one of the many of an item.
func (c *Card) Item(name string) *Item {
	name, _, _ = strings.Cut(name, "@")
	for i := range c.Items {
		if c.Items[i].Name == name {
			return &c.Items[i]
		}
	}
	return nil
}

// Licence returns the licence called name, or nil.
func (c *Card) Licence(name string) *Licence {
	for i := range c.Licences {
		if c.Licences[i].Name == name {
			return &c.Licences[i]
		}
	}
	return nil
}

// ForUsers is the card with one more licence for each of names, NAME@USER, that it has not: the
// licence NAME where that user has another one.
func (c *Card) ForUsers(names []string) *Card {
	out := *c
	for _, n := range names {
		name, _, ofUser := strings.Cut(n, "@")
		if l := c.Licence(name); ofUser && l != nil && out.Licence(n) == nil {
			own := *l
			own.Name = n
			out.Licences = append(slices.Clip(out.Licences), own)
		}
	}
	return &out
}

// sources returns everything that the card reads values from.
func (c *Card) sources() []*Source {
	var all []*Source
	if c.Version != nil {
		all = append(all, &c.Version.Source, c.Version.Edition)
	}
	for i := range c.Items {
		all = append(all, c.Items[i].From, c.Items[i].Path.From)
		if s := c.Items[i].Server; s != nil {
			all = append(all, s.Host.From, s.Port.From, s.Database.From, s.User.From, s.Password)
		}
	}
	for i := range c.Licences {
		if c.Licences[i].Method.Info().Sealed() {
			all = append(all, &c.Licences[i].Serial, &c.Licences[i].Code)
		}
	}
	return slices.DeleteFunc(all, func(s *Source) bool { return s == nil })
}

// Reads returns the files that the card reads values from, and those in which
// the app keeps what its licences' services answered.
func (c *Card) Reads() []Path {
	var out []Path
	for _, s := range c.sources() {
		out = append(out, s.File, s.Exe)
	}
	for _, l := range c.Licences {
		out = append(out, l.Token)
	}
	return slices.DeleteFunc(out, Path.IsZero)
}

// Queries returns every query that the card has databases asked.
func (c *Card) Queries() (out []string) {
	for _, s := range c.Sync {
		out = append(out, s.Query)
	}
	for _, it := range c.Items {
		for _, n := range it.Counts {
			out = append(out, n.Query)
		}
		if it.Exports != nil {
			out = append(out, it.Exports.Query, it.Exports.Count)
		}
	}
	return slices.DeleteFunc(out, func(q string) bool { return q == "" })
}

// Command is a program with its arguments. Nothing else of a card is run. It is run without a shell, and only
// after the user has agreed to it: Commands finds every one by its type.
type Command []string

// Commands returns every command of the card, wherever it stands.
func (c *Card) Commands() (out [][]string) {
	each(reflect.ValueOf(c), func(cmd Command) {
		if len(cmd) > 0 {
			out = append(out, cmd)
		}
	})
	return out
}

// each calls visit for every value of a type that can be reached from v.
func each[T any](v reflect.Value, visit func(T)) {
	if is, ok := reflect.TypeAssert[T](v); ok {
		visit(is)
		return
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			each(v.Elem(), visit)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				each(v.Field(i), visit)
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			each(v.Index(i), visit)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			each(v.MapIndex(key), visit)
		}
	}
}
