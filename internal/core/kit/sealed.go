package kit

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
)

// Stream is a sealed stream being written. It must be ended with Close or Abort.
type Stream interface {
	io.Writer
	Close() ([]seal.Part, error)
	Abort()
}

// appDir returns the folder of an app's sealed files.
func (k *Kit) appDir(app string) string { return filepath.Join(k.Dir, SealedDir, app) }

// Seal starts a sealed stream of an app. The stream is encrypted to the kit's own key, which is not
// stored unencrypted, so that nobody without the passphrase can add sealed files.
func (k *Kit) Seal(app, name string, o seal.Options) (Stream, error) {
	if err := k.there(); err != nil {
		return nil, err
	}
	k.wrote, o.To = true, k.identity.Recipient()
	if err := journal.MakeBelow(k.Dir, SealedDir+"/"+app); err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", k.appDir(app))
	}
	if k.Media.Next != nil || len(k.Media.known) > 0 {
		limit := cmp.Or(o.PartSize, seal.MaxPart)
		o.Next = func() (seal.Place, error) { return k.nextPlace(app, limit) }
		names := map[string]bool{}
		for f := range k.recorded.upTo(k.Log) {
			names[path.Base(f.name)] = true
		}
		o.Used = func(name string) bool { return names[name] || names[name+".001"] }
	}
	if k.Manifest.Keep {
		k.recorded.upTo(k.Log)
		return seal.CreateSections(k.appDir(app), name, o, seal.Sharing{Key: sectionKey(k.identity), Known: func(id string) []seal.Part { return k.undamaged(app, k.recorded.section(app, id)) }}), nil
	}
	w, err := seal.Create(k.appDir(app), name, o)
	if err != nil {
		return nil, err
	}
	return w, nil
}

// undamaged returns the files of a section if all of them are as they were written.
func (k *Kit) undamaged(app string, parts []seal.Part) []seal.Part {
	if len(parts) == 0 || len(k.DamagedFiles(context.Background(), app, Sealed{Parts: parts})) > 0 {
		return nil
	}
	return parts
}

// Open reads a sealed stream of an app.
func (k *Kit) Open(app string, parts []seal.Part) (io.ReadCloser, error) {
	parts = slices.Clone(parts)
	for i, p := range parts {
		dir, err := k.sealedIn(app, p.Medium)
		if err != nil {
			return nil, err
		}
		parts[i].Dir = dir
	}
	r, err := seal.Open(k.appDir(app), parts, k.identity)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Discard removes those of an app's sealed files that the journal does not need.
func (k *Kit) Discard(app string, parts []seal.Part) {
	known := k.recorded.upTo(k.Log)
	for _, p := range parts {
		if _, needed := known[sealedFile(app, p)]; needed {
			continue // by a state of a safety copy
		}
		dir := k.Dir
		if p.Medium != 0 {
			if dir = k.Media.known[p.Medium]; dir == "" {
				continue // it is not connected
			}
		}
		os.Remove(filepath.Join(dir, SealedDir, app, p.Name)) //nolint:errcheck // an unreferenced file does no harm
	}
}

// DamagedFiles returns the damaged sealed files of an item.
func (k *Kit) DamagedFiles(ctx context.Context, app string, s Sealed) (out []string) {
	for _, p := range s.All() {
		dir, err := k.sealedIn(app, p.Medium)
		var sum digest.Sum
		if err == nil {
			sum, _, err = seal.Hash(ctx, filepath.Join(dir, p.Name))
		}
		if err != nil || sum.String() != p.Hash {
			out = append(out, p.Name)
		}
	}
	return out
}

// Inspect returns the damage in the files of apps, or of all apps if none is given, that matters
// for the move. It reads the files in later only if their size is wrong.
func (k *Kit) Inspect(ctx context.Context, apps []string, later map[string]int64, progress func(int64)) ([]Damage, error) {
	in, err := Inspect(ctx, k.Dir, &k.Media, apps, later, progress)
	if err != nil {
		return nil, err
	}
	if len(in.Away) > 0 {
		return nil, notConnected(in.Away[0].Medium)
	}
	return slices.DeleteFunc(in.Damage, func(d Damage) bool { return d.Minor }), nil
}

// Tidy removes leftovers of interrupted runs: unfinished streams, and streams that are not in the
// journal. The caller must hold the lock. A changed README is restored.
func (k *Kit) Tidy() error {
	if err := k.there(); err != nil {
		return err
	}
	known := k.recorded.upTo(k.Log)
	if err := tidy(k.Dir, func(name string) bool { _, is := known[file{name: name}]; return !is }); err != nil {
		return err
	}
	for n, dir := range k.Media.known {
		// A file that this journal does not know can be one of a newer copy of the kit.
		if err := tidy(dir, func(name string) bool {
			on := file{n, name}
			_, is := known[on]
			return strings.HasSuffix(name, seal.Unfinished) || !is && k.recorded.ever[on]
		}); err != nil {
			return err
		}
	}
	if text := []byte(readme(k.Manifest)); known[file{name: ReadmeFile}] == digest.Of(text).String() {
		if now, err := os.ReadFile(filepath.Join(k.Dir, ReadmeFile)); err != nil || !bytes.Equal(now, text) {
			return k.write(ReadmeFile, text)
		}
	}
	return nil
}

// tidy removes the sealed files in a folder that are leftovers, by their names below it.
func tidy(dir string, leftover func(name string) bool) error {
	entries, err := os.ReadDir(filepath.Join(dir, SealedDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.Unreadable, err, "cannot read the kit's sealed files")
	}
	if info, err := os.Lstat(filepath.Join(dir, SealedDir)); err == nil && !info.IsDir() {
		return fault.New(fault.Hostile, "%s in %s is not a folder", SealedDir, dir)
	}
	for _, app := range entries {
		if !app.IsDir() {
			continue // it does not belong to the kit, and could be a link to somewhere else
		}
		files, err := os.ReadDir(filepath.Join(dir, SealedDir, app.Name()))
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read the kit's sealed files")
		}
		for _, f := range files {
			if !f.Type().IsRegular() || !leftover(SealedDir+"/"+app.Name()+"/"+f.Name()) {
				continue
			}
			if err := os.Remove(filepath.Join(dir, SealedDir, app.Name(), f.Name())); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot remove leftovers of an earlier run")
			}
		}
	}
	return nil
}
