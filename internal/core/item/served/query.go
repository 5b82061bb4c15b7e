package served

import (
	"regexp"
	"slices"
	"strings"

	"movekit/internal/core/fault"
)

var (
	// functions are the functions that a card's query may call. None of them writes, or runs code of the
	// database.
	functions = strings.Fields("ABS AVG CAST CEIL CEILING CHAR_LENGTH COALESCE CONCAT COUNT DATE DATEDIFF DAY EXTRACT FLOOR HOUR IF IFNULL IIF LEFT LENGTH LOWER MAX MIN MOD MONTH NULLIF RIGHT ROUND SUBSTRING SUM TRIM TRUNC TRUNCATE UPPER YEAR")
	// keywords can stand before a parenthesis.
	keywords = strings.Fields("ALL AND ANY AS BETWEEN BY CASE CHAR DECIMAL DISTINCT ELSE EXISTS FROM HAVING IN JOIN LIKE NOT NUMERIC ON OR OVER SELECT SOME THEN UNION USING VARCHAR WHEN WHERE WITH")
	// writing are keywords of a SELECT that does more than read.
	writing = strings.Fields("INTO FOR LOCK PROCEDURE EXECUTE")

	queryToken = regexp.MustCompile("^(?:[\\s]+|[\\p{L}_$][\\p{L}\\p{N}_$]*|[0-9][0-9.]*|'[^'\\\\]*'|\"[^\"\\\\]*\"|`[^`\\\\]*`|[().,*/%+<>=!|-])")
	queryName  = regexp.MustCompile("^[\\p{L}_$\"`]")
)

// CheckQuery returns an error unless a card's query is one SELECT that only reads, and calls no function
// but those above: an administrator may run it, and the card may come from a kit. names are the names in
// the query, in upper case.
func CheckQuery(query string) (names []string, err error) {
	refused := func(what string) ([]string, error) {
		return nil, fault.New(fault.BadCard, "the card's query contains %s, so Move Kit does not run it: %s", what, query)
	}
	rest, depth := strings.TrimRight(query, "; \t\r\n"), 0
	before, last, spaced := "", "", false // the two tokens before this one, and whether a space follows them
	for rest != "" {
		token := queryToken.FindString(rest)
		isName, called := queryName.MatchString(last), strings.ToLower(last)
		switch {
		case token == "" || strings.HasPrefix(rest, "--") || strings.HasPrefix(rest, "/*"):
			return refused("a comment, a backslash or a character that is not allowed")
		case strings.TrimSpace(token) == "":
			rest, spaced = rest[len(token):], true
			continue
		case token[0] == '\'' && isName && !spaced:
			return refused("a text with the prefix " + called)
		case token == "(" && isName && !slices.Contains(keywords, last) && (!slices.Contains(functions, last) || before == "."):
			return refused("a call of " + called)
		case token == "(" && isName && !slices.Contains(keywords, last) && spaced: // then MariaDB calls a function of the database
			return refused("a space between " + called + " and the parenthesis")
		case token == "(":
			depth++
		case token == ")" && depth == 0:
			return refused("a parenthesis without a beginning")
		case token == ")":
			depth--
		case queryName.MatchString(token):
			token = strings.ToUpper(token)
			if slices.Contains(writing, token) {
				return refused(token)
			}
			if len(names) == 0 && token != "SELECT" && token != "WITH" {
				return refused("a statement other than SELECT")
			}
			names = append(names, strings.Trim(token, "\"`"))
		}
		rest, before, last, spaced = rest[len(token):], last, token, false
	}
	if depth > 0 {
		return refused("a parenthesis without an end")
	}
	return names, nil
}
