package tree

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

// LeftOut counts files that the patterns of a source leave out: a skipped folder by its name, and
// single files by their top-level folder.
type LeftOut struct {
	folders map[string]*leftOut
}

type leftOut struct{ files, bytes int64 }

// maxLeftOut limits the listed folders.
const maxLeftOut = 20

// add counts files. folder means that path is a folder of its own.
func (l *LeftOut) add(path string, folder bool, files, bytes int64) {
	if l == nil {
		return
	}
	name := path + "/"
	if !folder {
		top, _, deep := strings.Cut(path, "/")
		if name = "./"; deep {
			name = top + "/"
		}
	}
	if l.folders == nil {
		l.folders = map[string]*leftOut{}
	}
	if l.folders[name] == nil {
		l.folders[name] = &leftOut{}
	}
	l.folders[name].files += files
	l.folders[name].bytes += bytes
}

// measure counts a skipped file or folder.
func (l *LeftOut) measure(path, real string) {
	if l == nil {
		return
	}
	var n leftOut
	folder := false
	filepath.WalkDir(real, func(p string, e fs.DirEntry, err error) error { //nolint:errcheck // unreadable files are not counted
		if err != nil {
			return nil
		}
		if e.IsDir() {
			folder = true
			return nil
		}
		n.files++
		if info, err := e.Info(); err == nil {
			n.bytes += info.Size()
		}
		return nil
	})
	l.add(path, folder, n.files, n.bytes)
}

// Lines describes the files that are left out, the largest first.
func (l *LeftOut) Lines() (out []string) {
	var names []string
	for name := range l.folders {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if d := l.folders[b].bytes - l.folders[a].bytes; d != 0 {
			return map[bool]int{true: 1, false: -1}[d > 0]
		}
		return strings.Compare(a, b)
	})
	var more leftOut
	for i, name := range names {
		n := l.folders[name]
		if i >= maxLeftOut-1 && len(names) > maxLeftOut {
			more.files, more.bytes = more.files+n.files, more.bytes+n.bytes
			continue
		}
		out = append(out, n.line(name))
	}
	if more != (leftOut{}) {
		out = append(out, more.line(fmt.Sprintf("%d more", len(names)-maxLeftOut+1)))
	}
	return out
}

func (n leftOut) line(name string) string {
	return name + ": " + humanize.Comma(n.files) + " " + english.PluralWord(int(n.files), "file", "") + ", " + humanize.Bytes(uint64(max(n.bytes, 0)))
}
