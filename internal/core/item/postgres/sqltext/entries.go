// Package sqltext reads the SQL text of PostgreSQL without a server: the output of pg_restore, and the rows that Move Kit seals.
package sqltext

import (
	"regexp"
	"slices"
	"strings"

	"movekit/internal/core/dbprint"
)

// Entry is one object of a database as the server's own programs write it: a table with its owner,
// a comment, rights, an index.
type Entry struct {
	Sort string // table, comment, fk constraint, ...
	Name string // with its schema
	SQL  string // ends with a newline
}

// header matches the first line of an entry, between two lines of "--".
var header = regexp.MustCompile(`^-- Name: (.*); Type: ([A-Z ]+); Schema: (.*); Owner: .*$`)

// defaults matches settings that apply to the following entries. Its group is the way in which tables are stored.
var defaults = regexp.MustCompile(`^SET default_(?:tablespace|table_access_method) = (.*);$`)

// heap is the way in which tables are stored unless an extension offers another.
const heap = "heap"

// Cut splits the output of pg_restore into entries.
func Cut(text string) (out []Entry) {
	var now *Entry
	var body []string
	var inside scanner
	token, method, stored := "", "", "" // stored: that of the current entry
	setting := func(line string) bool {
		m := defaults.FindStringSubmatch(line)
		if m != nil && strings.HasPrefix(line, "SET default_table_access_method") {
			if method = m[1]; method == heap {
				method = ""
			}
		}
		return m != nil
	}
	end := func() {
		if now == nil {
			return
		}
		kept := body[:0]
		for _, line := range body {
			switch {
			case setting(line):
			case token != "" && (line == `\restrict `+token || line == `\unrestrict `+token):
			default:
				kept = append(kept, line)
			}
		}
		now.SQL = strings.TrimSpace(strings.Join(kept, "\n")) + "\n"
		if stored != "" {
			now.SQL = "SET default_table_access_method = " + stored + ";\n" + now.SQL + "SET default_table_access_method = " + heap + ";\n"
		}
		if database := now.Sort == "database" || now.Sort == "database properties"; database {
			now.SQL, _, _ = strings.Cut(now.SQL, "\n\\") // a command of the server's own client
		}
		out = append(out, *now)
	}
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		if line == "--" && i+2 < len(lines) && lines[i+2] == "--" && inside.code() {
			m := header.FindStringSubmatch(lines[i+1])
			if m != nil || lines[i+1] == "-- PostgreSQL database dump complete" {
				end()
				now, body, inside = nil, nil, scanner{}
				if m != nil {
					now = &Entry{Sort: strings.ToLower(m[2]), Name: m[1]}
					if m[3] != "-" {
						now.Name = m[3] + "." + m[1]
					}
					stored = ""
					if now.Sort == "table" || now.Sort == "materialized view" {
						stored = method
					}
				}
				i += 2
				continue
			}
		}
		if now == nil && strings.HasPrefix(line, `\restrict `) {
			token = line[len(`\restrict `):]
		}
		if now == nil {
			setting(line)
		}
		body = append(body, line)
		inside.line(line)
	}
	end()
	return out
}

// scanner parses SQL line by line (PostgreSQL documentation, 4.1), and reports whether the next
// character is code, and not a string, a name or a comment.
type scanner struct {
	quote   string // the end of the string, name or comment; "" in code
	escapes bool   // a backslash is an escape in the string
	depth   int    // nesting of comments
}

func (s *scanner) code() bool { return s.quote == "" }

var dollar = regexp.MustCompile(`^\$(?:[A-Za-z_\x80-\xff][A-Za-z0-9_\x80-\xff]*)?\$`)

func (s *scanner) line(l string) {
	for i := 0; i < len(l); {
		switch {
		case s.quote == "*/":
			switch {
			case strings.HasPrefix(l[i:], "*/"):
				i++
				if s.depth--; s.depth == 0 {
					s.quote = ""
				}
			case strings.HasPrefix(l[i:], "/*"):
				i++
				s.depth++
			}
			i++
		case s.quote != "":
			switch {
			case s.escapes && l[i] == '\\':
				i += 2
			case strings.HasPrefix(l[i:], s.quote):
				i += len(s.quote)
				s.quote = "" // a doubled quote opens it again
			default:
				i++
			}
		case strings.HasPrefix(l[i:], "--"):
			return
		case strings.HasPrefix(l[i:], "/*"):
			s.quote, s.depth = "*/", 1
			i += 2
		case l[i] == '\'' || l[i] == '"':
			s.escapes = l[i] == '\'' && i > 0 && (l[i-1] == 'E' || l[i-1] == 'e') && (i == 1 || !word(l[i-2]))
			s.quote = l[i : i+1]
			i++
		case l[i] == '$' && (i == 0 || !word(l[i-1])):
			s.quote, s.escapes = dollar.FindString(l[i:]), false
			i += max(1, len(s.quote))
		default:
			i++
		}
	}
}

func word(b byte) bool {
	return b == '_' || b >= 0x80 || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
}

// OfDatabase reports whether an entry is about the database as a whole.
func (e Entry) OfDatabase() bool {
	return strings.HasPrefix(e.Sort, "database") || strings.HasPrefix(e.Name, "DATABASE ")
}

// named matches the database name in a statement about the database as a whole.
var named = regexp.MustCompile(`(?m)^((?:[A-Z(), ]*? |ALTER ROLE (?:"(?:[^"]|"")*"|[a-z_][a-z0-9_$]*) IN )?DATABASE )(?:"(?:[^"]|"")*"|[a-z_][a-z0-9_$]*)`)

// For returns the statements of an entry for a database with another name.
func (e Entry) For(name string) string {
	if !e.OfDatabase() {
		return e.SQL
	}
	return named.ReplaceAllString(e.SQL, "${1}"+strings.ReplaceAll(name, "$", "$$"))
}

// Setting returns the setting that a statement about the database changes.
func (e Entry) Setting(sql string) string {
	_, what, _ := strings.Cut(strings.ReplaceAll(sql, "\n", " "), " SET ")
	return what
}

// sorts maps the program's own words for kinds of objects to common ones.
var sorts = strings.NewReplacer("default acl", "default grant", "acl", "grant", "fk constraint", "foreign key", "blob", "large object")

// Object returns the entry in the form that is compared.
func (e Entry) Object() dbprint.Object {
	name, sort := e.Name, sorts.Replace(e.Sort)
	switch {
	case e.Sort == "database properties":
		name, sort = "of the database", "settings"
	case e.Sort == "database":
		name = "as a whole"
	case e.OfDatabase():
		name = "DATABASE"
	}
	text := e.For("")
	return dbprint.NewObject(sort, name, text, loose(text))
}

// added matches casts, brackets and spaces that a server adds to expressions when it prints them,
// and letter case.
var added = regexp.MustCompile(`::(?:character varying|double precision|bit varying|(?:timestamp|time)(?:\(\d\))? with(?:out)? time zone|"(?:[^"]|"")+"(?:\."(?:[^"]|"")+")?|[\w.]+)(?:\(\d+(?:,\d+)?\))?(?:\[\])*|[()\[\]\s]|\bARRAY\b`)

func loose(sql string) string { return strings.ToLower(added.ReplaceAllString(sql, "")) }

const qualified = Identifier + `(?:\.` + Identifier + `)?`

// The statements that the administrator runs after everything is loaded: owners and rights of the
// database's own objects. None of them calls a function.
var (
	ownerOf   = regexp.MustCompile(`^ALTER (?:TABLE|VIEW|MATERIALIZED VIEW|FOREIGN TABLE|SEQUENCE|TYPE|DOMAIN|SCHEMA|COLLATION|CONVERSION|STATISTICS|TEXT SEARCH CONFIGURATION|TEXT SEARCH DICTIONARY|(?:PROCEDURAL )?LANGUAGE|PUBLICATION|SUBSCRIPTION|SERVER|FOREIGN DATA WRAPPER|EVENT TRIGGER) ` + qualified + ` OWNER TO ` + Identifier + `;$`)
	ownerFn   = regexp.MustCompile(`^ALTER (?:FUNCTION|PROCEDURE|AGGREGATE|OPERATOR|OPERATOR CLASS|OPERATOR FAMILY) [^;]+ OWNER TO ` + Identifier + `;$`)
	rightOn   = regexp.MustCompile(`^(?:GRANT|REVOKE) [^;]+ ON (?:TABLE|SEQUENCE|FUNCTION|PROCEDURE|SCHEMA|TYPE|DOMAIN|LANGUAGE|FOREIGN DATA WRAPPER|FOREIGN SERVER|LARGE OBJECT) [^;]+;$`)
	defaultOf = regexp.MustCompile(`^ALTER DEFAULT PRIVILEGES [^;]+;$`)
	inName    = regexp.MustCompile(`^(?:SET SESSION AUTHORIZATION ` + Identifier + `|RESET SESSION AUTHORIZATION);$`)
)

// Later returns the entries without owners and rights, and those statements in order.
func Later(entries []Entry) (now []Entry, statements []string) {
	for _, e := range entries {
		if e.OfDatabase() {
			now = append(now, e)
			continue
		}
		lines := strings.Split(strings.TrimRight(e.SQL, "\n"), "\n")
		var moved []string
		for len(lines) > 0 {
			last := lines[len(lines)-1]
			if last != "" && !ownerOf.MatchString(last) && !ownerFn.MatchString(last) && !rightOn.MatchString(last) && !defaultOf.MatchString(last) && !inName.MatchString(last) {
				break
			}
			if lines = lines[:len(lines)-1]; last != "" {
				moved = append(moved, last)
			}
		}
		slices.Reverse(moved)
		statements = append(statements, moved...)
		if len(lines) > 0 {
			e.SQL = strings.Join(lines, "\n") + "\n"
			now = append(now, e)
		}
	}
	return now, statements
}
