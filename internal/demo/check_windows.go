package demo

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
)

const (
	checkKey     = `Software\Move Kit Check`
	checkService = "MoveKitCheck"
	checkTask    = `\Move Kit Check`
)

func administrator() error {
	if !windows.GetCurrentProcessToken().IsElevated() {
		return fmt.Errorf("%w: run it as administrator", errNotTried)
	}
	return nil
}

func folderItem(dir string) string { return "{name: data, kind: folder, path: '" + dir + "'}" }

func long(path string) string { return `\\?\` + path }

// expect returns an error if a file has other content.
func expect(path, want string) error {
	data, err := os.ReadFile(path)
	if err == nil && string(data) != want {
		err = fmt.Errorf("%s has %q, not %q", path, data, want)
	}
	return err
}

// replaced changes a file.
func replaced(path string) error { return os.WriteFile(path, []byte("spoilt"), 0o644) }

// features are what no simulation has: each depends on Windows itself.
func features() []feature {
	deep := filepath.Join("Fa. Mueller u. Co.", strings.Repeat("a long name ", 12)+"x", strings.Repeat("b long name ", 12)+"x")
	return []feature{
		{name: "names", about: "names that end in a dot or a space, and long paths", make: func(dir string) (string, io.Closer, error) {
			err := errors.Join(os.MkdirAll(long(filepath.Join(dir, deep)), 0o755), os.WriteFile(long(dir+`\Rechnung 2024.`), []byte("1"), 0o644), os.WriteFile(long(filepath.Join(dir, deep)+`\x. `), []byte("2"), 0o644))
			return folderItem(dir), nil, err
		}, spoil: func(dir string) error { return replaced(long(dir + `\Rechnung 2024.`)) },
			confirm: func(dir string) error {
				return errors.Join(expect(long(dir+`\Rechnung 2024.`), "1"), expect(long(filepath.Join(dir, deep)+`\x. `), "2"))
			}},
		{name: "streams", about: "alternate data streams", make: func(dir string) (string, io.Closer, error) {
			err := os.WriteFile(dir+`\a.txt`, []byte("1"), 0o644)
			if serr := os.WriteFile(dir+`\a.txt:note`, []byte("of the file"), 0o644); serr != nil {
				return "", nil, fmt.Errorf("%w: this disk has no streams: %v", errNotTried, serr)
			}
			if names, _ := os.ReadDir(dir); len(names) != 1 { // it became a file of its own
				return "", nil, fmt.Errorf("%w: this disk has no streams", errNotTried)
			}
			return folderItem(dir), nil, err
		}, spoil: func(dir string) error { return replaced(dir + `\a.txt`) },
			confirm: func(dir string) error { return expect(dir+`\a.txt:note`, "of the file") }},
		{name: "rights", about: "access lists", make: func(dir string) (string, io.Closer, error) {
			err := errors.Join(os.WriteFile(dir+`\a.txt`, []byte("1"), 0o644), exec.Command("icacls", dir+`\a.txt`, "/grant", "*S-1-5-32-545:(R)").Run())
			return folderItem(dir), nil, err
		}, spoil: func(dir string) error { return replaced(dir + `\a.txt`) }},
		{name: "key", about: "registry keys", make: func(string) (string, io.Closer, error) {
			k, _, err := registry.CreateKey(registry.CURRENT_USER, checkKey, registry.ALL_ACCESS)
			if err == nil {
				err = errors.Join(k.SetStringValue("Größe", "ä"), k.SetBinaryValue("blob", []byte{0, 1, 255}), k.Close())
			}
			return `{name: data, kind: registry, key: 'HKCU\` + checkKey + `'}`, nil, err
		}, spoil: func(string) error {
			k, err := registry.OpenKey(registry.CURRENT_USER, checkKey, registry.ALL_ACCESS)
			if err != nil {
				return err
			}
			return errors.Join(k.SetStringValue("Größe", "spoilt"), k.Close())
		}, remove: func() {
			above, err := registry.OpenKey(registry.CURRENT_USER, "Software", registry.ALL_ACCESS)
			if err != nil {
				return
			}
			defer above.Close()
			names, _ := above.ReadSubKeyNames(-1)
			for _, n := range names {
				if strings.HasPrefix(n, "Move Kit Check") {
					registry.DeleteKey(above, n) //nolint:errcheck // it is empty of keys
				}
			}
		}},
		{name: "held", about: "a file that another program holds open (shadow copy)", make: func(dir string) (string, io.Closer, error) {
			if err := administrator(); err != nil {
				return "", nil, err
			}
			name := dir + `\held.dat`
			if err := os.WriteFile(name, []byte("1"), 0o644); err != nil {
				return "", nil, err
			}
			p, err := windows.UTF16PtrFromString(name)
			if err != nil {
				return "", nil, err
			}
			h, err := windows.CreateFile(p, windows.GENERIC_READ, 0, nil, windows.OPEN_EXISTING, 0, 0) // shared with nobody
			if err != nil {
				return "", nil, err
			}
			return folderItem(dir), os.NewFile(uintptr(h), name), nil
		}, spoil: func(dir string) error { return replaced(dir + `\held.dat`) }},
		{name: "service", about: "services", make: func(string) (string, io.Closer, error) {
			err := administrator()
			if err == nil {
				err = exec.Command("sc", "create", checkService, `binPath=C:\Windows\System32\svchost.exe -k movekitcheck`, "start=demand").Run()
			}
			return "{name: data, kind: service, job: {windows: " + checkService + "}}", nil, err
		}, remove: func() { exec.Command("sc", "delete", checkService).Run() }}, //nolint:errcheck // it may not exist
		{name: "task", about: "scheduled tasks", make: func(string) (string, io.Closer, error) {
			err := administrator()
			if err == nil {
				err = exec.Command("schtasks", "/Create", "/TN", checkTask, "/SC", "ONCE", "/ST", "23:59", "/SD", "01/01/2099", "/TR", "cmd.exe /c rem", "/F").Run()
			}
			return `{name: data, kind: schedule, job: {windows: '` + checkTask + `'}}`, nil, err
		}, remove: func() { exec.Command("schtasks", "/Delete", "/TN", checkTask, "/F").Run() }}, //nolint:errcheck // it may not exist
	}
}
