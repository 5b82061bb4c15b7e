// Package kit creates and opens kits. A kit is the folder that carries one move: its manifest, its key, its sealed
// files, their checksums and its journal.
//
// Create makes a kit, and Open opens one. Unlock checks the passphrase and the journal; then Seal and Open write and
// read sealed streams, and Record adds to the journal. Inspect checks every file without the passphrase.
//
// docs/kit-format.md describes the format for readers without this program.
package kit

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"filippo.io/age"
	"github.com/goccy/go-yaml"
	"github.com/gofrs/flock"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/seal"
	"movekit/internal/core/yamltext"
)

// maxSmall limits the kit's files other than sealed data, programs and the journal, in bytes.
const maxSmall = 16 << 20

// Format is the version of the kit format that this package reads and writes.
const Format = 1

// File names in a kit.
const (
	ManifestFile  = "kit.yaml"
	KeyFile       = "key.age"
	ReadmeFile    = "README.txt"
	NoticesFile   = "NOTICES.txt"
	ChecksumsFile = "CHECKSUMS.b3"
	CardsDir      = "cards"
	SealedDir     = "sealed"
	ReportDir     = "report"
	LockFile      = "kit.lock"
)

// Computer identifies a computer in the manifest.
type Computer struct {
	Name   string         `yaml:"name" json:"name"`
	System machine.System `yaml:"system" json:"system"`
	ID     string         `yaml:"id,omitempty" json:"id,omitempty"` // machine.ID; unknown for the new computer
	// Firmware is machine.IDOf the firmware's id; "" if it could not be read.
	Firmware string `yaml:"firmware,omitempty" json:"firmware,omitempty"`
}

// Unnamed is the name of a new computer that is not known yet.
const Unnamed = "the new computer"

// ComputerOf returns the identity of a computer.
func ComputerOf(c machine.Computer) Computer {
	out := Computer{Name: c.Name(), System: c.System(), ID: machine.ID(c)}
	if f := c.FirmwareID(); f != "" {
		out.Firmware = machine.IDOf(f)
	}
	return out
}

// Is reports whether both are the same computer. Computers restored from one image have the same
// system id, and differ in firmware id or name.
func (c Computer) Is(other Computer) bool {
	switch {
	case c.ID != other.ID || c.ID == "":
		return false
	case c.Firmware != "" && other.Firmware != "":
		return c.Firmware == other.Firmware
	}
	return strings.EqualFold(c.Name, other.Name)
}

// Manifest is the content of kit.yaml. It contains no secrets.
type Manifest struct {
	Format int       `yaml:"format" json:"format"`
	ID     string    `yaml:"id" json:"id"`
	Made   time.Time `yaml:"made" json:"made"`
	Tool   string    `yaml:"tool" json:"tool"` // version of the program that created it
	Old    Computer  `yaml:"old" json:"old"`
	New    Computer  `yaml:"new" json:"new"`
	Apps   []string  `yaml:"apps" json:"apps"`
	// Keep is true for a safety copy: it has no new computer, and licences are not changed.
	Keep bool `yaml:"keep,omitempty" json:"keep,omitempty"`
	// Back is the id of the kit whose move this one takes back, to the computer that it came from; "" for any other move.
	Back string `yaml:"back,omitempty" json:"back,omitempty"`
	// Technician is the name of who does the move; "" if unknown.
	Technician string `yaml:"technician,omitempty" json:"technician,omitempty"`
	// Office is the name of the office that is moved.
	Office string `yaml:"office,omitempty" json:"office,omitempty"`
}

var idForm = regexp.MustCompile(`^[0-9a-f]{16}$`)

// usable reports whether id and names can be used in file names.
func (m *Manifest) usable() bool {
	for _, name := range []string{m.Old.Name, m.New.Name, m.Office} {
		if len(name) > 255 || strings.ContainsFunc(name, func(r rune) bool { return unicode.IsControl(r) || r == '/' || r == '\\' }) {
			return false
		}
	}
	return idForm.MatchString(m.ID)
}

// Made is the data of the first journal line: the hash of every file that the kit started with, so
// that none can be replaced.
type Made struct {
	Files map[string]string `json:"files"` // BLAKE3 by name
	// Shared has the hashes of installers that several kits use, by their names in the folder above the kit's.
	Shared map[string]string `json:"shared,omitempty"`
}

// Kit is an opened kit.
type Kit struct {
	Dir      string
	Manifest Manifest
	Cards    []*card.Card
	Log      *journal.Log
	By       string            // name of the technician, for the journal; "" if unknown
	Media    Media             // other media that have sealed files
	sums     map[string]string // CHECKSUMS.b3: hash by slash-separated name
	recorded contents          // their content according to the journal
	place    fs.FileInfo       // the folder as it was when it was opened
	lock     *flock.Flock
	identity *age.X25519Identity
	key      digest.Sum // authenticates the journal
	wrote    bool       // this run wrote to it
	failed   error      // a journal line of this run could not be written
}

// New has the parameters of a new kit.
type New struct {
	Tool       string
	Old, New   Computer
	Keep       bool     // it is a safety copy
	Technician string   // who does the move
	By         string   // name of who creates it, for the journal
	Plan       *Planned // the plan in the folder, whose key the kit gets; nil if there is none
	Shared     bool     // the folder above serves many kits: it has the program and the installers
	Back       string   // id of the kit whose move it takes back
	Office     string   // name of the office
	Cards      []*card.Card
	Programs   []string          // executables to copy into the kit
	Installers map[string]string // files and folders to copy into the kit, by app
	Passphrase string
	Work       int    // log2 N of its scrypt; 0 means the default
	Notices    string // licence notices of the programs
}

// Unusable returns why a kit cannot be created in a folder, or "". It creates nothing.
func Unusable(dir string) string {
	if strings.TrimSpace(dir) == "" {
		return "Please enter a folder."
	}
	if entries, err := os.ReadDir(dir); err == nil && len(visible(entries)) > 0 && !halfMade(dir) {
		return "The folder " + dir + " is not empty. Choose a new one."
	}
	at := dir
	for {
		info, err := os.Stat(at)
		switch {
		case err == nil && !info.IsDir():
			return at + " is a file. Choose another name."
		case err == nil && filemeta.Writable(at) != nil:
			return at + " cannot be written to. Choose another place."
		}
		up := filepath.Dir(at)
		if err == nil || up == at {
			return ""
		}
		at = up
	}
}

// Create creates a kit in dir, and opens it. The folder must be empty, missing, or left by an
// interrupted Create.
func Create(dir string, n New) (*Kit, error) {
	if entries, err := os.ReadDir(dir); err == nil && len(visible(entries)) > 0 && !halfMade(dir) {
		return nil, fault.New(fault.Usage, "the folder %s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot create the kit's folder")
	}
	id := make([]byte, 8)
	rand.Read(id)
	k := &Kit{Dir: dir, By: n.By, Cards: n.Cards, sums: map[string]string{}, Log: &journal.Log{}}
	k.Manifest = Manifest{
		Format: Format, ID: hex.EncodeToString(id), Made: time.Now().UTC().Truncate(time.Second),
		Tool: n.Tool, Old: n.Old, New: n.New, Keep: n.Keep, Back: n.Back, Technician: n.Technician, Office: n.Office,
	}
	if !k.Manifest.usable() {
		return nil, fault.New(fault.Usage, "the computer name %q or %q is not valid: no / and \\, at most 255 characters", n.Old.Name, n.New.Name)
	}
	for _, c := range n.Cards {
		k.Manifest.Apps = append(k.Manifest.Apps, c.Name)
	}
	if err := k.Lock(); err != nil {
		return nil, err
	}
	if err := k.hold(); err != nil {
		k.Close()
		return nil, err
	}
	if err := k.fill(n); err != nil {
		k.Close()
		return nil, err
	}
	return k, nil
}

func (k *Kit) fill(n New) (err error) {
	var wrapped []byte
	if n.Plan != nil {
		if k.identity, err = n.Plan.key(k.Dir, n.Passphrase); err == nil {
			wrapped, err = journal.ReadFile(filepath.Join(k.Dir, KeyFile), maxSmall)
		}
	} else if k.identity, err = age.GenerateX25519Identity(); err == nil {
		wrapped, err = passphrase.Wrap(k.identity, n.Passphrase, n.Work)
	}
	if err != nil {
		return err
	}
	k.key = authenticityKey(k.identity)
	manifest, err := yaml.Marshal(k.Manifest)
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot write %s", ManifestFile)
	}
	files := map[string][]byte{KeyFile: wrapped, ReadmeFile: []byte(readme(k.Manifest)), ManifestFile: manifest}
	if n.Notices != "" {
		files[NoticesFile] = []byte(n.Notices)
	}
	for _, c := range n.Cards {
		files[CardsDir+"/"+c.Name+".yaml"] = c.Text
	}
	for name, data := range files {
		if err := k.write(name, data); err != nil {
			return err
		}
	}
	for _, p := range n.Programs {
		if err := k.copyProgram(p); err != nil {
			return err
		}
	}
	shared := map[string]string{}
	for _, app := range slices.Sorted(maps.Keys(n.Installers)) {
		if n.Shared {
			err = k.shareInstaller(app, n.Installers[app], shared)
		} else {
			err = k.copyInstaller(app, n.Installers[app])
		}
		if err != nil {
			return err
		}
	}
	if k.Log, err = journal.Read(k.Dir); err != nil {
		return err
	}
	if err := k.saveSums(); err != nil {
		return err
	}
	if _, err = k.Record(journal.Line{Event: journal.EventMade, Computer: n.Old.Name}, Made{Files: k.sums, Shared: shared}); err != nil || n.Plan == nil {
		return err
	}
	for _, c := range n.Cards {
		if n.Plan.agreed(c) {
			if _, err := k.Record(journal.Line{Event: journal.EventAgreed, App: c.Name, Computer: n.Old.Name}, c.Commands()); err != nil {
				return err
			}
		}
	}
	return os.Remove(filepath.Join(k.Dir, PlanFile))
}

// halfMade reports whether a folder was left by an interrupted Create: it has the small files of a
// kit, no complete journal line, and no sealed data.
func halfMade(dir string) bool {
	if log, err := journal.Read(dir); err != nil || len(log.Lines) > 0 {
		return false
	}
	if _, err := os.Lstat(filepath.Join(dir, SealedDir)); err == nil {
		return false // its journal was lost later
	}
	for _, name := range []string{LockFile, KeyFile, ReadmeFile, NoticesFile, ManifestFile, CardsDir, InstallersDir} {
		for _, ending := range []string{"", seal.Unfinished} {
			if _, err := os.Stat(filepath.Join(dir, name+ending)); err == nil {
				return true
			}
		}
	}
	return false
}

// visible leaves out files that systems create on a stick themselves.
func visible(entries []fs.DirEntry) []fs.DirEntry {
	return slices.DeleteFunc(entries, func(e fs.DirEntry) bool { return filename.OfSystem(e.Name()) })
}

// Open opens the kit in dir without its passphrase, to read its manifest, cards and journal.
func Open(dir string) (*Kit, error) { return OpenBy(dir, card.Read) }

// OpenBy is like Open, and reads cards with read.
func OpenBy(dir string, read func(name string) (*card.Card, error)) (*Kit, error) {
	k := &Kit{Dir: dir}
	data, err := journal.ReadFile(filepath.Join(dir, ManifestFile), maxSmall)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.NotAKit, "there is no kit in %s", dir)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read the kit in %s", dir)
	}
	var probe struct {
		Format int `yaml:"format"`
	}
	if yamltext.Decode(data, &probe) == nil && probe.Format > Format {
		return nil, fault.New(fault.NewerFormat, "the kit in %s has format %d; this program reads format %d", dir, probe.Format, Format)
	}
	if err := yamltext.Decode(data, &k.Manifest, yaml.Strict()); err != nil || k.Manifest.Format != Format || !k.Manifest.usable() {
		return nil, fault.New(fault.Damaged, "%s of the kit in %s is damaged", ManifestFile, dir)
	}
	if k.Log, err = journal.Read(dir); err != nil {
		return nil, err
	}
	for _, app := range k.Manifest.Apps {
		c, err := read(filepath.Join(dir, CardsDir, filepath.Base(app)+".yaml"))
		if err != nil {
			return nil, fault.New(fault.Damaged, "the card of %s in the kit cannot be read: %v", app, err)
		}
		k.Cards = append(k.Cards, c)
	}
	if k.sums, err = readSums(dir); err != nil {
		k.sums = nil
	}
	return k, k.hold()
}

// hold remembers the identity of the kit's folder.
func (k *Kit) hold() (err error) {
	if k.place, err = os.Stat(k.Dir); err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot read the kit in %s", k.Dir)
	}
	os.SameFile(k.place, k.place) // on Windows, this reads the folder's id now
	return nil
}

// there checks that the kit is still in its place. If a stick was pulled out, another folder or
// none is there.
func (k *Kit) there() error {
	now, err := os.Stat(k.Dir)
	if k.place == nil || err == nil && os.SameFile(k.place, now) {
		return nil
	}
	// A network share may renumber its folders; then compare the manifest.
	var m Manifest
	data, rerr := journal.ReadFile(filepath.Join(k.Dir, ManifestFile), maxSmall)
	if err == nil && rerr == nil && yamltext.Decode(data, &m) == nil && m.ID == k.Manifest.ID {
		k.place = now
		return nil
	}
	return fault.New(fault.Pulled, "the medium with the kit in %s was removed", k.Dir)
}

// Lock keeps other runs away from the kit until Close.
func (k *Kit) Lock() error {
	k.lock = flock.New(filepath.Join(k.Dir, LockFile))
	ok, err := k.lock.TryLock()
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write to the kit in %s", k.Dir)
	}
	if !ok {
		return fault.New(fault.Busy, "another run of Move Kit is using the kit in %s", k.Dir)
	}
	return nil
}

// Close releases the kit. The lock file stays: if it were removed, two runs could each lock a file
// of that name.
func (k *Kit) Close() error {
	if k.lock == nil {
		return nil
	}
	err := k.lock.Unlock()
	k.lock = nil
	return err
}

// Unlock decrypts the kit's key with its passphrase. Then it checks that somebody who knew the
// passphrase wrote the journal and the initial files.
func (k *Kit) Unlock(pass string) error {
	wrapped, err := journal.ReadFile(filepath.Join(k.Dir, KeyFile), maxSmall)
	if err != nil && closed(k.Log) != nil {
		return fault.New(fault.NotAKit, "the kit in %s is closed: it is empty", k.Dir)
	}
	if err != nil {
		return k.unreadable(err, KeyFile)
	}
	if k.identity, err = passphrase.Unwrap(KeyFile, wrapped, pass); err != nil {
		return err
	}
	k.key = authenticityKey(k.identity)
	if len(k.Log.Damage) > 0 {
		return fault.New(fault.Damaged, "the kit's journal is damaged: %s", k.Log.Damage[0].What)
	}
	if foreign := k.Log.Authenticate(k.key); foreign != "" {
		return fault.New(fault.Forged, "%s of the kit's journal was not written with this kit's passphrase", foreign)
	}
	return k.checkStart()
}

// unreadable returns the error for a file of the kit that cannot be read. If the medium was removed,
// it says so: a read error is no forgery.
func (k *Kit) unreadable(err error, name string) error {
	if gone := k.there(); gone != nil {
		return gone
	}
	return fault.Wrap(fault.Damaged, err, "cannot read the kit's %s", name)
}

// checkStart compares the initial small files with the first journal line. Executables are left to
// Inspect.
func (k *Kit) checkStart() error {
	if halfMade(k.Dir) {
		return fault.New(fault.NotAKit, "the creation of the kit in %s was interrupted", k.Dir)
	}
	if len(k.Log.Lines) == 0 || k.Log.Lines[0].Event != journal.EventMade {
		return fault.New(fault.Damaged, "the kit was not finished when it was made")
	}
	var made Made
	if err := bytejson.Unmarshal(k.Log.Lines[0].Data, &made); err != nil {
		return fault.Wrap(fault.Damaged, err, "line 1 of the kit's journal cannot be read")
	}
	for name, want := range made.Files {
		if name != ManifestFile && name != KeyFile && !strings.HasPrefix(name, CardsDir+"/") {
			continue
		}
		data, err := journal.ReadFile(filepath.Join(k.Dir, filepath.FromSlash(name)), maxSmall)
		if err != nil {
			return k.unreadable(err, name)
		}
		if digest.Of(data).String() != want {
			return fault.New(fault.Forged, "%s is not the file this kit was created with", name)
		}
	}
	return nil
}

// Card returns the card of an app, or nil.
func (k *Kit) Card(app string) *card.Card {
	for _, c := range k.Cards {
		if c.Name == app {
			return c
		}
	}
	return nil
}

// Record appends a line with the JSON of data to the journal, and returns the line as written.
func (k *Kit) Record(line journal.Line, data any) (journal.Line, error) {
	if k.identity == nil {
		return line, fault.New(fault.NoPassphrase, "the kit's journal can only be written with its passphrase")
	}
	if err := k.there(); err != nil {
		return line, err
	}
	if data != nil {
		raw, err := bytejson.Marshal(data)
		if err != nil {
			return line, fault.Wrap(fault.Internal, err, "cannot write a journal line")
		}
		line.Data = raw
	}
	k.wrote, line.By = true, k.By
	if err := k.Log.Append(line, k.key); err != nil {
		k.failed = err
		return line, err
	}
	return k.Log.Lines[len(k.Log.Lines)-1], nil
}

// Lines returns the journal's lines.
func (k *Kit) Lines() []journal.Line { return k.Log.Lines }

// Facts returns the manifest and the cards.
func (k *Kit) Facts() (*Manifest, []*card.Card) { return &k.Manifest, k.Cards }

// Place returns the kit's folder.
func (k *Kit) Place() string { return k.Dir }

// Unlocked reports whether the kit was opened with its passphrase, so that its journal and cards
// are known to be authentic.
func (k *Kit) Unlocked() bool { return k.identity != nil }

// MendChecksums adds the sealed files in the journal to CHECKSUMS.b3, and removes those of earlier
// runs. It runs after each sealing, and before the first one in case a run was interrupted.
func (k *Kit) MendChecksums() error {
	if k.sums == nil {
		return errNoSums
	}
	for name := range k.sums {
		if strings.HasPrefix(name, SealedDir+"/") {
			delete(k.sums, name)
		}
	}
	all := k.recorded.upTo(k.Log)
	maps.Copy(k.sums, all.on(0))
	for n, dir := range k.Media.known {
		if err := saveSums(dir, all.on(n)); err != nil {
			return err
		}
	}
	return k.saveSums()
}

var errNoSums = fault.New(fault.Damaged, "the kit's %s is missing or damaged", ChecksumsFile)

// WriteReport writes a file of the report folder.
func (k *Kit) WriteReport(name string, data []byte) error {
	if err := k.write(ReportDir+"/"+name, data); err != nil {
		return err
	}
	return k.saveSums()
}

// write writes a file of the kit and remembers its hash. saveSums stores the hash.
func (k *Kit) write(name string, data []byte) error {
	if k.sums == nil {
		return errNoSums
	}
	if err := k.there(); err != nil {
		return err
	}
	if err := journal.WriteBelow(k.Dir, name, data); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	k.sums[name] = digest.Of(data).String()
	return nil
}

// Programs returns the programs in the kit, each with its BLAKE3 hash.
func (k *Kit) Programs() iter.Seq2[string, string] {
	return func(yield func(name, hash string) bool) {
		for _, name := range slices.Sorted(maps.Keys(k.sums)) {
			if (file{name: name}).isProgram() && !yield(name, k.sums[name]) {
				return
			}
		}
	}
}

// copyProgram copies an executable into the kit's folder.
func (k *Kit) copyProgram(from string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot read the program")
	}
	name := filepath.Base(from)
	if err := k.write(name, data); err != nil {
		return err
	}
	return os.Chmod(filepath.Join(k.Dir, name), 0o755)
}

// Wrote reports whether this run wrote to the kit.
func (k *Kit) Wrote() bool { return k.wrote }

// Flush returns when everything written to the kit's medium is on it. If a journal line could not be
// written, it returns that error.
func (k *Kit) Flush(context.Context) error {
	if err := k.there(); err != nil {
		return err
	}
	if k.failed != nil {
		return k.failed
	}
	for _, dir := range k.Dirs() {
		if err := seal.SyncVolume(dir); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot flush the kit's medium")
		}
	}
	return nil
}

// authenticityKey returns the key of the journal's authentication codes.
func authenticityKey(id *age.X25519Identity) digest.Sum {
	return digest.Derive("movekit kit v1 journal authenticity", []byte(id.String()))
}

// sectionKey returns the key of the sections of sealed streams.
func sectionKey(id *age.X25519Identity) digest.Sum {
	return digest.Derive("movekit kit v1 sections", []byte(id.String()))
}
