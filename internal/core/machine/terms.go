package machine

import (
	"path/filepath"
	"slices"
	"strings"
)

// Spoken returns a real path as the computer itself would write it: C:\... for
// a Windows computer, /... for another, without the folder that its disk is
// in.
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

// under is the path of what lies in a folder, with / between folders; "" is the folder itself.
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

// Real is the way back from Spoken. What is no path of the computer, but an
// address, is its own. The path lies on the computer's own disk, wherever links
// lead.
func Real(c Computer, spoken string) (string, error) {
	drive := len(spoken) > 1 && spoken[1] == ':'
	if c.Root() == "" || !strings.HasPrefix(spoken, "/") && !drive {
		return spoken, nil
	}
	return c.Own(spoken)
}

// canonical are the terms that a path is written with, of several that mean
// the same.
var canonical = map[System][]string{
	Windows: {"%APPDATA%", "%LOCALAPPDATA%", "%USERPROFILE%", "%PROGRAMDATA%", "%PROGRAMFILES(X86)%", "%PROGRAMFILES%", "%PUBLIC%", "%WINDIR%"},
	Linux:   {"$XDG_CONFIG_HOME", "$XDG_DATA_HOME", "$XDG_STATE_HOME", "$XDG_CACHE_HOME", "~"},
	MacOS:   {"~"},
}

// Term returns a real path in the terms of cards (%APPDATA%\X), and whose it is
// where it lies in a user's profile: the way back from Locate.
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

// Counterpart returns the user of a computer who is most likely the person who
// was called name on another: the same name, or the same account with another
// domain or number behind it. Nobody, or several, gives nil.
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

// Inside reports whether a path is a folder or lies in it, links followed. Neither need
// exist.
func Inside(path, outer string) bool {
	path, err := resolved(path)
	outer, oerr := resolved(outer)
	return err == nil && oerr == nil && within(path, outer)
}

// resolved is the absolute path, with links followed as far as it exists.
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
