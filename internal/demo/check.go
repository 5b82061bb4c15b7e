package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/tree"
)

// Check tries what can only be tried on a real Windows: it makes data of its own in a temporary folder and packs, unpacks and
// verifies it with the real commands, as a safety copy. It removes everything that it made.
type Check struct {
	Program string    // this program
	Out     io.Writer // gets one line for each feature
}

// errNotTried is wrapped by the error of a feature that cannot be tried here.
var errNotTried = errors.New("not tried")

// feature is one part of the check. It is an app of its own, with one item.
type feature struct {
	name  string
	about string
	// make creates the data below dir and returns the item, as YAML below "items:". held is closed after the pack.
	make func(dir string) (item string, held io.Closer, err error)
	// spoil changes the data, so that unpack must restore it. confirm looks at it afterwards; nil leaves that to verify.
	spoil, confirm func(dir string) error
	remove         func()
}

const checkWords = "agency-balcony-cabana-dagger-eagle-fable"

// Run tries every feature. failed is their number that do not work.
func (c *Check) Run(ctx context.Context) (failed int, err error) {
	all := features()
	if len(all) == 0 {
		return 0, fault.New(fault.Usage, "this check is for a computer that runs Windows")
	}
	dir, err := os.MkdirTemp(os.Getenv("ProgramData"), "movekit-check-") // a card cannot name a folder of one user
	if err != nil {
		return 0, fault.Wrap(fault.CannotPlace, err, "cannot create a temporary folder")
	}
	defer tree.RemoveTree(dir) //nolint:errcheck // what is left has a name that tells what it is
	for i, f := range all {
		err := c.try(ctx, f, filepath.Join(dir, fmt.Sprint(i)))
		result := "works"
		if errors.Is(err, errNotTried) {
			result = err.Error()
		} else if err != nil {
			failed++
			result = "DOES NOT WORK: " + err.Error()
		}
		fmt.Fprintf(c.Out, "%s: %s\n", f.about, result)
	}
	return failed, nil
}

func (c *Check) try(ctx context.Context, f feature, dir string) (err error) {
	data := filepath.Join(dir, "data")
	if err := os.MkdirAll(data, 0o755); err != nil {
		return err
	}
	if f.remove != nil {
		defer f.remove()
	}
	item, held, err := f.make(data)
	if err != nil {
		return err
	}
	card := fmt.Sprintf("card: 1\nname: %s\ntitle: Check of %s\nitems:\n  - %s\n", f.name, f.name, item)
	if err := os.WriteFile(filepath.Join(dir, f.name+".yaml"), []byte(card), 0o644); err != nil {
		return err
	}
	kit := filepath.Join(dir, "kit")
	run := func(args ...string) {
		if err != nil {
			return
		}
		cmd := exec.CommandContext(ctx, c.Program, args...)
		cmd.Env = append(os.Environ(), "MOVEKIT_PASSPHRASE="+checkWords, "MOVEKIT_KIT="+kit)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err = cmd.Run(); err != nil {
			err = fmt.Errorf("%s: %w: %s", args[0], err, strings.Join(strings.Fields(out.String()), " "))
		}
	}
	run("new", kit, "--yes", "--keep", "--cards", filepath.Join(dir, f.name+".yaml"))
	run("pack")
	if held != nil {
		err = errors.Join(err, held.Close())
	}
	if err == nil && f.spoil != nil {
		err = f.spoil(data)
	}
	run("unpack", "--existing", "set-aside")
	run("verify")
	if err == nil && f.confirm != nil {
		err = f.confirm(data)
	}
	return err
}
