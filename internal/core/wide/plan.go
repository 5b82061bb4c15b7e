package wide

import (
	"path/filepath"
	"slices"
	"strings"

	"movekit/internal/core/machine"
	"movekit/internal/core/volume"
)

// plan says where to search on a computer, and who owns which folders.
type plan struct {
	roots    []string
	bases    map[string]bool // folders that contain application folders
	hidden   map[string]bool // home folders, whose hidden folders belong to applications
	top      bool            // on Windows: other folders in the root of a drive belong to applications
	left     []string        // drives that are not searched
	programs []string        // folders of installed programs: keys and licence texts in them belong to the programs
	skip     map[string]string
	users    []machine.User
}

// Reasons to skip folders.
const (
	theSystems = "the system's own folders"
	byName     = "caches, temporary folders and logs, by their names"
	elsewhere  = "network and removable file systems"
)

// passNames lists names of folders whose content need not be kept.
var passNames = set("cache caches .cache gpucache shadercache grshadercache cachestorage cache_data temp tmp .tmp logs crashpad crashdumps thumbnails .thumbnails __pycache__ node_modules .git .npm .trash trash $recycle.bin lost+found")

// spacedPass lists such names with spaces.
var spacedPass = map[string]bool{"code cache": true, "package cache": true, "temporary internet files": true, "service worker": true}

// plan returns the plan for the computer.
func (s *Search) plan() *plan {
	p := &plan{bases: map[string]bool{}, hidden: map[string]bool{}, skip: map[string]string{}, users: s.Computer.Users()}
	root := s.Computer.Root()
	if root == "" {
		root = volume.SystemDrive()
	}
	p.roots = []string{root}
	own, others := machine.Volumes(s.Computer)
	p.roots, p.left = append(p.roots, own...), others
	at := func(term string) string {
		path, err := s.Computer.Locate(term, nil)
		if err != nil {
			return ""
		}
		return path
	}
	switch s.Computer.System() {
	case machine.Windows:
		p.windows(s, root, at)
	case machine.MacOS:
		p.macos(s, at)
	default:
		p.linux(s, at)
	}
	for _, m := range volume.Mounts() {
		if s.Computer.Root() == "" && m.Path != root && m.Foreign {
			p.skip[m.Path] = elsewhere
		}
	}
	return p
}

func (p *plan) windows(s *Search, root string, at func(string) string) {
	p.top = true
	p.bases[at(`%PROGRAMDATA%`)] = true
	p.programs = []string{at(`%PROGRAMFILES%`), at(`%PROGRAMFILES(X86)%`)}
	for _, u := range p.users {
		for _, term := range []string{`%APPDATA%`, `%LOCALAPPDATA%`, `%USERPROFILE%\AppData\LocalLow`} {
			if path, err := s.Computer.Locate(term, &u); err == nil {
				p.bases[path] = true
				p.skip[filepath.Join(path, "Microsoft", "Windows")] = theSystems
				p.skip[filepath.Join(path, "Packages")] = theSystems
			}
		}
	}
	for _, name := range []string{"Windows", "$Recycle.Bin", "System Volume Information", "Recovery", "PerfLogs", "Boot", "$WinREAgent", "Documents and Settings", `ProgramData\Microsoft\Windows`, `ProgramData\Microsoft\Windows Defender`, `ProgramData\Microsoft\Crypto`, `ProgramData\Microsoft\Search`, `ProgramData\Microsoft\Diagnosis`, `ProgramData\Microsoft\EdgeUpdate`} {
		p.skip[at(`C:\`+name)] = theSystems
	}
}

// linuxSystem lists folders of a Linux system without application data.
var linuxSystem = strings.Fields(`/proc /sys /dev /run /boot /bin /sbin /lib /lib32 /lib64 /libx32 /etc /snap /var/cache /var/log /var/tmp /var/run /var/lock /var/backups /tmp
	/usr/local/bin /usr/local/sbin /usr/local/lib /usr/local/share /usr/local/include /usr/local/etc /usr/local/src /usr/local/games /usr/local/man /usr/bin /usr/sbin /usr/lib /usr/lib32 /usr/lib64 /usr/libexec /usr/share /usr/include /usr/src /usr/games
	/var/lib/apt /var/lib/dpkg /var/lib/systemd /var/lib/ucf /var/lib/pam /var/lib/polkit-1 /var/lib/dbus /var/lib/NetworkManager /var/lib/man-db /var/lib/misc /var/lib/private
	/var/lib/python /var/lib/initramfs-tools /var/lib/ca-certificates /var/lib/update-notifier /var/lib/command-not-found /var/lib/fwupd /var/lib/PackageKit /var/lib/snapd /var/lib/aspell /var/lib/ispell
	/var/lib/dictionaries-common /var/lib/emacsen-common /var/lib/xml-core /var/lib/sgml-base /var/lib/alternatives /var/lib/usbutils /var/lib/plymouth /var/lib/swcatalog /var/lib/AccountsService`)

func (p *plan) linux(s *Search, at func(string) string) {
	for _, name := range linuxSystem {
		p.skip[at(name)] = theSystems
	}
	for _, name := range []string{"/srv", "/opt", "/var/lib", "/var/opt", "/var/www", "/data"} {
		p.bases[at(name)] = true
	}
	p.programs = []string{at("/opt"), at("/usr/local")}
	for _, u := range p.users {
		p.hidden[u.Home] = true
		for _, term := range []string{"$XDG_CONFIG_HOME", "$XDG_DATA_HOME", "$XDG_STATE_HOME"} {
			if path, err := s.Computer.Locate(term, &u); err == nil {
				p.bases[path] = true
			}
		}
	}
}

// macSystem lists folders of a Mac without application data, and macOwn those in each user's
// Library that belong to the system or can be recreated.
var (
	macSystem = strings.Fields("/System /bin /sbin /usr /etc /var /tmp /private /dev /cores /Volumes /Network /opt/homebrew /.Spotlight-V100 /.fseventsd /.DocumentRevisions-V100")
	macOwn    = []string{"Caches", "Logs", "Keychains", "Metadata", "Developer", "Saved Application State", "HTTPStorages", "WebKit", "Trial", "Biome", "Assistant", "Suggestions", "Spelling", "Fonts", "Sounds", "LaunchAgents"}
)

func (p *plan) macos(s *Search, at func(string) string) {
	for _, name := range macSystem {
		p.skip[at(name)] = theSystems
	}
	library := []string{at("/Library")}
	for _, u := range p.users {
		p.hidden[u.Home] = true
		if path, err := s.Computer.Locate("~/Library", &u); err == nil {
			library = append(library, path)
		}
	}
	for _, l := range library {
		for _, name := range []string{"Application Support", "Containers", "Group Containers"} {
			p.bases[filepath.Join(l, name)] = true
		}
		for _, name := range macOwn {
			p.skip[filepath.Join(l, name)] = theSystems
		}
		p.skip[filepath.Join(l, "Application Support", "com.apple.TCC")] = theSystems
	}
	p.bases[at("/Users/Shared")] = true
	p.programs = []string{at("/Applications")}
	p.skip[at("/Applications")] = "programs"
}

// passes returns why a folder is skipped, or "".
func (p *plan) passes(path, name string) string {
	if why := p.skip[path]; why != "" {
		return why
	}
	if Needless(name) {
		return byName
	}
	return ""
}

// application reports whether a folder in dir belongs to an application.
func (p *plan) application(dir, name string) bool {
	switch {
	case p.bases[dir]:
		return true
	case p.hidden[dir]:
		return strings.HasPrefix(name, ".") && name != ".local" && name != ".config"
	}
	return p.top && slices.Contains(p.roots, dir) && !strings.EqualFold(name, "Users") && !strings.EqualFold(name, "ProgramData") && !strings.HasPrefix(strings.ToLower(name), "program files")
}

// program reports whether a file is in a folder of installed programs.
func (p *plan) program(path string) bool {
	for _, dir := range p.programs {
		if dir != "" && strings.HasPrefix(path, dir+string(filepath.Separator)) {
			return true
		}
	}
	return false
}

// userOf returns the name of the user whose profile contains a path, or "".
func (p *plan) userOf(path string) string {
	for _, u := range p.users {
		if path == u.Home || strings.HasPrefix(path, u.Home+string(filepath.Separator)) {
			return u.Name
		}
	}
	return ""
}
