// Package spare makes the names that only Move Kit gives to data: for staged data, for data that is set aside or kept, and for
// notes. It recognises them, too.
package spare

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"movekit/internal/core/fault"
)

// StageEnding is the suffix of a folder or file that is being put in place.
const StageEnding = ".movekit-part"

// Aside returns an unused name beside target for data that is set aside. at is the time of the
// step.
func Aside(target string, at time.Time) (string, error) {
	return freeName(target + AsideEnding(at))
}

// AsideEnding returns the suffix of names for data that is set aside at a time.
func AsideEnding(at time.Time) string {
	return asideMark + at.Local().Format("20060102-150405")
}

const asideMark = ".set-aside-"

// IsAside reports whether a name is from Aside.
func IsAside(name string) bool { return strings.Contains(name, asideMark) }

// Note returns the name of the note that says that an item went to a computer.
func Note(target, computer string) string {
	return target + noteEnding + Plain(computer) + ".txt"
}

// RemoveNote removes such a note if there is one that Move Kit wrote.
func RemoveNote(target, computer string) error {
	name := Note(target, computer)
	if !IsBeside(filepath.Base(name), name) {
		return nil
	}
	return os.Remove(name)
}

const noteEnding = ".moved-to-"

// NoteHead is the start of that note.
const NoteHead = "The data that was here was moved to the computer "

// setAside matches names of data that was set aside, and of its side files and temporary files.
var setAside = regexp.MustCompile(`\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*(\.movekit-part)?$`)

// derived matches the suffixes that steps add to an item's name, and carried those that the names of
// folders above it can have.
var (
	derived = regexp.MustCompile(`(\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*|\.from-[^/\\]+|\.moved-to-[^/\\]+\.txt|(\.[0-9A-Za-z_-]+)?\.movekit-part)+$`)
	carried = regexp.MustCompile(`(\.set-aside-\d{8}-\d{6}(-[a-z0-9]+)*)+$`)
)

// Derived reports whether path is home, or a name beside it that a step gives to the item's data. A
// folder above it can have been set aside with it. fold ignores letter case.
func Derived(home, path string, fold bool) bool {
	h, p := filepath.Clean(home), filepath.Clean(path)
	for leaf := derived; ; leaf = carried {
		a, b := filepath.Base(h), filepath.Base(p)
		if cut := leaf.FindStringIndex(b); cut != nil && cut[0] > 0 && a != b {
			a, b = leaf.ReplaceAllString(a, ""), b[:cut[0]]
		}
		if a != b && !(fold && strings.EqualFold(a, b)) {
			return false
		}
		if len(filepath.Dir(h)) == len(h) || len(filepath.Dir(p)) == len(p) {
			return filepath.Dir(h) == h && filepath.Dir(p) == p
		}
		h, p = filepath.Dir(h), filepath.Dir(p)
	}
}

// IsBeside reports whether a file or folder was put beside an item by a step. If the item is inside
// another one's folder, that folder's item does not include it.
func IsBeside(name, real string) bool {
	if IsAside(name) {
		return setAside.MatchString(name)
	}
	if !strings.Contains(name, noteEnding) || !strings.HasSuffix(name, ".txt") {
		return false
	}
	if info, err := os.Lstat(real); err != nil || !info.Mode().IsRegular() {
		return false // reading a pipe would block
	}
	f, err := os.Open(real)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(NoteHead))
	_, err = io.ReadFull(f, head)
	return err == nil && string(head) == NoteHead
}

// freeName returns an unused name that starts with name.
func freeName(name string) (string, error) { return FreeIn(os.Lstat, name) }

// FreeIn returns an unused name that starts with name. If lstat cannot check a name, the name may be in use.
func FreeIn(lstat func(string) (os.FileInfo, error), name string) (string, error) {
	for n, try := 2, name; ; n++ {
		_, err := lstat(try)
		if errors.Is(err, fs.ErrNotExist) {
			return try, nil
		}
		if err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "cannot find an unused name like %s", name)
		}
		try = fmt.Sprintf("%s-%d", name, n)
	}
}

// Both returns an unused name beside target for data from a computer.
func Both(target, computer string) (string, error) {
	return freeName(target + ".from-" + Plain(computer))
}

// Plain replaces characters that some file systems do not allow.
func Plain(name string) string {
	return strings.Map(func(r rune) rune {
		if r < 32 || strings.ContainsRune(`<>:"/\|?* `, r) {
			return '-'
		}
		return r
	}, name)
}
