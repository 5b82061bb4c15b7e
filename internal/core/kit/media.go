package kit

import (
	"context"
	_ "embed" // the text
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/goccy/go-yaml"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/erase"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
	"movekit/internal/core/volume"
	"movekit/internal/core/yamltext"
)

// MediumFile is in a folder on which a kit continues. It says of which kit, and which medium it is.
const MediumFile = "medium.yaml"

//go:embed medium.txt
var mediumText string

// Medium is the content of MediumFile.
type Medium struct {
	Kit    string `yaml:"kit"`    // Manifest.ID
	Number int    `yaml:"number"` // from 2; the kit's own folder is the first medium
}

// Media are the folders on other media that have sealed files of a kit. The zero value has none.
type Media struct {
	// Next asks for a folder on another medium, because the last one is full; nil if nobody can be asked.
	Next func(full string) (string, error)
	// Find looks for the folder of a medium, by number; "" means that it is not connected. nil finds none.
	Find  func(number int) (string, error)
	known map[int]string // folders, by number
	last  string         // the folder that was written last
}

// MediumIn returns the medium in a folder, or nil if there is none.
func MediumIn(dir string) (*Medium, error) {
	data, err := journal.ReadFile(filepath.Join(dir, MediumFile), maxSmall)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var m Medium
	if err == nil {
		err = yamltext.Decode(data, &m, yaml.Strict())
	}
	if err != nil || m.Number < 2 {
		return nil, fault.Wrap(fault.Damaged, err, "%s in %s cannot be read", MediumFile, dir)
	}
	return &m, nil
}

// Use makes a folder known that continues the kit with the given id.
func (m *Media) Use(dir, id string) error {
	medium, err := MediumIn(dir)
	if err == nil && (medium == nil || medium.Kit != id) {
		err = fault.New(fault.Usage, "the folder %s has no files of the kit %s", dir, id)
	}
	if err != nil {
		return err
	}
	if m.known == nil {
		m.known = map[int]string{}
	}
	m.known[medium.Number] = dir
	return nil
}

// folder returns the folder of a medium of the kit with the given id.
func (m *Media) folder(number int, id string) (string, error) {
	if dir, is := m.known[number]; is {
		if now, err := MediumIn(dir); err == nil && now != nil && now.Kit == id && now.Number == number {
			return dir, nil
		}
		delete(m.known, number) // it was unplugged
	}
	if m.Find != nil {
		dir, err := m.Find(number)
		if err == nil && dir == "" {
			err = notConnected(number)
		}
		if err == nil {
			err = m.Use(dir, id)
		}
		if err != nil {
			return "", err
		}
		if dir, is := m.known[number]; is {
			return dir, nil
		}
	}
	return "", notConnected(number)
}

func notConnected(number int) error {
	return fault.New(fault.NoMedium, "medium %d of the kit is not connected", number)
}

// sealedIn returns the folder of an app's sealed files on a medium; 0 is the kit's own.
func (k *Kit) sealedIn(app string, number int) (string, error) {
	if number == 0 {
		return k.appDir(app), nil
	}
	dir, err := k.Media.folder(number, k.Manifest.ID)
	return filepath.Join(dir, SealedDir, app), err
}

// The space that stays free on a medium, for lists, the journal and reports: at most mostReserve bytes, or a twentieth of a small
// medium. A part of a stream is begun where at least leastRoom bytes are left.
const (
	mostReserve = 64 << 20
	leastRoom   = 1 << 20
)

// roomOn returns how many bytes of sealed files a folder's medium has room for.
func roomOn(dir string) (int64, error) {
	v, err := volume.Of(dir)
	if err != nil {
		return 0, err
	}
	return int64(v.Free) - int64(min(v.Total/20, mostReserve)), nil
}

// nextPlace returns the place of the next part of a stream, of at most limit bytes: on the first medium with room, or on another
// one that it asks for.
func (k *Kit) nextPlace(app string, limit int64) (seal.Place, error) {
	numbers := append([]int{0}, slices.Sorted(maps.Keys(k.Media.known))...)
	for _, n := range numbers {
		dir := k.Dir
		if n != 0 {
			dir = k.Media.known[n]
		}
		room, err := roomOn(dir)
		if err != nil {
			return seal.Place{}, err
		}
		if room >= leastRoom {
			err := journal.MakeBelow(dir, SealedDir+"/"+app)
			return seal.Place{Dir: filepath.Join(dir, SealedDir, app), Medium: n, Limit: min(limit, room)}, err
		}
		k.Media.last = dir
	}
	if k.Media.Next == nil {
		return seal.Place{}, fault.New(fault.NoSpace, "the kit's media are full")
	}
	dir, err := k.Media.Next(k.Media.last)
	if err != nil {
		return seal.Place{}, err
	}
	if err := k.Extend(dir); err != nil {
		return seal.Place{}, err
	}
	return k.nextPlace(app, limit)
}

// Extend makes the kit continue in a folder on another medium, which is empty, missing, or continues the kit already.
func (k *Kit) Extend(dir string) error {
	was, err := MediumIn(dir)
	if err == nil && was == nil {
		err = k.prepare(dir)
	}
	if err == nil {
		err = k.Media.Use(dir, k.Manifest.ID)
	}
	if err != nil {
		return err
	}
	if room, err := roomOn(dir); err != nil || room < leastRoom {
		return fault.Wrap(fault.NoSpace, err, "the medium of %s is full too", dir)
	}
	return nil
}

// prepare makes a folder the next medium.
func (k *Kit) prepare(dir string) error {
	if why := Unusable(dir); why != "" {
		return fault.New(fault.Usage, "the kit cannot continue in %s: %s", dir, why)
	}
	number := 2
	for f := range k.recorded.upTo(k.Log) {
		number = max(number, f.medium+1)
	}
	for n := range k.Media.known {
		number = max(number, n+1)
	}
	text, err := yaml.Marshal(Medium{Kit: k.Manifest.ID, Number: number})
	if err == nil {
		err = os.MkdirAll(dir, 0o755)
	}
	readme := fmt.Sprintf(mediumText, number, k.Manifest.ID, k.Manifest.Old.Name)
	for _, f := range []struct {
		name string
		data []byte
	}{{ReadmeFile, []byte(readme)}, {MediumFile, text}} {
		if err == nil {
			err = journal.WriteFile(filepath.Join(dir, f.name), f.data, 0o644)
		}
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the kit cannot continue in %s", dir)
	}
	return nil
}

// Numbers returns the numbers of the media besides the kit's own that ever had sealed files.
func (k *Kit) Numbers() (out []int) {
	for _, l := range k.Log.Lines {
		var s Sealed
		if l.Event != journal.EventSealed && l.Event != journal.EventPathsPlanned || bytejson.Unmarshal(l.Data, &s) != nil {
			continue
		}
		for _, p := range s.All() {
			if p.Medium != 0 && !slices.Contains(out, p.Medium) {
				out = append(out, p.Medium)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Connected returns the folder of a medium, or an error of kind NoMedium.
func (k *Kit) Connected(number int) (string, error) { return k.Media.folder(number, k.Manifest.ID) }

// Dirs returns the kit's folder, and those on other media that this run knows.
func (k *Kit) Dirs() []string {
	out := []string{k.Dir}
	for _, n := range slices.Sorted(maps.Keys(k.Media.known)) {
		out = append(out, k.Media.known[n])
	}
	return out
}

// EmptyMedium removes the files of a kit from a folder on which it continued.
func EmptyMedium(ctx context.Context, dir string) error {
	e := erase.In(ctx, dir)
	for _, name := range []string{SealedDir, ChecksumsFile, ReadmeFile, MediumFile} {
		if err := e.Remove(name); err != nil {
			return err
		}
	}
	return nil
}
