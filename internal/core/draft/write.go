package draft

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
)

// quote writes a text as YAML.
func quote(s string) string {
	if strings.IndexFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) < 0 {
		return "'" + strings.ReplaceAll(s, "'", "''") + "'"
	}
	out, _ := json.Marshal(s) // JSON is valid YAML
	return string(out)
}

// oneLine makes a text fit for a comment.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return '?'
		}
		return r
	}, s)
}

// YAML returns the draft as a card, with comments for the person who completes it. check is the
// command that checks it. The result is a valid card.
func (d *Draft) YAML(check string) ([]byte, error) {
	w := &writer{}
	w.line("# A draft of an app card, made from the data found on one computer. Read it from top")
	w.line("# to bottom, and fill in what the comments ask for. Then check it with")
	w.line("#   %s", check)
	w.line("card: 1")
	w.line("name: %s", quote(d.Name))
	w.line("title: %s", quote(d.Title))
	w.field("vendor", d.Vendor, "the vendor of the app")
	w.field("about", d.About, "what the office uses the app for")
	w.line("")
	d.writeVersion(w)
	if len(d.Requires) > 0 {
		w.line("requires:  # its settings name them")
	}
	for _, r := range d.Requires {
		w.line("  - {name: %s, registry: %s}", quote(r.Name), quote(r.Registry))
	}
	w.line("items:")
	for _, it := range d.Items {
		d.writeItem(w, it)
	}
	w.line("")
	if len(d.Licence) == 0 {
		w.line("# Describe how the app is licensed (docs/cards.md, Licences).")
		w.line("# licences: []")
	} else {
		w.block("licences", d.Licence)
	}
	w.line("")
	if len(d.Opens) > 0 {
		w.block("opens", d.Opens)
		w.line("")
	}
	d.writeByHand(w)
	for _, n := range d.Notes {
		w.line("# Not read: %s", oneLine(n))
	}
	data := []byte(w.String())
	if _, err := card.Parse(d.Name+".yaml", data); err != nil {
		return data, fault.Wrap(fault.Internal, err, "the draft of %s is not a valid card", d.Name)
	}
	return data, nil
}

type writer struct{ strings.Builder }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// block writes lines below a field.
func (w *writer) block(field string, lines []string) {
	w.line("%s:", field)
	for _, l := range lines {
		w.line("  %s", l)
	}
}

// field writes a field, or a comment if text is empty.
func (w *writer) field(name, text, about string) {
	if text == "" {
		w.line("# %s: %s", name, about)
		return
	}
	w.line("%s: %s", name, quote(text))
}

// Quote writes a text as a card has it.
func Quote(s string) string { return quote(s) }

func (d *Draft) writeVersion(w *writer) {
	if len(d.Version) == 0 {
		w.line("# No version was found. Use one of:")
		w.line("# version:")
		w.line("#   exe: '%%PROGRAMFILES%%\\...\\app.exe'   # or file and pattern, registry and value, package")
		w.line("#   rule: same-major")
	} else {
		w.line("version:")
		for _, l := range d.Version {
			w.line("  %s", l)
		}
		w.line("  rule: %s  # exact, same-minor, same-major, same-or-newer: ask the vendor", cmp.Or(d.Rule, "same-major"))
	}
	w.line("")
	if len(d.Programs) > 0 {
		quoted := make([]string, len(d.Programs))
		for i, p := range d.Programs {
			quoted[i] = quote(p)
		}
		w.line("programs: [%s]  # to check whether it is running", strings.Join(quoted, ", "))
	} else {
		w.line("# programs: [app.exe]  # to check whether it is running")
	}
	w.line("")
}

func (d *Draft) writeItem(w *writer, it *Item) {
	w.line("  # %s", oneLine(it.About))
	for _, n := range it.Notes {
		w.line("  # %s", oneLine(n))
	}
	w.line("  - name: %s", quote(it.Name)) // null and 1e3 would not be texts
	w.line("    kind: %s", it.Kind)
	switch {
	case it.Kind.Info().Keyed:
		w.line("    key: %s", quote(it.Path))
	case it.Kind.Info().Runs:
		w.line("    job: {%s: %s}", d.System, quote(it.Path))
	case it.Kind.Info().Served():
		w.line("    server: {database: %s}", quote(it.Path))
	case it.From != "":
		w.line("    # A setting has its path on each computer; here it is %s", oneLine(it.Path))
		w.line("    path: %s", it.From)
	default:
		w.line("    path: {%s: %s}", d.System, quote(it.Path))
	}
	if it.Each != "" {
		w.line("    each: %s", quote(it.Each))
	}
	if it.Secret {
		w.line("    secret: true")
	}
	if len(it.Skips) > 0 {
		w.line("    skip:")
		for _, s := range it.Skips {
			size := ""
			if s.Files > 0 {
				size = " (" + amount(s.Files, s.Bytes) + ")"
			}
			w.line("      - %s  # %s%s", quote(s.Pattern), oneLine(s.Why), size)
		}
	}
	if len(it.UpdatePaths) > 0 {
		w.line("    update-paths:  # they contain paths that must be updated for the new computer")
		for _, p := range it.UpdatePaths {
			w.line("      - %s", quote(p))
		}
	}
	if len(it.Counts) > 0 {
		w.line("    counts:  # numbers that the owner would recognise; change them as you like")
		for _, c := range it.Counts {
			if c.Query != "" {
				w.line("      - {name: %s, query: %s}", quote(c.Name), quote(c.Query))
			} else {
				w.line("      - {name: %s, files: %s}", quote(c.Name), quote(c.Files))
			}
		}
	}
}

// writeByHand writes the manual steps, including the absolute paths in texts.
func (d *Draft) writeByHand(w *writer) {
	if len(d.Pointers)+len(d.ByHand)+len(d.Around) == 0 {
		w.line("# by-hand: []  # manual steps on the new computer")
		return
	}
	w.line("by-hand:")
	for _, l := range slices.Concat(d.ByHand, d.Around) {
		w.line("  - %s", quote(l))
	}
	if len(d.Pointers) > 0 {
		w.line("  # These settings contain paths that may be wrong on the new computer.")
	}
	for _, p := range d.Pointers {
		w.line("  - %s", quote(fmt.Sprintf("Check the path in %s, line %d: %s", oneLine(p.File), p.Line, oneLine(p.Path))))
	}
}
