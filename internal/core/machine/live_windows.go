package machine

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/windows/registry"
)

// hardwareID is the id that Windows gives an installed system.
func hardwareID() (string, error) {
	k, err := registry.OpenKey(registry.LOCAL_MACHINE, `SOFTWARE\Microsoft\Cryptography`, registry.QUERY_VALUE|registry.WOW64_64KEY)
	if err != nil {
		return os.Hostname()
	}
	defer k.Close()
	id, _, err := k.GetStringValue("MachineGuid")
	if err != nil || id == "" {
		return os.Hostname()
	}
	return id, nil
}

func liveUsers() []User {
	users := windowsProfiles(filepath.Join(systemDrive(), "Users"))
	home, err := os.UserHomeDir()
	if err != nil {
		return users
	}
	for _, u := range users {
		if isMe(&u) {
			return users
		}
	}
	return append(users, User{Name: filepath.Base(home), Home: home})
}

func systemDrive() string {
	if d := os.Getenv("SystemDrive"); d != "" {
		return d + `\`
	}
	return `C:\`
}
