package cli

import (
	"cmp"
	"context"
	"encoding/base64"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/sethvargo/go-diceware/diceware"
	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/passphrase"
	"movekit/internal/core/remote"
	"movekit/internal/core/run"
	"movekit/internal/table"
)

func (e *env) shareCommand() *cobra.Command {
	var listen string
	c := &cobra.Command{
		Use:   "share",
		Short: "Let the other computer use this kit over the network, without a stick",
		Long: `Make the kit available to the other computer as long as this command runs. It prints what to
type there. The connection is encrypted, and both sides prove that they know the kit's
passphrase; nobody else can read or change anything. For a passphrase that you chose
yourself, a code of four words is shown, which the other computer asks for.

In the same network, the guide on the other computer proposes the address by itself.

Only the kit's folder can be reached. While the other computer is connected, the kit
cannot be used here. Press Ctrl-C to stop.`,
		Example: "  movekit share --kit kit\n  movekit run --kit sftp://192.0.2.5:40022/    (on the other computer)",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			k, err := e.openKit()
			if err != nil {
				return err
			}
			pass := ""
			if err := e.unlock(e.passphraseFile, func(p string) error { pass = p; return k.Unlock(p) }); err != nil {
				return err
			}
			code := ""
			if !passphrase.LooksMade(pass) {
				words, err := diceware.Generate(4)
				if err != nil {
					return fault.Wrap(fault.Internal, err, "cannot make a code")
				}
				code = strings.Join(words, "-")
			}
			l, err := listener(listen)
			if err != nil {
				return fault.Wrap(fault.Usage, err, "cannot listen on %s", listen)
			}
			_, port, _ := net.SplitHostPort(l.Addr().String())
			e.printf("The kit is shared. On the other computer, type:\n")
			hosts := addresses()
			if host, _, _ := net.SplitHostPort(listen); host != "" {
				hosts = []string{host}
			}
			for _, host := range hosts {
				e.printf("  movekit run --kit %s%s/\n", remote.Scheme, net.JoinHostPort(host, port))
			}
			if code != "" {
				e.printf("It asks for this code:\n  %s\n", code)
			}
			e.printf("Press Ctrl-C when the other computer has finished.\n")
			var ips []net.IP
			for _, host := range hosts {
				if ip := net.ParseIP(host); ip != nil {
					ips = append(ips, ip)
				}
			}
			if at, err := strconv.Atoi(port); err == nil && len(ips) > 0 {
				defer announce(at, k.Manifest.ID, k.Manifest.Old.Name, ips)()
			}
			s := &remote.Share{Dir: k.Dir, KitID: k.Manifest.ID, Passphrase: pass, Code: code, Notify: func(what string) { table.Fprintf(e.err, "%s\n", what) },
				Lock: func() (func(), error) {
					held, err := kit.Open(k.Dir)
					if err == nil {
						err = held.Lock()
					}
					return func() { held.Close() }, err
				}}
			return s.Serve(cmd.Context(), l)
		},
	}
	c.Flags().StringVar(&listen, "listen", ":"+remote.Port, "`ADDRESS` and port to listen on")
	return c
}

// listener listens on an address. If its usual port is in use, it takes another one.
func listener(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil && address == ":"+remote.Port {
		return net.Listen("tcp", ":0")
	}
	return l, err
}

// addresses returns this computer's addresses in its networks, or its own name.
func addresses() (out []string) {
	all, _ := net.InterfaceAddrs()
	for _, a := range all {
		if n, is := a.(*net.IPNet); is && n.IP.To4() != nil && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	if len(out) == 0 {
		name, _ := os.Hostname()
		out = []string{cmp.Or(name, "localhost")}
	}
	return out
}

// mirrorOf connects to a remote kit once, and returns the folder with its copy.
func (e *env) mirrorOf(address string) (string, error) {
	if e.mirror != nil {
		return e.mirror.Dir, nil
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fault.Wrap(fault.Unreadable, err, "there is no folder for the copy of the kit")
	}
	sum := digest.Of([]byte(address))
	dir := filepath.Join(cache, "movekit", "network", base64.RawURLEncoding.EncodeToString(sum[:12]))
	login := remote.Login{Code: func() (string, error) { return e.secret("The code that share shows: ") }}
	if strings.Contains(strings.TrimPrefix(address, remote.Scheme), "@") {
		if login, err = sshLogin(); err != nil {
			return "", err
		}
	} else if err := e.unlock(e.passphraseFile, func(p string) error { login.Passphrase, e.passphrase = p, p; return nil }); err != nil {
		return "", err
	}
	e.mirror, err = remote.Open(e.ctx, address, dir, login, func(what string, total int64) func(int64) {
		e.notify(run.Event{What: what, Total: total})
		return func(n int64) { e.notify(run.Event{Bytes: n}) }
	})
	e.done()
	if err != nil {
		e.mirror = nil
		return "", err
	}
	return e.mirror.Dir, nil
}

// disconnect sends what is left to a remote kit.
func (e *env) disconnect() error {
	if e.mirror == nil {
		return nil
	}
	m := e.mirror
	e.mirror = nil
	return m.Close(context.WithoutCancel(e.ctx))
}

// sshLogin returns how this user signs in at SSH servers: known_hosts, the agent, and keys without a passphrase.
func sshLogin() (login remote.Login, err error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return login, fault.Wrap(fault.Unreadable, err, "there is no home folder with SSH keys")
	}
	if login.Host, err = knownhosts.New(filepath.Join(home, ".ssh", "known_hosts")); err != nil {
		return login, fault.Wrap(fault.Unreadable, err, "the known servers cannot be read. Connect once with ssh, and compare the server's key")
	}
	if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" {
		if conn, err := net.Dial("unix", socket); err == nil {
			login.Auth = append(login.Auth, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
		}
	}
	var own []ssh.Signer
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		if data, err := os.ReadFile(filepath.Join(home, ".ssh", name)); err == nil {
			if key, err := ssh.ParsePrivateKey(data); err == nil {
				own = append(own, key)
			}
		}
	}
	login.Auth = append(login.Auth, ssh.PublicKeys(own...))
	return login, nil
}
