package kit

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
)

// InstallersDir is the folder of the apps' installers, which are not encrypted: each app has one with its name.
const InstallersDir = "installers"

// installerFiles calls visit for an installer file, or for the files of a folder, with its slash-separated name. Links are not
// followed.
func installerFiles(app, from string, visit func(name, path string) error) error {
	from, err := filepath.EvalSymlinks(from)
	var info fs.FileInfo
	if err == nil {
		info, err = os.Stat(from)
	}
	if err != nil {
		return fault.Wrap(fault.Missing, err, "the installer of %s is not there", app)
	}
	if !info.IsDir() {
		return visit(filepath.Base(from), from)
	}
	return filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot read the installer of %s", app)
		}
		rel, err := filepath.Rel(from, path)
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		return visit(filepath.ToSlash(rel), path)
	})
}

// copyInstaller copies an installer into the kit's folder of an app.
func (k *Kit) copyInstaller(app, from string) error {
	return installerFiles(app, from, func(name, path string) error {
		name = InstallersDir + "/" + app + "/" + name
		sum, err := copyFile(k.Dir, name, path)
		k.sums[name] = sum
		return err
	})
}

// versionDigits is the number of digits of a hash that distinguish versions of a shared installer.
const versionDigits = 8

// shareInstaller copies an installer into the folder above the kit's, which serves many kits, unless it is there already. It adds
// the files to shared.
func (k *Kit) shareInstaller(app, from string, shared map[string]string) error {
	hashes, paths := map[string]string{}, map[string]string{}
	err := installerFiles(app, from, func(name, path string) error {
		sum, err := hashFile(path)
		hashes[name], paths[name] = sum, path
		return err
	})
	if err != nil {
		return err
	}
	all := digest.New() // another version of it gets another folder
	for _, name := range slices.Sorted(maps.Keys(hashes)) {
		fmt.Fprintf(all, "%s %s\n", hashes[name], name)
	}
	above, folder := filepath.Dir(k.Dir), InstallersDir+"/"+app+"-"+all.Sum().String()[:versionDigits]
	for name, hash := range hashes {
		to := folder + "/" + name
		shared[to] = hash
		if now, err := hashFile(filepath.Join(above, filepath.FromSlash(to))); err == nil && now == hash {
			continue
		}
		if sum, err := copyFile(above, to, paths[name]); err != nil || sum != hash {
			return fault.Wrap(fault.Changed, err, "the installer of %s changed while it was copied", app)
		}
	}
	return nil
}

func hashFile(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "cannot read %s", path)
	}
	defer f.Close()
	sum, _, err := digest.Reader(f)
	return sum.String(), err
}

// copyFile copies a file of any size below dir, and returns its hash.
func copyFile(dir, name, from string) (string, error) {
	to := filepath.Join(dir, filepath.FromSlash(name))
	in, err := os.Open(from)
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "cannot read %s", from)
	}
	defer in.Close()
	if err := journal.MakeBelow(dir, path.Dir(name)); err != nil {
		return "", fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	out, err := os.CreateTemp(filepath.Dir(to), "*"+seal.Unfinished) // another technician may copy it now, too
	if err != nil {
		return "", fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	sum := digest.New()
	_, err = io.Copy(io.MultiWriter(out, sum), in)
	if err == nil {
		err = errors.Join(out.Sync(), os.Chmod(out.Name(), 0o644))
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(out.Name(), to)
	}
	if err != nil {
		os.Remove(out.Name())
		return "", fault.Wrap(fault.CannotPlace, err, "cannot write %s into the kit", name)
	}
	return sum.Sum().String(), nil
}

// Installer returns the installer of an app: the file run, or the only one; "" if there is none. Every file of it is compared with
// the hash in the journal first.
func (k *Kit) Installer(app, run string) (string, error) {
	made := k.made()
	for _, of := range []struct {
		dir   string
		files map[string]string
		lead  string
	}{{k.Dir, made.Files, app + "/"}, {filepath.Dir(k.Dir), made.Shared, app + "-"}} {
		folder, files := "", []string{}
		for name, hash := range of.files {
			rest, is := strings.CutPrefix(name, InstallersDir+"/"+of.lead)
			version, _, _ := strings.Cut(rest, "/")
			shared := of.dir != k.Dir
			if !is || shared && len(version) != versionDigits { // that of an app with a longer name
				continue
			}
			path := filepath.Join(of.dir, filepath.FromSlash(name))
			if !filepath.IsLocal(filepath.FromSlash(name)) {
				return "", fault.New(fault.Hostile, "the installer of %s leads out of the kit: %s", app, name)
			}
			if sum, err := hashFile(path); err != nil {
				return "", fault.Wrap(fault.Damaged, err, "the installer of %s is incomplete", app)
			} else if sum != hash {
				return "", fault.New(fault.Damaged, "the installer of %s is damaged, or somebody changed it: %s", app, name)
			}
			files, folder = append(files, path), filepath.Join(of.dir, InstallersDir, app)
			if shared {
				folder += "-" + version
			}
		}
		switch {
		case len(files) == 0:
			continue
		case run != "":
			return filepath.Join(folder, filepath.FromSlash(run)), nil
		case len(files) > 1:
			return folder, nil
		}
		return files[0], nil
	}
	return "", nil
}

// made returns the data of the journal's first line.
func (k *Kit) made() (m Made) {
	if len(k.Log.Lines) > 0 && k.Log.Lines[0].Event == journal.EventMade {
		bytejson.Unmarshal(k.Log.Lines[0].Data, &m) //nolint:errcheck // then it has no files
	}
	return m
}
