// Package schema describes a sealed MariaDB or MySQL database, and writes the SQL that creates it
// again. It needs no server.
package schema

import (
	"cmp"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/item/mariadb/sqltext"
)

// Sealed has the sealed facts of a database, other than its rows.
type Sealed struct {
	dbprint.Fingerprint
	Database  string   `json:"database"` // its name on the old server
	Charset   string   `json:"charset"`
	Collation string   `json:"collation"`
	Comment   string   `json:"comment,omitempty"`
	Make      []Make   `json:"make,omitempty"`
	Defined   []Object `json:"defined,omitempty"` // in order of dependency
	Users     []User   `json:"users,omitempty"`   // users of the database
	Needs     []string `json:"needs,omitempty"`   // storage engines and collations
	Broken    []string `json:"broken,omitempty"`  // views that use missing objects; they are not sealed
	Longest   int64    `json:"longest"`           // longest row as SQL, in bytes
}

// Make creates a table or a sequence.
type Make struct {
	Name  string   `json:"name"`
	SQL   string   `json:"sql"`             // without what is added after the rows
	Keys  []string `json:"keys,omitempty"`  // for ALTER TABLE, after the rows
	Links []string `json:"links,omitempty"` // foreign keys, after the keys of all tables
	After string   `json:"after,omitempty"` // value of a sequence
	Table *Table   `json:"-"`               // its rows, while they are read
}

// Table is a table whose rows are moved.
type Table struct {
	dbprint.Table
	Cols []sqltext.Column
}

// Object is a view, routine, trigger or event, created in a session like its original one.
type Object struct {
	Sort      string `json:"sort"` // VIEW, FUNCTION, PROCEDURE, TRIGGER, EVENT, PACKAGE, PACKAGE BODY
	Name      string `json:"name"`
	SQL       string `json:"sql"`               // without its definer
	Definer   string `json:"definer,omitempty"` // quoted for SQL
	Mode      string `json:"mode"`              // sql_mode
	Charset   string `json:"charset"`           // character_set_client
	Collation string `json:"collation"`         // collation_connection
	Zone      string `json:"zone,omitempty"`    // for an event
	Base      string `json:"base,omitempty"`    // collation of the database when it was created
	Order     string `json:"order,omitempty"`   // of a trigger, among those of the same event
}

// Print returns the object in the form that is compared, independent of the database name.
func (o Object) Print(database string) dbprint.Object {
	sql := sqltext.Requalified(o.SQL, o.Mode, database, "")
	return dbprint.NewObject(strings.ToLower(o.Sort), o.Name, strings.Join([]string{sql, o.Definer, o.Mode, o.Charset, o.Collation, o.Zone, o.Base, o.Order}, "\x00"), sql+"\x00"+o.Mode+"\x00"+o.Order)
}

// User is a user of a database, without the password; or a role.
type User struct {
	Name   string   `json:"name"` // quoted for SQL: 'office'@'%'
	Role   bool     `json:"role,omitempty"`
	Grants []string `json:"grants"` // the database is written as ``
}

// Create returns the statement that creates an empty database like the sealed one.
func (d *Sealed) Create(name string) string {
	sql := fmt.Sprintf("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", sqltext.Quoted(name), d.Charset, d.Collation)
	if d.Comment != "" {
		sql += " COMMENT " + sqltext.Literal(d.Comment)
	}
	return sql
}

// Long returns the long name of the character set that servers call by two names.
func Long(name string) string {
	if name == "utf8" || strings.HasPrefix(name, "utf8_") {
		return "utf8mb3" + strings.TrimPrefix(name, "utf8")
	}
	return name
}

// Requoted returns a name in backticks.
func Requoted(name string) string {
	q := name[:1]
	return sqltext.Quoted(strings.ReplaceAll(name[1:len(name)-1], q+q, q))
}

// Create returns the statement that creates an object in a database, with its definer if one is
// given. from is the database that it was read from.
func (o Object) Create(definer, from, to string) string {
	sql := sqltext.Requalified(o.SQL, o.Mode, from, to)
	if definer == "" {
		return sql
	}
	at := len("CREATE ")
	if i := strings.Index(sql, "SQL SECURITY "); o.Sort == "VIEW" && i > 0 {
		at = i
	}
	return sql[:at] + "DEFINER=" + definer + " " + sql[at:]
}

// Session returns the statements that create the original session settings.
func (o Object) Session() []string {
	out := []string{"SET sql_mode = " + sqltext.Literal(o.Mode)}
	if o.Charset != "" {
		out = append(out, "SET character_set_client = "+o.Charset, "SET collation_connection = "+o.Collation)
	}
	if o.Zone != "" {
		out = append(out, "SET time_zone = "+sqltext.Literal(o.Zone))
	}
	return out
}

// InOrder sorts views after the views that they use.
func InOrder(views []Object) (out []Object) {
	left := slices.Clone(views)
	for len(left) > 0 {
		next := slices.IndexFunc(left, func(v Object) bool {
			return !slices.ContainsFunc(left, func(other Object) bool {
				return other.Name != v.Name && strings.Contains(v.SQL, sqltext.Quoted(other.Name))
			})
		})
		next = max(next, 0) // views that use each other: any order
		out = append(out, left[next])
		left = slices.Delete(left, next, next+1)
	}
	return out
}

// WriteTables writes the statements that must run before the rows are loaded.
func WriteTables(w io.Writer, database string, d *Sealed) {
	fmt.Fprintf(w, "-- The database %s of %s, as SQL for its own client.\n", strings.ToValidUTF8(strings.ReplaceAll(database, "\n", " "), "?"), d.Engine)
	fmt.Fprintf(w, "SET NAMES utf8mb4; SET time_zone = '+00:00'; SET sql_mode = %s; SET foreign_key_checks = 0, unique_checks = 0;\n", sqltext.Literal(Mode))
	for _, m := range d.Make {
		writeDefinition(w, m.SQL)
		if m.After != "" {
			writeDefinition(w, m.After)
		}
	}
}

// WriteRest writes the statements that must run after the rows are loaded.
func WriteRest(w io.Writer, d *Sealed) {
	for _, sql := range Keys(d) {
		writeDefinition(w, sql)
	}
	for _, sql := range Links(d) {
		writeDefinition(w, sql)
	}
	for _, o := range d.Defined {
		for _, sql := range o.Session() {
			writeDefinition(w, sql)
		}
		writeDefinition(w, o.Create(o.Definer, d.Database, d.Database))
	}
}

// writeDefinition writes a statement that may contain newlines and semicolons, with the client's
// DELIMITER command.
func writeDefinition(w io.Writer, sql string) {
	end := "//"
	for strings.Contains(sql, end) {
		end += "/"
	}
	fmt.Fprintf(w, "DELIMITER %s\n%s\n%s\nDELIMITER ;\n", end, sql, end)
}

// Keys returns the statements that add the keys, one per table.
func Keys(d *Sealed) []string {
	return alter(d, func(m Make) []string { return m.Keys })
}

// Links returns the statements that add the foreign keys.
func Links(d *Sealed) []string {
	return alter(d, func(m Make) []string { return m.Links })
}

func alter(d *Sealed, what func(Make) []string) (out []string) {
	for _, m := range d.Make {
		if add := what(m); len(add) > 0 {
			out = append(out, "ALTER TABLE "+sqltext.Quoted(m.Name)+" "+strings.Join(add, ", "))
		}
	}
	return out
}

// Mode is the sql_mode that accepts every value that another server had: zero dates, invalid dates,
// and 0 in an AUTO_INCREMENT column.
const Mode = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"

// anyName matches a name in any quotes. Which quotes are used depends on the sql_mode at the time
// of creation.
const anyName = "`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\"|'(?:[^']|'')*'"

var (
	definer   = regexp.MustCompile("^CREATE (?:OR REPLACE )?(?:ALGORITHM=[A-Z]+ )?(DEFINER=(" + anyName + ")(?:@(" + anyName + "))? )")
	nextValue = regexp.MustCompile(` AUTO_INCREMENT=(\d+)`)
	keyLine   = regexp.MustCompile("^(?:UNIQUE )?KEY (`(?:[^`]|``)*`) \\((`(?:[^`]|``)*`)")
	linkLine  = regexp.MustCompile("^CONSTRAINT (`(?:[^`]|``)*`) FOREIGN KEY ")
	nameLine  = regexp.MustCompile("^(PRIMARY KEY|(?:UNIQUE |FULLTEXT |SPATIAL |VECTOR )?KEY|CONSTRAINT|PERIOD FOR|) ?(`(?:[^`]|``)*`)?")
)

// Read splits the text of SHOW CREATE TABLE into a part to create before the rows are loaded, and a
// part for afterwards. counter is the AUTO_INCREMENT column, whose key is needed before. It returns
// the objects to compare, and the next number, or "".
func (m *Make) Read(text, counter string) (objects []dbprint.Object, next string) {
	lines := strings.Split(text, "\n")
	end := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, ")") })
	if end < 0 {
		end = len(lines) - 1
	}
	kept := []string{}
	for _, line := range lines[1:end] {
		line = strings.TrimSuffix(strings.TrimSpace(line), ",")
		named := nameLine.FindStringSubmatch(line)
		objects = append(objects, dbprint.NewObject(strings.ToLower(cmp.Or(named[1], "column")), m.Name+"."+strings.Trim(named[2], "`"), line, line))
		key := keyLine.FindStringSubmatch(line)
		switch {
		case linkLine.MatchString(line):
			m.Links = append(m.Links, "ADD "+line)
		case key != nil && key[2] != sqltext.Quoted(counter):
			m.Keys = append(m.Keys, "ADD "+line)
		default:
			kept = append(kept, "  "+line)
		}
	}
	tail := strings.Join(lines[end:], "\n")
	if at := nextValue.FindStringSubmatchIndex(sqltext.Code(tail, "")); at != nil { // not in the table's comment
		next, tail = tail[at[2]:at[3]], tail[:at[0]]+tail[at[1]:]
	}
	objects = append(objects, dbprint.NewObject("table", m.Name, tail, tail))
	m.SQL = lines[0] + "\n" + strings.Join(kept, ",\n") + "\n" + strings.Join(lines[end:], "\n")
	return objects, next
}

// SplitDefiner removes the definer from a definition.
func SplitDefiner(sql string) (without, by string) {
	m := definer.FindStringSubmatchIndex(sql)
	if m == nil {
		return sql, ""
	}
	by = Requoted(sql[m[4]:m[5]])
	if m[6] >= 0 {
		by += "@" + Requoted(sql[m[6]:m[7]])
	}
	return sql[:m[2]] + sql[m[3]:], by
}

// Rows reads the rows of one table of a sealed database. open starts the data from its beginning.
func Rows(open func() (io.ReadCloser, error), table string) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		data, err := open()
		if err != nil {
			return err
		}
		defer data.Close()
		return sqltext.Scan(data, nil, func(of, _ string, line []byte, _ bool) error {
			if of != table {
				return nil
			}
			return each(sqltext.RowOf(line))
		})
	}
}

// On and Off are the server's words for an enabled and a disabled event, at the start of its
// definition.
const (
	On  = "PRESERVE ENABLE"
	Off = "PRESERVE DISABLE"
)

// Enabled reports whether an event is enabled.
func (o Object) Enabled() bool {
	code := sqltext.Code(o.SQL, o.Mode)
	i, j := strings.Index(code, On), strings.Index(code, Off)
	return i >= 0 && (j < 0 || i < j)
}
