package kit

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/seal"
)

// Stream is a sealed stream that is being written. It must be ended with Close
// or Abort.
type Stream interface {
	io.Writer
	Close() ([]seal.Part, error)
	Abort()
}

// appDir is the folder of an app's sealed files.
func (k *Kit) appDir(app string) string { return filepath.Join(k.Dir, SealedDir, app) }

// Seal starts a sealed stream of an app. It is sealed to the kit's own key, which
// is not stored in the open, so that nobody without the passphrase can seal a
// file of their own.
func (k *Kit) Seal(app, name string, o seal.Options) (Stream, error) {
	if err := k.there(); err != nil {
		return nil, err
	}
	o.To = k.identity.Recipient()
	w, err := seal.Create(k.appDir(app), name, o)
	if err != nil {
		return nil, err
	}
	return w, nil
}

// Open reads a sealed stream of an app.
func (k *Kit) Open(app string, parts []seal.Part) (io.ReadCloser, error) {
	r, err := seal.Open(k.appDir(app), parts, k.identity)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Discard removes sealed files that are not recorded, or not any more.
func (k *Kit) Discard(app string, parts []seal.Part) {
	for _, p := range parts {
		os.Remove(filepath.Join(k.appDir(app), p.Name)) //nolint:errcheck // a leftover that nothing names
	}
}

// Unwhole returns the sealed files of an item that do not read back whole.
func (k *Kit) Unwhole(ctx context.Context, app string, s Sealed) (out []string) {
	for _, p := range s.All() {
		sum, _, err := seal.Hash(ctx, filepath.Join(k.appDir(app), p.Name))
		if err != nil || sum.String() != p.Hash {
			out = append(out, p.Name)
		}
	}
	return out
}

// Inspect returns what is damaged of the files of apps, of all where none is
// named, as far as the move takes it.
func (k *Kit) Inspect(ctx context.Context, apps []string, progress func(int64)) ([]Damage, error) {
	in, err := Inspect(ctx, k.Dir, apps, progress)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(in.Damage, func(d Damage) bool { return d.Minor }), nil
}

// Tidy removes what runs that were killed have left: streams that were not ended, and
// those that the journal does not know. It is for whoever holds the lock. A README that
// is not the kit's is written anew.
func (k *Kit) Tidy() error {
	if err := k.there(); err != nil {
		return err
	}
	known := k.told.upTo(k.Log)
	entries, err := os.ReadDir(filepath.Join(k.Dir, SealedDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.Unreadable, err, "cannot read the kit's sealed files")
	}
	for _, app := range entries {
		files, err := os.ReadDir(k.appDir(app.Name()))
		if err != nil {
			continue // no folder: it is not the kit's
		}
		for _, f := range files {
			if _, is := known[SealedDir+"/"+app.Name()+"/"+f.Name()]; is || !f.Type().IsRegular() {
				continue
			}
			if err := os.Remove(filepath.Join(k.appDir(app.Name()), f.Name())); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot remove what an earlier run left")
			}
		}
	}
	if text := []byte(readme(k.Manifest)); known[ReadmeFile] == digest.Of(text).String() {
		if now, err := os.ReadFile(filepath.Join(k.Dir, ReadmeFile)); err != nil || !bytes.Equal(now, text) {
			return k.write(ReadmeFile, text)
		}
	}
	return nil
}
