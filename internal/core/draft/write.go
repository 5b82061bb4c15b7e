package draft

import (
	"fmt"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/version"
)

// YAML returns the draft as a card, with comments for the person who completes it. check is the
// command that checks it. The result is a valid card.
func (d *Draft) YAML(check string) ([]byte, error) {
	c := &card.Card{Format: card.Format, Name: d.Name, Title: d.Title, Vendor: d.Vendor, About: d.About, Version: d.Version, Programs: d.Programs,
		Requires: d.Requires, Licences: d.Licences, Opens: d.Opens, ByHand: slices.Concat(d.ByHand, d.Around)}
	above, beside := map[string][]string{}, map[string]string{}
	above["card"] = []string{"A draft of an app card, made from the data found on one computer. Read it from top", "to bottom, and fill in what the comments ask for. Then check it with", "  " + check}
	if d.Vendor == "" {
		above["vendor"] = []string{"vendor: the vendor of the app"}
	}
	if d.About == "" {
		above["about"] = []string{"about: what the office uses the app for"}
	}
	if d.Version == nil {
		above["version"] = []string{"No version was found. Use one of:", "version:", `  exe: '%PROGRAMFILES%\...\app.exe'   # or file and pattern, registry and value, package`, "  rule: same-major"}
	} else {
		if d.Version.Rule == "" {
			d.Version.Rule = version.SameMajor
		}
		if d.VersionHere != "" {
			above["version"] = []string{"It is " + d.VersionHere + " here."}
		}
		beside["version.rule"] = "exact, same-minor, same-major, same-or-newer: ask the vendor"
	}
	above["programs"] = []string{"To check whether it is running:"}
	if len(d.Programs) == 0 {
		above["programs"] = append(above["programs"], "programs: [app.exe]")
	}
	if len(d.Requires) > 0 {
		above["requires"] = []string{"Its settings name them."}
	}
	for i, it := range d.Items {
		at := fmt.Sprintf("items[%d]", i)
		c.Items = append(c.Items, it.card(d.System))
		above[at] = append([]string{it.About}, it.Notes...)
		if it.From != nil {
			above[at+".path"] = []string{"A setting has its path on each computer; here it is " + it.Path}
		}
		for j, s := range it.Skips {
			text := s.Why
			if s.Files > 0 {
				text += " (" + amount(s.Files, s.Bytes) + ")"
			}
			beside[fmt.Sprintf("%s.skip[%d]", at, j)] = text
		}
		if len(it.UpdatePaths) > 0 {
			above[at+".update-paths"] = []string{"They contain paths that must be updated for the new computer."}
		}
		if len(it.Counts) > 0 {
			above[at+".counts"] = []string{"Numbers that the owner would recognise; change them as you like."}
		}
	}
	if len(d.Licences) == 0 {
		above["licences"] = []string{"Describe how the app is licensed (docs/cards.md, Licences).", "licences: []"}
	}
	if len(d.Pointers) > 0 {
		above[fmt.Sprintf("by-hand[%d]", len(c.ByHand))] = []string{"These settings contain paths that may be wrong on the new computer."}
	}
	for _, p := range d.Pointers {
		c.ByHand = append(c.ByHand, fmt.Sprintf("Check the path in %s, line %d: %s", card.Visible(p.File), p.Line, card.Visible(p.Path)))
	}
	if len(c.ByHand) == 0 {
		above["by-hand"] = []string{"by-hand: []  # manual steps on the new computer"}
	}
	var below []string
	for _, n := range d.Notes {
		below = append(below, "Not read: "+n)
	}
	data, err := c.YAML(card.Comments{Above: above, Beside: beside, Below: below})
	if err == nil {
		_, err = card.Parse(d.Name+".yaml", data)
	}
	if err != nil {
		return data, fault.Wrap(fault.Internal, err, "the draft of %s is not a valid card", d.Name)
	}
	return data, nil
}

// card returns the item as a card has it.
func (it *Item) card(system machine.System) card.Item {
	out := card.Item{Name: it.Name, Kind: it.Kind, Secret: it.Secret, Each: it.Each, UpdatePaths: it.UpdatePaths, Counts: it.Counts}
	at := card.PathOn(string(system), it.Path)
	switch info := it.Kind.Info(); {
	case info.Keyed:
		out.Key = it.Path
	case info.Runs:
		out.Job = at
	case info.Served():
		out.Server = &card.Server{Database: card.Setting{Text: it.Path}}
	case it.From != nil:
		out.Path.From = it.From
	default:
		out.Path = at
	}
	for _, s := range it.Skips {
		out.Skip = append(out.Skip, s.Pattern)
	}
	return out
}
