package item

import (
	"io"
	"os"
	"path/filepath"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/steps"
)

// maxIdentity is the number of bytes read of a file that is compared completely.
const maxIdentity = 1 << 20

// Identity returns a digest that identifies this profile among others of the same name. It is "" if
// the card has no identity, or the file is missing.
func (o *Instance) Identity() (string, error) {
	id := o.Item.Identity
	if id == nil {
		return "", nil
	}
	name := filepath.Join(o.Path, filepath.FromSlash(id.File))
	if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() {
		return "", nil //nolint:nilerr // the file is missing
	}
	f, err := os.Open(name)
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "cannot read %s", name)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxIdentity))
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "cannot read %s", f.Name())
	}
	if !id.Pattern.IsZero() {
		found, _ := id.Pattern.First(string(data))
		if found == "" {
			return "", nil
		}
		data = []byte(found)
	}
	return digest.Of(data).String()[:16], nil
}

// Another reports whether the existing data is a different profile from the sealed one.
func (o *Instance) Another() (bool, error) {
	if o.InKit == nil || o.InKit.Sealed.Identity == "" {
		return false, nil
	}
	here, err := o.Identity()
	return here != "" && here != o.InKit.Sealed.Identity, err
}

// AddIdentity adds to out whether the profile is the same as on the old computer.
func (o *Instance) AddIdentity(out *steps.Checked) error {
	was := o.InKit.Sealed.Identity
	if was == "" {
		return nil
	}
	here, err := o.Identity()
	if err != nil {
		return err
	}
	r := steps.Row{What: "profile", Old: was[:8], New: "none", Same: here == was, Text: true}
	if here != "" {
		r.New = here[:8]
	}
	out.Add(r, "it is a different profile with the same name, or none")
	return nil
}
