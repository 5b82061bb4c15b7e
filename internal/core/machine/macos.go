package machine

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"howett.net/plist"

	"movekit/internal/core/filemeta"
)

// macUsers returns the people of a Mac: the folders in /Users, except shared ones.
func macUsers(folders string) []User {
	var out []User
	for _, u := range homeFolders(folders) {
		if u.Name != "Shared" && u.Name != "Guest" && !strings.HasPrefix(u.Name, ".") {
			u.Account = u.Name
			out = append(out, u)
		}
	}
	return out
}

// The users and groups that every Mac has.
const (
	macStaff = 20
	macAdmin = 80
)

// macAccounts returns the people of a Mac, from the owners of their folders. The system's own
// account directory cannot be read.
func macAccounts(folders string) *Accounts {
	a := accountsOf("", "")
	a.groups[0], a.gids["wheel"] = "wheel", 0
	a.add(a.groups, a.gids, macStaff, "staff")
	a.add(a.groups, a.gids, macAdmin, "admin")
	for _, u := range macUsers(folders) {
		if o, ok := filemeta.OwnerOf(u.Home); ok && o.UID != 0 {
			a.add(a.users, a.uids, o.UID, u.Name)
			a.primary[o.UID] = macStaff
		}
	}
	return a
}

// hardwareUUID matches the hardware id in the names of files that are valid for one computer only:
// NAME.UUID.plist in ByHost.
var hardwareUUID = regexp.MustCompile(`\.([0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12})\.plist$`)

// identifyMac reads a Mac's name from the system configuration on its disk, and its hardware id
// from the most frequent id in ByHost file names.
func (d *disk) identifyMac() (name, hardware string) {
	var conf struct {
		System struct {
			System struct {
				ComputerName string
				HostName     string
			}
		}
	}
	if data, err := os.ReadFile(d.join("Library/Preferences/SystemConfiguration/preferences.plist")); err == nil {
		_, _ = plist.Unmarshal(data, &conf)
	}
	count := map[string]int{}
	for _, dir := range append([]string{d.root}, d.homes()...) {
		files, _ := filepath.Glob(filepath.Join(dir, "Library/Preferences/ByHost/*.plist"))
		for _, f := range files {
			if m := hardwareUUID.FindStringSubmatch(f); m != nil {
				id := strings.ToUpper(m[1])
				if count[id]++; count[id] > count[hardware] || count[id] == count[hardware] && id < hardware {
					hardware = id
				}
			}
		}
	}
	return conf.System.System.ComputerName, hardware
}

func (d *disk) homes() (out []string) {
	for _, u := range macUsers(d.join("Users")) {
		out = append(out, u.Home)
	}
	return out
}
