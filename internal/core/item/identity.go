package item

import (
	"io"
	"os"
	"path/filepath"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/steps"
)

// maxIdentity is how much of a file that counts whole is read, in bytes.
const maxIdentity = 1 << 20

// Identity is the digest of what tells this profile from another of the same name, as it is on
// this computer; "" where the card names nothing, or it is not here.
func (o *Instance) Identity() (string, error) {
	id := o.Item.Identity
	if id == nil {
		return "", nil
	}
	name := filepath.Join(o.Path, filepath.FromSlash(id.File))
	if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() {
		return "", nil //nolint:nilerr // it is not here
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

// Another reports whether what is here is another profile than the one that was sealed.
func (o *Instance) Another() (bool, error) {
	if o.InKit == nil || o.InKit.Sealed.Identity == "" {
		return false, nil
	}
	here, err := o.Identity()
	return here != "" && here != o.InKit.Sealed.Identity, err
}

// AddIdentity tells whether it is the same profile as on the old computer.
func (o *Instance) AddIdentity(out *steps.Checked) error {
	was := o.InKit.Sealed.Identity
	if was == "" {
		return nil
	}
	here, err := o.Identity()
	if err != nil {
		return err
	}
	r := steps.Row{What: "profile", Old: was[:8], New: "none", Same: here == was}
	if here != "" {
		r.New = here[:8]
	}
	out.Add(r, "it is another profile of the same name, or none")
	return nil
}
