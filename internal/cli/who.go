package cli

import (
	"cmp"
	"os"
	"path/filepath"
	"strings"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/private"
)

// longestName limits a technician's name, in bytes.
const longestName = 100

// rememberedFor is how long a technician's name is remembered on a computer: another one may work there the next day.
const rememberedFor = 12 * time.Hour

// technicianName returns the name of who does the work: as given, or as entered on this computer today; "" if unknown.
func (e *env) technicianName() string {
	if given := cmp.Or(e.technician, os.Getenv("MOVEKIT_TECHNICIAN")); given != "" {
		return given
	}
	name, err := nameFile()
	if err != nil {
		return ""
	}
	info, err := os.Stat(name)
	if err != nil || time.Since(info.ModTime()) > rememberedFor {
		return ""
	}
	data, err := os.ReadFile(name)
	if text := strings.TrimSpace(string(data)); err == nil && checkName(text) == nil {
		return text
	}
	return ""
}

// askTechnician returns the name of who does the work. If the move has a technician, it asks for a name that is unknown, and
// remembers it.
func (e *env) askTechnician(usual string) (string, error) {
	who := e.technicianName()
	if who != "" || usual == "" || e.yes || !e.canAsk() {
		return who, checkName(who)
	}
	for {
		who, err := e.read("Who does this work (Enter: "+usual+"): ", false)
		if err != nil {
			return "", fault.Wrap(fault.Unanswered, err, "nobody said who does this work")
		}
		who = cmp.Or(strings.TrimSpace(who), usual)
		if err := checkName(who); err != nil {
			e.say("%v\n", err)
			continue
		}
		if name, err := nameFile(); err == nil && os.MkdirAll(filepath.Dir(name), 0o700) == nil {
			os.WriteFile(name, []byte(who+"\n"), 0o600) //nolint:errcheck // else it is asked again
		}
		return who, nil
	}
}

func checkName(name string) error {
	if len(name) > longestName || strings.ContainsAny(name, "\r\n\t") {
		return fault.New(fault.Usage, "the name of the technician must be one line of at most %d bytes", longestName)
	}
	return nil
}

func nameFile() (string, error) {
	dir, err := private.Cache()
	return filepath.Join(dir, "technician"), err
}
