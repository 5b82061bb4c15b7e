package postgres

import (
	"bytes"
	"context"
	"io"
	"os"
	"regexp"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
)

// entry is one object of a database as the server's own programs write it: a table with its owner,
// a comment, rights, an index.
type entry struct {
	sort string // table, comment, fk constraint, ...
	name string // with its schema
	sql  string // ends with a newline
}

// Sections of an archive: before the rows, and after them.
const (
	before = "--section=pre-data"
	after  = "--section=post-data"
)

// header matches the first line of an entry, between two lines of "--".
var header = regexp.MustCompile(`^-- Name: (.*); Type: ([A-Z ]+); Schema: (.*); Owner: .*$`)

// defaults matches settings that apply to the following entries.
var defaults = regexp.MustCompile(`^SET default_(?:tablespace|table_access_method) = .*;$`)

// cut splits the output of pg_restore into entries.
func cut(text string) (out []entry) {
	var now *entry
	var body []string
	var inside scanner
	token, method := "", ""
	end := func() {
		if now == nil {
			return
		}
		kept := body[:0]
		for _, line := range body {
			switch {
			case defaults.MatchString(line):
				method = line
			case token != "" && (line == `\restrict `+token || line == `\unrestrict `+token):
			default:
				kept = append(kept, line)
			}
		}
		now.sql = strings.TrimSpace(strings.Join(kept, "\n")) + "\n"
		if database := now.sort == "database" || now.sort == "database properties"; database {
			now.sql, _, _ = strings.Cut(now.sql, "\n\\") // a command of the server's own client
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
					now = &entry{sort: strings.ToLower(m[2]), name: m[1]}
					if m[3] != "-" {
						now.name = m[3] + "." + m[1]
					}
					if (now.sort == "table" || now.sort == "materialized view") && method != "" {
						body = append(body, method)
					}
				}
				i += 2
				continue
			}
		}
		if now == nil && strings.HasPrefix(line, `\restrict `) {
			token = line[len(`\restrict `):]
		}
		if now == nil && defaults.MatchString(line) {
			method = line
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

// ofDatabase reports whether an entry is about the database as a whole.
func (e entry) ofDatabase() bool {
	return strings.HasPrefix(e.sort, "database") || strings.HasPrefix(e.name, "DATABASE ")
}

// named matches the database name in a statement about the database as a whole.
var named = regexp.MustCompile(`(?m)^((?:[A-Z(), ]*? |ALTER ROLE (?:"(?:[^"]|"")*"|[a-z_][a-z0-9_$]*) IN )?DATABASE )(?:"(?:[^"]|"")*"|[a-z_][a-z0-9_$]*)`)

// of returns the statements of an entry for a database with another name.
func (e entry) of(name string) string {
	if !e.ofDatabase() {
		return e.sql
	}
	return named.ReplaceAllString(e.sql, "${1}"+strings.ReplaceAll(name, "$", "$$"))
}

// setting returns the setting that a statement about the database changes.
func (e entry) setting(sql string) string {
	_, what, _ := strings.Cut(strings.ReplaceAll(sql, "\n", " "), " SET ")
	return what
}

// sorts maps the program's own words for kinds of objects to common ones.
var sorts = strings.NewReplacer("default acl", "default grant", "acl", "grant", "fk constraint", "foreign key", "blob", "large object")

// object returns the entry in the form that is compared.
func (e entry) object() dbprint.Object {
	name, sort := e.name, sorts.Replace(e.sort)
	switch {
	case e.sort == "database properties":
		name, sort = "of the database", "settings"
	case e.sort == "database":
		name = "as a whole"
	case e.ofDatabase():
		name = "DATABASE"
	}
	text := e.of("")
	return dbprint.NewObject(sort, name, text, loose(text))
}

// added matches casts, brackets and spaces that a server adds to expressions when it prints them,
// and letter case.
var added = regexp.MustCompile(`::(?:character varying|double precision|bit varying|(?:timestamp|time)(?:\(\d\))? with(?:out)? time zone|"(?:[^"]|"")+"(?:\."(?:[^"]|"")+")?|[\w.]+)(?:\(\d+(?:,\d+)?\))?(?:\[\])*|[()\[\]\s]|\bARRAY\b`)

func loose(sql string) string { return strings.ToLower(added.ReplaceAllString(sql, "")) }

// definitions returns the entries of an archive, before the rows and after them.
func (s *session) definitions(ctx context.Context, archive string) (pre, post []entry, err error) {
	restore, err := program(ctx, "pg_restore", s.number/10000)
	if err != nil {
		return nil, nil, err
	}
	for _, section := range []struct {
		args []string
		to   *[]entry
	}{{[]string{before, "--create"}, &pre}, {[]string{after}, &post}} {
		var text bytes.Buffer
		said, err := s.run(ctx, "", nil, &text, restore, append(section.args, "--no-tablespaces", "--file=-", archive)...)
		if err != nil {
			return nil, nil, s.programFailed(err, said, "the schema of %s cannot be read")
		}
		*section.to = cut(text.String())
	}
	return pre, post, nil
}

// objects returns the schema in a snapshot, and writes its archive to to.
func (s *session) objects(ctx context.Context, database, snapshot string, to io.Writer) ([]dbprint.Object, error) {
	f, err := s.file("schema-*.dump")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := s.dumpSchema(ctx, database, snapshot, io.MultiWriter(f, to)); err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot write the schema")
	}
	pre, post, err := s.definitions(ctx, f.Name())
	if err != nil {
		return nil, err
	}
	var out []dbprint.Object
	for _, e := range append(pre, post...) {
		out = append(out, e.object())
	}
	return out, nil
}
