// Package card reads app cards: YAML files that describe one application,
// where it keeps its data and how its licence is held.
//
// Cards are plain data and come from other people: a card never names a
// command to run, and what it names is checked before it is used.
package card

// Format is the version of the card format that this package reads.
const Format = 1

// Kind is the kind of an item.
type Kind string

// The kinds of item.
const (
	Folder Kind = "folder" // a folder with all that is in it
	File   Kind = "file"   // one file
	SQLite Kind = "sqlite" // one SQLite database with its side files
)

// Rule says which versions of an app may take over the data of another.
type Rule string

// The version rules.
const (
	Exact       Rule = "exact"         // the very same version
	SameMinor   Rule = "same-minor"    // the first two numbers agree
	SameMajor   Rule = "same-major"    // the first number agrees
	SameOrNewer Rule = "same-or-newer" // the new one is not older
)

// Method is the way a licence is held.
type Method string

// MethodDesk is a seat at a licence desk, by the protocol of
// docs/licence-desk.openapi.yaml.
const MethodDesk Method = "desk"

// Card describes one application.
type Card struct {
	Format     int       `yaml:"card" jsonschema:"required,enum=1" jsonschema_description:"Version of the card format; 1."`
	Name       string    `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name used on the command line: a-z, 0-9 and -."`
	Title      string    `yaml:"title" jsonschema:"required" jsonschema_description:"The name people know the app by."`
	Maker      string    `yaml:"maker,omitempty" jsonschema_description:"Who makes the app."`
	About      string    `yaml:"about,omitempty" jsonschema_description:"What the office uses the app for."`
	Version    *Version  `yaml:"version,omitempty" jsonschema_description:"Where the app's version is read, and which versions may take over its data."`
	Programs   []string  `yaml:"programs,omitempty" jsonschema_description:"Names of the app's programs, to see whether it is running."`
	Items      []Item    `yaml:"items" jsonschema:"required,minItems=1" jsonschema_description:"What moves."`
	Licences   []Licence `yaml:"licences,omitempty" jsonschema_description:"The app's licences."`
	LeftBehind []string  `yaml:"left-behind,omitempty" jsonschema_description:"What does not move, each with the reason."`
	ByHand     []string  `yaml:"by-hand,omitempty" jsonschema_description:"What a person must do on the new computer."`

	// Source is the file the card was read from. It is not part of the card.
	Source string `yaml:"-" json:"-"`
}

// Version says how an app's version is read from a text file, and the rule
// the version on the new computer must keep.
type Version struct {
	File    Path   `yaml:"file" jsonschema:"required" jsonschema_description:"A text file that names the version."`
	Pattern string `yaml:"pattern,omitempty" jsonschema_description:"Regular expression (RE2) whose first group is the version. Without one: the first line."`
	Rule    Rule   `yaml:"rule,omitempty" jsonschema:"enum=exact,enum=same-minor,enum=same-major,enum=same-or-newer" jsonschema_description:"Which version must be on the new computer. Default: same-major."`
}

// Item is one thing of an app that moves.
type Item struct {
	Name     string   `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name, unique in the card."`
	Kind     Kind     `yaml:"kind" jsonschema:"required,enum=folder,enum=file,enum=sqlite" jsonschema_description:"What the item is."`
	Path     Path     `yaml:"path" jsonschema:"required" jsonschema_description:"Where it lies, in the system's own terms."`
	About    string   `yaml:"about,omitempty" jsonschema_description:"What is in it."`
	Optional bool     `yaml:"optional,omitempty" jsonschema_description:"True where a computer may do without it."`
	Include  []string `yaml:"include,omitempty" jsonschema_description:"Folder: only what matches one of these patterns (** spans folders)."`
	Skip     []string `yaml:"skip,omitempty" jsonschema_description:"Folder: not what matches one of these patterns."`
	Counts   []Count  `yaml:"counts,omitempty" jsonschema_description:"Figures that a person knows, shown old and new side by side."`
	Needs    []string `yaml:"needs,omitempty" jsonschema_description:"Names of items without which this one is useless."`
}

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
	Method  Method `yaml:"method" jsonschema:"required,enum=desk" jsonschema_description:"How it is held."`
	Product string `yaml:"product" jsonschema:"required" jsonschema_description:"The product's name at the desk."`
	Serial  Source `yaml:"serial" jsonschema:"required" jsonschema_description:"Where the serial number is read on the old computer."`
	Code    Source `yaml:"code" jsonschema:"required" jsonschema_description:"Where the activation code is read on the old computer."`
	Token   Path   `yaml:"token,omitempty" jsonschema_description:"File in which the app keeps the desk's signed answer."`
	Desk    Desk   `yaml:"desk" jsonschema:"required" jsonschema_description:"The licence desk."`
}

// Source says where a value is read: a text file and a pattern whose first
// group is the value.
type Source struct {
	File    Path   `yaml:"file" jsonschema:"required" jsonschema_description:"A text file."`
	Pattern string `yaml:"pattern" jsonschema:"required" jsonschema_description:"Regular expression (RE2) whose first group is the value."`
}

// Desk is a licence desk and the key its answers are signed with.
type Desk struct {
	URL string `yaml:"url" jsonschema:"required" jsonschema_description:"Base address: https, or http on this computer only."`
	Key string `yaml:"key" jsonschema:"required" jsonschema_description:"The desk's Ed25519 public key: 32 bytes in base64url."`
}

// Item returns the item called name, or nil.
func (c *Card) Item(name string) *Item {
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

// Consistent reports whether an item of this kind may be packed while its
// app is running, because its engine gives a consistent snapshot.
func (k Kind) Consistent() bool { return k == SQLite }
