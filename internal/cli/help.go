package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"movekit/docs"
	"movekit/internal/core/fault"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// topic is a help topic for errors: a section of the technician's guide.
type topic struct{ name, text string }

// topics returns the sections with a short name.
func topics() (out []topic) {
	for _, section := range strings.Split(docs.Technician, "\n### ")[1:] {
		section, _, _ = strings.Cut(section, "\n## ")
		name, text, _ := strings.Cut(section, "\n")
		out = append(out, topic{name, strings.TrimSpace(strings.ReplaceAll(text, "`", ""))})
	}
	return out
}

// helpCommand shows the help of a command, or explains an error or a gate.
func (e *env) helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND|NAME]",
		Short: "Show help for a command, a gate or an error",
		ValidArgsFunction: func(*cobra.Command, []string, string) (out []string, _ cobra.ShellCompDirective) {
			for _, t := range topics() {
				out = append(out, t.name)
			}
			for _, g := range steps.Gates {
				out = append(out, g.Name+"\t"+g.About)
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if c, rest, err := root.Find(args); err == nil && (len(args) == 0 || c != root && len(rest) == 0) {
				return c.Help()
			}
			if len(args) == 1 {
				if text := explained(args[0]); text != "" {
					e.printf("%s\n", table.Block(table.Flow(text, e.width)))
					return nil
				}
			}
			var names []string
			for _, t := range topics() {
				names = append(names, t.name)
			}
			return fault.New(fault.Usage, "there is no command, gate or error %q. Error topics are %s", strings.Join(args, " "), strings.Join(names, ", "))
		},
	}
}

// explained returns the text of a topic or a gate, or "".
func explained(name string) string {
	for _, t := range topics() {
		if t.name == name {
			return t.text
		}
	}
	g := steps.Find(name)
	if g == nil {
		return ""
	}
	var before []string
	for _, s := range g.Steps {
		before = append(before, string(s))
	}
	past := "It cannot be overridden."
	if g.Overridable() {
		past = fmt.Sprintf("To override it: --override %s --because \"REASON\". The handover lists the override with its reason.", g.Name)
	}
	return fmt.Sprintf("The gate %s is checked before %s: %s.\n\n%s\n\n%s", g.Name, strings.Join(before, ", "), g.About, adviceOn(g.Name, ""), past)
}
