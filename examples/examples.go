// Package examples holds the app cards of the example office.
package examples

import "embed"

// Cards are the example cards, in the folder cards.
//
//go:embed cards/*.yaml
var Cards embed.FS
