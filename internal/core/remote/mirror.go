package remote

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
)

// Scheme starts the address of a remote kit.
const Scheme = "sftp://"

// Login are the answers that a connection needs.
type Login struct {
	Passphrase string
	Code       func() (string, error) // asks for the code of a share that has one
	// Host and Auth are for an SSH server that is not a share: how its key is checked, and how to sign in.
	Host ssh.HostKeyCallback
	Auth []ssh.AuthMethod
}

// Mirror is the copy of a remote kit on this computer.
type Mirror struct {
	Dir     string // the copy's folder
	Address string // of the kit, as the user typed it
	// Progress gets the bytes that are loaded or sent; total is set at the start.
	Progress func(what string, total int64) func(int64)

	folder string // the kit's folder on the server
	ssh    *ssh.Client
	files  *sftp.Client
	lock   string          // a lock file on a server that is not a share
	seen   map[string]both // what both sides had when they were last the same
}

// both is a file as it was on both sides when they were the same.
type both struct {
	There stamp `json:"there"`
	Here  stamp `json:"here"`
}

// stamp changes when a file does, as far as its folder shows.
type stamp struct {
	Size int64 `json:"size"`
	Time int64 `json:"time"` // nanoseconds here, seconds there
}

// Suffixes of files that are not complete.
const (
	loading = ".movekit-loading"
	sending = ".movekit-sending"
)

// lockName is the lock file on a server that is not a share.
const lockName = "movekit-remote.lock"

// Open connects to the kit at an address, sftp://HOST:PORT/ of a share or sftp://USER@HOST/FOLDER of another SSH server, and
// brings its copy in dir up to date.
func Open(ctx context.Context, address, dir string, login Login, progress func(what string, total int64) func(int64)) (*Mirror, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, fault.New(fault.Usage, "the address %q is not valid: sftp://HOST:PORT/ of a share, or sftp://USER@HOST/FOLDER", address)
	}
	m := &Mirror{Dir: filepath.Join(dir, "kit"), Progress: progress, Address: u.Host, folder: cmp.Or(u.Path, "/")}
	if err := os.MkdirAll(m.Dir, 0o700); err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot create the folder for the copy of the kit")
	}
	if u.User != nil {
		err = m.signIn(ctx, u, login)
	} else {
		err = m.join(ctx, u.Host, login)
	}
	if err == nil {
		m.files, err = sftp.NewClient(m.ssh, sftp.UseConcurrentReads(true), sftp.UseConcurrentWrites(true))
	}
	if err == nil && u.User != nil {
		err = m.take()
	}
	if err == nil {
		err = m.reconcile(ctx)
	}
	if err != nil {
		m.hangUp()
		return nil, m.failed(err)
	}
	return m, nil
}

// failed describes an error of the connection.
func (m *Mirror) failed(err error) error {
	var known *fault.Error
	if err == nil || errors.As(err, &known) {
		return err
	}
	return fault.Wrap(fault.Unconnected, err, "the connection to the kit at %s failed", m.Address)
}

// join connects to a share. The identification tells the kit's id, which is a salt of the keys.
func (m *Mirror) join(ctx context.Context, host string, login Login) error {
	if _, _, err := net.SplitHostPort(host); err != nil {
		host = net.JoinHostPort(host, Port)
	}
	said, err := identOf(ctx, host)
	if err != nil {
		return err
	}
	id, has := strings.CutSuffix(strings.TrimPrefix(said, ident), withCode)
	if !strings.HasPrefix(said, ident) {
		return fault.New(fault.Unconnected, "what answers at %s is not a share of Move Kit", host)
	}
	code := ""
	if has {
		if code, err = login.Code(); err != nil {
			return err
		}
	}
	keys, err := keysOf(login.Passphrase, code, id)
	if err != nil {
		return err
	}
	want, err := ssh.NewPublicKey(keys.server.Public())
	if err != nil {
		return err
	}
	own, err := ssh.NewSignerFromKey(keys.client)
	if err != nil {
		return err
	}
	wrong := false
	err = m.dial(ctx, host, &ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(own)}, HostKeyAlgorithms: []string{ssh.KeyAlgoED25519}, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if wrong = !bytes.Equal(key.Marshal(), want.Marshal()); wrong {
			return errors.New("it has another passphrase")
		}
		return nil
	}})
	if wrong {
		return fault.New(fault.WrongPassphrase, "the passphrase%s is not the one of the kit that is shared at %s, or something else answers there", map[bool]string{true: " or the code"}[has], host)
	}
	return err
}

// identOf returns the identification of an SSH server.
func identOf(ctx context.Context, host string) (string, error) {
	conn, err := (&net.Dialer{Timeout: handshakeTime}).DialContext(ctx, "tcp", host)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(handshakeTime)) //nolint:errcheck // the read fails then
	line, err := bufio.NewReader(io.LimitReader(conn, 512)).ReadString('\n')
	return strings.TrimSpace(line), err
}

// signIn connects to another SSH server.
func (m *Mirror) signIn(ctx context.Context, u *url.URL, login Login) error {
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "22")
	}
	return m.dial(ctx, host, &ssh.ClientConfig{User: u.User.Username(), Auth: login.Auth, HostKeyCallback: login.Host})
}

func (m *Mirror) dial(ctx context.Context, host string, config *ssh.ClientConfig) error {
	plain, err := (&net.Dialer{Timeout: handshakeTime}).DialContext(ctx, "tcp", host)
	if err != nil {
		return err
	}
	conn, channels, requests, err := ssh.NewClientConn(&alive{Conn: plain}, host, config)
	if err != nil {
		plain.Close()
		return err
	}
	m.ssh = ssh.NewClient(conn, channels, requests)
	go func() {
		for range time.Tick(quiet / 3) {
			if _, _, err := conn.SendRequest("keepalive@openssh.com", true, nil); err != nil {
				return
			}
		}
	}()
	return nil
}

// take creates the lock file on a server that is not a share.
func (m *Mirror) take() error {
	at := path.Join(m.folder, lockName)
	f, err := m.files.OpenFile(at, os.O_CREATE|os.O_EXCL|os.O_WRONLY)
	if err != nil {
		if _, serr := m.files.Stat(at); serr == nil {
			return fault.New(fault.Busy, "another run uses the kit at %s. If there is none, because it was cut off, remove %s there", m.Address, at)
		}
		return fault.Wrap(fault.NotAKit, err, "the kit's folder %s on %s cannot be written to", m.folder, m.Address)
	}
	m.lock = at
	return f.Close()
}

// record is the file with what both sides had.
func (m *Mirror) record() string { return filepath.Join(filepath.Dir(m.Dir), "seen.json") }

func (m *Mirror) load() {
	m.seen = map[string]both{}
	if data, err := os.ReadFile(m.record()); err == nil {
		json.Unmarshal(data, &m.seen) //nolint:errcheck // without it, everything is loaded again
	}
}

func (m *Mirror) save() error {
	data, err := json.Marshal(m.seen)
	if err != nil {
		return err
	}
	return journal.WriteFile(m.record(), data, 0o600)
}

// there lists the kit on the server.
func (m *Mirror) there() (map[string]stamp, error) {
	out := map[string]stamp{}
	walk := m.files.Walk(m.folder)
	for walk.Step() {
		if err := walk.Err(); err != nil {
			return nil, err
		}
		rel := strings.TrimPrefix(strings.TrimPrefix(walk.Path(), strings.TrimSuffix(m.folder, "/")), "/")
		if info := walk.Stat(); info.Mode().IsRegular() && ofKit(rel) {
			out[rel] = stamp{info.Size(), info.ModTime().Unix()}
		}
	}
	return out, nil
}

// here lists the copy.
func (m *Mirror) here() (map[string]stamp, error) {
	out := map[string]stamp{}
	err := filepath.WalkDir(m.Dir, func(at string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if rel, err := filepath.Rel(m.Dir, at); err == nil && ofKit(filepath.ToSlash(rel)) {
			out[filepath.ToSlash(rel)] = stamp{info.Size(), info.ModTime().UnixNano()}
		}
		return nil
	})
	return out, err
}

// ofKit reports whether a file belongs to the kit, and is complete.
func ofKit(rel string) bool {
	base := path.Base(rel)
	return fs.ValidPath(rel) && filepath.IsLocal(filepath.FromSlash(rel)) && base != lockName && base != kit.LockFile && !strings.HasSuffix(rel, loading) && !strings.HasSuffix(rel, sending) && !strings.HasSuffix(rel, journal.Unfinished)
}

// reconcile loads what the other computer changed, and sends what could not be sent before. The journals decide which side is
// ahead: one is the start of the other. If neither is, both sides went on without each other.
func (m *Mirror) reconcile(ctx context.Context) error {
	m.load()
	there, err := m.there()
	if err != nil {
		return err
	}
	here, err := m.here()
	if err != nil {
		return err
	}
	ours, err := os.ReadFile(filepath.Join(m.Dir, journal.File))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	theirs, err := m.read(journal.File)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	switch {
	case len(theirs) == 0 && len(ours) == 0:
		return fault.New(fault.NotAKit, "there is no kit in %s at %s", m.folder, m.Address)
	case len(ours) > len(theirs) && bytes.HasPrefix(ours, theirs):
		return m.Send(ctx) // an earlier run was cut off
	case !bytes.HasPrefix(theirs, ours):
		return fault.New(fault.Forged, "the kit at %s and its copy in %s went on without each other. Compare their journals with status, and remove the copy if the other one is right", m.Address, m.Dir)
	}
	return m.fetch(ctx, there, here)
}

func (m *Mirror) read(rel string) ([]byte, error) {
	f, err := m.files.Open(path.Join(m.folder, rel))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// order puts the journal and what describes the other files last, so that a cut leaves an older kit that is whole.
func order(names []string) {
	late := map[string]int{kit.ChecksumsFile: 1, journal.File: 2, journal.HeadFile: 3}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(late[a], late[b]), strings.Compare(a, b)) })
}

// fetch loads the files that changed on the server, and removes those that are gone there.
func (m *Mirror) fetch(ctx context.Context, there, here map[string]stamp) error {
	// Times on the server have seconds. A change within one is seen by the checksums, and small files are always loaded.
	theirs, err := m.read(kit.ChecksumsFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	ours, _ := os.ReadFile(filepath.Join(m.Dir, kit.ChecksumsFile))
	other := changed(theirs, ours)
	var names []string
	var total int64
	for rel, is := range there {
		if was, known := m.seen[rel]; !known || was.There != is || was.Here != here[rel] || is.Size <= small || other[rel] {
			names, total = append(names, rel), total+is.Size
		}
	}
	order(names)
	progress := m.Progress("loading the kit", total)
	for _, rel := range names {
		if err := ctx.Err(); err != nil {
			return fault.Wrap(fault.Stopped, err, "loading the kit was stopped")
		}
		if err := m.fetchOne(rel, there[rel], progress); err != nil {
			return err
		}
	}
	for rel := range here {
		if _, is := there[rel]; !is {
			if err := os.Remove(filepath.Join(m.Dir, filepath.FromSlash(rel))); err != nil {
				return err
			}
			delete(m.seen, rel)
		}
	}
	return m.save()
}

// small is the size of files that are always loaded, in bytes.
const small = 64 << 10

// changed returns the files whose checksums are in theirs and not in ours.
func changed(theirs, ours []byte) map[string]bool {
	known := map[string]bool{}
	for line := range strings.Lines(string(ours)) {
		known[line] = true
	}
	out := map[string]bool{}
	for line := range strings.Lines(string(theirs)) {
		if _, rel, is := strings.Cut(strings.TrimRight(line, "\n"), "  "); is && !known[line] {
			out[rel] = true
		}
	}
	return out
}

// fetchOne loads one file. A part that an earlier run loaded is kept: its name has the file's size and time.
func (m *Mirror) fetchOne(rel string, is stamp, progress func(int64)) error {
	to := filepath.Join(m.Dir, filepath.FromSlash(rel))
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	from, err := m.files.Open(path.Join(m.folder, rel))
	if err != nil {
		return err
	}
	defer from.Close()
	temp := to + "." + stampText(is) + loading
	f, err := os.OpenFile(temp, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	have, err := f.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = from.Seek(have, io.SeekStart)
	}
	if err == nil {
		progress(have)
		_, err = io.Copy(counted{f, progress}, from)
	}
	if err == nil {
		err = errors.Join(f.Sync(), f.Close())
	}
	if err == nil {
		err = os.Rename(temp, to)
	}
	if err != nil {
		return err
	}
	info, err := os.Stat(to)
	if err != nil {
		return err
	}
	if info.Size() != is.Size {
		return fault.New(fault.Changed, "%s changed on %s while it was loaded", rel, m.Address)
	}
	m.seen[rel] = both{is, stamp{info.Size(), info.ModTime().UnixNano()}}
	return nil
}

func stampText(s stamp) string {
	data, _ := json.Marshal([]int64{s.Size, s.Time})
	return strings.Trim(strings.ReplaceAll(string(data), ",", "-"), "[]")
}

type counted struct {
	io.Writer
	count func(int64)
}

func (c counted) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.count(int64(n))
	return n, err
}

// Send sends every change of the copy, the journal last. It returns when the server has flushed it.
func (m *Mirror) Send(ctx context.Context) error {
	here, err := m.here()
	if err != nil {
		return m.failed(err)
	}
	var names []string
	var total int64
	for rel, is := range here {
		if was, known := m.seen[rel]; !known || was.Here != is {
			names, total = append(names, rel), total+is.Size
		}
	}
	order(names)
	progress := func(int64) {}
	if total > 1<<20 {
		progress = m.Progress("sending to the kit", total)
	}
	for _, rel := range names {
		if err := m.sendOne(rel, here[rel], progress); err != nil {
			return m.failed(err)
		}
	}
	for rel := range m.seen {
		if _, is := here[rel]; !is {
			if err := m.files.Remove(path.Join(m.folder, rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return m.failed(err)
			}
			delete(m.seen, rel)
			names = append(names, rel)
		}
	}
	if len(names) == 0 {
		return nil
	}
	return m.save()
}

func (m *Mirror) sendOne(rel string, is stamp, progress func(int64)) error {
	f, err := os.Open(filepath.Join(m.Dir, filepath.FromSlash(rel)))
	if err != nil {
		return err
	}
	defer f.Close()
	to := path.Join(m.folder, rel)
	if err := m.files.MkdirAll(path.Dir(to)); err != nil {
		return err
	}
	out, err := m.files.OpenFile(to+sending, os.O_CREATE|os.O_TRUNC|os.O_WRONLY)
	if err != nil {
		return err
	}
	if _, err = out.ReadFrom(io.TeeReader(f, counted{io.Discard, progress})); err == nil {
		if _, can := m.files.HasExtension("fsync@openssh.com"); can {
			err = out.Sync()
		}
	}
	if err = errors.Join(err, out.Close()); err != nil { // a share flushes when a file is closed
		return err
	}
	if _, can := m.files.HasExtension("posix-rename@openssh.com"); can {
		err = m.files.PosixRename(to+sending, to)
	} else { // for a moment there is only the new file, under its temporary name
		if err = m.files.Remove(to); err == nil || errors.Is(err, fs.ErrNotExist) {
			err = m.files.Rename(to+sending, to)
		}
	}
	if err != nil {
		return err
	}
	info, err := m.files.Stat(to)
	if err == nil {
		m.seen[rel] = both{stamp{info.Size(), info.ModTime().Unix()}, is}
	}
	return err
}

// Close sends what is left, and ends the connection.
func (m *Mirror) Close(ctx context.Context) error {
	err := m.Send(ctx)
	m.hangUp()
	return err
}

func (m *Mirror) hangUp() {
	if m.files != nil {
		if m.lock != "" {
			m.files.Remove(m.lock) //nolint:errcheck // the next run names it
		}
		m.files.Close()
	}
	if m.ssh != nil {
		m.ssh.Close()
	}
}

// Port is the port of a share, if it is free.
const Port = "40022"
