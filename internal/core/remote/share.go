package remote

import (
	"context"
	"crypto/subtle"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"movekit/internal/core/fault"
)

// Share offers a kit to one other computer at a time.
type Share struct {
	Dir        string // the kit's folder; nothing outside of it can be reached
	KitID      string
	Passphrase string
	Code       string                           // "" for none
	Lock       func() (release func(), e error) // takes the kit while another computer uses it
	Notify     func(what string)                // tells what happens; it is called by several goroutines
}

// quiet is how long a connection may be silent. Both sides send something more often.
const quiet = 30 * time.Second

// handshakeTime limits the time until the other computer has signed in.
const handshakeTime = 20 * time.Second

// Serve accepts connections until the context ends.
func (s *Share) Serve(ctx context.Context, l net.Listener) error {
	keys, err := keysOf(s.Passphrase, s.Code, s.KitID)
	if err != nil {
		return err
	}
	host, err := ssh.NewSignerFromKey(keys.server)
	if err != nil {
		return fault.Wrap(fault.Internal, err, "the share's key cannot be used")
	}
	other, err := ssh.NewPublicKey(keys.client.Public())
	if err != nil {
		return fault.Wrap(fault.Internal, err, "the share's key cannot be used")
	}
	config := &ssh.ServerConfig{ServerVersion: ident + s.KitID, MaxAuthTries: 3, PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if subtle.ConstantTimeCompare(key.Marshal(), other.Marshal()) != 1 {
			return nil, errors.New("another passphrase")
		}
		return nil, nil
	}}
	if s.Code != "" {
		config.ServerVersion += withCode
	}
	config.AddHostKey(host)
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	var open sync.WaitGroup
	defer open.Wait()
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "the share cannot be reached any more")
		}
		open.Go(func() { s.one(ctx, conn, config) })
	}
}

// one serves one connection.
func (s *Share) one(ctx context.Context, plain net.Conn, config *ssh.ServerConfig) {
	defer plain.Close()
	stop := context.AfterFunc(ctx, func() { plain.Close() })
	defer stop()
	from, _, _ := net.SplitHostPort(plain.RemoteAddr().String())
	plain.SetDeadline(time.Now().Add(handshakeTime)) //nolint:errcheck // then the handshake fails
	conn, channels, requests, err := ssh.NewServerConn(&alive{Conn: plain}, config)
	if err != nil {
		if !errors.Is(err, io.EOF) { // it only read the identification
			s.Notify("refused " + from + ", which does not know the passphrase")
		}
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests) // each is answered, so that both sides see that the other is there
	release, err := s.Lock()
	if err != nil {
		s.Notify("refused " + from + ": " + err.Error())
		for c := range channels {
			c.Reject(ssh.ResourceShortage, err.Error()) //nolint:errcheck // the connection ends
			return
		}
		return
	}
	defer release()
	s.Notify(from + " is connected")
	defer s.Notify(from + " is no longer connected")
	root, err := os.OpenRoot(s.Dir)
	if err != nil {
		s.Notify("the kit cannot be opened: " + err.Error())
		return
	}
	defer root.Close()
	var sessions sync.WaitGroup
	defer sessions.Wait() // the kit is released when nothing writes any more
	for c := range channels {
		if c.ChannelType() != "session" {
			c.Reject(ssh.UnknownChannelType, "only sftp") //nolint:errcheck // likewise
			continue
		}
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(r.Type == "subsystem" && len(r.Payload) == 8 && string(r.Payload[4:]) == "sftp", nil) //nolint:errcheck // likewise
			}
		}()
		sessions.Go(func() {
			f := files{root}
			sftp.NewRequestServer(channel, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f}).Serve() //nolint:errcheck // the other side has ended it
			channel.Close()
		})
	}
}

// alive is a connection that ends if it is silent for too long.
type alive struct{ net.Conn }

func (c *alive) Read(p []byte) (int, error) {
	c.SetReadDeadline(time.Now().Add(quiet)) //nolint:errcheck // the read fails then
	return c.Conn.Read(p)
}

func (c *alive) Write(p []byte) (int, error) {
	c.SetWriteDeadline(time.Now().Add(quiet)) //nolint:errcheck // the write fails then
	return c.Conn.Write(p)
}

// files answers requests within one folder. Links are neither followed out of it nor created.
type files struct{ root *os.Root }

func name(p string) string {
	if p = strings.TrimPrefix(path.Clean("/"+p), "/"); p == "" {
		return "."
	}
	return p
}

// Fileread opens a file for reading.
func (f files) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	return f.root.Open(name(r.Filepath))
}

// Filewrite opens a file for writing. It is flushed when it is closed.
func (f files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags := os.O_CREATE | os.O_WRONLY
	if r.Pflags().Trunc {
		flags |= os.O_TRUNC
	}
	out, err := f.root.OpenFile(name(r.Filepath), flags, 0o600)
	if err != nil {
		return nil, err
	}
	return flushed{out}, nil
}

type flushed struct{ *os.File }

// Close flushes the file first.
func (f flushed) Close() error { return errors.Join(f.Sync(), f.File.Close()) }

// Filecmd renames, removes and creates.
func (f files) Filecmd(r *sftp.Request) error {
	at := name(r.Filepath)
	switch r.Method {
	case "Rename", "PosixRename":
		return f.root.Rename(at, name(r.Target))
	case "Remove":
		return f.root.Remove(at)
	case "Rmdir":
		return f.root.Remove(at)
	case "Mkdir":
		return f.root.Mkdir(at, 0o755)
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename renames, also over an existing file.
func (f files) PosixRename(r *sftp.Request) error {
	return f.root.Rename(name(r.Filepath), name(r.Target))
}

// Filelist lists a folder, or describes a file.
func (f files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	at := name(r.Filepath)
	switch r.Method {
	case "List":
		d, err := f.root.Open(at)
		if err != nil {
			return nil, err
		}
		defer d.Close()
		all, err := d.Readdir(-1)
		return listed(all), err
	case "Stat", "Lstat":
		info, err := f.root.Lstat(at)
		return listed{info}, err
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

type listed []fs.FileInfo

// ListAt copies the entries from an offset.
func (l listed) ListAt(to []fs.FileInfo, from int64) (int, error) {
	if from >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(to, l[from:])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}
