package volume

import (
	"os"
	"slices"
	"strings"
)

// remoteTypes lists network file systems.
var remoteTypes = []string{"nfs", "cifs", "smb", "fuse.sshfs", "9p", "afs", "ceph", "davfs", "ncpfs"}

// Mounts returns the mounted file systems without accessing them (proc_pid_mountinfo(5)).
func Mounts() []Mount {
	data, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	var out []Mount
	for line := range strings.Lines(string(data)) {
		before, after, ok := strings.Cut(line, " - ")
		f := strings.Fields(before)
		if !ok || len(f) < 5 {
			continue
		}
		m := Mount{Path: Octal.Replace(f[4])}
		kind, _, _ := strings.Cut(after, " ")
		m.Remote = slices.ContainsFunc(remoteTypes, func(t string) bool { return strings.HasPrefix(kind, t) })
		m.Foreign = m.Remote || strings.HasPrefix(m.Path, "/media/") || strings.HasPrefix(m.Path, "/mnt/") || slices.Contains([]string{"proc", "sysfs", "tmpfs", "devtmpfs", "squashfs", "vfat", "exfat", "iso9660", "udf", "autofs"}, kind)
		out = append(out, m)
	}
	return out
}
