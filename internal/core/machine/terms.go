package machine

import (
	"path/filepath"
	"slices"
	"strings"
)

// DisplayPath returns a real path in the computer's own terms: C:\... on Windows, /... elsewhere,
// without the folder that has its disk.
func DisplayPath(c Computer, real string) string {
	if c.Root() == "" {
		return real
	}
	if path, is := c.OnDrive(real); is {
		return path
	}
	rel, is := under(c.Root(), real)
	if !is {
		return real
	}
	if c.System() == Windows {
		return `C:\` + strings.ReplaceAll(rel, "/", `\`)
	}
	return "/" + rel
}

// under returns the path relative to folder, with / between folders; "" is the folder itself.
func under(folder, path string) (rel string, is bool) {
	rel, err := filepath.Rel(folder, path)
	if err != nil || !filepath.IsLocal(rel) {
		return "", false
	}
	if rel == "." {
		return "", true
	}
	return filepath.ToSlash(rel), true
}

// Real is the inverse of DisplayPath. Anything that is not a path, such as an address, is returned
// as it is. The result is on the computer's own disk, wherever links lead.
func Real(c Computer, spoken string) (string, error) {
	drive := len(spoken) > 1 && spoken[1] == ':'
	if c.Root() == "" || !strings.HasPrefix(spoken, "/") && !drive {
		return spoken, nil
	}
	return c.Own(spoken)
}

// canonical lists the preferred terms among those with the same meaning.
var canonical = map[System][]string{
	Windows: {"%APPDATA%", "%LOCALAPPDATA%", "%USERPROFILE%", "%PROGRAMDATA%", "%PROGRAMFILES(X86)%", "%PROGRAMFILES%", "%PUBLIC%", "%WINDIR%"},
	Linux:   {"$XDG_CONFIG_HOME", "$XDG_DATA_HOME", "$XDG_STATE_HOME", "$XDG_CACHE_HOME", "~"},
	MacOS:   {"~"},
}

// redirected are the folders in which Windows redirects the writes of programs without administrator rights ("User Account
// Control" in the Windows documentation, section on virtualization).
var redirected = []string{"%PROGRAMFILES%", "%PROGRAMFILES(X86)%", "%PROGRAMDATA%", "%WINDIR%"}

// VirtualStore returns the folder or file of a user that Windows shows to an old program instead of a real path, or "" if
// there can be none. What the program "wrote" there is only in the user's profile.
func VirtualStore(c Computer, real string, user *User) (string, error) {
	if c.System() != Windows || user == nil {
		return "", nil
	}
	for _, term := range redirected {
		at, err := c.Locate(term, nil)
		if err != nil {
			return "", err
		}
		if rest, is := under(at, real); is && rest != "" {
			_, spoken, _ := strings.Cut(DisplayPath(c, real), `:\`)
			return c.Locate(`%LOCALAPPDATA%\VirtualStore\`+spoken, user)
		}
	}
	return "", nil
}

// VirtualKey returns the registry key of a user that Windows shows to an old program instead of a key below HKLM\SOFTWARE,
// or "" for another key.
func VirtualKey(key string) string {
	rest, is := cutFold(key, `HKLM\SOFTWARE`)
	if !is || rest == "" {
		return ""
	}
	return `HKCU\Software\Classes\VirtualStore\MACHINE\SOFTWARE\` + rest
}

// Term returns a real path in the terms of cards (%APPDATA%\X), and its owner if it is in a user's
// profile. It is the inverse of Locate.
func Term(c Computer, real string) (path string, owner *User) {
	path = DisplayPath(c, real)
	separator := c.System().Separator()
	longest := 0
	for _, name := range canonical[c.System()] {
		for _, u := range Profiles(c, name) {
			at, err := c.Locate(name, u)
			rel, is := under(at, real)
			if err != nil || len(at) <= longest || !is {
				continue
			}
			longest, owner, path = len(at), u, name
			if rel != "" {
				path += separator + strings.ReplaceAll(rel, "/", separator)
			}
		}
	}
	return path, owner
}

// Counterpart returns the user of a computer who is probably the person called name on another one:
// the same name, or the same account with another domain or number. It returns nil if there is
// none, or several.
func Counterpart(c Computer, name string) *User {
	if u := FindUser(c, name); u != nil {
		return u
	}
	users := slices.DeleteFunc(slices.Clone(c.Users()), func(u User) bool { return !strings.EqualFold(u.Account, account(name)) })
	if len(users) != 1 {
		return nil
	}
	return &users[0]
}

// Inside reports whether path is the folder outer or is inside it. Links are followed. Neither need
// exist.
func Inside(path, outer string) bool {
	path, err := resolved(path)
	outer, oerr := resolved(outer)
	return err == nil && oerr == nil && within(path, outer)
}

// resolved returns the absolute path with links followed as far as it exists.
func resolved(path string) (string, error) {
	path, err := filepath.Abs(path)
	for at := path; err == nil; at = filepath.Dir(at) {
		if real, err := filepath.EvalSymlinks(at); err == nil {
			return filepath.Join(real, path[len(at):]), nil
		}
		if filepath.Dir(at) == at {
			break
		}
	}
	return path, err
}
