package machine

import (
	"os"
	"strconv"
	"strings"
)

// Accounts are the users and groups that own files on a computer, from passwd(5) and group(5). A
// number without a name is written with # before it.
type Accounts struct {
	users, groups map[int]string
	uids, gids    map[string]int
	primary       map[int]int // primary group, by user
}

// accountsOf reads the accounts of a system. A missing file has none.
func accountsOf(passwd, group string) *Accounts {
	a := &Accounts{map[int]string{}, map[int]string{}, map[string]int{}, map[string]int{}, map[int]int{}}
	each(passwd, func(f []string) {
		id, err := strconv.Atoi(f[2])
		if err != nil {
			return
		}
		a.add(a.users, a.uids, id, f[0])
		if gid, err := strconv.Atoi(f[3]); err == nil {
			a.primary[id] = gid
		}
	})
	each(group, func(f []string) {
		if id, err := strconv.Atoi(f[2]); err == nil {
			a.add(a.groups, a.gids, id, f[0])
		}
	})
	a.add(a.users, a.uids, 0, "root") // the default
	a.add(a.groups, a.gids, 0, "root")
	return a
}

// each parses the lines of an account file.
func each(file string, take func([]string)) {
	data, err := os.ReadFile(file)
	if err != nil {
		return
	}
	for line := range strings.Lines(string(data)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); len(f) > 3 && f[0] != "" {
			take(f)
		}
	}
}

// add adds a name. If a number has several names, the first one counts, as on the system.
func (*Accounts) add(names map[int]string, ids map[string]int, id int, name string) {
	if names[id] == "" {
		names[id] = name
	}
	if _, known := ids[name]; !known {
		ids[name] = id
	}
}

// User returns the name of a user.
func (a *Accounts) User(uid int) string { return nameOf(a.users, uid) }

// Group returns the name of a group.
func (a *Accounts) Group(gid int) string { return nameOf(a.groups, gid) }

func nameOf(names map[int]string, id int) string {
	if n := names[id]; n != "" {
		return n
	}
	return "#" + strconv.Itoa(id)
}

// UID returns the number of a user, and whether the user exists.
func (a *Accounts) UID(name string) (int, bool) { return idOf(a.uids, name) }

// GID returns the number of a group, and whether the group exists.
func (a *Accounts) GID(name string) (int, bool) { return idOf(a.gids, name) }

func idOf(ids map[string]int, name string) (int, bool) {
	if number, ok := strings.CutPrefix(name, "#"); ok {
		id, err := strconv.ParseUint(number, 10, 32)
		return int(id), err == nil && id < 1<<32-1 // the largest number means no user (chown(2))
	}
	id, ok := ids[name]
	return id, ok
}

// PrimaryOf returns the primary group of a user.
func (a *Accounts) PrimaryOf(uid int) (gid int, known bool) {
	gid, known = a.primary[uid]
	return gid, known
}
