package kit

import (
	"context"
	"io"
	"os"
	"path/filepath"

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

// Discard removes sealed files that are not recorded.
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
// named.
func (k *Kit) Inspect(ctx context.Context, apps []string, progress func(int64)) ([]Damage, error) {
	in, err := Inspect(ctx, k.Dir, apps, progress)
	if err != nil {
		return nil, err
	}
	return in.Damage, nil
}
