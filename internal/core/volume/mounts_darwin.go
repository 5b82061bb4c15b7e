package volume

import (
	"strings"

	"golang.org/x/sys/unix"
)

// Mounts returns the mounted file systems without accessing them (getfsstat(2)).
func Mounts() []Mount {
	n, err := unix.Getfsstat(nil, unix.MNT_NOWAIT)
	if err != nil || n == 0 {
		return nil
	}
	all := make([]unix.Statfs_t, n)
	if n, err = unix.Getfsstat(all, unix.MNT_NOWAIT); err != nil {
		return nil
	}
	var out []Mount
	for _, st := range all[:min(n, len(all))] {
		m := Mount{Path: unix.ByteSliceToString(st.Mntonname[:]), Remote: st.Flags&unix.MNT_LOCAL == 0}
		m.Foreign = m.Remote || strings.HasPrefix(m.Path, "/Volumes/") || m.Path == "/dev" || strings.HasPrefix(m.Path, "/System/Volumes/") && m.Path != "/System/Volumes/Data"
		out = append(out, m)
	}
	return out
}
