// Package ready checks the new computer before an unpack. Gather collects the facts about one app for the gates of unpack.
// Ready runs these gates, and those of activate that can be checked in advance, and changes nothing.
package ready

import (
	"movekit/internal/core/card"
	"movekit/internal/core/holder"
	"movekit/internal/core/item"
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
)

// Checker checks the new computer for one run of a step.
type Checker struct {
	*run.Run
	Kinds    item.Table
	Choices  item.Choices
	Licences *holder.Session
	Placer   *place.Placer
}

// scanner returns a scanner of this computer for an app in the kit.
func (k *Checker) scanner(c *card.Card) *survey.Scanner {
	return survey.ScannerOf(k.Run, k.Kinds, c, false)
}
