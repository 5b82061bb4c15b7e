package card

import (
	"slices"
	"strings"

	"github.com/invopop/jsonschema"
)

// Kind is the kind of an item.
type Kind string

// The kinds of item.
const (
	Folder     Kind = "folder"
	File       Kind = "file"
	SQLite     Kind = "sqlite"
	DBase      Kind = "dbase"
	Jet        Kind = "jet"
	Exports    Kind = "exports"
	PostgreSQL Kind = "postgresql"
	MariaDB    Kind = "mariadb"
	Firebird   Kind = "firebird"
	Registry   Kind = "registry"
	Network    Kind = "network"
	Hosted     Kind = "hosted"
)

// KindInfo is what is known of a kind. How its items move is said in its room,
// below internal/core/item.
type KindInfo struct {
	Kind   Kind
	About  string
	Fields []string // of an item, besides those that every kind takes
	// What its counts are: files or query; "" where there is nothing to count.
	Counts string
	// StaysAt says where items of the kind stay; "" where they move.
	StaysAt string
	// Folder says that an item is a folder; its patterns choose what of it.
	Folder bool
	// Keyed says that an item is a key of a registry, and not a path.
	Keyed bool
	// Sides are the endings of files that belong to one beside it.
	Sides []string
	// Plain says that its files have no content of a known form.
	Plain bool
	// OneFile says that a server keeps each database in one file, by which it is named.
	OneFile bool
	// Tables says that a folder of the kind holds tables, and nothing else.
	Tables bool
}

// common are the fields that items of every kind take.
var common = []string{"name", "kind", "about", "needs", "single-sync"}

// Kinds is the table of all kinds.
var Kinds = []KindInfo{
	{Kind: Folder, About: "a folder with all that is in it", Fields: fields("path each newest identity secret optional include skip counts update-paths update-computer-name"), Counts: "files", Folder: true},
	{Kind: File, About: "one file", Fields: fields("path each newest secret optional update-paths update-computer-name"), Plain: true},
	{Kind: SQLite, About: "one SQLite database with its side files", Fields: fields("path each newest secret optional counts mask attached-to update-paths update-computer-name"), Counts: "query", Sides: fields("-wal -shm -journal")},
	{Kind: DBase, About: "a folder of dBase or FoxPro tables, with their memo and index files", Fields: fields("path each newest identity secret optional counts"), Counts: "files", Folder: true, Tables: true},
	{Kind: Jet, About: "one Jet or ACE database file", Fields: fields("path each newest secret optional")},
	{Kind: Exports, About: "files that the app itself wrote, which a person takes in one by one", Fields: fields("path secret optional include skip counts exports"), Counts: "files", Folder: true},
	{Kind: PostgreSQL, About: "a database of a PostgreSQL server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query"},
	{Kind: MariaDB, About: "a database of a MariaDB or MySQL server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query"},
	{Kind: Firebird, About: "a database of a Firebird server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query", OneFile: true},
	{Kind: Registry, About: "a key of the Windows registry with all that is below it", Fields: fields("key secret optional include skip update-paths update-computer-name"), Keyed: true},
	{Kind: Network, About: "a server or share that stays where it is", Fields: fields("address from"), StaysAt: "on a server"},
	{Kind: Hosted, About: "data that the vendor keeps for an account, which stays there", Fields: fields("address from"), StaysAt: "with its vendor"},
}

func fields(words string) []string { return strings.Fields(words) }

// Info returns what is known of a kind; of one that there is not, nothing.
func (k Kind) Info() KindInfo {
	for _, i := range Kinds {
		if i.Kind == k {
			return i
		}
	}
	return KindInfo{Kind: k}
}

// KindThat returns the first kind of the table that is what a caller needs. There must be one.
func KindThat(is func(KindInfo) bool) Kind { return Kinds[slices.IndexFunc(Kinds, is)].Kind }

// takes reports whether an item of the kind has a field.
func (i KindInfo) takes(field string) bool {
	return slices.Contains(common, field) || slices.Contains(i.Fields, field)
}

// Served reports whether items of the kind are databases that a server keeps.
func (i KindInfo) Served() bool { return i.takes("server") }

// queried reports whether items of the kind are databases that queries are put
// to.
func (k Kind) queried() bool { return k.Info().Counts == "query" }

// JSONSchema lists the kinds.
func (Kind) JSONSchema() *jsonschema.Schema {
	s := textSchema()
	for _, i := range Kinds {
		s.Enum = append(s.Enum, string(i.Kind))
	}
	return s
}

// Method is the way a licence is held.
type Method string

// The methods.
const (
	MethodDesk    Method = "desk"
	MethodCommand Method = "command"
	MethodGuided  Method = "guided"
	MethodFile    Method = "file"
	MethodKey     Method = "key"
	MethodToken   Method = "token"
	MethodAccount Method = "account"
)

// MethodInfo is what is known of a method. How its licences change computers is
// said in its file of internal/core/holder.
type MethodInfo struct {
	Method Method
	About  string
	Fields []string // of a licence, besides those that every method takes
	// Serial and Code are what its secrets are called, which travel sealed; ""
	// where it has none.
	Serial, Code string
	// Unnamed says that it may be without what Code is.
	Unnamed bool
	// CodeShown says that Code is no secret: the app shows it.
	CodeShown bool
	// OneSyncs says that only one copy of the app may be signed in.
	OneSyncs bool
	// Plain says in plain words how such a licence is held, and Asks what somebody who writes
	// no card is asked for one.
	Plain string
	Asks  []Ask
}

// Ask is a question whose answer is a field of a licence.
type Ask struct {
	Field    string // FIELD, or FIELD.FIELD of one that has fields
	Question string
	Usual    string // the answer that Enter stands for
	As       AskFor
}

// AskFor is what an answer is.
type AskFor int

// What answers are.
const (
	AskText    AskFor = iota
	AskCommand        // a program with its arguments
	AskSteps          // what a person does, one after the other
	AskSecrets        // the secret items of the card, which are not asked for
)

// bySteps asks how a licence is deactivated and activated by a person.
func bySteps(first ...Ask) []Ask {
	return append(first, Ask{"deactivate.steps", "How is it deactivated on the old computer, step by step?", "Free the licence in the app.", AskSteps}, Ask{"activate.steps", "How is it activated on the new one, step by step?", "Take the licence up in the app.", AskSteps})
}

const label = "the label of the box"

// everyMethod are the fields that licences of every method take.
var everyMethod = []string{"name", "method", "wait", "reactivate-by", "trial", "lost", "notice", "single-sync"}

// rules are the fields with what no service tells, besides whether it may be taken
// over.
const rules = " seats covers edition expires transfers"

// Methods is the table of all methods.
var Methods = []MethodInfo{
	{Method: MethodDesk, About: "a seat at a licence desk", Fields: fields("product serial code token desk form check check-parts typed"), Serial: "serial", Code: "activation code",
		Plain: "a seat at a licence service on the network", Asks: []Ask{{"product", "The product's name there", "", AskText}, {"typed", "Where does one find serial and code", label, AskText}, {"desk.url", "Address of the service", "", AskText}, {"desk.key", "Its key", "", AskText}}},
	{Method: MethodCommand, About: "the vendor's own program deactivates it and activates it", Fields: fields("show deactivate activate takeover" + rules),
		Plain: "the vendor's own program deactivates it and activates it", Asks: []Ask{{"show.run", "Command that shows the state (the program with its whole path, in \" where that has spaces)", "", AskCommand}, {"show.active", "What it says when the licence is active", "active", AskText}, {"deactivate.run", "Command that deactivates it", "", AskCommand}, {"activate.run", "Command that activates it", "", AskCommand}}},
	{Method: MethodGuided, About: "a person deactivates it and activates it, step by step", Fields: fields("deactivate activate takeover" + rules),
		Plain: "somebody deactivates it in the app's menu on the old computer, and activates it on the new one", Asks: bySteps()},
	{Method: MethodFile, About: "files that travel", Fields: fields("items bound" + rules),
		Plain: "it is a file: a licence file, or a certificate with its key", Asks: []Ask{{"items", "", "", AskSecrets}}},
	{Method: MethodKey, About: "a product key, with a registered name where it has one", Fields: fields("serial code form check check-parts typed deactivate activate takeover" + rules), Serial: "product key", Code: "registered name", Unnamed: true, CodeShown: true,
		Plain: "a product key, with a name it is registered to (it stands on a label or in a mail)", Asks: bySteps(Ask{"typed", "Where does one find the key", label, AskText})},
	{Method: MethodToken, About: "a hardware token, which a person moves", Fields: fields("usb deactivate activate" + rules),
		Plain: "a dongle, which moves from one computer to the other", Asks: bySteps()},
	{Method: MethodAccount, About: "a seat of an account, which a person moves", Fields: fields("deactivate activate takeover" + rules), OneSyncs: true,
		Plain: "somebody signs in to an account of the vendor", Asks: bySteps()},
}

// Info returns what is known of a method; of one that there is not, nothing.
func (m Method) Info() MethodInfo {
	for _, i := range Methods {
		if i.Method == m {
			return i
		}
	}
	return MethodInfo{Method: m}
}

// Sealed reports whether licences of the method have secrets that travel
// sealed.
func (i MethodInfo) Sealed() bool { return i.Serial != "" }

func (i MethodInfo) takes(field string) bool {
	return slices.Contains(everyMethod, field) || slices.Contains(i.Fields, field)
}

// JSONSchema lists the methods.
func (Method) JSONSchema() *jsonschema.Schema {
	s := textSchema()
	for _, i := range Methods {
		s.Enum = append(s.Enum, string(i.Method))
	}
	return s
}
