// Package filename says which names of files a system allows.
package filename

import (
	"hash/maphash"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Within reports whether a link at a path leads to a place inside the item, whatever other links
// exist. It may contain ".." only at its start, where the folders above are known. On Windows, a target
// can also begin with a drive or a backslash.
func Within(at, target string, windows bool) bool {
	if target == "" || path.IsAbs(target) || strings.ContainsAny(target, "\x00") || windows && (len(target) > 1 && target[1] == ':' || strings.Contains(target, `\`)) {
		return false
	}
	down := target
	for strings.HasPrefix(down, "../") {
		down = down[len("../"):]
	}
	if down != ".." && slices.Contains(strings.Split(down, "/"), "..") {
		return false
	}
	to := path.Join(path.Dir(at), target)
	return to != ".." && !strings.HasPrefix(to, "../")
}

// ofWindows is the system of names that come from a Windows computer, for another one. There, a program
// can create names that end in a dot or a space, although Windows itself forbids them.
const ofWindows = "windows, from windows"

// From returns the system to pass to On if the names come from another system.
func From(old, now string) string {
	if old == "windows" && now == "windows" {
		return ofWindows
	}
	return now
}

// OnWindows returns why Windows forbids a path with / between folders, or "". Source: "Naming
// Files, Paths, and Namespaces" in the Windows documentation.
func OnWindows(p string) string { return onWindows(p, false) }

func onWindows(p string, endings bool) string {
	if p == "." {
		return ""
	}
	for name := range strings.SplitSeq(p, "/") {
		if i := strings.IndexFunc(name, func(r rune) bool { return r < 32 || strings.ContainsRune(`<>:"\|?*`, r) }); i >= 0 {
			return "Windows forbids " + string([]rune(name[i:])[:1]) + " in names"
		}
		if !endings && (strings.HasSuffix(name, " ") || strings.HasSuffix(name, ".")) {
			return "Windows forbids names that end in a space or a full stop"
		}
		if !utf8.ValidString(name) {
			return "the name is not valid text"
		}
		stem, _, _ := strings.Cut(strings.ToUpper(name), ".")
		stem = strings.TrimRight(stem, " ")
		switch {
		case stem == "CON" || stem == "PRN" || stem == "AUX" || stem == "NUL" || stem == "CONIN$" || stem == "CONOUT$":
			return stem + " is a device name on Windows"
		case len([]rune(stem)) == 4 && (strings.HasPrefix(stem, "COM") || strings.HasPrefix(stem, "LPT")) && strings.ContainsAny(stem[3:], "0123456789¹²³"):
			return stem + " is a device name on Windows"
		}
	}
	return ""
}

// Names detects names that a system does not allow, including names that it treats as equal: on
// Windows and macOS names that differ only in letter case, on macOS also names that differ in
// Unicode composition (é as one character or two).
type Names struct {
	system string // "windows", "macos", ofWindows, or another, which allows every name
	seed   maphash.Seed
	seen   map[uint64]struct{} // 64-bit hashes: millions of names fit in memory
}

// On returns the check for a system.
func On(system string) *Names {
	return &Names{system: system, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
}

// Refuses returns why the system cannot have a path beside the earlier ones, or "".
func (w *Names) Refuses(p string) string {
	folded, how := "", "in letter case"
	switch w.system {
	case "windows", ofWindows:
		if why := onWindows(p, w.system == ofWindows); why != "" {
			return why
		}
		folded = strings.ToUpper(p)
	case "macos":
		folded, how = strings.ToUpper(norm.NFC.String(p)), "in letter case or Unicode composition"
	default:
		return ""
	}
	h := maphash.String(w.seed, folded)
	if _, taken := w.seen[h]; taken {
		return "another name differs from it only " + how
	}
	w.seen[h] = struct{}{}
	return ""
}

// OfSystem reports whether a system itself creates files or folders of this name on a disk.
func OfSystem(name string) bool {
	return slices.Contains([]string{"System Volume Information", "$RECYCLE.BIN", "lost+found", ".fseventsd", ".Spotlight-V100", ".Trashes", ".DS_Store", "Thumbs.db", "desktop.ini"}, name) ||
		strings.HasPrefix(name, ".Trash-") || strings.HasPrefix(name, "._")
}
