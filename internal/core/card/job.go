package card

import (
	"regexp"
	"strings"
)

// Crontab is the job that is the crontab of each user (crontab(1)).
const Crontab = "crontab"

// Where jobs are defined.
const (
	// Services is the registry key of all Windows services.
	Services = `HKLM\SYSTEM\CurrentControlSet\Services\`
	// Tasks is the folder of all scheduled tasks of Windows.
	Tasks    = `%WINDIR%\System32\Tasks`
	units    = "/etc/systemd/system/"
	ownUnits = "~/.config/systemd/user/"
)

// jobForms are the names that jobs can have, by system.
var jobForms = map[Kind]map[string]*regexp.Regexp{
	Service: {
		"windows": regexp.MustCompile(`^[^\\/"]{1,256}$`),
		"linux":   regexp.MustCompile(`^(~/)?[A-Za-z0-9:_.@-]+\.service$`),
		"macos":   regexp.MustCompile(`^(~|/)(/?Library/Launch(Daemons|Agents)/[^/]+\.plist)$`),
	},
	Schedule: {
		"windows": regexp.MustCompile(`^(\\[^\\/:*?"<>|]+)+$`),
		"linux":   regexp.MustCompile(`^((~/)?[A-Za-z0-9:_.@-]+\.(timer|service)|/etc/cron\.d/[A-Za-z0-9_-]+|crontab)$`),
		"macos":   regexp.MustCompile(`^(~|/)(/?Library/Launch(Daemons|Agents)/[^/]+\.plist)$`),
	},
}

// jobExamples are examples of such names, for messages.
var jobExamples = map[string]string{
	"windows": `the name of a service, or a task such as \Quay\Export`,
	"linux":   "quay.service, quay.timer, ~/quay.service, /etc/cron.d/quay or crontab",
	"macos":   "/Library/LaunchDaemons/NAME.plist or ~/Library/LaunchAgents/NAME.plist",
}

// job checks the name of a service or a schedule.
func (k *checker) job(at string, it *Item) {
	p := it.Job
	if p.IsZero() || p.From != nil || p.Any != "" {
		k.fail(at, "a mapping with windows, linux and macos", "the job of %q has no name for each system", it.Name)
		return
	}
	for system, name := range map[string]string{"windows": p.Windows, "linux": p.Linux, "macos": p.MacOS} {
		if name != "" && (!jobForms[it.Kind][system].MatchString(name) || strings.Contains(name, "..")) {
			k.fail(at+"."+system, jobExamples[system], "%q is not the name of a %s", name, it.Kind)
		}
	}
}

// On returns the item as it is on a system. A job becomes the key, or the file, that defines it there.
func (it *Item) On(system string) *Item {
	name := it.Job.On(system)
	if name == "" {
		return it
	}
	out := *it
	switch rest, own := strings.CutPrefix(name, "~/"); {
	case system == "windows" && it.Kind == Service:
		out.Key = Services + name
	case system == "windows":
		out.Path = Path{Any: Tasks + name}
	case name == Crontab:
		out.Path = Path{Any: "~"}
	case system == "macos" || strings.HasPrefix(name, "/"):
		out.Path = Path{Any: name}
	case own:
		out.Path = Path{Any: ownUnits + rest}
	default:
		out.Path = Path{Any: units + name}
	}
	return &out
}
