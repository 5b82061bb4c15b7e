package item

import (
	"context"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/core/version"
)

// Profiles returns the users that have an instance of the item: every user if its path or key is in
// a profile or is read from a user's settings, else a single nil.
func Profiles(c machine.Computer, it *card.Item) []*machine.User {
	ofUser := func(key string) bool { return strings.HasPrefix(strings.ToUpper(key), "HKCU") }
	switch p := it.Path; {
	case ofUser(it.Key), p.From != nil && ofUser(p.From.Registry):
		return machine.Profiles(c, "%USERPROFILE%")
	case p.From != nil:
		return machine.Profiles(c, p.From.File.On(string(c.System())))
	default:
		return machine.Profiles(c, p.On(string(c.System())))
	}
}

// spelled returns the item's path on this computer in its own terms, and the setting it was read
// from. The path is the user's choice, or from the app's settings, or from the card.
func (o *Instance) spelled(ctx context.Context) (path, how string, err error) {
	p := o.Item.Path
	switch {
	case o.ChosenParent != "":
		return o.ChosenParent, "", nil
	case p.From != nil:
		found, err := o.Prober().Read(ctx, p.From, o.User)
		if err != nil || found.Value == "" {
			return o.translated(), "", err
		}
		path, err = plainPath(found.Value)
		return path, found.How, err
	}
	path = p.On(string(o.Computer.System()))
	if path == "" {
		return "", "", fault.New(fault.BadCard, "the card has no location of %s for a %s computer", o.Item.Name, o.Computer.System())
	}
	path, err = o.versioned(ctx, path)
	return path, "", err
}

// translated returns the item's old location, mapped to this computer's profiles and drives, or "".
func (o *Instance) translated() string {
	if o.Run == nil {
		return ""
	}
	path := o.Run.State.Was(o.Key)
	if path != "" && o.PathMap != nil {
		path, _ = o.PathMap.Text(path)
	}
	if path == "" || !o.Run.Confirmed(run.AtHome, o.Key.Address(), path) {
		o.ProposedPath = path
		return ""
	}
	if which := o.SubPath(); which != "" {
		for range strings.Count(which, "/") + 1 { // the folder that contains all of them
			path = path[:max(0, strings.LastIndexAny(path, `/\`))]
		}
	}
	return path
}

// plainPath removes quotes, URL schemes and the like from a path in settings.
func plainPath(text string) (string, error) {
	path := strings.Trim(strings.TrimSpace(text), `"'`)
	if rest, is := strings.CutPrefix(path, "file:"); is {
		if u, err := url.Parse("file:" + rest); err == nil && u.Path != "" {
			if path = u.Path; len(path) > 2 && path[2] == ':' {
				path = path[1:] // a drive
			}
		}
	}
	if !whole(path) {
		return "", fault.New(fault.Missing, "the setting has %q, which is not a full path", text)
	}
	return strings.ReplaceAll(path, `\\`, `\`), nil
}

// whole reports whether a path is absolute or starts with a term.
func whole(path string) bool {
	return strings.HasPrefix(path, "/") || strings.HasPrefix(path, "%") || strings.HasPrefix(path, "~") || strings.HasPrefix(path, "$") || len(path) > 2 && path[1] == ':'
}

// versioned replaces version placeholders with the app's version on this computer.
func (o *Instance) versioned(ctx context.Context, path string) (string, error) {
	if !strings.Contains(path, "{version}") && !strings.Contains(path, "{major}") && !strings.Contains(path, "{minor}") {
		return path, nil
	}
	v, err := o.Host.Version(ctx, o.Card)
	if err != nil {
		return "", err
	}
	n := version.Numbers(v.Value)
	if len(n) == 0 {
		return "", fault.New(fault.Missing, "the path %s contains the version of %s, which is unknown on %s", path, o.Card.Title, o.Computer.Name())
	}
	numbers := strings.FieldsFunc(v.Value, func(r rune) bool { return r < '0' || r > '9' })
	return strings.NewReplacer("{version}", v.Value, "{major}", numbers[0], "{minor}", append(numbers, "0")[1]).Replace(path), nil
}

// locate returns the item's real path on this computer.
func (o *Instance) locate(ctx context.Context) (string, error) {
	if o.ChosenPath != "" {
		return o.real(o.ChosenPath)
	}
	base, err := o.base(ctx)
	return filepath.Join(base, filepath.FromSlash(o.SubPath())), err
}

// base returns the real path in the card. For one of several items, this is the folder that
// contains them.
func (o *Instance) base(ctx context.Context) (real string, err error) {
	path, how, err := o.spelled(ctx)
	if err != nil {
		return "", err
	}
	if path == "" {
		if o.ProposedPath != "" {
			return "", fault.New(fault.Unconfirmed, "the settings that have the location of %s are not here; according to the kit it is %s", o.Item.Name, o.ProposedPath)
		}
		return "", fault.New(fault.Missing, "the settings that have the location of %s are not here", o.Item.Name)
	}
	o.FromSetting = how
	if o.ChosenParent != "" {
		return o.real(path)
	}
	real, err = o.Computer.Locate(path, o.User)
	if err != nil || !o.Virtual() {
		return real, err
	}
	store, err := machine.VirtualStore(o.Computer, real, o.User)
	if err == nil && store == "" {
		err = fault.New(fault.Missing, "Windows keeps no copies of %s for each user", path)
	}
	return store, err
}

// Virtual reports whether the item is a user's own copy of data that all users share, in the virtual store of Windows.
func (o *Instance) Virtual() bool {
	if o.User == nil || o.Computer.System() != machine.Windows {
		return false
	}
	if o.Item.Key != "" {
		return machine.VirtualKey(o.Item.Key) != ""
	}
	return o.Item.Path.From == nil && !machine.PerUser(o.Item.Path.On(string(machine.Windows)))
}

// real returns the real path of a location that the user chose.
func (o *Instance) real(place string) (string, error) {
	if len(place) > 1 && place[1] == ':' {
		return machine.Real(o.Computer, place)
	}
	return o.Computer.Locate(place, o.User)
}

// SubPath returns the item's path below the folder that contains several items, or "" for a single
// item.
func (o *Instance) SubPath() string {
	_, which, _ := strings.Cut(o.Key.Item, "@")
	return which
}

// maxMany limits the number of items that one pattern can match.
const maxMany = 2000

// Many returns the items that the pattern matches, by name, and those that are left out because
// others were modified more recently.
func (o *Instance) Many(ctx context.Context) (which, leftOut []string, err error) {
	base, err := o.base(ctx)
	if err != nil {
		return nil, nil, err
	}
	options := []doublestar.GlobOption{doublestar.WithNoFollow()}
	if o.Computer.System().Folds() {
		options = append(options, doublestar.WithCaseInsensitive())
	}
	kind := o.Item.Kind.Info()
	newest := map[string]time.Time{}
	err = doublestar.GlobWalk(os.DirFS(base), o.Item.Each, func(name string, d fs.DirEntry) error {
		side := slices.ContainsFunc(kind.Sides, func(ending string) bool { return strings.HasSuffix(name, ending) })
		if name == "." || d.IsDir() != kind.Folder || !kind.Folder && !d.Type().IsRegular() || side || strings.HasSuffix(name, spare.StageEnding) || spare.IsAside(path.Base(name)) {
			return nil
		}
		if len(newest) == maxMany {
			return fault.New(fault.BadCard, "the pattern %s matches more than %d in %s", o.Item.Each, maxMany, base)
		}
		newest[name] = time.Time{}
		return ctx.Err()
	}, options...)
	if err != nil && !os.IsNotExist(err) {
		return nil, nil, err
	}
	for name := range newest {
		for up := path.Dir(name); up != "."; up = path.Dir(up) {
			if _, is := newest[up]; is { // it is moved with that one
				delete(newest, name)
			}
		}
	}
	for name := range newest {
		which = append(which, name)
	}
	slices.Sort(which)
	if o.Item.Newest <= 0 || len(which) <= o.Item.Newest {
		return which, nil, nil
	}
	for name := range newest {
		st, err := tree.Source{Root: filepath.Join(base, filepath.FromSlash(name)), Single: !kind.Folder}.Measure(ctx, nil, nil)
		if err != nil {
			return nil, nil, err
		}
		newest[name] = st.Newest
	}
	byTime := slices.SortedStableFunc(slices.Values(which), func(a, b string) int { return newest[b].Compare(newest[a]) })
	leftOut = byTime[o.Item.Newest:]
	which = slices.DeleteFunc(which, func(name string) bool { return slices.Contains(leftOut, name) })
	slices.Sort(leftOut)
	return which, leftOut, nil
}

// moved returns the old computer's profiles and drives with their paths on this computer.
func moved(r *run.Run, say Choices) []pathmap.Pair {
	var pairs []pathmap.Pair
	for old, home := range r.State.Homes() {
		if u := machine.FindUser(r.Computer, say.UserHere(old)); u != nil {
			pairs = append(pairs, pathmap.Pair{Old: home, New: machine.DisplayPath(r.Computer, u.Home)})
		}
	}
	for letter, folder := range say.Drives {
		if !strings.HasPrefix(letter, "/") {
			letter += ":"
		}
		pairs = append(pairs, pathmap.Pair{Old: letter, New: folder})
	}
	return pairs
}

// Pairs returns old paths with their new paths on this computer, for settings that contain paths.
func Pairs(r *run.Run, say Choices, targets []Target) []pathmap.Pair {
	var pairs []pathmap.Pair
	for _, t := range targets {
		spoken, disk := t.Mover.Where()
		if disk == "" {
			continue
		}
		if was := r.State.Was(t.Key); was != "" {
			pairs = append(pairs, pathmap.Pair{Old: was, New: spoken})
		}
		if path := t.Item.Path.On(string(r.Computer.System())); t.ChosenPath != "" && t.SubPath() == "" && strings.ContainsAny(path[:min(len(path), 1)], "%~$") {
			pairs = append(pairs, pathmap.Pair{Old: path, New: spoken})
		}
	}
	for key, it := range r.State.Items { // settings may refer to other apps' data
		if was := r.State.Was(key); was != "" && it.Placed != nil {
			pairs = append(pairs, pathmap.Pair{Old: was, New: it.Placed.To})
		}
	}
	return append(pairs, moved(r, say)...)
}

// putAt applies a destination that the user chose, or that an earlier unpack used: for the item, or
// for the folder that contains several.
func (o *Instance) putAt(it *steps.Item, say Choices) {
	family := it.Key
	family.Item = o.Item.Name
	o.ChosenPath = say.Places[it.Key.Address()]
	if o.Item.Each != "" {
		o.ChosenParent = say.Places[family.Address()]
	}
	if o.ChosenPath == "" && o.Item.Path.From != nil && it.Placed != nil && it.Placed.Policy != string(tree.KeepBoth) && o.Run.Confirmed(run.AtHome, it.Key.Address(), it.Placed.To) {
		o.ChosenPath = it.Placed.To // the current settings may contain what this unpack wrote
	}
}
