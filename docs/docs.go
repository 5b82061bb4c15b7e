// Package docs has those documents that the program shows.
package docs

import _ "embed"

// Technician is a move step by step, and what to do when something stops.
//
//go:embed technician.md
var Technician string
