package kit

import (
	_ "embed" // the text
	"fmt"
)

//go:embed readme.txt
var readmeText string

// readme returns the kit's README.txt, which explains how to extract everything with standard open
// tools.
func readme(m Manifest) string {
	to := m.New.Name
	if m.Keep {
		to = "still to be chosen (it is a safety copy)"
	}
	return fmt.Sprintf(readmeText, m.Old.Name, to, m.Made.Format("2 January 2006"), m.ID)
}
