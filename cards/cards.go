// Package cards holds the collection of app cards that is built into the program: programs that many offices use. An office's
// own card of the same name takes precedence.
package cards

import "embed"

// Files are the cards.
//
//go:embed *.yaml
var Files embed.FS
