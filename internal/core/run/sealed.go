package run

import (
	"context"
	"io"

	"movekit/internal/core/block"
	"movekit/internal/core/bytejson"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
)

// Seal starts a sealed stream of an app. For workers see seal.Options.
func (r *Run) Seal(app, name string, workers int) (kit.Stream, error) {
	return r.Kit.Seal(app, name, seal.Options{PartSize: r.PartSize, Workers: workers, Roomy: r.Roomy})
}

// SealFrom seals everything read from a reader, and returns the number of bytes.
func (r *Run) SealFrom(ctx context.Context, app, name string, from io.Reader, progress func(int64)) ([]seal.Part, int64, error) {
	w, err := r.Seal(app, name, 0)
	if err != nil {
		return nil, 0, err
	}
	buf := block.Take()
	defer block.Give(buf)
	var total int64
	for {
		n, rerr := from.Read(buf)
		if _, err = w.Write(buf[:n]); err == nil {
			err = ctx.Err()
		}
		total += int64(n)
		progress(int64(n))
		if err == nil && rerr != nil && rerr != io.EOF {
			err = fault.Wrap(fault.Unreadable, rerr, "cannot read the snapshot")
		}
		if err != nil {
			w.Abort()
			return nil, 0, err
		}
		if rerr == io.EOF {
			parts, err := w.Close()
			return parts, total, err
		}
	}
}

// SealJSON seals a value as JSON.
func (r *Run) SealJSON(app, name string, v any) ([]seal.Part, error) {
	data, err := bytejson.Marshal(v)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot write %s", name)
	}
	w, err := r.Seal(app, name, 1)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(append(data, '\n')); err != nil {
		w.Abort()
		return nil, err
	}
	return w.Close()
}

// maxJSON limits a sealed JSON value, in bytes: the facts of 10,000 tables have about 20 MB.
const maxJSON = 256 << 20

// OpenJSON reads a value that SealJSON wrote.
func (r *Run) OpenJSON(app string, parts []seal.Part, v any) error {
	from, err := r.Kit.Open(app, parts)
	if err != nil {
		return err
	}
	defer from.Close()
	data, err := io.ReadAll(io.LimitReader(from, maxJSON))
	if err == nil {
		err = bytejson.Unmarshal(data, v)
	}
	if err != nil {
		return fault.Wrap(fault.Damaged, err, "cannot read a sealed file of %s", app)
	}
	return nil
}

// RecordSealed records an item's sealed streams in the journal and the checksums, and then removes
// the previous ones.
func (r *Run) RecordSealed(key steps.Key, s kit.Sealed) error {
	var was []seal.Part
	if it := r.State.Items[key]; it != nil {
		was = it.Sealed.All()
	}
	if err := r.Record(journal.EventSealed, key, s); err != nil {
		return err
	}
	r.Kit.Discard(key.App, was)
	return r.Kit.MendChecksums()
}

// RecordSealedLicence does the same for a licence's secrets.
func (r *Run) RecordSealedLicence(key steps.Key, s kit.Sealed) error {
	if err := r.RecordLicence(journal.EventSealed, key, s); err != nil {
		return err
	}
	r.Cards = r.State.Cards(r.Cards)
	return r.Kit.MendChecksums()
}

// Damage inspects the kit, and the sealed files of the given apps, or of all apps if none is given. Of the files in later it
// checks only the size.
func (r *Run) Damage(ctx context.Context, apps []string, later map[string]int64) ([]kit.Damage, error) {
	return r.Kit.Inspect(ctx, apps, later, r.Begin(steps.Key{}, "inspecting the kit", r.Kit.TotalBytes(apps, later)))
}
