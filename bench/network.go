package main

import (
	"fmt"

	"movekit/test/sshd"
)

// network copies the packed kit from an SSH server on the loopback interface: with the program,
// and with scp.
func (b *bench) network() error {
	server, err := sshd.Start(b.dir)
	if err != nil {
		return err
	}
	defer server.Stop()
	ours := fmt.Sprintf("HOME=%s XDG_CACHE_HOME=%s/cache SSH_AUTH_SOCK= %s --quiet --kit sftp://%s@127.0.0.1:%s%s/kit status && sync -f .", server.Home, b.dir, b.program, server.User, server.Port, b.dir)
	theirs := fmt.Sprintf("scp -q -r -P %s -i %s/.ssh/id_ed25519 -o UserKnownHostsFile=%s/.ssh/known_hosts %s@127.0.0.1:%s/kit their-kit && sync -f .", server.Port, server.Home, server.Home, server.User, b.dir)
	return b.compare("copy a kit by SFTP", "scp of the same kit, and sync", 1.11, false,
		side{func() error { return b.remove("cache") }, shell(ours)}, side{func() error { return b.remove("their-kit") }, shell(theirs)})
}
