package filemeta

import (
	"fmt"
	"strings"
)

// Windows access lists are written in the security descriptor definition language (SDDL, [MS-DTYP]
// section 2.5.1): D:FLAGS(TYPE;FLAGS;RIGHTS;;;WHOM)...

// explicitACL returns the entries of a security descriptor that are not inherited, with user names
// in place of the ids of one computer; "" if there are none.
func explicitACL(sddl string, users map[string]string) string {
	_, list, found := strings.Cut(sddl, "D:")
	if !found {
		return ""
	}
	flags, aces := entriesOf(list)
	var out []string
	for _, f := range aces {
		if strings.Contains(f[1], "ID") {
			continue // inherited
		}
		if name := users[f[5]]; name != "" {
			f[5] = "{" + name + "}"
		}
		out = append(out, "("+strings.Join(f, ";")+")")
	}
	protected := ""
	if strings.Contains(flags, "P") {
		protected = "P"
	}
	if protected == "" && len(out) == 0 {
		return ""
	}
	return "D:" + protected + strings.Join(out, "")
}

// localACL is the inverse, with the users' ids on this computer. It returns an error if a user is
// missing, because a partial list would give access to the wrong people.
func localACL(acl string, id func(user string) (string, bool)) (string, error) {
	list, found := strings.CutPrefix(acl, "D:")
	if !found {
		return "", fmt.Errorf("%q is not an access list", acl)
	}
	flags, aces := entriesOf(list)
	if flags != "" && flags != "P" || acl != "D:"+flags+join(aces) {
		return "", fmt.Errorf("%q is not an access list", acl)
	}
	for _, f := range aces {
		switch name, named := strings.CutPrefix(f[5], "{"); {
		case named:
			local, here := id(strings.TrimSuffix(name, "}"))
			if !here {
				return "", fmt.Errorf("%s in the access list does not exist here", strings.TrimSuffix(name, "}"))
			}
			f[5] = local
		case strings.HasPrefix(f[5], "S-1-5-21-"):
			return "", fmt.Errorf("the access list names %s, an account of the old computer", f[5])
		}
	}
	return "D:" + flags + join(aces), nil
}

func join(aces [][]string) string {
	var b strings.Builder
	for _, f := range aces {
		b.WriteString("(" + strings.Join(f, ";") + ")")
	}
	return b.String()
}

// entriesOf splits a list into its flags and the fields of its entries. It stops at the first
// invalid entry.
func entriesOf(list string) (flags string, aces [][]string) {
	flags, rest, _ := strings.Cut(list, "(")
	for entry := range strings.SplitSeq(rest, "(") {
		entry, after, closed := strings.Cut(entry, ")")
		if f := strings.Split(entry, ";"); closed && len(f) == 6 {
			aces = append(aces, f)
		}
		if !closed || after != "" {
			break // the audit list, or the end
		}
	}
	return flags, aces
}
