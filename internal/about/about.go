// Package about describes this program: its version, its build, and the licence notices of its
// modules.
package about

import (
	_ "embed" // the notices
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
)

// Notices are the names and licences of every module in the program, generated from go.mod by make
// notices.
//
//go:embed notices.txt
var Notices string

// Build is the program's build information, as recorded by the Go toolchain.
type Build struct {
	Version  string `json:"version"`            // the newest tag, or a pseudo-version
	Revision string `json:"revision,omitempty"` // of the source
	Changed  bool   `json:"changed,omitempty"`  // the source had uncommitted changes
	Date     string `json:"date,omitempty"`     // of the revision (RFC 3339)
	Go       string `json:"go"`
	System   string `json:"system"`
}

// This returns the running program's build information.
func This() Build {
	b := Build{Version: "not known", Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	if v := info.Main.Version; v != "" {
		b.Version = v
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Revision = s.Value
		case "vcs.modified":
			b.Changed = s.Value == "true"
		case "vcs.time":
			b.Date = s.Value
		}
	}
	return b
}

// String returns the build information in one line.
func (b Build) String() string {
	var more []string
	if b.Revision != "" {
		more = append(more, "revision "+b.Revision[:min(len(b.Revision), 12)])
	}
	if b.Changed {
		more = append(more, "changed since")
	}
	if b.Date != "" {
		more = append(more, b.Date)
	}
	return strings.TrimSpace(fmt.Sprintf("%s (%s)", b.Version, strings.Join(append(more, b.Go, b.System), ", ")))
}
