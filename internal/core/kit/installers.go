package kit

import (
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
)

// InstallersDir is the folder of the apps' installers, which are not encrypted: each app has one with its name.
const InstallersDir = "installers"

// copyInstaller copies a file, or the files of a folder, into the folder of an app. Links are not followed.
func (k *Kit) copyInstaller(app, from string) error {
	from, err := filepath.EvalSymlinks(from)
	if err != nil {
		return fault.Wrap(fault.Missing, err, "the installer of %s is not there", app)
	}
	info, err := os.Stat(from)
	if err != nil {
		return fault.Wrap(fault.Missing, err, "the installer of %s is not there", app)
	}
	if !info.IsDir() {
		return k.copyFile(InstallersDir+"/"+app+"/"+filepath.Base(from), from)
	}
	return filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read the installer of %s", app)
		}
		rel, err := filepath.Rel(from, path)
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		return k.copyFile(InstallersDir+"/"+app+"/"+filepath.ToSlash(rel), path)
	})
}

// copyFile copies a file of any size into the kit.
func (k *Kit) copyFile(name, from string) error {
	to := filepath.Join(k.Dir, filepath.FromSlash(name))
	in, err := os.Open(from)
	if err != nil {
		return fault.Wrap(fault.Unreadable, err, "cannot read %s", from)
	}
	defer in.Close()
	if err := journal.MakeBelow(k.Dir, path.Dir(name)); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	out, err := journal.Create(to+seal.Unfinished, 0o644)
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	sum := digest.New()
	_, err = io.Copy(io.MultiWriter(out, sum), in)
	if err == nil {
		err = out.Sync()
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(to+seal.Unfinished, to)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	k.sums[name] = sum.Sum().String()
	return nil
}

// Installer returns the installer of an app in the kit: the file run, or the only one; "" if there is none. Every file of it is
// compared with the hash in the journal first.
func (k *Kit) Installer(app, run string) (string, error) {
	lead := InstallersDir + "/" + app + "/"
	var files []string
	for name, hash := range recorded(k.Log) {
		if !strings.HasPrefix(name, lead) {
			continue
		}
		if !filepath.IsLocal(filepath.FromSlash(name)) {
			return "", fault.New(fault.Hostile, "the installer of %s leads out of the kit: %s", app, name)
		}
		f, err := os.Open(filepath.Join(k.Dir, filepath.FromSlash(name)))
		if err != nil {
			return "", fault.Wrap(fault.Damaged, err, "the installer of %s is incomplete", app)
		}
		sum, _, err := digest.Reader(f)
		f.Close()
		if err != nil || sum.String() != hash {
			return "", fault.New(fault.Damaged, "the installer of %s is damaged, or somebody changed it: %s", app, name)
		}
		files = append(files, name)
	}
	switch {
	case len(files) == 0:
		return "", nil
	case run != "":
		return filepath.Join(k.Dir, filepath.FromSlash(lead+run)), nil
	case len(files) > 1:
		return filepath.Join(k.Dir, filepath.FromSlash(lead)), nil
	}
	return filepath.Join(k.Dir, filepath.FromSlash(files[0])), nil
}
