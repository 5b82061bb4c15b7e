package demo

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/examples"
	"movekit/internal/core/card"
	"movekit/test/fatal"
)

// TestWithoutAServer creates Pontoon Ledger's data without PostgreSQL.
func TestWithoutAServer(t *testing.T) {
	d := &Demo{Dir: t.TempDir(), Out: &bytes.Buffer{}}
	p := &pontoon{}
	defer p.stop()
	fatal.If(t, p.simulate(d))
	fatal.If(t, p.fill(d))
	text, err := examples.Cards.ReadFile("cards/pontoon.yaml")
	fatal.If(t, err)
	c, err := card.Parse("pontoon.yaml", []byte(p.card(string(text))))
	fatal.If(t, err)
	if it := c.Item("ledger"); it.Kind != card.SQLServer || len(it.Counts) != 2 || it.Server.Password == nil {
		t.Errorf("%+v", it)
	}
	ledger := p.simulated[0].Get("ledger")
	statements, _ := filepath.Glob(filepath.Join(d.Dir, "old/ProgramData/Pontoon/statements/*.pox"))
	if len(ledger.Tables) != 2 || len(ledger.Tables[0].Rows) != 60 || len(ledger.Tables[1].Rows) != 900 || len(statements) != 4 {
		t.Errorf("%d tables, %d statements", len(ledger.Tables), len(statements))
	}
	if ini, _ := os.ReadFile(filepath.Join(d.Dir, "new/ProgramData/Pontoon/pontoon.ini")); !strings.Contains(string(ini), "version=4.1c") || !strings.Contains(string(ini), "port="+p.ports[1]) {
		t.Errorf("the settings of the new computer: %s", ini)
	}
}

// TestTheExampleIsAlwaysTheSame creates the example twice and compares, so that documents about it
// stay true.
func TestTheExampleIsAlwaysTheSame(t *testing.T) {
	for name, make := range map[string]func(*rand.Rand) string{"the rota": rotaSQL, "the ledger": func(r *rand.Rand) string { return fmt.Sprint(ledger(r)) }} {
		first := make(rand.New(rand.NewPCG(1, 2)))
		if again := make(rand.New(rand.NewPCG(1, 2))); again != first {
			t.Errorf("%s comes out otherwise each time", name)
		}
	}
	one, two := t.TempDir(), t.TempDir()
	for _, dir := range []string{one, two} {
		fatal.If(t, makeOld(dir))
	}
	for _, file := range []string{"ProgramData/Hoistbook/Diary/2023/03-01-0001.rec", "Users/maren/AppData/Roaming/Tidewright/settings.ini", "ProgramData/WatchRota/rota.ini"} {
		a, err := os.ReadFile(filepath.Join(one, file))
		b, _ := os.ReadFile(filepath.Join(two, file))
		if err != nil || !bytes.Equal(a, b) {
			t.Errorf("%s: %v", file, err)
		}
	}
}

func TestCommandsAreWrittenForAShell(t *testing.T) {
	for want, args := range map[string][]string{
		"movekit pack --kit kit": {"movekit", "pack", "--kit", "kit"}, `'/opt/move kit' --title 'C:\X'`: {"/opt/move kit", "--title", `C:\X`}, `movekit 'it'\''s'`: {"movekit", "it's"},
	} {
		if got := line(args); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
