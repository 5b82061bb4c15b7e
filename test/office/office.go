// Package office creates simulated computers, and a kit between two of them, for the tests.
package office

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// Passphrase is the passphrase of the kits.
const Passphrase = "agency-balcony-cabana-dagger-eagle-fable"

// Open opens the computer whose disk is in a folder.
func Open(t testing.TB, root string) machine.Computer {
	t.Helper()
	c, err := machine.Open(root)
	fatal.If(t, err)
	return c
}

// Office is a kit between two simulated computers, in the folders old and new of Dir.
type Office struct {
	T        testing.TB
	Dir      string
	Kit      *kit.Kit
	Old, New machine.Computer
}

// New creates the computers from files, and a kit with one card.
func New(t testing.TB, cardText string, to machine.System, files map[string]string) *Office {
	t.Helper()
	o := &Office{T: t, Dir: t.TempDir()}
	lay.Out(t, o.Dir, map[string]string{
		"old/computer.yaml": lay.Ident("linux", "OLD", "1"), "new/computer.yaml": lay.Ident(string(to), "NEW", "2"),
		"card.yaml": "card: 1\nname: app\ntitle: The App\n" + cardText,
	})
	lay.Out(t, o.Dir, files)
	c, err := card.Read(filepath.Join(o.Dir, "card.yaml"))
	fatal.If(t, err)
	o.Old, o.New = Open(t, filepath.Join(o.Dir, "old")), Open(t, filepath.Join(o.Dir, "new"))
	o.Kit, err = kit.Create(filepath.Join(o.Dir, "kit"), kit.New{Tool: "test", Cards: []*card.Card{c}, Passphrase: Passphrase, Work: 1,
		Old: kit.Computer{Name: "OLD", System: o.Old.System(), ID: machine.ID(o.Old)}, New: kit.Computer{Name: "NEW", System: to}})
	fatal.If(t, err)
	t.Cleanup(func() { o.Kit.Close() })
	return o
}

// Run starts a run on a computer, with a copy of the kit.
func (o *Office) Run(k run.Kit, c machine.Computer) *run.Run {
	h := run.NewHost(c)
	h.Private.Above = filepath.Join(o.Dir, "temp")
	r := run.New(k, h)
	r.Marks = filepath.Join(o.Dir, "marks")
	return r
}

// Reopen opens another copy of the kit.
func (o *Office) Reopen(name string) *kit.Kit {
	o.T.Helper()
	k, err := kit.Open(filepath.Join(o.Dir, name))
	if err == nil {
		err = k.Unlock(Passphrase)
	}
	fatal.If(o.T, err)
	return k
}

// Text returns the content of a file of the office, or "".
func (o *Office) Text(name string) string {
	data, _ := os.ReadFile(filepath.Join(o.Dir, name))
	return string(data)
}

// Person answers manual steps from a list, and keeps the texts that were shown. It agrees to
// everything irreversible.
type Person struct {
	run.NonInteractive
	Answers []run.Reply
	Shown   []string
	Asked   func(question string) error // whether to do what cannot be taken back; nil stands for yes
}

// Agree returns the prepared answer.
func (p *Person) Agree(question string) error {
	if p.Asked == nil {
		return nil
	}
	return p.Asked(question)
}

// DoStep returns the next answer.
func (p *Person) DoStep(ctx context.Context, g run.ManualStep) (run.Reply, error) {
	p.Shown = append(p.Shown, fmt.Sprintf("%s %d/%d %s", g.Action, g.Step, g.Of, g.Do))
	if len(p.Answers) == 0 {
		return p.NonInteractive.DoStep(ctx, g)
	}
	r := p.Answers[0]
	p.Answers = p.Answers[1:]
	return r, nil
}

// Job returns a move on a computer.
func (o *Office) Job(c machine.Computer) *move.Move { return move.New(o.Run(o.Kit, c)) }

// Only returns the outcome of the one app, and expects no error.
func (o *Office) Only(out []*run.Outcome, err error) *run.Outcome {
	o.T.Helper()
	fatal.If(o.T, err)
	if out[0].Err != nil {
		o.T.Fatal(out[0].Err)
	}
	return out[0]
}

// Pack packs the app.
func (o *Office) Pack() *run.Outcome { o.T.Helper(); return o.Only(o.Job(o.Old).Pack(o.T.Context())) }

// Unpack unpacks the app.
func (o *Office) Unpack() *run.Outcome {
	o.T.Helper()
	return o.Only(o.Job(o.New).Unpack(o.T.Context()))
}

// Verify verifies the app.
func (o *Office) Verify() *run.Outcome {
	o.T.Helper()
	return o.Only(o.Job(o.New).Verify(o.T.Context()))
}

// Change changes the app's licences at a time, with a technician; nil means non-interactive.
func (o *Office) Change(c machine.Computer, p run.Technician, at time.Time, do func(*move.Move, context.Context) ([]*run.Outcome, error)) *run.Outcome {
	o.T.Helper()
	j := o.Job(c)
	j.Now = func() time.Time { return at }
	j.Overrides = Alone()
	if p != nil {
		j.Technician = p
	}
	out, err := do(j, o.T.Context())
	fatal.If(o.T, err)
	return out[0]
}

// Alone lets a licence be activated without its app's data.
func Alone() map[string]string {
	return map[string]string{"in-place": "the licence alone is looked at"}
}

// Overrides returns the overridden gates of a move, without Alone's.
func Overrides(j *move.Move) []steps.Override {
	return slices.DeleteFunc(slices.Clone(j.State.Overrides), func(o steps.Override) bool { return o.Gate == "in-place" })
}

// Blocked returns the gates that stopped a step.
func Blocked(out *run.Outcome) string {
	var names []string
	for _, b := range out.Blocks {
		names = append(names, b.Gate)
	}
	return strings.Join(names, " ")
}

// Agreeing does every manual step, and says so.
type Agreeing struct{ run.NonInteractive }

// DoStep answers that the step is done.
func (Agreeing) DoStep(context.Context, run.ManualStep) (run.Reply, error) {
	return run.Reply{Answer: "done"}, nil
}

// Another creates one more computer.
func (o *Office) Another(dir, ident string) machine.Computer {
	lay.Out(o.T, o.Dir, map[string]string{dir + "/computer.yaml": ident, dir + "/srv/.keep": ""})
	return Open(o.T, o.Dir+"/"+dir)
}

var asides = regexp.MustCompile(`\.set-aside-[0-9-]+`)

// Files returns the files below a folder, without the times in names of data that was set aside.
func Files(t testing.TB, dir string) (out []string) {
	t.Helper()
	filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		fatal.If(t, err)
		if rel, _ := filepath.Rel(dir, p); !e.IsDir() {
			out = append(out, asides.ReplaceAllString(rel, "(aside)"))
		}
		return nil
	})
	slices.Sort(out)
	return out
}

// Contents returns every file of a computer with its content.
func Contents(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	fatal.If(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		if to, is := os.Readlink(path); is == nil {
			data, err = []byte("link to "+to), nil
		}
		rel, _ := filepath.Rel(dir, path)
		out[filepath.ToSlash(rel)] = string(data)
		return err
	}))
	return out
}

// Looker answers whether settings may be changed.
type Looker struct {
	Person
	Says  bool
	Lines []string
	Err   error
}

// Change records what is to be changed.
func (l *Looker) Change(_ string, key steps.Key, lines []pathmap.Line) (bool, error) {
	for _, x := range lines {
		l.Lines = append(l.Lines, fmt.Sprintf("%s|%s|%s|%s|%s", key.Item, x.In, x.Where, x.Old, x.New))
	}
	return l.Says, l.Err
}
