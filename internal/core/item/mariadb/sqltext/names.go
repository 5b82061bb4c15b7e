package sqltext

import (
	"slices"
	"strings"
	"unicode"
)

// part is a part of SQL that is not a space: a name, a text, a comment or another character.
type part struct {
	from, to int
	name     string // of a name, without quotes
	quoted   bool   // a name or text in quotes
	comment  bool
}

// parts splits SQL. mode is its sql_mode, which determines the meaning of quotes (MariaDB knowledge base,
// "SQL_MODE", "Identifier Names", "Comment Syntax").
func parts(sql, mode string) (out []part) {
	ansi, escapes := strings.Contains(mode, "ANSI_QUOTES"), !strings.Contains(mode, "NO_BACKSLASH_ESCAPES")
	for i := 0; i < len(sql); {
		p := part{from: i, to: i + 1}
		switch b := sql[i]; {
		case b == '`' || b == '"' && ansi:
			p.to, p.quoted = closed(sql, i, b, false), true
			p.name = strings.ReplaceAll(strings.Trim(sql[i:p.to], string(b)), string([]byte{b, b}), string(b))
		case b == '\'' || b == '"':
			p.to, p.quoted = closed(sql, i, b, escapes), true
		case b == '#', strings.HasPrefix(sql[i:], "--") && (i+2 == len(sql) || sql[i+2] <= ' '):
			p.to, p.comment = len(sql), true
			if n := strings.IndexByte(sql[i:], '\n'); n >= 0 {
				p.to = i + n + 1
			}
		case strings.HasPrefix(sql[i:], "/*!"), strings.HasPrefix(sql[i:], "/*M!"): // code for servers that support it
			for p.to = i + 3; p.to < len(sql) && (sql[p.to] == '!' || sql[p.to] >= '0' && sql[p.to] <= '9'); p.to++ {
			}
		case strings.HasPrefix(sql[i:], "/*"):
			p.to, p.comment = len(sql), true
			if n := strings.Index(sql[i+2:], "*/"); n >= 0 {
				p.to = i + n + 4
			}
		case b <= ' ':
			i++
			continue
		case plainByte(b):
			for p.to < len(sql) && plainByte(sql[p.to]) {
				p.to++
			}
			p.name = sql[i:p.to]
		}
		out = append(out, p)
		i = p.to
	}
	return out
}

// Code returns SQL of the same length, with spaces instead of everything in quotes and comments.
func Code(sql, mode string) string {
	out := []byte(sql)
	for _, p := range parts(sql, mode) {
		for i := p.from; i < p.to && (p.quoted || p.comment); i++ {
			out[i] = ' '
		}
	}
	return string(out)
}

// Swapped replaces the first occurrence of a phrase in the code of SQL, not in quotes or comments.
func Swapped(sql, mode, old, now string) string {
	if i := strings.Index(Code(sql, mode), old); i >= 0 {
		return sql[:i] + now + sql[i+len(old):]
	}
	return sql
}

// beforeTable lists the words after which a name with two parts is a table or routine.
var beforeTable = []string{"FROM", "JOIN", "INTO", "UPDATE", "TABLE", "CALL", "REFERENCES", "STRAIGHT_JOIN", "FOR"}

// ofSequence lists the functions whose argument is a sequence.
var ofSequence = []string{"NEXTVAL", "LASTVAL", "SETVAL"}

// Requalified replaces the name of a database wherever SQL refers to something in it: in code, not in
// texts and comments. With to "" it removes the name. If a table has the name of the database, a name with
// two parts in an expression is a column of the table.
func Requalified(sql, mode, from, to string) string {
	all := slices.DeleteFunc(parts(sql, mode), func(p part) bool { return p.comment })
	is := func(i int, text string) bool { return i >= 0 && i < len(all) && sql[all[i].from:all[i].to] == text }
	names := func(i int) bool { return from != "" && all[i].name == from }
	table := false
	for i := range all {
		table = table || names(i) && (is(i-1, ".") || !is(i+1, "."))
	}
	var out strings.Builder
	done := 0 // how much of sql is written
	for i, p := range all {
		if !names(i) || is(i-1, ".") || !is(i+1, ".") {
			continue
		}
		three, call := is(i+3, "."), is(i+3, "(")
		word := i > 0 && !all[i-1].quoted && slices.Contains(beforeTable, strings.ToUpper(all[i-1].name))
		sequence := i > 1 && is(i-1, "(") && !all[i-2].quoted && slices.Contains(ofSequence, strings.ToUpper(all[i-2].name))
		if table && !three && !call && !word && !sequence {
			continue
		}
		out.WriteString(sql[done:p.from])
		done = p.to
		switch {
		case to == "":
			done = all[i+1].to
		case plain(to) && !p.quoted:
			out.WriteString(to)
		default:
			out.WriteString(Quoted(to))
		}
	}
	out.WriteString(sql[done:])
	return out.String()
}

// closed returns the end of the string or name whose quote is at i.
func closed(sql string, i int, quote byte, escapes bool) int {
	for i++; i < len(sql); i++ {
		switch {
		case escapes && sql[i] == '\\':
			i++
		case sql[i] == quote && i+1 < len(sql) && sql[i+1] == quote:
			i++
		case sql[i] == quote:
			return i + 1
		}
	}
	return len(sql)
}

// plain reports whether a name consists of characters that need no quotes.
func plain(name string) bool {
	return name != "" && strings.IndexFunc(name, func(r rune) bool { return r < 0x80 && !plainByte(byte(r)) }) < 0 && (name[0] < '0' || name[0] > '9')
}

// plainByte reports whether a byte can be in a name without quotes.
func plainByte(b byte) bool {
	return b == '_' || b == '$' || b >= 0x80 || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
}

// Words adds every text in a definition that could be the name of a table, in lower case: words, and what is between quotes of
// names. It does not find names that contain such a quote.
func Words(sql string, to map[string]bool) {
	sql = strings.ToLower(sql)
	for word := range strings.FieldsFuncSeq(sql, func(r rune) bool {
		return r < 0x80 && r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) {
		to[word] = true
	}
	for _, quote := range []string{"`", "\""} {
		for text := range strings.SplitSeq(sql, quote) {
			to[text] = true
		}
	}
}

// Locks returns statements that take metadata locks without reading rows.
func Locks(tables []string) (statements []string) {
	for some := range slices.Chunk(tables, 50) { // a statement may read 61 tables
		var from []string
		for _, name := range some {
			from = append(from, Quoted(name))
		}
		statements = append(statements, "SELECT 1 FROM "+strings.Join(from, ", ")+" LIMIT 0")
	}
	return statements
}
