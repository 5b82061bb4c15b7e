package sqltext

import (
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Identifier matches a name as the server quotes it.
const Identifier = `(?:[a-z_][a-z0-9_$]*|"(?:[^"]|"")+")`

// plain matches a name in a list that needs no quotes.
var plain = regexp.MustCompile(`^[\pL0-9_$+-]*$`)

// ListOf returns the names in a list such as a search path, which the server writes quoted if needed,
// as literals. ok is false if it is not such a list.
func ListOf(text string) (literals string, ok bool) {
	var out []string
	for rest := strings.TrimSpace(text); ; {
		name := ""
		if strings.HasPrefix(rest, `"`) {
			end := 1
			for ; end < len(rest); end++ {
				if rest[end] == '"' {
					if end+1 < len(rest) && rest[end+1] == '"' {
						end++
						continue
					}
					break
				}
			}
			if end >= len(rest) {
				return "", false
			}
			name, rest = strings.ReplaceAll(rest[1:end], `""`, `"`), rest[end+1:]
		} else {
			end := strings.IndexByte(rest+",", ',')
			name, rest = strings.TrimSpace(rest[:end]), rest[end:]
			if !plain.MatchString(name) {
				return "", false
			}
		}
		out = append(out, Literal(name))
		if rest = strings.TrimSpace(rest); rest == "" {
			return strings.Join(out, ", "), true
		}
		if rest[0] != ',' {
			return "", false
		}
		rest = strings.TrimSpace(rest[1:])
	}
}

// Quoted returns a name as SQL has it.
func Quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

// OneLine returns a text in SQL without a line break.
func OneLine(s string) string {
	return "E" + strings.NewReplacer("\n", `\n`, "\r", `\r`).Replace(Literal(strings.ReplaceAll(s, `\`, `\\`)))
}

// Literal returns a text as SQL has it.
func Literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
