package demo

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"time"
)

// neighbours are other, invented programs on the office's computer that have no cards. They make
// the example as large as a desk that was used for years.
var neighbours = strings.Fields("Buoyline Galleyplan Knotwise Mudlark Fathomer Tollgate Paperweir Ropewalk Lampblack Gullwing Saltbox Netloft Wharfnote Keelhouse Brightwork Tallyman Sluicegate Moorlog Capstan Driftline Foghorn Ledgeway Plankwise Quartermark Rudderpost Shoalmap Tidepool Undertow Yardarm Zephyrine")

// layouts are the files of a program, by share.
var layouts = []struct {
	dir   string // below the program's folder
	name  string // with the file's number
	files int
	bytes int
}{
	{"help/en", "topic-%03d.htm", 24, 3 << 10}, {"templates", "form %02d.tpl", 10, 6 << 10}, {"archive/2024", "sheet-%03d.dat", 16, 22 << 10},
	{"archive/2025", "sheet-%03d.dat", 16, 26 << 10}, {"cache", "tile-%04d.bin", 6, 40 << 10},
}

// makeNeighbours writes their files. It writes the same each time.
func makeNeighbours(root string) error {
	r := rand.New(rand.NewPCG(2011, 26))
	content := rand.NewChaCha8([32]byte{'t', 'e', 'r', 'n'})
	put := func(path string, size int, at time.Time) error {
		data := make([]byte, size/2+r.IntN(size))
		content.Read(data) //nolint:errcheck // it cannot fail
		if strings.HasSuffix(path, ".htm") || strings.HasSuffix(path, ".tpl") || strings.HasSuffix(path, ".csv") {
			data = []byte(strings.Repeat(notes[r.IntN(len(notes))]+".\r\n", len(data)/24))
		}
		return write(root, file{path, string(data)}, at)
	}
	for i, name := range neighbours {
		last := day.AddDate(0, 0, -r.IntN(900)) // when the program was last used
		home := []string{"ProgramData/" + name, "Users/maren/AppData/Roaming/" + name, "Users/tobias/AppData/Local/" + name}[i%3]
		if err := write(root, file{home + "/" + strings.ToLower(name) + ".ini", fmt.Sprintf("[%s]\r\nlanguage=en\r\nwindow=%d\r\n", name, r.IntN(2000))}, last); err != nil {
			return err
		}
		for _, l := range layouts {
			for n := range l.files {
				if err := put(filepath.Join(home, l.dir, fmt.Sprintf(l.name, n+1)), l.bytes, last.AddDate(0, 0, -r.IntN(600))); err != nil {
					return err
				}
			}
		}
	}
	for year := 2022; year <= 2026; year++ {
		for n := range 60 {
			at := time.Date(year, time.Month(1+r.IntN(11)), 1+r.IntN(28), 9+r.IntN(8), 0, 0, 0, time.UTC)
			if err := put(fmt.Sprintf("Users/maren/Pictures/%d/quay %03d.jpg", year, n+1), 80<<10, at); err != nil {
				return err
			}
			if err := put(fmt.Sprintf("Users/tobias/Documents/Berths/%d/week %02d.csv", year, n%52+1), 9<<10, at); err != nil {
				return err
			}
		}
	}
	return nil
}
