package keys

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/item"
	"movekit/internal/core/registry"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// State returns which of two keys have values of the item.
func (m mover) State(_ context.Context, home, spare string, _ bool) (item.Presence, error) {
	here, err := m.readAt(home)
	if err != nil || spare == "" {
		return item.PresenceOf(here != nil, false), err
	}
	if m.marked(spare, emptying) {
		return item.Between, nil
	}
	there, err := m.readAt(spare)
	is := item.PresenceOf(here != nil, there != nil)
	if is == item.Both && (!m.marked(spare, complete) || within(here, there)) {
		is = item.Between
	}
	return is, err
}

// derived matches the suffixes of spare keys.
var derived = regexp.MustCompile(`^(( \(from [^\\]+\)|\.set-aside-\d{8}-\d{6})(-\d+)?|(\.[0-9A-Za-z_-]+)?` + regexp.QuoteMeta(spare.StageEnding) + `)$`)

// acting matches keys in which Windows looks for things to do: a copy of a service or of a program to start, under another name
// beside it, would be a second one.
var acting = regexp.MustCompile(`(?i)^HKLM\\SYSTEM\\(CurrentControlSet|ControlSet\d+)\\(Services|Control)(\\|$)` +
	`|\\Microsoft\\Windows\\CurrentVersion\\(Run|RunOnce|RunOnceEx|RunServices|RunServicesOnce|Policies|Explorer|ShellServiceObjectDelayLoad|Group Policy)(\\|$)` +
	`|\\Microsoft\\Windows NT\\CurrentVersion(\\|$)|\\Software\\Classes(\\|$)|\\Active Setup(\\|$)`)

// spareHome is where the spares of such keys are.
const spareHome = `SOFTWARE\Move Kit\`

// longest limits the name of a key (255 characters in Windows), without the suffix of a spare.
const longest = 180

// base returns the name to which the suffixes of spares are appended: the key, or a name for it where Windows looks for nothing.
func base(home string) string {
	if !acting.MatchString(home) {
		return home
	}
	root, rest, _ := strings.Cut(home, `\`)
	name := strings.ReplaceAll(rest, `\`, "/")
	if len(name) > longest {
		name = name[len(name)-longest:] + "~" + digest.Of([]byte(rest)).String()[:8]
	}
	return root + `\` + spareHome + strings.ToValidUTF8(name, "")
}

// Ours reports whether a key is home or derived from it.
func (m mover) Ours(home, key string) bool {
	b := base(home)
	return strings.EqualFold(home, key) || len(key) > len(b) && strings.EqualFold(key[:len(b)], b) && derived.MatchString(key[len(b):])
}

// Free returns an unused key name.
func (m mover) Free(_ context.Context, home string, use item.Use) (string, error) {
	if use == item.ForStage {
		return m.StageName(base(home)), nil
	}
	if use == item.ForBeside {
		return m.free(base(home) + " (from " + m.Run.Manifest.Old.Name + ")")
	}
	return m.free(base(home) + spare.AsideEnding(m.Run.Now()))
}

// free returns path, with a number if path is in use.
func (m mover) free(path string) (string, error) {
	for n, try := 2, path; ; n++ {
		k, err := m.Computer.Registry(try, m.User)
		if errors.Is(err, fs.ErrNotExist) {
			return try, nil
		}
		if err != nil {
			return "", m.cannot(err, try)
		}
		k.Close()
		try = fmt.Sprintf("%s-%d", path, n)
	}
}

// MoveOut copies the values to a spare key, marks it as complete, and removes the values at home.
func (m mover) MoveOut(_ context.Context, home, spare string, _ bool) error {
	if !m.marked(spare, complete) {
		here, err := m.readAt(home)
		if err != nil || here == nil {
			return err
		}
		if err := m.write(spare, here, true); err != nil {
			return err
		}
		if err := m.mark(spare, complete); err != nil {
			return err
		}
	}
	return m.remove(home)
}

// MoveIn copies the values of a spare key to home, and removes the spare.
func (m mover) MoveIn(_ context.Context, spare, home string, _ bool) error {
	if !m.marked(spare, emptying) {
		all, err := m.readAt(spare)
		if err != nil {
			return err
		}
		if err := m.write(home, all, true); err != nil {
			return err
		}
		if err := m.mark(spare, emptying); err != nil {
			return err
		}
	}
	return m.remove(spare)
}

// MergeInto adds missing values to home, and overwrites existing ones if the policy says so.
func (m mover) MergeInto(_ context.Context, stage, home, _ string, policy tree.Policy) (used bool, err error) {
	all, err := m.readAt(stage)
	if err == nil {
		err = m.write(home, all, policy != tree.Skip)
	}
	if err != nil {
		return false, err
	}
	return false, m.remove(stage)
}

// Delete removes a spare key. In a registry of a system that is not running, it removes the file
// that is to be imported by hand.
func (m mover) Delete(ctx context.Context, spare string, op steps.Op) (left bool, err error) {
	if file, err := m.file(); err == nil {
		os.Remove(file) //nolint:errcheck // if it was imported, the values show that
	}
	if m.offline() {
		here, err := m.readAt(spare)
		return here != nil, err
	}
	if !m.marked(spare, emptying) {
		here, err := m.readAt(spare)
		if err != nil || here == nil {
			return false, err
		}
		if ours, err := item.MayDelete(ctx, m, spare, op); err != nil || !ours {
			return true, err
		}
		if err := m.mark(spare, emptying); err != nil {
			return true, err
		}
	}
	return false, m.remove(spare)
}

// within reports whether other has all values of all.
func within(all, other []registry.Branch) bool {
	has := map[string][]byte{}
	for _, b := range other {
		for _, v := range b.Values {
			has[b.ID(v)] = v.Data
		}
	}
	for _, b := range all {
		for _, v := range b.Values {
			if data, is := has[b.ID(v)]; !is || !bytes.Equal(data, v.Data) {
				return false
			}
		}
	}
	return true
}
