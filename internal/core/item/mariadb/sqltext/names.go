package sqltext

import "strings"

// Requalified replaces the name of a database wherever SQL refers to something in it: in code, not
// in strings and comments. mode is the sql_mode of the SQL, which determines the meaning of quotes
// (MariaDB knowledge base, "SQL_MODE", "Identifier Names", "Comment Syntax").
func Requalified(sql, mode, from, to string) string {
	ansi, escapes := strings.Contains(mode, "ANSI_QUOTES"), !strings.Contains(mode, "NO_BACKSLASH_ESCAPES")
	var out strings.Builder
	done := 0 // how much of sql is written
	member := false
	for i := 0; i < len(sql); {
		end, name := i+1, ""
		switch b := sql[i]; {
		case b == '`' || b == '"' && ansi:
			end = closed(sql, i, b, false)
			name = strings.ReplaceAll(strings.Trim(sql[i:end], string(b)), string([]byte{b, b}), string(b))
		case b == '\'' || b == '"':
			end = closed(sql, i, b, escapes)
		case b == '#', strings.HasPrefix(sql[i:], "--") && (i+2 == len(sql) || sql[i+2] <= ' '):
			if n := strings.IndexByte(sql[i:], '\n'); n >= 0 {
				i += n + 1
			} else {
				i = len(sql)
			}
			continue
		case strings.HasPrefix(sql[i:], "/*!"), strings.HasPrefix(sql[i:], "/*M!"): // code for servers that support it
			for end = i + 3; end < len(sql) && (sql[end] == '!' || sql[end] >= '0' && sql[end] <= '9'); end++ {
			}
		case strings.HasPrefix(sql[i:], "/*"):
			if n := strings.Index(sql[i+2:], "*/"); n >= 0 {
				i += n + 4
			} else {
				i = len(sql)
			}
			continue
		case b <= ' ':
			i++
			continue
		case plainByte(b):
			for end < len(sql) && plainByte(sql[end]) {
				end++
			}
			name = sql[i:end]
		}
		if name == from && name != "" && !member && strings.HasPrefix(strings.TrimLeft(sql[end:], " \t\r\n"), ".") {
			out.WriteString(sql[done:i])
			if plain(to) && plainByte(sql[i]) {
				out.WriteString(to)
			} else {
				out.WriteString(Quoted(to))
			}
			done = end
		}
		member = sql[i] == '.'
		i = end
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
