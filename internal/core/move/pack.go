package move

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Endings of sealed streams.
const (
	treeEnding    = ".tar.zst.age"
	sqliteEnding  = ".sqlite.zst.age"
	listEnding    = ".list.zst.age"
	licenceEnding = ".licence.zst.age"
)

// Pack seals every item of the chosen apps. What was sealed before, reads
// back whole and has not changed since is kept.
func (j *Job) Pack(ctx context.Context) ([]*Outcome, error) {
	if err := j.Kit.MendChecksums(); err != nil {
		return nil, err
	}
	defer j.dropTemp()
	return j.each(ctx, j.packApp)
}

func (j *Job) packApp(ctx context.Context, c *card.Card, o *Outcome) error {
	if err := j.makeExports(ctx, c); err != nil {
		return err
	}
	a, err := j.look(ctx, c)
	if err != nil {
		return err
	}
	f := a.Facts
	kept := map[steps.Key]bool{}
	for i, p := range a.Places {
		if p.Found && j.keep(ctx, p, a.Items[i].Stamp) {
			kept[p.Key] = true
			f.Need -= a.Items[i].Bytes
		}
	}
	j.together = attached(a.Places)
	for i, p := range a.Places {
		// One moment for all: when one has changed, none is kept.
		if kept[p.Key] && slices.ContainsFunc(j.together[p.Key], func(o survey.Place) bool { return !kept[o.Key] }) {
			delete(kept, p.Key)
			f.Need += a.Items[i].Bytes
		}
	}
	if err := j.check(steps.Pack, c, f, o); err != nil || len(o.Blocks) > 0 {
		return err
	}
	packed := steps.Packed{Version: a.Version, Edition: a.Edition, Absent: f.Missing}
	for i, p := range a.Places {
		if p.Item.Kind.Stays() {
			o.Items = append(o.Items, ItemOutcome{Item: p.Item.Name, Did: "stays", To: p.Path})
			packed.Stays = append(packed.Stays, steps.Stay{Item: p.Item.Name, Kind: p.Item.Kind, Address: p.Path})
			continue
		}
		if !p.Found {
			continue
		}
		io := ItemOutcome{Item: p.Item.Name, User: p.Key.User, Did: "kept"}
		if !kept[p.Key] {
			if err := j.sealItem(ctx, p, a.Items[i]); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "%s of %s is not sealed", p.Label(), c.Title)
			}
			io.Did = "sealed"
		}
		s := j.State().Items[p.Key].Sealed
		io.Files, io.Bytes, io.Left = s.Files, s.Bytes, s.Left
		for _, part := range slices.Concat(s.Parts, s.Schema) {
			io.Size += part.Size
		}
		o.Items = append(o.Items, io)
		packed.Items = append(packed.Items, p.Key)
		packed.Where = append(packed.Where, machine.Spoken(j.Computer, p.Path))
	}
	for i, l := range c.Licences {
		if err := j.complete(ctx, c, l, &a.Licences[i], a.Places); err != nil {
			return err
		}
		if s := a.Licences[i].Secrets; s.Serial != "" && s.Code != "" || s.Passphrase != "" {
			if err := j.sealLicence(ctx, c, l, a.Licences[i]); err != nil {
				return err
			}
		}
	}
	return j.Kit.Record(j.line(steps.EventPacked, steps.Key{App: c.Name}), packed)
}

// attached returns, for each SQLite database that an app uses together with
// others, all of them.
func attached(places []survey.Place) map[steps.Key][]survey.Place {
	groups := map[steps.Key][]survey.Place{}
	root := func(p survey.Place) steps.Key {
		key := p.Key
		if p.Item.Attached != "" {
			key.Item = p.Item.Attached
		}
		return key
	}
	for _, p := range places {
		if p.Found && p.Item.Kind == card.SQLite {
			groups[root(p)] = append(groups[root(p)], p)
		}
	}
	out := map[steps.Key][]survey.Place{}
	for _, group := range groups {
		for _, p := range group {
			if len(group) > 1 {
				out[p.Key] = group
			}
		}
	}
	return out
}

// keep reports whether an item is sealed already, is whole, and has not
// changed since.
func (j *Job) keep(ctx context.Context, p survey.Place, stamp string) bool {
	it := j.State().Items[p.Key]
	return it != nil && it.Sealed.Stamp == stamp && len(j.unwhole(ctx, it.Sealed, p.Key.App)) == 0
}

// unwhole returns the sealed files of an item that do not read back whole.
func (j *Job) unwhole(ctx context.Context, s kit.Sealed, app string) []string {
	var out []string
	for _, p := range s.All() {
		sum, _, err := seal.Hash(ctx, filepath.Join(j.Kit.AppDir(app), p.Name))
		if err != nil || sum.String() != p.Hash {
			out = append(out, p.Name)
		}
	}
	return out
}

// stream is the name of an item's sealed streams, without ending. A user's
// name is written so that every file system takes it.
func stream(key steps.Key) string {
	if key.User == "" {
		return key.Item
	}
	return key.Item + "@" + url.PathEscape(key.User)
}

func (j *Job) sealItem(ctx context.Context, p survey.Place, is survey.Item) error {
	sealed := kit.Sealed{Stream: stream(p.Key), Stamp: is.Stamp}
	var err error
	if db := j.database(p.Item.Kind); db != nil {
		err = db.seal(ctx, p, is, &sealed)
	} else {
		err = j.sealTree(ctx, p, is, &sealed)
	}
	if err != nil {
		return err
	}
	return j.recordSealed(p.Key, "", sealed)
}

// recordSealed enters sealed streams into the journal and the checksums.
func (j *Job) recordSealed(key steps.Key, lic string, sealed kit.Sealed) error {
	line := j.line(kit.EventSealed, key)
	line.Licence = lic
	if err := j.Kit.Record(line, sealed); err != nil {
		return err
	}
	return j.Kit.MendChecksums()
}

// sealTree seals a folder or file with the list of what is in it.
func (j *Job) sealTree(ctx context.Context, p survey.Place, is survey.Item, sealed *kit.Sealed) error {
	progress := j.begin(p.Key, "sealing", is.Bytes)
	dir := j.Kit.AppDir(p.Key.App)
	data, err := seal.Create(dir, sealed.Stream+treeEnding, j.sealing(0))
	if err != nil {
		return err
	}
	list, err := seal.Create(dir, sealed.Stream+listEnding, j.sealing(1))
	if err != nil {
		data.Abort()
		return err
	}
	st, err := j.source(p.Item, p.Path).Archive(ctx, data, list, progress)
	if err != nil {
		data.Abort()
		list.Abort()
		return err
	}
	sealed.Files, sealed.Bytes, sealed.Left, sealed.LeftCount = st.Files, st.Bytes, st.Left, st.LeftCount
	sealed.Stamp, sealed.Tables = st.Stamp(), is.Tables
	if sealed.Parts, err = data.Close(); err != nil {
		list.Abort()
		return err
	}
	sealed.List, err = list.Close()
	return err
}

func (j *Job) sealStream(ctx context.Context, dir, name string, r io.Reader, progress func(int64)) ([]seal.Part, int64, error) {
	w, err := seal.Create(dir, name, j.sealing(0))
	if err != nil {
		return nil, 0, err
	}
	buf := make([]byte, 1<<20)
	var total int64
	for {
		n, rerr := r.Read(buf)
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

func (j *Job) sealJSON(dir, name string, v any) ([]seal.Part, error) {
	data, err := json.Marshal(v)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot write %s", name)
	}
	w, err := seal.Create(dir, name, j.sealing(1))
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(append(data, '\n')); err != nil {
		w.Abort()
		return nil, err
	}
	return w.Close()
}

// openJSON reads what sealJSON wrote.
func (j *Job) openJSON(app string, parts []seal.Part, v any) error {
	r, err := seal.Open(j.Kit.AppDir(app), parts, j.identity())
	if err != nil {
		return err
	}
	defer r.Close()
	if err := json.NewDecoder(r).Decode(v); err != nil {
		return fault.Wrap(fault.Damaged, err, "cannot read a sealed file of %s", app)
	}
	return nil
}

// sealLicence keeps a licence's serial and code sealed, for the new computer.
func (j *Job) sealLicence(ctx context.Context, c *card.Card, l card.Licence, ls survey.Licence) error {
	lic := j.State().Licences[steps.Key{App: c.Name, Item: l.Name}]
	if lic != nil && lic.Sealed != nil && len(j.unwhole(ctx, *lic.Sealed, c.Name)) == 0 {
		return nil
	}
	sealed := kit.Sealed{Stream: l.Name}
	var err error
	if sealed.Parts, err = j.sealJSON(j.Kit.AppDir(c.Name), l.Name+licenceEnding, ls.Secrets); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence %s of %s is not sealed", l.Name, c.Title)
	}
	return j.recordSealed(steps.Key{App: c.Name}, l.Name, sealed)
}

// list opens the sealed list of an item; the caller closes it.
func (j *Job) list(it *steps.Item) (*tree.ListReader, io.Closer, error) {
	r, err := seal.Open(j.Kit.AppDir(it.Key.App), it.Sealed.List, j.identity())
	if err != nil {
		return nil, nil, fault.Wrap(fault.Damaged, err, "cannot read the list of %s", it.Key.Item)
	}
	return tree.NewListReader(r), r, nil
}

// itemLabel names an item of the journal for a person.
func itemLabel(k steps.Key) string {
	if k.User != "" {
		return fmt.Sprintf("%s of %s", k.Item, k.User)
	}
	return k.Item
}
