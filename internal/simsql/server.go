package simsql

import (
	"bufio"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"movekit/internal/core/digest"
	"movekit/internal/core/item/sqlserver"
)

// Error is an error of the server, with its number (Database Engine events and errors).
type Error struct {
	Number int
	Text   string
}

// Error returns the text.
func (e *Error) Error() string { return e.Text }

// Table is a table of a simulated database.
type Table struct {
	Schema, Name string
	Columns      []Column
	Rows         [][]Cell
}

// Column is a column of a table. Key is its place in the primary key, from 1; 0 if it is not part of it.
type Column struct {
	Name, Type string
	Key        int
}

// Cell is a value: its bytes as the server would convert them to varbinary, and a readable form. Without bytes it is NULL.
type Cell struct {
	Bytes []byte
	Shown string
}

// Chars returns the cell of an nvarchar.
func Chars(s string) Cell { return Cell{UTF16(s), s} }

// Number returns the cell of an int.
func Number(n int32) Cell {
	return Cell{[]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}, fmt.Sprint(n)}
}

// User is a user of a database, with the number of its login.
type User struct{ Name, SID string }

// Database is the content of a simulated database.
type Database struct {
	Owner    string
	Version  int // the server's version that made it
	Tables   []Table
	Objects  map[string][][]string // definitions, by sort of sqlserver.Definitions
	Options  map[string]string
	Users    []User
	Triggers []string   // of the database, enabled
	On       [][]string // what runs when a table is changed: the quoted table, and what it is
	Far      [][]string // object, linked server, database
	FullText bool
	Key      string // thumbprint of the certificate that encrypts it
}

// Server is a simulated server. Its databases are files in the folder data, its backups in the folder backup.
type Server struct {
	Dir      string
	Version  string // such as 15.0.4261.1
	Express  bool
	Password string   // of the login sa
	Certs    []string // thumbprints
	Jobs     map[string][]string

	hold     func(statement string) *Error
	mu       sync.Mutex
	listener net.Listener
	files    map[string]string // databases: name and file
	logins   map[string]string // number and name
	writes   map[string]int
	sessions map[*conn]login
}

// Start starts the server on an unused port of the loopback interface.
func (s *Server) Start() (port string, err error) {
	for _, dir := range []string{"data", "backup"} {
		if err := os.MkdirAll(filepath.Join(s.Dir, dir), 0o755); err != nil {
			return "", err
		}
	}
	s.files, s.logins, s.writes, s.sessions = map[string]string{}, map[string]string{}, map[string]int{}, map[*conn]login{}
	if err := s.load("master.json", &s.files); err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return "", err
	}
	go func() {
		for {
			c, err := s.listener.Accept()
			if err != nil {
				return
			}
			go s.serve(&conn{Conn: c, in: bufio.NewReader(c)})
		}
	}()
	_, port, err = net.SplitHostPort(s.listener.Addr().String())
	return port, err
}

// Close ends the server.
func (s *Server) Close() {
	s.listener.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.sessions {
		c.Close()
	}
}

func (s *Server) load(name string, to any) error {
	data, err := os.ReadFile(filepath.Join(s.Dir, name))
	if err != nil {
		return err
	}
	return json.Unmarshal(data, to)
}

func (s *Server) store(name string, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.Dir, name), data, 0o644)
}

// Put creates or changes a database.
func (s *Server) Put(name string, d *Database) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writes[name]++
	if d.Version == 0 {
		d.Version, _ = strconv.Atoi(s.Version[:strings.IndexByte(s.Version, '.')])
	}
	if s.files[name] == "" {
		s.files[name] = filepath.Join("data", hex.EncodeToString([]byte(name))+".mdf")
	}
	return errors.Join(s.store(s.files[name], d), s.store("master.json", s.files))
}

// Get returns a database, or nil.
func (s *Server) Get(name string) *Database {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.get(name)
}

func (s *Server) get(name string) *Database {
	d := &Database{}
	if name == "master" {
		return d
	}
	if s.files[name] == "" || s.load(s.files[name], d) != nil {
		return nil
	}
	return d
}

// Names returns the names of the databases.
func (s *Server) Names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.files))
}

// Refuse sets a function that is called before each statement; an error is what the server answers.
func (s *Server) Refuse(hold func(statement string) *Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.hold = hold
}

// Login adds a login with its number (SID).
func (s *Server) Login(name, sid string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.logins[sid] = name
}

// serve serves one connection.
func (s *Server) serve(c *conn) {
	defer c.Close()
	defer func() {
		s.mu.Lock()
		delete(s.sessions, c)
		s.mu.Unlock()
	}()
	for {
		kind, data, err := c.receive()
		if err != nil {
			return
		}
		switch kind {
		case preloginPacket:
			c.prelogin()
		case loginPacket:
			l, err := readLogin(data)
			s.mu.Lock()
			switch {
			case err != nil:
			case l.user != "sa" || l.password != s.Password:
				c.refuse(&Error{18456, "Login failed for user '" + l.user + "'."})
			case l.database != "" && s.get(l.database) == nil:
				c.refuse(&Error{4060, "Cannot open database \"" + l.database + "\" requested by the login. The login failed."})
			default:
				s.sessions[c] = l
				c.accepted(l.database)
			}
			s.mu.Unlock()
			if err != nil {
				return
			}
		case attentionPacket:
			c.done(doneAttention, 0)
		case batchPacket:
			if len(data) < 4 || int(data[0]) > len(data) { // the headers before the text (MS-TDS 2.2.5.3)
				return
			}
			statement := fromUTF16(data[int(data[0]):])
			binaries, rows, err := s.answer(c, statement)
			var said *Error
			switch {
			case errors.As(err, &said):
				c.refuse(said)
			case err != nil:
				c.refuse(&Error{50000, err.Error()})
			case binaries != nil:
				c.result(binaries, rows)
			default:
				c.done(0, 0)
			}
		default:
			c.refuse(&Error{40000, fmt.Sprintf("a message of type %d is not simulated", kind)})
		}
		if c.flush() != nil {
			return
		}
	}
}

// forms match the statements of the package sqlserver, and their parameters.
var forms = func() map[string]*regexp.Regexp {
	out := map[string]*regexp.Regexp{}
	for name, text := range sqlserver.Statements {
		out[name] = regexp.MustCompile(`(?s)^` + strings.NewReplacer("%s", "(.+?)", `%\[1\]s`, "(.+?)").Replace(regexp.QuoteMeta(text)) + `$`)
	}
	return out
}()

var (
	countRows = regexp.MustCompile(`(?i)^\s*SELECT count\((\*|DISTINCT (\w+))\) FROM ([\w."]+)\s*$`)
	readRows  = regexp.MustCompile(`(?s)^SELECT (.+) FROM (\[(?:[^\]]|\]\])+\])\.(\[(?:[^\]]|\]\])+\])( WHERE \[.+\] IS NOT NULL)?$`)
	texts     = regexp.MustCompile(`N'((?:[^']|'')*)'`)
)

// plain removes the quotes of a name or a text.
func plain(s string) string {
	switch {
	case strings.HasPrefix(s, "N'"):
		return strings.ReplaceAll(s[2:len(s)-1], "''", "'")
	case strings.HasPrefix(s, "["):
		return strings.ReplaceAll(s[1:len(s)-1], "]]", "]")
	}
	return strings.Trim(s, `"`)
}

// textRows makes rows of texts.
func textRows(rows ...[]string) ([]bool, [][]Value, error) {
	width := 1
	var out [][]Value
	for _, r := range rows {
		var row []Value
		for _, s := range r {
			row = append(row, Text(s))
		}
		out = append(out, row)
		width = len(r)
	}
	return make([]bool, width), out, nil
}

// oneColumn makes rows of one text each.
func oneColumn(list []string) ([]bool, [][]Value, error) {
	var rows [][]string
	for _, text := range list {
		rows = append(rows, []string{text})
	}
	return textRows(rows...)
}

func digit(is bool) string { return map[bool]string{true: "1", false: "0"}[is] }

// answer carries out one statement.
func (s *Server) answer(c *conn, statement string) ([]bool, [][]Value, error) {
	s.mu.Lock()
	hold := s.hold
	s.mu.Unlock()
	if hold != nil {
		if e := hold(statement); e != nil {
			return nil, nil, e
		}
	}
	s.wait(statement)
	s.mu.Lock()
	defer s.mu.Unlock()
	in := s.sessions[c].database
	d := s.get(in)
	if d == nil {
		return nil, nil, &Error{924, "Database '" + in + "' was dropped."}
	}
	for name, form := range forms {
		m := form.FindStringSubmatch(statement)
		if m == nil {
			continue
		}
		for i := range m[1:] {
			if p := m[i+1]; strings.HasPrefix(p, "[") || strings.HasPrefix(p, "N'") && name != "restore" && name != "update" {
				m[i+1] = plain(p)
			}
		}
		return s.carryOut(name, m[1:], c, in, d)
	}
	for _, q := range sqlserver.Definitions {
		if q.Query == statement {
			rows := d.Objects[q.Sort]
			if len(rows) == 0 {
				return make([]bool, 2), nil, nil
			}
			return textRows(rows...)
		}
	}
	if m := countRows.FindStringSubmatch(statement); m != nil {
		for _, t := range d.Tables {
			if name := plain(m[3]); strings.EqualFold(name, t.Name) || strings.EqualFold(name, t.Schema+"."+t.Name) {
				return textRows([]string{fmt.Sprint(t.count(m[2]))})
			}
		}
		return nil, nil, &Error{208, "Invalid object name '" + m[3] + "'."}
	}
	if m := readRows.FindStringSubmatch(statement); m != nil {
		for _, t := range d.Tables {
			if t.Schema == plain(m[2]) && t.Name == plain(m[3]) {
				return t.read(m[1], m[4])
			}
		}
	}
	return nil, nil, &Error{102, "Incorrect syntax: this statement is not simulated: " + statement}
}

// wait gives connections to a database that is to be renamed or dropped a moment to end, as the server does.
func (s *Server) wait(statement string) {
	for _, name := range []string{"rename", "drop"} {
		m := forms[name].FindStringSubmatch(statement)
		for range 100 {
			s.mu.Lock()
			used := m != nil && s.inUse(plain(m[1]))
			s.mu.Unlock()
			if !used {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// count counts the rows, or the different values of a column.
func (t *Table) count(column string) int {
	at := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == column })
	if at < 0 {
		return len(t.Rows)
	}
	values := map[string]bool{}
	for _, r := range t.Rows {
		values[string(r[at].Bytes)] = true
	}
	return len(values)
}

// read answers a query for expressions of a table's columns.
func (t *Table) read(expressions, where string) (binaries []bool, out [][]Value, err error) {
	type pick struct {
		column int
		exact  bool
	}
	var picks []pick
next:
	for rest := expressions; rest != ""; {
		for i, c := range t.Columns {
			exact, readable := sqlserver.Exactly(c.Name, c.Type)
			name := "[" + strings.ReplaceAll(c.Name, "]", "]]") + "]"
			for k, e := range []string{exact, readable, "CONVERT(nvarchar(max), " + name + ")", "CONVERT(nvarchar(400), " + name + ")"} {
				if after, ok := strings.CutPrefix(rest, e); ok && (after == "" || strings.HasPrefix(after, ", ")) {
					picks = append(picks, pick{i, k == 0})
					binaries = append(binaries, k == 0)
					rest = strings.TrimPrefix(after, ", ")
					continue next
				}
			}
		}
		return nil, nil, &Error{207, "Invalid column name in: " + rest}
	}
	for _, r := range t.Rows {
		var row []Value
		for _, p := range picks {
			switch c := r[p.column]; {
			case c.Bytes == nil:
				row = append(row, nil)
			case p.exact:
				row = append(row, Value(c.Bytes))
			default:
				row = append(row, Text(c.Shown))
			}
		}
		if where == "" || row[0] != nil {
			out = append(out, row)
		}
	}
	return binaries, out, nil
}

// others returns what other programs use a database.
func (s *Server) others(name string, except *conn) (out []string) {
	for c, l := range s.sessions {
		if c != except && l.database == name && l.app != "Move Kit" {
			out = append(out, l.app+" as "+l.user+" from "+l.host)
		}
	}
	return out
}

// inUse reports whether any connection uses a database.
func (s *Server) inUse(name string) bool {
	return slices.ContainsFunc(slices.Collect(maps.Values(s.sessions)), func(l login) bool { return l.database == name })
}

// backupFile is the content of a backup.
type backupFile struct {
	Database *Database
	Sum      string
}

func (s *Server) readBackup(file string) (*backupFile, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, &Error{3201, "Cannot open backup device '" + file + "'."}
	}
	var b backupFile
	if json.Unmarshal(data, &b) != nil || b.Database == nil {
		return nil, &Error{3241, "The media family on device '" + file + "' is incorrectly formed."}
	}
	if b.Sum != sum(b.Database) {
		return nil, &Error{3189, "Damage to the backup set was detected."}
	}
	if newest, _ := strconv.Atoi(s.Version[:strings.IndexByte(s.Version, '.')]); b.Database.Version > newest {
		return nil, &Error{3169, "The database was backed up on a server running a later version."}
	}
	if b.Database.Key != "" && !slices.Contains(s.Certs, b.Database.Key) {
		return nil, &Error{33111, "Cannot find server certificate with thumbprint '0x" + b.Database.Key + "'."}
	}
	return &b, nil
}

func sum(d *Database) string {
	data, _ := json.Marshal(d)
	return digest.Of(data).String()
}

// carryOut carries out a statement of the package sqlserver.
func (s *Server) carryOut(name string, p []string, c *conn, in string, d *Database) ([]bool, [][]Value, error) {
	of := ""
	if len(p) > 0 {
		of = p[0]
	}
	switch name {
	case "server":
		return textRows([]string{s.Version, map[bool]string{true: "Express Edition (64-bit)", false: "Standard Edition (64-bit)"}[s.Express], map[bool]string{true: "4", false: "2"}[s.Express], "0", "0", "0", filepath.Join(s.Dir, "data"), filepath.Join(s.Dir, "data"), filepath.Join(s.Dir, "backup")})
	case "exists":
		return textRows([]string{digit(s.files[of] != "")})
	case "whole":
		d := s.get(of)
		if s.files[of] == "" || d == nil {
			return make([]bool, 7), nil, nil
		}
		data, _ := json.Marshal(d)
		return textRows([]string{"ONLINE", fmt.Sprint(len(data)), digit(d.Key != ""), d.Owner, "0", "0", "0"})
	case "contents":
		if _, err := s.readBackup(of); err != nil {
			return nil, nil, err
		}
		return textRows([]string{"main", `C:\old\main.mdf`, "D"}, []string{"main_log", `C:\old\main_log.ldf`, "L"})
	case "others":
		return oneColumn(s.others(of, c))
	case "key":
		return textRows([]string{s.get(of).Key})
	case "certificates":
		return oneColumn(s.Certs)
	case "jobs":
		return oneColumn(s.Jobs[of])
	case "writes":
		return textRows([]string{fmt.Sprint(s.writes[of])})
	case "changed":
		return textRows([]string{"2026-11-20T10:00:00"})
	case "log":
		return textRows([]string{fmt.Sprintf("00000020:%08x:0001", s.writes[in])})
	case "far":
		return textRows(d.Far...)
	case "needs":
		return textRows([]string{digit(d.FullText), "0"})
	case "tables":
		return textRows([]string{fmt.Sprint(len(d.Tables))})
	case "columns":
		var rows [][]string
		for _, t := range d.Tables {
			for _, c := range t.Columns {
				rows = append(rows, []string{t.Schema, t.Name, c.Name, c.Type, fmt.Sprint(c.Key)})
			}
		}
		return textRows(rows...)
	case "options":
		var rows [][]string
		for _, k := range slices.Sorted(maps.Keys(d.Options)) {
			rows = append(rows, []string{k, d.Options[k]})
		}
		return textRows(rows...)
	case "triggers":
		return oneColumn(d.Triggers)
	case "own triggers":
		var rows [][]string
		for _, t := range d.On {
			if t[0] == of {
				rows = append(rows, t[1:])
			}
		}
		return textRows(rows...)
	case "code":
		var rows [][]string
		for _, m := range d.Objects["module"] {
			rows = append(rows, []string{m[0][strings.IndexByte(m[0], '.')+1:]})
		}
		return textRows(rows...)
	case "users":
		var rows [][]string
		for _, u := range d.Users {
			byName := slices.Contains(slices.Collect(maps.Values(s.logins)), u.Name)
			rows = append(rows, []string{u.Name, "S", u.SID, s.logins[u.SID], strings.TrimPrefix(digit(byName), "0")})
		}
		return textRows(rows...)
	}
	return nil, nil, s.change(name, p, in, d)
}

// change carries out a statement that changes something.
func (s *Server) change(name string, p []string, in string, d *Database) error {
	switch name {
	case "verify":
		_, err := s.readBackup(p[0])
		return err
	case "backup":
		of := s.get(p[0])
		if of == nil {
			return &Error{911, "Database '" + p[0] + "' does not exist."}
		}
		data, err := json.Marshal(backupFile{of, sum(of)})
		if err == nil {
			err = os.WriteFile(p[1], data, 0o644)
		}
		if err != nil {
			return &Error{3202, "Write on \"" + p[1] + "\" failed."}
		}
		return nil
	case "restore":
		b, err := s.readBackup(plain(p[1]))
		if err != nil {
			return err
		}
		to := texts.FindAllStringSubmatch(p[2], -1)
		if s.files[p[0]] != "" || len(to) < 2 {
			return &Error{3159, "The database \"" + p[0] + "\" already exists."}
		}
		file, err := filepath.Rel(s.Dir, plain(to[1][0]))
		if err != nil {
			return err
		}
		if _, err := os.Stat(filepath.Join(s.Dir, file)); err == nil {
			return &Error{1834, "The file is in use by another database."}
		}
		b.Database.Owner = "sa"
		s.files[p[0]] = file
		return errors.Join(s.store(file, b.Database), s.store("master.json", s.files))
	case "check":
		if s.get(p[0]) == nil {
			return &Error{824, "SQL Server detected a logical consistency-based I/O error."}
		}
		return nil
	case "rename":
		switch {
		case s.files[p[0]] == "":
			return &Error{911, "Database '" + p[0] + "' does not exist."}
		case s.files[p[1]] != "":
			return &Error{1801, "Database '" + p[1] + "' already exists."}
		case s.inUse(p[0]):
			return &Error{5030, "The database could not be exclusively locked to perform the operation."}
		}
		s.files[p[1]] = s.files[p[0]]
		delete(s.files, p[0])
		return s.store("master.json", s.files)
	case "drop":
		switch {
		case s.files[p[0]] == "":
			return &Error{3701, "Cannot drop the database '" + p[0] + "', because it does not exist."}
		case s.inUse(p[0]):
			return &Error{3702, "Cannot drop database \"" + p[0] + "\" because it is currently in use."}
		}
		file := s.files[p[0]]
		delete(s.files, p[0])
		return errors.Join(s.store("master.json", s.files), os.Remove(filepath.Join(s.Dir, file)))
	case "map user":
		for sid, login := range s.logins {
			for i := range d.Users {
				if login == p[1] && d.Users[i].Name == p[0] {
					d.Users[i].SID = sid
				}
			}
		}
		return s.store(s.files[in], d)
	case "new login":
		s.logins[p[2]] = p[0]
		return nil
	case "update":
		return s.update(p, in, d)
	}
	return &Error{102, "the statement " + name + " is not simulated"}
}

// update replaces texts in a column.
func (s *Server) update(p []string, in string, d *Database) error {
	all := texts.FindAllStringSubmatch(p[2], -1)
	for _, t := range d.Tables {
		if "["+t.Schema+"].["+t.Name+"]" != p[1] && t.Schema+"].["+t.Name != p[1] {
			continue
		}
		at := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == p[0] })
		for _, r := range t.Rows {
			for i := 0; i+1 < len(all); i += 2 {
				if r[at].Shown == plain(all[i][0]) {
					r[at] = Chars(plain(all[i+1][0]))
					break
				}
			}
		}
	}
	s.writes[in]++
	return s.store(s.files[in], d)
}
