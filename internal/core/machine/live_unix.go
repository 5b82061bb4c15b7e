//go:build unix

package machine

import (
	"os"
	"os/user"
	"path/filepath"
	"strings"
)

// hardwareID is the id that systemd gives an installed system (machine-id(5)).
func hardwareID() (string, error) {
	for _, f := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
		if id := firstLine(f); id != "" {
			return id, nil
		}
	}
	return os.Hostname()
}

func liveUsers() []User {
	users := passwdUsers("/etc/passwd", func(home string) string { return home })
	home, err := os.UserHomeDir()
	if err != nil {
		return users
	}
	for _, u := range users {
		if filepath.Clean(u.Home) == filepath.Clean(home) {
			return users
		}
	}
	// The user who runs this works in a home of their own ($HOME).
	name := filepath.Base(home)
	if me, err := user.Current(); err == nil && !strings.EqualFold(me.Username, "root") {
		name = me.Username
	}
	return append(users, User{Name: name, Home: home})
}

func systemDrive() string { return "/" }
