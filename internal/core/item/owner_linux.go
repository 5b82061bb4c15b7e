package item

import (
	"os"
	"syscall"

	"movekit/internal/core/machine"
	"movekit/internal/core/tree"
)

// OwnerOf says to whom files of a user's profile are given: to the owner of
// the profile folder, where this program may do so.
func OwnerOf(u *machine.User) *tree.Owner {
	if u == nil || os.Geteuid() != 0 {
		return nil
	}
	info, err := os.Stat(u.Home)
	if err != nil {
		return nil
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	return &tree.Owner{UID: int(st.Uid), GID: int(st.Gid)}
}
