//go:build unix

package shadow

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/fatal"
)

// TestOpen reads a file that cannot be opened from a simulated shadow copy. On this system, a device is a folder whose name has
// backslashes.
func TestOpen(t *testing.T) {
	t.Chdir(t.TempDir())
	const device, id = `\\?\GLOBALROOT\Device\HarddiskVolumeShadowCopy7`, "{01234567-89ab-cdef-0123-456789abcdef}"
	const held = `C:\Quay\tickets.dat`
	fatal.If(t, os.WriteFile(device+`\Quay\tickets.dat`, []byte("17"), 0o600))
	fatal.If(t, os.WriteFile("free", []byte("x"), 0o600))
	var scripts []string
	refuse := false
	c := &Copies{
		InUse: func(err error) bool { return errors.Is(err, fs.ErrNotExist) }, // there is no such file here
		Control: func(_ context.Context, name string, args ...string) (string, error) {
			scripts = append(scripts, name+" "+args[len(args)-1])
			if refuse {
				return "code 1\n", errors.New("exit status 1")
			}
			return "\r\n" + id + "\r\n" + device + "\r\n", nil
		},
	}
	read := func(name string) (string, error) {
		f, err := c.Open(name)
		if err != nil {
			return "", err
		}
		defer f.Close()
		data, err := io.ReadAll(f)
		return string(data), err
	}
	if got, err := read("free"); got != "x" || err != nil || len(scripts) > 0 {
		t.Errorf("a free file: %q, %v, %q", got, err, scripts)
	}
	for range 2 {
		if got, err := read(held); got != "17" || err != nil {
			t.Errorf("a held file: %q, %v", got, err)
		}
	}
	if len(scripts) != 1 || !strings.HasPrefix(scripts[0], `powershell $v = 'C:\'; `) {
		t.Errorf("ran %q", scripts)
	}
	if _, err := read(filepath.Join(t.TempDir(), "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("not on a drive: %v", err)
	}
	fatal.If(t, c.Close())
	if len(scripts) != 2 || !strings.Contains(scripts[1], "$v = '"+id+"'; ") || !strings.Contains(scripts[1], "Delete") {
		t.Errorf("removed with %q", scripts[1:])
	}
	refuse = true
	if _, err := read(held); err == nil || !strings.Contains(err.Error(), "administrator") {
		t.Errorf("refused: %v", err)
	}
	var none *Copies
	if _, err := none.Open("missing"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("without copies: %v", err)
	}
	fatal.If(t, none.Close())
}
