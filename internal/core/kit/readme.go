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
	to, sections := m.New.Name, ""
	if m.Keep {
		to, sections = "still to be chosen (it is a safety copy)", sectionsText
	}
	return fmt.Sprintf(readmeText, m.Old.Name, to, m.Made.Format("2 January 2006"), m.ID, sections)
}

// sectionsText is the part of README.txt about sections, which only safety copies have.
const sectionsText = `   A safety copy has the last states of each item, in sections that several
   states share. The journal lists them; tail -1 selects the newest state:

       for p in $(grep '"event":"sealed","app":"APP","item":"ITEM"' journal.jsonl |
           tail -1 | grep -o 'ITEM\.tar\.[0-9a-f.]*zst\.age'); do
           age -d -i identity.txt sealed/APP/$p; done | zstd -d | tar -x -C out

`
