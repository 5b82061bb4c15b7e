package card

import (
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"movekit/internal/core/card/value"
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
	Dumped     Kind = "dump"
	PostgreSQL Kind = "postgresql"
	MariaDB    Kind = "mariadb"
	Firebird   Kind = "firebird"
	SQLServer  Kind = "sqlserver"
	Registry   Kind = "registry"
	Service    Kind = "service"
	Schedule   Kind = "schedule"
	Network    Kind = "network"
	Hosted     Kind = "hosted"
)

// KindInfo describes a kind of item. The packages below internal/core/item move items of each kind.
type KindInfo struct {
	Kind   Kind
	About  string
	Fields []string // fields that an item of this kind can have, besides the common ones
	// Counts says how to count: "files" or "query"; "" if there is nothing to count.
	Counts string
	// StaysAt says where items of this kind stay; "" if they move.
	StaysAt string
	// Folder is true if an item is a folder. Patterns select its content.
	Folder bool
	// Keyed is true if an item is a registry key, not a path.
	Keyed bool
	// Sides lists the suffixes of side files that belong to the item's file.
	Sides []string
	// Plain is true if the content of the files has no known format.
	Plain bool
	// OneFile is true if the server keeps each database in one file, which names it.
	OneFile bool
	// Attached is true if the server has its databases' files open, and names the databases itself.
	Attached bool
	// Tables is true if a folder of this kind holds only tables.
	Tables bool
	// Runs is true if the system starts items of this kind by itself. They run on one computer only.
	Runs bool
	// Timed is true if the system starts them at set times.
	Timed bool
}

// common lists the fields that items of every kind can have.
var common = []string{"name", "kind", "about", "needs", "single-sync"}

// Kinds is the table of all kinds.
var Kinds = []KindInfo{
	{Kind: Folder, About: "a folder with its content", Fields: fields("path each newest identity secret optional include skip counts update-paths update-computer-name"), Counts: "files", Folder: true},
	{Kind: File, About: "one file", Fields: fields("path each newest secret optional update-paths update-computer-name"), Plain: true},
	{Kind: SQLite, About: "one SQLite database with its side files", Fields: fields("path each newest secret optional counts mask attached-to update-paths update-computer-name"), Counts: "query", Sides: fields("-wal -shm -journal")},
	{Kind: DBase, About: "a folder of dBase or FoxPro tables with their memo and index files", Fields: fields("path each newest identity secret optional counts"), Counts: "files", Folder: true, Tables: true},
	{Kind: Jet, About: "one Jet or ACE database file", Fields: fields("path each newest secret optional")},
	{Kind: Exports, About: "files that the app exported, imported one by one on the new computer", Fields: fields("path secret optional include skip counts exports"), Counts: "files", Folder: true},
	{Kind: Dumped, About: "a database that only its own programs can save and load", Fields: fields("path dump secret optional")},
	{Kind: PostgreSQL, About: "a database on a PostgreSQL server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query"},
	{Kind: MariaDB, About: "a database on a MariaDB or MySQL server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query"},
	{Kind: Firebird, About: "a database on a Firebird server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query", OneFile: true},
	{Kind: SQLServer, About: "a database on a Microsoft SQL Server", Fields: fields("server secret optional counts mask update-paths update-computer-name"), Counts: "query", Attached: true},
	{Kind: Registry, About: "a Windows registry key with everything below it", Fields: fields("key secret optional include skip update-paths update-computer-name"), Keyed: true},
	{Kind: Service, About: "a program that the system runs in the background", Fields: fields("job optional update-paths"), Runs: true},
	{Kind: Schedule, About: "a program that the system runs at set times", Fields: fields("job optional update-paths"), Runs: true, Timed: true},
	{Kind: Network, About: "a server or share that stays where it is", Fields: fields("address from"), StaysAt: "on a server"},
	{Kind: Hosted, About: "data that the vendor stores for an account", Fields: fields("address from"), StaysAt: "with the vendor"},
}

func fields(words string) []string { return strings.Fields(words) }

// Info returns the description of a kind, or the zero value for an unknown one.
func (k Kind) Info() KindInfo {
	for _, i := range Kinds {
		if i.Kind == k {
			return i
		}
	}
	return KindInfo{Kind: k}
}

// KindThat returns the first kind in the table for which is returns true. There must be one.
func KindThat(is func(KindInfo) bool) Kind { return Kinds[slices.IndexFunc(Kinds, is)].Kind }

// takes reports whether an item of this kind can have the field.
func (i KindInfo) takes(field string) bool {
	return slices.Contains(common, field) || slices.Contains(i.Fields, field)
}

// Served reports whether items of this kind are databases on a server.
func (i KindInfo) Served() bool { return i.takes("server") }

// queried reports whether items of this kind are databases that can be queried.
func (k Kind) queried() bool { return k.Info().Counts == "query" }

// JSONSchema lists the kinds.
func (Kind) JSONSchema() *jsonschema.Schema {
	s := value.TextSchema()
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

// MethodInfo describes a licence method. The files of internal/core/holder move licences of each
// method.
type MethodInfo struct {
	Method Method
	About  string
	Fields []string // fields that a licence of this method can have, besides the common ones
	// Serial and Code are the names of its secrets, which are sealed in the kit; "" if it has none.
	Serial, Code string
	// Unnamed is true if Code may be missing.
	Unnamed bool
	// CodeShown is true if Code is not secret, because the app displays it.
	CodeShown bool
	// OneSyncs is true if only one copy of the app may be signed in.
	OneSyncs bool
	// Plain describes the method in plain words. Asks are the questions of `card make` for it.
	Plain string
	Asks  []Ask
}

// Ask is a question whose answer becomes a field of a licence.
type Ask struct {
	Field    string // FIELD, or FIELD.FIELD
	Question string
	Usual    string // the default answer
	As       AskFor
}

// AskFor is the type of an answer.
type AskFor int

// Types of answers.
const (
	AskText    AskFor = iota
	AskCommand        // a program with its arguments
	AskSteps          // manual steps, in order
	AskSecrets        // the card's secret items; the user is not asked
)

// bySteps asks for the manual steps of deactivation and activation.
func bySteps(first ...Ask) []Ask {
	return append(first, Ask{"deactivate.steps", "How do you deactivate it on the old computer, step by step?", "Deactivate the licence in the app.", AskSteps}, Ask{"activate.steps", "How do you activate it on the new computer, step by step?", "Activate the licence in the app.", AskSteps})
}

const label = "the label of the box"

// everyMethod lists the fields that licences of every method can have.
var everyMethod = []string{"name", "method", "wait", "reactivate-by", "trial", "lost", "notice", "single-sync"}

// rules lists the fields that replace a service's answers, except takeover.
const rules = " seats covers edition expires transfers"

// Methods is the table of all methods.
var Methods = []MethodInfo{
	{Method: MethodDesk, About: "a seat at a licence desk", Fields: fields("product serial code token desk form check check-parts typed"), Serial: "serial", Code: "activation code",
		Plain: "a seat at a licence service on the network", Asks: []Ask{{"product", "The product's name at the service", "", AskText}, {"typed", "Where are the serial and the code", label, AskText}, {"desk.url", "Address of the service", "", AskText}, {"desk.key", "Its key", "", AskText}}},
	{Method: MethodCommand, About: "the vendor's own program deactivates and activates it", Fields: fields("show deactivate activate takeover" + rules),
		Plain: "the vendor's own program deactivates and activates it", Asks: []Ask{{"show.run", "Command that shows the state (full path of the program; quote it with \" if it has spaces)", "", AskCommand}, {"show.active", "Text that it prints if the licence is active", "active", AskText}, {"deactivate.run", "Command that deactivates it", "", AskCommand}, {"activate.run", "Command that activates it", "", AskCommand}}},
	{Method: MethodGuided, About: "the technician deactivates and activates it by hand", Fields: fields("deactivate activate takeover" + rules),
		Plain: "you deactivate it in the app's menu on the old computer, and activate it on the new one", Asks: bySteps()},
	{Method: MethodFile, About: "licence files that are moved", Fields: fields("items bound" + rules),
		Plain: "a licence file, or a certificate with its key", Asks: []Ask{{"items", "", "", AskSecrets}}},
	{Method: MethodKey, About: "a product key, perhaps with a registered name", Fields: fields("serial code form check check-parts typed deactivate activate takeover" + rules), Serial: "product key", Code: "registered name", Unnamed: true, CodeShown: true,
		Plain: "a product key, perhaps with a registered name (on a label or in a mail)", Asks: bySteps(Ask{"typed", "Where is the key", label, AskText})},
	{Method: MethodToken, About: "a hardware token (dongle)", Fields: fields("usb deactivate activate" + rules),
		Plain: "a dongle that you plug into the new computer", Asks: bySteps()},
	{Method: MethodAccount, About: "a seat of an account at the vendor", Fields: fields("deactivate activate takeover" + rules), OneSyncs: true,
		Plain: "you sign in to an account at the vendor", Asks: bySteps()},
}

// Info returns the description of a method, or the zero value for an unknown one.
func (m Method) Info() MethodInfo {
	for _, i := range Methods {
		if i.Method == m {
			return i
		}
	}
	return MethodInfo{Method: m}
}

// Sealed reports whether licences of this method have secrets that are sealed in the kit.
func (i MethodInfo) Sealed() bool { return i.Serial != "" }

func (i MethodInfo) takes(field string) bool {
	return slices.Contains(everyMethod, field) || slices.Contains(i.Fields, field)
}

// JSONSchema lists the methods.
func (Method) JSONSchema() *jsonschema.Schema {
	s := value.TextSchema()
	for _, i := range Methods {
		s.Enum = append(s.Enum, string(i.Method))
	}
	return s
}
