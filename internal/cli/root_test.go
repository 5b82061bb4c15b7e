package cli

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"movekit/test/fatal"
)

// said runs a command line, and returns its exit code and everything that it printed.
func said(args ...string) (code int, text string) {
	var out strings.Builder
	code = Main(context.Background(), args, strings.NewReader(""), &out, &out)
	return code, out.String()
}

// TestWrongArguments gives wrong arguments to every command that limits their number. Each shows its usage.
func TestWrongArguments(t *testing.T) {
	nine := strings.Fields(strings.Repeat("x ", 9))
	checked := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			walk(sub)
			if sub.Args == nil || sub.Args(sub, nine) == nil || sub.HasSubCommands() {
				continue
			}
			checked++
			code, text := said(append(strings.Fields(sub.CommandPath())[1:], nine...)...)
			if code != exitUsage || !strings.Contains(text, "wrong number of arguments (9). Usage: "+sub.CommandPath()) || !strings.Contains(text, "Nothing was changed") {
				t.Errorf("%s: exit %d, %s", sub.CommandPath(), code, text)
			}
		}
	}
	walk((&env{}).command())
	if checked < 15 {
		t.Errorf("only %d commands were checked", checked)
	}
}

// TestEmptyCollection does not stop an office that made its folder of cards, and has none yet.
func TestEmptyCollection(t *testing.T) {
	t.Chdir(t.TempDir())
	fatal.If(t, os.Mkdir("cards", 0o755))
	if list, err := readCards(nil, nil); err != nil || len(list) > 0 {
		t.Errorf("%v %v", list, err)
	}
	if list, err := everyCard(); err != nil || len(list) == 0 {
		t.Errorf("built-in cards: %d, %v", len(list), err)
	}
	if code, text := said("card", "list", "--cards", "cards"); code != exitUsage || !strings.Contains(text, "there are no cards in cards") {
		t.Errorf("given by name: exit %d, %s", code, text)
	}
}
