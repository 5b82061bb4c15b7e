// Package about tells what this program is: its version, from what it was built,
// and the notices of the modules in it.
package about

import (
	_ "embed" // the notices
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
)

// Notices are the names and licences of every module in the program, made from
// go.mod by make notices.
//
//go:embed notices.txt
var Notices string

// Build is what the program was built from, as the Go toolchain recorded it.
type Build struct {
	Version  string `json:"version"`            // of the newest tag, or what stands for one
	Revision string `json:"revision,omitempty"` // of the source
	Changed  bool   `json:"changed,omitempty"`  // whether the source was changed since
	Date     string `json:"date,omitempty"`     // of the revision (RFC 3339)
	Go       string `json:"go"`
	System   string `json:"system"`
}

// This is the running program's.
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

// String is one line for a person, and for a kit's manifest.
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
