// Package shadow reads files that other programs hold open on a running Windows, from a shadow copy of their volume: what
// was on the volume at one moment ("Volume Shadow Copy Service" in the Windows documentation). Only an administrator can make
// one.
package shadow

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"sync"

	"movekit/internal/core/filemeta"
)

// Copies are the shadow copies of one run, one for each volume that needs it. The zero value opens files without any.
type Copies struct {
	// Control runs a program of the system; nil if there is none to run.
	Control func(ctx context.Context, name string, args ...string) (string, error)
	// InUse reports whether a file could not be opened because another program holds it open.
	InUse func(error) bool

	mu   sync.Mutex
	made map[string]*copied // by drive
}

// copied is the shadow copy of one volume.
type copied struct {
	id, device string
	err        error
}

// create makes a shadow copy of the volume in $v and prints its id and its device (class Win32_ShadowCopy).
const create = `$r = (Get-WmiObject -List Win32_ShadowCopy).Create($v, 'ClientAccessible'); if ($r.ReturnValue -ne 0) { Write-Output ('code ' + $r.ReturnValue); exit 1 }; ` +
	`$s = Get-WmiObject Win32_ShadowCopy | Where-Object { $_.ID -eq $r.ShadowID }; Write-Output $s.ID; Write-Output $s.DeviceObject`

// remove removes the shadow copy whose id is in $v.
const remove = `(Get-WmiObject Win32_ShadowCopy | Where-Object { $_.ID -eq $v }).Delete()`

var (
	idForm     = regexp.MustCompile(`\{[0-9A-Fa-f-]{36}\}`)
	deviceForm = regexp.MustCompile(`\\\\\?\\GLOBALROOT\\Device\\HarddiskVolumeShadowCopy\d+`)
	drivePath  = regexp.MustCompile(`^(?:\\\\\?\\)?([A-Za-z]):\\`)
)

// script runs a script with $v set to value, which must not contain a quote.
func (c *Copies) script(text, value string) (string, error) {
	return c.Control(context.Background(), "powershell", "-NoProfile", "-NonInteractive", "-Command", "$v = '"+value+"'; "+text)
}

// Open opens a file for reading. If another program holds it open, Open reads it from a shadow copy.
func (c *Copies) Open(name string) (*os.File, error) {
	f, err := filemeta.Open(name)
	if err == nil || c == nil || c.InUse == nil || !c.InUse(err) {
		return f, err
	}
	m := drivePath.FindStringSubmatch(name)
	if m == nil || c.Control == nil {
		return nil, err
	}
	v := c.of(strings.ToUpper(m[1]))
	if v.err != nil {
		return nil, fmt.Errorf("another program holds it open (close it, or run Move Kit as administrator, so that Windows can make a shadow copy): %w", errors.Join(err, v.err))
	}
	return os.Open(v.device + name[len(m[0])-1:])
}

// of returns the shadow copy of a volume, and makes it if there is none.
func (c *Copies) of(drive string) *copied {
	c.mu.Lock()
	defer c.mu.Unlock()
	if v := c.made[drive]; v != nil {
		return v
	}
	v := &copied{}
	out, err := c.script(create, drive+`:\`)
	v.id, v.device = idForm.FindString(out), deviceForm.FindString(out)
	if err != nil {
		v.err = err
	} else if v.id == "" || v.device == "" {
		v.err = fmt.Errorf("no shadow copy of drive %s was made", drive)
	}
	if c.made == nil {
		c.made = map[string]*copied{}
	}
	c.made[drive] = v
	return v
}

// Close removes the shadow copies. Windows itself removes one that is left when it needs the space.
func (c *Copies) Close() error {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	var all error
	for _, v := range c.made {
		if v.id != "" {
			_, err := c.script(remove, v.id)
			all = errors.Join(all, err)
		}
	}
	c.made = nil
	return all
}
