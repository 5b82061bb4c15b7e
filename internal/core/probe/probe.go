// Package probe reads single values from a computer, as app cards describe: from files,
// executables, the registry, the package manager, or the output of the app's own program.
package probe

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/saferwall/pe"
	pelog "github.com/saferwall/pe/log"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
	"gopkg.in/ini.v1"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/plist"
	"movekit/internal/core/registry"
)

// Prober reads values from one computer.
type Prober struct {
	Computer machine.Computer
	// Commands is true if the user has agreed to run the card's commands. They run on the live
	// computer only.
	Commands bool
	Time     time.Duration // time limit of a command; 0 means 10 seconds
}

// Found is a value and how it was read.
type Found struct {
	Value string `json:"value"`
	How   string `json:"read_from"` // for display: "version.txt", "HKLM\SOFTWARE\X"
	// Withheld is the command that would report the value, and was not run; nil if there is none.
	Withheld []string `json:"command_not_run,omitempty"`
	// Changed is the modification time of the file with the value. For a program this is when it
	// was installed. It is zero if the value is not from a file.
	Changed time.Time `json:"-"`
}

// Read returns the first value that a source has on the computer, for user if it is a per-user
// source. If there is none, the value is empty.
func (p Prober) Read(ctx context.Context, s *card.Source, user *machine.User) (Found, error) {
	var found Found
	if s == nil {
		return found, nil
	}
	for _, way := range []func(context.Context, *card.Source, *machine.User, bool) (string, string, error){p.file, p.exe, p.registry, p.dpkg, p.installed, p.command} {
		text, how, err := way(ctx, s, user, !s.Pattern.IsZero())
		if errors.Is(err, errWithheld) {
			found.Withheld = s.Command
			continue
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return found, fault.Wrap(fault.Unreadable, err, "cannot read %s", how)
		}
		if !s.Pattern.IsZero() {
			var ok bool
			if text, ok = s.Pattern.First(text); !ok {
				continue
			}
		}
		if text = strings.TrimSpace(text); text != "" {
			return Found{Value: text, How: how, Changed: p.changed(s, user)}, nil
		}
	}
	return found, nil
}

// changed returns the modification time of a source's file.
func (p Prober) changed(s *card.Source, user *machine.User) time.Time {
	for _, of := range []card.Path{s.File, s.Exe} {
		if path := of.On(string(p.Computer.System())); path != "" {
			if name, err := p.Computer.Locate(path, user); err == nil {
				if info, err := os.Stat(name); err == nil {
					return info.ModTime()
				}
			}
		}
	}
	return time.Time{}
}

// maxText is the number of bytes of a text file that are searched for a value.
const maxText = 1 << 20

// file reads a text file: all of it for a pattern, the value of a key, or the first line.
func (p Prober) file(_ context.Context, s *card.Source, user *machine.User, whole bool) (text, how string, err error) {
	path := s.File.On(string(p.Computer.System()))
	if path == "" {
		return "", "", nil
	}
	name, err := p.Computer.Locate(path, user)
	if err != nil {
		return "", path, err
	}
	if s.Key != "" && s.FileFormat() == "plist" {
		text, err = ListValue(name, s.Key)
		return text, machine.DisplayPath(p.Computer, name) + ", " + s.Key, err
	}
	text, err = readText(name)
	if err != nil {
		return "", name, err
	}
	if s.Key != "" {
		text, err = keyValue(s.FileFormat(), text, s.Key)
		return text, machine.DisplayPath(p.Computer, name) + ", " + s.Key, err
	}
	if !whole {
		text, _, _ = strings.Cut(text, "\n")
	}
	return text, machine.DisplayPath(p.Computer, name), nil
}

// ListValue reads a value of a macOS property list: the text at a path such as Window/0, or "".
func ListValue(name, key string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, plist.MaxFile+1))
	if err != nil {
		return "", err
	}
	list, err := plist.Read(data)
	return textAt(list, strings.Split(key, "/")), err
}

// readText reads a text file in UTF-8, or in UTF-16 with a byte order mark, as Windows programs
// write it.
func readText(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	marked := unicode.BOMOverride(unicode.UTF8.NewDecoder())
	data, err := io.ReadAll(transform.NewReader(io.LimitReader(f, maxText), marked))
	return string(data), err
}

// keyValue returns the value at a path in an INI, JSON or XML text, or "".
func keyValue(format, text, key string) (string, error) {
	parts := strings.Split(key, "/")
	switch format {
	case "ini":
		f, err := ini.LoadSources(ini.LoadOptions{Insensitive: true, SkipUnrecognizableLines: true, AllowBooleanKeys: true, IgnoreInlineComment: true, IgnoreContinuation: true}, []byte(text))
		if err != nil {
			return "", fmt.Errorf("not an INI file: %w", err)
		}
		section := strings.Join(parts[:len(parts)-1], "/")
		return f.Section(section).Key(parts[len(parts)-1]).String(), nil
	case "json":
		return jsonValue(text, parts)
	}
	return xmlValue(text, parts)
}

func jsonValue(text string, parts []string) (string, error) {
	var at any
	dec := json.NewDecoder(strings.NewReader(text))
	dec.UseNumber()
	if err := dec.Decode(&at); err != nil {
		return "", fmt.Errorf("not a JSON file: %w", err)
	}
	return textAt(at, parts), nil
}

// textAt returns the text, number or boolean at a path of keys and array indexes, or "".
func textAt(at any, parts []string) string {
	for _, p := range parts {
		switch v := at.(type) {
		case map[string]any:
			at = v[p]
		case []any:
			i, err := strconv.Atoi(p)
			if err != nil || i < 0 || i >= len(v) {
				return ""
			}
			at = v[i]
		default:
			return ""
		}
	}
	switch v := at.(type) {
	case string, json.Number, bool, uint64, int64, float64:
		return fmt.Sprint(v)
	}
	return ""
}

// xmlValue returns the text of the first element at a path of names without namespaces, or of its
// attribute (@name).
func xmlValue(text string, parts []string) (string, error) {
	dec := xml.NewDecoder(strings.NewReader(text))
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	attribute := ""
	if last := parts[len(parts)-1]; strings.HasPrefix(last, "@") {
		attribute, parts = last[1:], parts[:len(parts)-1]
	}
	want := strings.Join(parts, "/")
	var at []string
	var value strings.Builder
	for {
		tok, err := dec.Token()
		if err == io.EOF {
			return "", nil
		}
		if err != nil {
			return "", fmt.Errorf("not an XML file: %w", err)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			at = append(at, t.Name.Local)
			if attribute != "" && strings.Join(at, "/") == want {
				for _, a := range t.Attr {
					if a.Name.Local == attribute {
						return a.Value, nil
					}
				}
			}
		case xml.CharData:
			if attribute == "" && strings.Join(at, "/") == want {
				value.Write(t)
			}
		case xml.EndElement:
			if attribute == "" && strings.Join(at, "/") == want {
				return value.String(), nil
			}
			at = at[:len(at)-1]
		}
	}
}

// exe reads the version of a Windows executable or a macOS application.
func (p Prober) exe(_ context.Context, s *card.Source, user *machine.User, _ bool) (text, how string, err error) {
	path := s.Exe.On(string(p.Computer.System()))
	if path == "" {
		return "", "", nil
	}
	name, err := p.Computer.Locate(path, user)
	if err != nil {
		return "", path, err
	}
	info, err := os.Stat(name)
	if err != nil {
		return "", name, err
	}
	switch {
	case info.IsDir() && strings.HasSuffix(strings.ToLower(name), ".app"):
		text, err = AppVersion(name)
	case !info.Mode().IsRegular():
		err = errors.New("it is not a file")
	default:
		text, err = ExeVersion(name)
	}
	return text, machine.DisplayPath(p.Computer, name), err
}

// AppVersion returns the version of a macOS application (a folder NAME.app): the displayed version,
// or else the build version ("Information Property List" in Apple's documentation).
func AppVersion(dir string) (string, error) {
	for _, key := range []string{"CFBundleShortVersionString", "CFBundleVersion"} {
		if v, err := ListValue(filepath.Join(dir, "Contents", "Info.plist"), key); v != "" || err != nil {
			return v, err
		}
	}
	return "", nil
}

// ExeVersion returns the product version, or else the file version, in the version resource of a
// Windows executable (PE format). For a damaged file or one that is not an executable it returns an
// error.
func ExeVersion(name string) (string, error) {
	versions, err := exeTexts(name)
	if err != nil {
		return "", err
	}
	if v := strings.TrimSpace(versions["ProductVersion"]); v != "" {
		return v, nil
	}
	return strings.TrimSpace(versions["FileVersion"]), nil
}

// ExeMaker returns the company name in the version resource of a Windows executable, or "" if it has none or cannot be read.
func ExeMaker(name string) string {
	texts, err := exeTexts(name)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(texts["CompanyName"])
}

// exeTexts returns the texts in the version resource of a Windows executable.
func exeTexts(name string) (texts map[string]string, err error) {
	// The file is mapped into memory. If its medium is pulled out, the resulting fault becomes an
	// error here.
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if r := recover(); r != nil {
			texts, err = nil, fmt.Errorf("the executable is damaged: %v", r)
		}
	}()
	f, err := pe.New(name, &pe.Options{
		OmitExportDirectory: true, OmitImportDirectory: true, OmitExceptionDirectory: true, OmitSecurityDirectory: true,
		OmitRelocDirectory: true, OmitDebugDirectory: true, OmitArchitectureDirectory: true, OmitGlobalPtrDirectory: true,
		OmitTLSDirectory: true, OmitLoadConfigDirectory: true, OmitBoundImportDirectory: true, OmitIATDirectory: true,
		OmitDelayImportDirectory: true, OmitCLRHeaderDirectory: true, OmitCLRMetadata: true, DisableSignatureValidation: true, DisableCertValidation: true,
		Logger: silent{},
	})
	if err != nil {
		return nil, fmt.Errorf("the executable cannot be read: %w", err)
	}
	defer f.Close()
	if err := f.Parse(); err != nil {
		return nil, fmt.Errorf("not an executable, or a damaged one: %w", err)
	}
	if texts, err = f.ParseVersionResources(); err != nil {
		return nil, fmt.Errorf("the executable's version cannot be read: %w", err)
	}
	return texts, nil
}

type silent struct{}

func (silent) Log(pelog.Level, ...any) error { return nil }

// registry reads a registry value. A per-user key is read for user, or for the first user who has
// it.
func (p Prober) registry(_ context.Context, s *card.Source, user *machine.User, _ bool) (text, how string, err error) {
	if s.Registry == "" {
		return "", "", nil
	}
	how = s.Registry
	if s.Value != "" {
		how += `, ` + s.Value
	}
	users := []*machine.User{user}
	if user == nil && strings.HasPrefix(strings.ToUpper(s.Registry), "HKCU") {
		users = nil
		for _, u := range p.Computer.Users() {
			users = append(users, &u)
		}
	}
	for _, u := range users {
		k, err := p.Computer.Registry(s.Registry, u)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", how, err
		}
		v, err := registry.Get(k, s.Value)
		k.Close()
		if err == nil {
			return v.Text(), how, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return "", how, err
		}
	}
	return "", how, nil
}

// dpkg reads the version of an installed package without the epoch and the Debian revision
// (deb-version(7)).
func (p Prober) dpkg(_ context.Context, s *card.Source, _ *machine.User, _ bool) (text, how string, err error) {
	if s.Package == "" || p.Computer.System() != machine.Linux {
		return "", "", nil
	}
	v, err := PackageVersion(p.Computer, s.Package)
	if _, after, ok := strings.Cut(v, ":"); ok {
		v = after
	}
	if i := strings.LastIndex(v, "-"); i > 0 {
		v = v[:i]
	}
	return v, "the package " + s.Package, err
}

// installed reads the version from the list of installed programs (Windows), or of an application (macOS).
func (p Prober) installed(_ context.Context, s *card.Source, _ *machine.User, _ bool) (text, how string, err error) {
	switch {
	case s.App == "":
		return "", "", nil
	case p.Computer.System() == machine.MacOS:
		dir, err := p.Computer.Locate("/Applications/"+s.App+".app", nil)
		if there, eerr := machine.Exists(dir); err != nil || eerr != nil || !there {
			return "", "", cmp.Or(err, eerr)
		}
		text, err = AppVersion(dir)
		return text, s.App + ".app", err
	case p.Computer.System() != machine.Windows:
		return "", "", nil
	}
	for _, path := range Uninstall {
		for _, u := range append([]*machine.User{nil}, machine.Profiles(p.Computer, "%USERPROFILE%")...) {
			if (u == nil) == strings.HasPrefix(path, "HKCU") {
				continue
			}
			k, err := p.Computer.Registry(path, u)
			if err != nil {
				continue
			}
			names, _ := k.Keys()
			for _, n := range names {
				if title := registry.Text(k, n, "DisplayName"); len(title) >= len(s.App) && strings.EqualFold(title[:len(s.App)], s.App) {
					text, how = registry.Text(k, n, "DisplayVersion"), "the list of installed programs: "+title
				}
			}
			k.Close()
			if text != "" {
				return text, how, nil
			}
		}
	}
	return "", "", nil
}

// Uninstall lists the keys with the installed programs of Windows ("Uninstall Registry Key" in its documentation).
var Uninstall = []string{
	`HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall`,
	`HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall`,
	`HKCU\Software\Microsoft\Windows\CurrentVersion\Uninstall`,
}

// PackageVersion returns the version of an installed Debian package, or "".
func PackageVersion(c machine.Computer, name string) (string, error) {
	status, err := c.Locate("/var/lib/dpkg/status", nil)
	if err != nil {
		return "", err
	}
	f, err := os.Open(status)
	if err != nil {
		return "", err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	mine, installed := false, false
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case field == "Package":
			mine, installed = value == name, false
		case mine && field == "Status":
			installed = strings.HasSuffix(value, " installed")
		case mine && installed && field == "Version":
			return value, nil
		}
	}
	return "", lines.Err()
}

// Limits for a command in a card.
const (
	commandTime = 10 * time.Second // the default
	commandText = 64 << 10         // bytes of its output
)

var errWithheld = errors.New("no consent to run it")

// IsWithheld reports whether a command was not run, because nobody has agreed to it or its system
// is not running.
func IsWithheld(err error) bool { return errors.Is(err, errWithheld) }

// command runs the app's own program.
func (p Prober) command(ctx context.Context, s *card.Source, user *machine.User, _ bool) (text, how string, err error) {
	if len(s.Command) == 0 {
		return "", "", nil
	}
	text, _, err = p.RunCode(ctx, s.Command, user) // some programs end with another code than 0 after they print their version
	return text, strings.Join(s.Command, " "), err
}

// Run runs a command from a card, and returns its output. The command gets no input, no shell and
// little time. It is not run without consent, or if the computer is only a disk. An exit code other than 0 is an error.
func (p Prober) Run(ctx context.Context, args card.Command, user *machine.User) (string, error) {
	said, code, err := p.RunCode(ctx, args, user)
	if err == nil {
		err = Failure(said, code)
	}
	return said, err
}

// RunCode also returns the command's exit code.
func (p Prober) RunCode(ctx context.Context, args card.Command, user *machine.User) (said string, code int, err error) {
	if !p.Commands || p.Computer.Root() != "" {
		return "", 0, errWithheld
	}
	name, err := p.Computer.Locate(args[0], user)
	if err != nil {
		return "", 0, err
	}
	limit := p.Time
	if limit == 0 {
		limit = commandTime
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args[1:]...)
	cmd.WaitDelay = time.Second
	var out limited
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", 0, fmt.Errorf("it did not finish within %v", limit)
	case err != nil && !errors.As(err, &exit):
		return "", 0, err
	}
	return string(out.data), cmd.ProcessState.ExitCode(), nil
}

// Failure returns an error with the last line of a command's output, or nil if the exit code is 0.
func Failure(said string, code int) error {
	if code == 0 {
		return nil
	}
	said = strings.TrimSpace(said)
	return fmt.Errorf("it ended with code %d: %s", code, said[strings.LastIndexByte(said, '\n')+1:])
}

// limited is a writer that keeps only the beginning of its input.
type limited struct{ data []byte }

func (l *limited) Write(p []byte) (int, error) {
	l.data = append(l.data, p[:min(len(p), commandText-len(l.data))]...)
	return len(p), nil
}
