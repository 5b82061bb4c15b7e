// Package card reads app cards: YAML files that describe one application, where it keeps its data
// and how it is licensed.
//
// Parse, Read and ReadDir return a fully checked card, or an error that lists every mistake by line
// and column. Schema returns the JSON Schema. kinds.go has the tables of item kinds and licence
// methods.
//
// Cards are untrusted. Nothing from a card is used before the card is checked, and its commands run
// only after the user has agreed to them.
package card

import (
	"reflect"
	"slices"
	"strings"

	"movekit/internal/core/card/value"
	"movekit/internal/core/version"
)

// Format is the version of the card format that this package reads.
const Format = 1

// Card describes one application.
type Card struct {
	Format     int        `yaml:"card" jsonschema:"required,enum=1" jsonschema_description:"Version of the card format; 1."`
	Name       string     `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name used on the command line: a-z, 0-9 and -."`
	Title      string     `yaml:"title" jsonschema:"required" jsonschema_description:"The app's full name."`
	Vendor     string     `yaml:"vendor,omitempty" jsonschema_description:"The vendor of the app."`
	About      string     `yaml:"about,omitempty" jsonschema_description:"What the office uses the app for."`
	Version    *Version   `yaml:"version,omitempty" jsonschema_description:"Where to read the app's version, and which versions can read its data."`
	Installer  *Installer `yaml:"installer,omitempty" jsonschema_description:"The app's installer, which travels in the kit."`
	Programs   []string   `yaml:"programs,omitempty,flow" jsonschema_description:"Names of the app's programs, to check whether it is running."`
	Requires   []Require  `yaml:"requires,omitempty" jsonschema_description:"What the app needs on the new computer, such as a driver."`
	Sync       []Sync     `yaml:"sync,omitempty" jsonschema_description:"How to detect that the app still has data to send."`
	Items      []Item     `yaml:"items" jsonschema:"required,minItems=1" jsonschema_description:"The data that moves or is checked."`
	Licences   []Licence  `yaml:"licences,omitempty" jsonschema_description:"The app's licences."`
	Opens      *Opens     `yaml:"opens,omitempty" jsonschema_description:"How to check in the app itself that it has its data on the new computer."`
	LeftBehind []string   `yaml:"left-behind,omitempty" jsonschema_description:"What does not move, and why."`
	ByHand     []string   `yaml:"by-hand,omitempty" jsonschema_description:"Manual steps on the new computer."`

	Documentation string   `yaml:"documentation,omitempty" jsonschema_description:"The program's documentation that the card follows."`
	Tried         []Tried  `yaml:"tried,omitempty" jsonschema_description:"Systems on which a test moved the program with this card."`
	Untested      []string `yaml:"untested,omitempty" jsonschema:"enum=windows,enum=linux,enum=macos" jsonschema_description:"Systems for which the card was written from the documentation only."`

	// Source is the file that the card was read from, and Text its content. They are not part of the card.
	Source string `yaml:"-" json:"-"`
	Text   []byte `yaml:"-" json:"-"`
}

// Installer is what installs the app on the new computer: a file, or a folder with one. new copies it into the kit.
type Installer struct {
	Path    Path     `yaml:"path,omitempty,flow" jsonschema_description:"The file or folder on the old computer."`
	Beside  string   `yaml:"beside,omitempty" jsonschema_description:"Or: the name of the file or folder beside the card, in the office's collection."`
	Run     string   `yaml:"run,omitempty" jsonschema_description:"In a folder: the file to run, written with /."`
	Version string   `yaml:"version,omitempty" jsonschema_description:"The version that it installs."`
	Before  []string `yaml:"before,omitempty" jsonschema_description:"What must be installed before, such as a driver."`
	Choose  []string `yaml:"choose,omitempty" jsonschema_description:"What to choose in it, such as the folder or the edition."`
}

// Tried is a system on which a test moved a program.
type Tried struct {
	System  string `yaml:"system" json:"system" jsonschema:"required" jsonschema_description:"The system, such as Debian 12."`
	Version string `yaml:"version" json:"version" jsonschema:"required" jsonschema_description:"The program's version."`
	Date    string `yaml:"date" json:"date" jsonschema:"required,format=date" jsonschema_description:"The day, such as 2026-12-01."`
}

// Version says how to read an app's version, and which version the new computer needs.
type Version struct {
	Source  `yaml:",inline"`
	Rule    version.Rule `yaml:"rule,omitempty" jsonschema:"enum=exact,enum=same-minor,enum=same-major,enum=same-or-newer" jsonschema_description:"Which version must be on the new computer. Default: same-major."`
	Edition *Source      `yaml:"edition,omitempty" jsonschema_description:"Where to read the app's edition, if it has several. It must be the same on both computers."`
}

// Source says where to read a value: from a file, an executable, the registry, the package manager
// or the output of a command. If several are given, the first one with a value is used, in field
// order.
type Source struct {
	File     Path              `yaml:"file,omitempty,flow" jsonschema_description:"A text file. Without pattern and key: its first line."`
	Key      string            `yaml:"key,omitempty" jsonschema_description:"File: the position of the value in an INI (Section/Key), JSON (a/b/c) or XML (a/b/@attribute) file."`
	Format   string            `yaml:"format,omitempty" jsonschema:"enum=ini,enum=json,enum=xml,enum=plist" jsonschema_description:"File with key: the format, if the file name does not show it."`
	Exe      Path              `yaml:"exe,omitempty,flow" jsonschema_description:"A Windows executable or a macOS application (NAME.app); its version is read."`
	Registry string            `yaml:"registry,omitempty" jsonschema_description:"A registry key that starts with HKLM or HKCU."`
	Value    string            `yaml:"value,omitempty" jsonschema_description:"Registry: the name of the value; empty for the default value."`
	Package  string            `yaml:"package,omitempty" jsonschema_description:"An installed Debian package; its version is read."`
	App      string            `yaml:"installed,omitempty" jsonschema_description:"The name in the list of installed programs (Windows; the start of the name is enough), or of an application in /Applications (macOS); its version is read."`
	Command  Command           `yaml:"command,omitempty" jsonschema_description:"The app's own program with its arguments; its output is read. It runs only on the computer itself, after the user has agreed."`
	Pattern  value.LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Regular expression (RE2) whose first group is the value."`
}

// IsZero reports whether the source is empty.
func (s *Source) IsZero() bool {
	return s.File.IsZero() && s.Exe.IsZero() && s.Registry == "" && s.Package == "" && s.App == "" && len(s.Command) == 0
}

// Require is something that the app needs on the new computer, such as a driver or a runtime.
type Require struct {
	Name     string `yaml:"name" jsonschema:"required" jsonschema_description:"What the app needs."`
	Path     Path   `yaml:"path,omitempty,flow" jsonschema_description:"A file or folder that exists if it is installed."`
	Registry string `yaml:"registry,omitempty" jsonschema_description:"A registry key that exists if it is installed."`
	Package  string `yaml:"package,omitempty" jsonschema_description:"The Debian package to look for."`
}

// Opens says how to check in the app itself that it has its data: with its own command, or by
// looking.
type Opens struct {
	Run     Command           `yaml:"run,omitempty" jsonschema_description:"The app's own program with its arguments; no shell. It runs only after the user has agreed."`
	Pattern value.LinePattern `yaml:"pattern,omitempty" jsonschema_description:"With run: regular expression (RE2) that matches the output if the app has its data; the first group is recorded."`
	Limit   value.Duration    `yaml:"limit,omitempty" jsonschema_description:"With run: time limit, such as 30s. Default: 10s."`
	Look    string            `yaml:"look,omitempty" jsonschema_description:"Or: what the technician checks, such as: open it and look under Boats. How many are there?"`
	Count   string            `yaml:"count,omitempty" jsonschema_description:"By looking: name of a count in this card that the app must show."`
}

// Sync says how to detect that the app has not sent everything yet.
type Sync struct {
	About   string            `yaml:"about" jsonschema:"required" jsonschema_description:"What the app sends, and where to."`
	Files   string            `yaml:"files,omitempty" jsonschema_description:"Folder: sync is unfinished while files match this pattern below path."`
	Path    Path              `yaml:"path,omitempty,flow" jsonschema_description:"Files: the folder to search."`
	Item    string            `yaml:"item,omitempty" jsonschema_description:"Query: the database item to query."`
	Query   string            `yaml:"query,omitempty" jsonschema_description:"Query: one SELECT that gives one whole number."`
	Expect  int64             `yaml:"expect,omitempty" jsonschema_description:"Query: the result when sync is finished. Default: 0."`
	Command Command           `yaml:"command,omitempty" jsonschema_description:"The app's own program with its arguments; it runs only after the user has agreed."`
	Pattern value.LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Command: regular expression (RE2) that matches the output when sync is finished."`
}

// Item is one part of an app's data that moves or must be checked.
type Item struct {
	Name        string    `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name, unique in the card."`
	Kind        Kind      `yaml:"kind" jsonschema:"required" jsonschema_description:"The kind of item."`
	Path        Path      `yaml:"path,omitempty,flow" jsonschema_description:"Where the item is, in the system's own terms. Not for network, hosted and server databases."`
	Key         string    `yaml:"key,omitempty" jsonschema_description:"Registry: the key, such as HKCU\\\\Software\\\\Vendor\\\\App; a key in HKCU means the key of every user."`
	Job         Path      `yaml:"job,omitempty,flow" jsonschema_description:"Service and schedule: its name. Windows: a service, or a task with its folder (\\\\Quay\\\\Export). Linux: a unit (quay.service, quay.timer; ~/quay.service for a unit of each user), a file in /etc/cron.d, or crontab (of each user). macOS: a file in /Library/LaunchDaemons or ~/Library/LaunchAgents."`
	Server      *Server   `yaml:"server,omitempty" jsonschema_description:"Server database: which one, and how to log in."`
	Address     string    `yaml:"address,omitempty" jsonschema_description:"Network and hosted: its address, such as QUAY-SRV:5432, //QUAY-SRV/ledger or https://ledger.example."`
	From        *Source   `yaml:"from,omitempty" jsonschema_description:"Network and hosted: where the app's settings have the address."`
	Secret      bool      `yaml:"secret,omitempty" jsonschema_description:"True for a key file, a certificate or a licence file: anyone who has it can act as its owner."`
	About       string    `yaml:"about,omitempty" jsonschema_description:"What the item contains."`
	Each        string    `yaml:"each,omitempty" jsonschema_description:"One item for each folder or file below path that matches this pattern, such as * or Profiles/*."`
	Newest      int       `yaml:"newest,omitempty" jsonschema:"minimum=1" jsonschema_description:"Each: only this many, the most recently modified."`
	Optional    bool      `yaml:"optional,omitempty" jsonschema_description:"True if the item may be missing."`
	Include     []string  `yaml:"include,omitempty" jsonschema_description:"Folder and registry: only what matches one of these patterns (** spans folders). A registry value is written KEY/VALUE; @ is the default value."`
	Skip        []string  `yaml:"skip,omitempty" jsonschema_description:"Folder and registry: leave out what matches one of these patterns."`
	UpdatePaths []string  `yaml:"update-paths,omitempty" jsonschema_description:"Settings that contain paths, to be changed to the paths of the new computer. Folder: patterns of its text files; file: any pattern; database: columns (TABLE.COLUMN); registry: patterns of values."`
	Renames     bool      `yaml:"update-computer-name,omitempty" jsonschema_description:"True if these settings also contain the old computer's name."`
	Exports     *Export   `yaml:"exports,omitempty" jsonschema_description:"Exports: how many there must be, how to make them and how to import them."`
	Dump        *Dump     `yaml:"dump,omitempty" jsonschema_description:"Dump: how the database's own programs save and load it."`
	Counts      []Count   `yaml:"counts,omitempty" jsonschema_description:"Counts that the owner would recognise, shown for the old and the new computer."`
	Attached    string    `yaml:"attached-to,omitempty" jsonschema_description:"SQLite: name of the database item that the app attaches this one to; both are packed in one snapshot."`
	Mask        []string  `yaml:"mask,omitempty" jsonschema_description:"Database: columns (TABLE.COLUMN, or COLUMN of any table) whose values are never shown in a difference."`
	Needs       []string  `yaml:"needs,omitempty,flow" jsonschema_description:"Names of items without which this one is useless, or of a licence (token) without which it cannot be opened."`
	OneSyncs    bool      `yaml:"single-sync,omitempty" jsonschema_description:"True if only one copy may sync."`
	Identity    *Identity `yaml:"identity,omitempty" jsonschema_description:"Folder: what identifies this profile, if another one may have the same name."`
}

// Identity says how to tell two profiles of the same name apart.
type Identity struct {
	File    string            `yaml:"file" jsonschema:"required" jsonschema_description:"A file in the folder, written with /. Without a pattern its whole content identifies the profile."`
	Pattern value.LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Regular expression (RE2) whose first group identifies the profile, such as its number."`
}

// Server says which database on which server, and how to log in. The defaults of the server's own
// programs apply to empty fields.
type Server struct {
	Host     Setting `yaml:"host,omitempty" jsonschema_description:"Name or address of the server, or the folder of its socket."`
	Port     Setting `yaml:"port,omitempty" jsonschema_description:"Its port."`
	Database Setting `yaml:"database" jsonschema:"required" jsonschema_description:"Name of the database; for Firebird, the file or alias on the server."`
	User     Setting `yaml:"user,omitempty" jsonschema_description:"A user who may read all of it, and create databases on the new server."`
	Password *Source `yaml:"password,omitempty" jsonschema_description:"Where the app's settings keep the password; if empty, the server's own password file is used, or the user is asked."`
}

// Export says how an app's own exports are made and imported.
type Export struct {
	Number *int64  `yaml:"number,omitempty" jsonschema_description:"How many there must be."`
	Item   string  `yaml:"item,omitempty" jsonschema_description:"Or: the database item to query for the number."`
	Query  string  `yaml:"query,omitempty" jsonschema_description:"One SELECT that gives the number."`
	Count  string  `yaml:"count,omitempty" jsonschema_description:"One SELECT on that item that tells how many records of one export there are; {name} stands for what it is called in the app: its file's name without ending, or what was said when it was ticked."`
	Make   Command `yaml:"make,omitempty" jsonschema_description:"The app's own program that makes them, with its arguments; it runs only after the user has agreed."`
	Load   Command `yaml:"load,omitempty" jsonschema_description:"The app's own program that imports one of them, whose path replaces {file}; it runs only after the user has agreed. Its exit code must be 0."`
	Import string  `yaml:"import" jsonschema:"required" jsonschema_description:"What the technician does with each file on the new computer."`
}

// Dump says how the programs of a database save it to a file or folder, and load it from there. In their arguments, {file} or
// {folder} stands for the file or folder. They run only after the user has agreed.
type Dump struct {
	Save    Command        `yaml:"save" jsonschema:"required" jsonschema_description:"Program that saves the whole database to {file}, or into the new {folder}. Its exit code must be 0."`
	Load    Command        `yaml:"load" jsonschema:"required" jsonschema_description:"Program that creates the database from {file} or {folder}. Its exit code must be 0."`
	Exists  Command        `yaml:"exists" jsonschema:"required" jsonschema_description:"Program whose exit code is 0 if the database is there, and another one if it is not."`
	Remove  Command        `yaml:"remove,omitempty" jsonschema_description:"Program that removes the database, after it was saved to a file. Without it, existing data stays, and you remove it by hand."`
	Figures []Figure       `yaml:"figures" jsonschema:"required" jsonschema_description:"Numbers that are compared between the old and the new computer."`
	Limit   value.Duration `yaml:"limit,omitempty" jsonschema_description:"Time limit of each program, such as 2h. Default: 30m."`
}

// Figure is a number that a program prints.
type Figure struct {
	Name    string            `yaml:"name" jsonschema:"required" jsonschema_description:"What is counted."`
	Run     Command           `yaml:"run" jsonschema:"required" jsonschema_description:"The program with its arguments; no shell."`
	Pattern value.LinePattern `yaml:"pattern,omitempty" jsonschema_description:"Regular expression (RE2) whose first group is the number. Default: the first number in the output."`
}

// Setting is a text, or the place in the app's settings to read it from.
type Setting struct {
	Text string
	From *Source
}

// IsZero reports whether the setting is empty.
func (s Setting) IsZero() bool { return s.Text == "" && s.From == nil }

// Count is a number that the owner knows, such as the number of boats. It counts rows or files.
type Count struct {
	Name   string `yaml:"name" jsonschema:"required" jsonschema_description:"What is counted."`
	Query  string `yaml:"query,omitempty" jsonschema_description:"Database: one SELECT that gives one whole number."`
	Files  string `yaml:"files,omitempty" jsonschema_description:"Folder: pattern of the files to count."`
	Expect *int64 `yaml:"expect,omitempty" jsonschema_description:"The expected number, if known."`
}

// Licence is a right to run the app.
type Licence struct {
	Name    string `yaml:"name" jsonschema:"required,pattern=^[a-z0-9][a-z0-9-]*$" jsonschema_description:"Short name, unique in the card."`
	Method  Method `yaml:"method" jsonschema:"required" jsonschema_description:"How the licence is held."`
	Product string `yaml:"product,omitempty" jsonschema_description:"Desk: the product's name at the desk."`
	Serial  Source `yaml:"serial,omitempty" jsonschema_description:"Desk and key: where to read the serial number or product key on the old computer."`
	Code    Source `yaml:"code,omitempty" jsonschema_description:"Desk: where to read the activation code on the old computer. Key: the registered name."`
	Token   Path   `yaml:"token,omitempty,flow" jsonschema_description:"Desk: file in which the app keeps the desk's signed answer."`
	Desk    *Desk  `yaml:"desk,omitempty" jsonschema_description:"Desk: the licence desk."`

	Form  value.WholePattern `yaml:"form,omitempty" jsonschema_description:"Desk and key: regular expression (RE2) that the whole serial matches; its parts are separated by -."`
	Check string             `yaml:"check,omitempty" jsonschema:"enum=luhn,enum=mod-11-10,enum=mod-37-36,enum=mod-97-10" jsonschema_description:"Desk and key: the check-digit method of the serial (ISO/IEC 7812-1, ISO 7064)."`
	Parts bool               `yaml:"check-parts,omitempty" jsonschema_description:"True if each part of the serial has its own check digits."`
	Typed string             `yaml:"typed,omitempty" jsonschema_description:"Desk and key: where to find a serial that is not on the computer, such as: the label of the box. The pack asks for it."`

	Takeover bool           `yaml:"takeover,omitempty" jsonschema_description:"Without a service: true if activation on the new computer disables it on the old one."`
	Seats    int            `yaml:"seats,omitempty" jsonschema:"minimum=1" jsonschema_description:"Without a service: the number of computers that may use it at the same time. Default: 1."`
	Covers   string         `yaml:"covers,omitempty" jsonschema_description:"Without a service: the major version it covers."`
	Edition  string         `yaml:"edition,omitempty" jsonschema_description:"Without a service: the edition it covers."`
	Expires  value.Day      `yaml:"expires,omitempty" jsonschema_description:"Without a service: its last valid day, such as 2027-03-31."`
	BackBy   value.Deadline `yaml:"reactivate-by,omitempty" jsonschema_description:"When it must be active again at the latest: a day such as 2027-03-31, or a time after the deactivation such as 720h."`
	Trial    value.Duration `yaml:"trial,omitempty" jsonschema_description:"How long the app runs without it on a new computer, such as 336h, so that the data can be verified before the licence moves."`

	Items      []string   `yaml:"items,omitempty" jsonschema_description:"File: names of the file items that make up the licence, such as a certificate and its key."`
	Show       *Show      `yaml:"show,omitempty" jsonschema_description:"Command: how the vendor's program reports the state."`
	Deactivate *Change    `yaml:"deactivate,omitempty" jsonschema_description:"Command, guided, key, token and account: how to deactivate it on the old computer."`
	Activate   *Change    `yaml:"activate,omitempty" jsonschema_description:"Command, guided, key, token and account: how to activate it on the new computer."`
	Lost       *Change    `yaml:"lost,omitempty" jsonschema_description:"Manual steps to deactivate it if the old computer no longer starts."`
	Bound      bool       `yaml:"bound,omitempty" jsonschema_description:"File: true if it is valid for one computer only, and the vendor must issue another one."`
	Transfers  *int       `yaml:"transfers,omitempty" jsonschema_description:"Without a service: how often the vendor allows it to be moved."`
	USB        string     `yaml:"usb,omitempty" jsonschema:"pattern=^[0-9a-fA-F]{4}:[0-9a-fA-F]{4}$" jsonschema_description:"Token: its USB vendor and product id, such as 1d6b:0002."`
	Notice     string     `yaml:"notice,omitempty" jsonschema_description:"A text for the vendor after the move, with {app}, {licence}, {old}, {new}, {deactivated} and {activated}. The handover writes it to a text file."`
	OneSyncs   bool       `yaml:"single-sync,omitempty" jsonschema_description:"True if only one copy of the app may be signed in and sync; always true for account."`
	Wait       value.Wait `yaml:"wait,omitempty" jsonschema_description:"The waiting time between deactivation and activation: a time such as 24h, or calendar-day (until midnight), followed by a time zone if it is not the local one."`
}

// Show is a command that reports the state of a licence.
type Show struct {
	Run    Command       `yaml:"run" jsonschema:"required" jsonschema_description:"The vendor's program with its arguments; no shell. It runs only after the user has agreed."`
	Active value.Pattern `yaml:"active" jsonschema:"required" jsonschema_description:"Regular expression (RE2) that matches the output if the licence is active."`
	// Inactive guards against an output that is neither: a new version of the program, or another language.
	Inactive value.Pattern  `yaml:"inactive,omitempty" jsonschema_description:"Regular expression that matches the output if the licence is not active. Without it, every complete output that active does not match means that."`
	Codes    []int          `yaml:"codes,omitempty" jsonschema_description:"Exit codes of a complete report. Default: 0. Any other means that the state is unknown."`
	Left     value.Pattern  `yaml:"left,omitempty" jsonschema_description:"Regular expression whose first group is the number of transfers left."`
	Over     value.Pattern  `yaml:"expired,omitempty" jsonschema_description:"Regular expression that matches the output if the licence has expired."`
	Limit    value.Duration `yaml:"limit,omitempty" jsonschema_description:"Time limit for each of the vendor's commands, such as 30s. Default: 2m."`
}

// Change says how to deactivate or activate a licence: with a command, or by manual steps.
type Change struct {
	Run   Command       `yaml:"run,omitempty" jsonschema_description:"Command: the vendor's program with its arguments; no shell."`
	Done  value.Pattern `yaml:"done,omitempty" jsonschema_description:"Command: regular expression (RE2) that matches the output on success. The exit code must be in codes too."`
	Codes []int         `yaml:"codes,omitempty" jsonschema_description:"Command: exit codes that mean success. Default: 0."`
	Fails []Fail        `yaml:"fails,omitempty" jsonschema_description:"Command: what its errors mean."`
	Steps []Guide       `yaml:"steps,omitempty" jsonschema_description:"Guided and key: the manual steps, in order."`
}

// Fail describes an error of a vendor's program in the words of the office.
type Fail struct {
	Match value.Pattern `yaml:"match" jsonschema:"required" jsonschema_description:"Regular expression (RE2) that matches the output."`
	Means string        `yaml:"means" jsonschema:"required" jsonschema_description:"What the error means, and what to do."`
}

// Guide is one manual step.
type Guide struct {
	Do       string        `yaml:"do" jsonschema:"required" jsonschema_description:"What to do. {serial} and {code} are replaced by those of the licence; they are shown only then."`
	Ask      string        `yaml:"ask,omitempty" jsonschema_description:"A question about what the technician sees."`
	Answer   value.Pattern `yaml:"answer,omitempty" jsonschema_description:"Regular expression (RE2) that the answer must match."`
	Evidence bool          `yaml:"evidence,omitempty" jsonschema_description:"True to ask for a file that proves the step, such as a screenshot; its hash is recorded."`
}

// Shown reports whether this computer itself shows that the licence is present: by a USB token, a
// serial or files.
func (l *Licence) Shown() bool { return l.USB != "" || l.Method.Info().Sealed() || len(l.Items) > 0 }

// Whole reports whether a serial and a code are all that the licence needs. Some keys have no registered
// name.
func (l *Licence) Whole(serial, code string) bool {
	return serial != "" && (code != "" || l.Method.Info().Unnamed && l.Code.IsZero())
}

// Sole reports whether only one copy of the app may be signed in and sync.
func (c *Card) Sole() bool {
	return slices.ContainsFunc(c.Licences, func(l Licence) bool { return l.OneSyncs || l.Method.Info().OneSyncs }) ||
		slices.ContainsFunc(c.Items, func(it Item) bool { return it.OneSyncs })
}

// Change returns how to deactivate or activate the licence, or nil.
func (l *Licence) Change(deactivate bool) *Change {
	if deactivate {
		return l.Deactivate
	}
	return l.Activate
}

// Desk is a licence desk (a simulated licence server), and the key that signs its answers.
type Desk struct {
	URL string    `yaml:"url" jsonschema:"required" jsonschema_description:"Base address: https, or http on this computer only."`
	Key value.Key `yaml:"key" jsonschema:"required" jsonschema_description:"The desk's Ed25519 public key: 32 bytes in base64url."`
	Pin string    `yaml:"certificate,omitempty" jsonschema:"pattern=^[A-Za-z0-9_-]{43}$" jsonschema_description:"SHA-256 of the public key of its TLS certificate, in base64url, if the system does not trust the certificate's authority."`
}

// TableNames returns the names that a card can use for a table: as the engine writes it, without
// quotes, and without the schema.
func TableNames(table string) []string {
	plain := strings.ReplaceAll(table, `"`, "")
	_, bare, _ := strings.Cut(plain, ".")
	return []string{table, plain, bare}
}

// Masks returns a function that reports whether a column of the table must not be shown. Letter
// case is ignored, because a value once shown cannot be hidden again.
func (it *Item) Masks(table string) func(column string) bool {
	return func(column string) bool {
		return slices.ContainsFunc(it.Mask, func(mask string) bool {
			return strings.EqualFold(mask, column) || slices.ContainsFunc(TableNames(table), func(name string) bool { return strings.EqualFold(mask, name+"."+column) })
		})
	}
}

// Item returns the item called name, or nil. NAME@SCOPE is one of several that the item names.
func (c *Card) Item(name string) *Item {
	name, _, _ = strings.Cut(name, "@")
	for i := range c.Items {
		if c.Items[i].Name == name {
			return &c.Items[i]
		}
	}
	return nil
}

// HoldsLicence reports whether an item is a file of a licence.
func (c *Card) HoldsLicence(name string) bool {
	it := c.Item(name)
	return it != nil && slices.ContainsFunc(c.Licences, func(l Licence) bool { return slices.Contains(l.Items, it.Name) })
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

// ForUsers returns the card with one more licence for each NAME@USER in names that it lacks: a copy
// of licence NAME for a user who has another serial.
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

// sources returns every source that the card reads values from.
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

// Reads returns the files that the card reads values from, and the files in which the app keeps the
// answers of licence services.
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

// Queries returns every query in the card.
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

// Command is a program with its arguments. It is the only part of a card that is ever run, without
// a shell and only after the user has agreed. Commands finds every one by its type.
type Command []string

// Commands returns every command in the card.
func (c *Card) Commands() (out [][]string) {
	each(reflect.ValueOf(c), func(cmd Command) {
		if len(cmd) > 0 {
			out = append(out, cmd)
		}
	})
	return out
}

// each calls visit for every value of type T that can be reached from v.
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
