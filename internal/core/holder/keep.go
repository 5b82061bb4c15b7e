package holder

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"

	"filippo.io/age"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/steps"
)

// Kept is a licence in a safety copy.
type Kept struct {
	App     string   `json:"app"`
	Title   string   `json:"title"`
	Licence string   `json:"licence"`
	Files   []string `json:"files"`
}

const keptReadme = `This is a safety copy of licences, made with Move Kit from the kit %s.
Anyone who has it and its passphrase can use them: keep the two apart.

APP/LICENCE/licence.json   serial, code or registered name
APP/LICENCE/...            its files, as they were on %s

It was opened with: age -d FILE | tar x
`

// Keep returns a safety copy of the selected apps' serials, codes, registered names, and licence
// files with their keys. Vendors may not issue these again. It is a tar archive, encrypted with age
// under its own passphrase.
func (r *Session) Keep(ctx context.Context, pass string) ([]byte, []Kept, error) {
	cards, err := r.SelectedCards()
	if err != nil {
		return nil, nil, err
	}
	to, err := passphrase.Recipient(pass)
	if err != nil {
		return nil, nil, err
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return nil, nil, fault.Wrap(fault.Internal, err, "cannot encrypt the safety copy")
	}
	k := keeping{r, tar.NewWriter(w)}
	if err := k.add("README.txt", fmt.Appendf(nil, keptReadme, r.Manifest.ID, r.Manifest.Old.Name)); err != nil {
		return nil, nil, err
	}
	var all []Kept
	for _, c := range cards {
		for _, l := range c.Licences {
			kept, err := k.licence(ctx, c, l)
			if err != nil {
				return nil, nil, fault.Wrap(fault.Damaged, err, "the licence %s of %s could not be copied", l.Name, c.Title)
			}
			if kept != nil {
				all = append(all, *kept)
			}
		}
	}
	if err = k.tar.Close(); err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, nil, fault.Wrap(fault.Internal, err, "cannot write the safety copy")
	}
	if len(all) == 0 {
		return nil, nil, fault.New(fault.Missing, "the kit has no licence to copy: pack the apps first")
	}
	return out.Bytes(), all, nil
}

type keeping struct {
	*Session
	tar *tar.Writer
}

func (k keeping) add(name string, data []byte) error {
	err := k.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data)), ModTime: k.Now(), Typeflag: tar.TypeReg})
	if err == nil {
		_, err = k.tar.Write(data)
	}
	return err
}

// licence copies one licence, if the kit has any of it.
func (k keeping) licence(ctx context.Context, c *card.Card, l card.Licence) (*Kept, error) {
	kept := &Kept{App: c.Name, Title: c.Title, Licence: l.Name}
	dir := path.Join(c.Name, l.Name)
	var secrets licence.Secrets
	if st := k.State.Licence(c.Name, l.Name); st.Sealed != nil {
		if err := k.OpenJSON(c.Name, st.Sealed.Parts, &secrets); err != nil {
			return nil, err
		}
		data, err := json.MarshalIndent(map[string]any{"app": c.Title, "vendor": c.Vendor, "licence": l.Name, "method": l.Method, "product": l.Product, "held": secrets}, "", "  ")
		if err != nil {
			return nil, err
		}
		if err := k.add(path.Join(dir, "licence.json"), append(data, '\n')); err != nil {
			return nil, err
		}
		kept.Files = append(kept.Files, "licence.json")
	}
	for _, it := range k.State.AppItems(c.Name) {
		if slices.Contains(l.Items, it.Key.Item) {
			names, err := k.files(ctx, it, path.Join(dir, it.Key.Item))
			if err != nil {
				return nil, err
			}
			kept.Files = append(kept.Files, names...)
		}
	}
	if len(kept.Files) == 0 {
		return nil, nil //nolint:nilnil // the kit has none of it
	}
	return kept, nil
}

// files copies an item's files out of the kit.
func (k keeping) files(ctx context.Context, it *steps.Item, dir string) (names []string, err error) {
	err = k.sealedFiles(it, func(name string, data []byte) error {
		names = append(names, it.Key.Item+"/"+name)
		return errors.Join(k.add(path.Join(dir, name), data), ctx.Err())
	})
	return names, err
}

// sealedFiles reads an item's sealed files into memory, one after the other. name is the file's name without folders.
func (r *Session) sealedFiles(it *steps.Item, each func(name string, data []byte) error) error {
	sealed, err := r.Kit.Open(it.Key.App, it.Sealed.Parts)
	if err != nil {
		return err
	}
	defer sealed.Close()
	for tr := tar.NewReader(sealed); ; {
		h, err := tr.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		data, err := io.ReadAll(tr)
		if err == nil {
			err = each(path.Base(h.Name), data)
		}
		if err != nil {
			return err
		}
	}
}
