package kit

import (
	_ "embed" // the text
	"fmt"
)

//go:embed readme.txt
var readmeText string

// readme returns the kit's README.txt: how to get everything out of the kit
// with standard open tools.
func readme(m Manifest) string {
	return fmt.Sprintf(readmeText, m.Old.Name, m.New.Name, m.Made.Format("2 January 2006"), m.ID)
}
