package mariadb

import (
	"bufio"
	"bytes"
	"context"
	"database/sql/driver"
	"errors"
	"io"
	"strings"

	"golang.org/x/sync/errgroup"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/served"
)

// statement inserts rows of a table: as SQL, or one long row, which is read
// while it is loaded.
type statement struct {
	table string
	sql   []byte
	long  func(*session) error
}

// load runs what take wrote, but for the definitions. One connection fills the
// tables, each in one transaction: an empty table that one transaction fills is
// written without a log for taking it back. Meanwhile another adds the keys of
// those that are full.
func load(ctx context.Context, s served.Server, d *Sealed, p served.Putting) error {
	rows, err := p.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	g, ctx := errgroup.WithContext(ctx)
	filled := make(chan statement)
	used := make(chan []byte, 3) // buffers
	for range cap(used) {
		used <- nil
	}
	full := make(chan string, len(d.Make))
	g.Go(func() error {
		defer close(filled)
		return read(ctx, rows, used, filled, p.Progress)
	})
	g.Go(func() error {
		defer close(full)
		return fill(ctx, s, filled, used, full)
	})
	g.Go(func() error { return addKeys(ctx, s, d, full) })
	return g.Wait()
}

// read reads the statements.
func read(ctx context.Context, rows io.Reader, used <-chan []byte, filled chan<- statement, progress func(int64)) error {
	var now statement
	send := func(st statement) error {
		select {
		case filled <- st:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	long := func(table, head string, l *longLine) (last bool, err error) {
		if now.sql != nil {
			now.sql = now.sql[:len(now.sql)-1] // the comma: the statement ends here
			if err := send(now); err != nil {
				return false, err
			}
			now = statement{}
		}
		done := make(chan struct{})
		err = send(statement{table: table, long: func(c *session) (err error) {
			defer close(done)
			sorts, err := c.sorts(ctx, c.server, table)
			if err == nil {
				last, err = insertLong(ctx, c, head, sorts, l)
			}
			return err
		}})
		if err != nil {
			return false, err
		}
		select {
		case <-done:
			return last, nil
		case <-ctx.Done():
			return false, ctx.Err()
		}
	}
	return scan(rows, long, func(table, head string, line []byte, last bool) error {
		if now.sql == nil {
			select {
			case b := <-used:
				now = statement{table: table, sql: append(b[:0], head...)}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if progress != nil {
			progress(int64(len(line)) + 2)
		}
		now.sql = append(now.sql, line...)
		if !last {
			now.sql = append(now.sql, ',')
			return nil
		}
		st := now
		now = statement{}
		return send(st)
	})
}

// fill runs the statements, and tells which tables are full.
func fill(ctx context.Context, s served.Server, filled <-chan statement, used chan<- []byte, full chan<- string) error {
	c, err := connect(ctx, s)
	if err != nil {
		return err
	}
	defer c.close()
	if err := c.run(ctx, "SET autocommit = 0"); err != nil {
		return err
	}
	table := ""
	end := func() error {
		if table == "" {
			return nil
		}
		if err := c.run(ctx, "COMMIT"); err != nil {
			return err
		}
		full <- table
		return nil
	}
	for st := range filled {
		if st.table != table {
			if err := end(); err != nil {
				return err
			}
			table = st.table
		}
		if st.long != nil {
			err = st.long(c)
		} else {
			err = c.Raw(func(conn any) error {
				_, err := conn.(driver.ExecerContext).ExecContext(ctx, string(st.sql), nil)
				return err
			})
			used <- st.sql
		}
		if err != nil {
			err = explain(s, err)
			return fault.Wrap(fault.KindOf(err), err, "the rows of the table %s cannot be loaded", table)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return end()
}

// addKeys adds the keys of tables once they are full, and at the end those of
// tables without rows.
func addKeys(ctx context.Context, s served.Server, d *Sealed, full <-chan string) error {
	c, err := connect(ctx, s)
	if err != nil {
		return err
	}
	defer c.close()
	left := map[string]string{}
	for _, m := range d.Make {
		if len(m.Keys) > 0 {
			left[m.Name] = "ALTER TABLE " + quoted(m.Name) + " " + strings.Join(m.Keys, ", ")
		}
	}
	add := func(table string) error {
		sql := left[table]
		delete(left, table)
		if sql == "" {
			return nil
		}
		return c.run(ctx, sql)
	}
	for table := range full {
		if err := add(table); err != nil {
			return err
		}
	}
	for _, m := range d.Make {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := add(m.Name); err != nil {
			return err
		}
	}
	return nil
}

// scan reads what take wrote: definitions, which are passed over, and rows.
// last says that a statement ends with the row. Where long is given, it reads
// the long rows.
func scan(data io.Reader, long func(table, head string, l *longLine) (last bool, err error), row func(table, head string, line []byte, last bool) error) error {
	r := bufio.NewReaderSize(data, 1<<20)
	early := func(err error) error {
		return fault.Wrap(fault.Damaged, err, "the rows of the sealed database end early")
	}
	var line []byte
	var err error
	head, table, delimiter := "", "", ""
	for {
		most := 0
		if long != nil && head != "" && delimiter == "" {
			most = longRow
		}
		if line, err = readLine(r, line[:0], most); errors.Is(err, errLong) {
			last, err := long(table, head, &longLine{line, r})
			if err != nil {
				return err
			}
			if last {
				head = ""
			}
			continue
		}
		if errors.Is(err, io.EOF) && len(line) == 0 {
			if head != "" || delimiter != "" {
				return early(io.ErrUnexpectedEOF)
			}
			return nil
		}
		if err != nil {
			return early(err)
		}
		switch {
		case delimiter != "":
			if bytes.Equal(line, []byte(delimiter)) {
				delimiter = ""
			}
		case head != "":
			rest, err := skipRow(line, nil)
			if err != nil {
				return err
			}
			if len(rest) != 1 || rest[0] != ',' && rest[0] != ';' {
				return fault.New(fault.Hostile, "the rows of the sealed database hold something that Move Kit does not write")
			}
			last := rest[0] == ';'
			if err := row(table, head, line[:len(line)-1], last); err != nil {
				return err
			}
			if last {
				head = ""
			}
		case bytes.HasPrefix(line, []byte("INSERT INTO `")):
			if table = insertedInto(line); table == "" {
				return fault.New(fault.Hostile, "the rows of the sealed database hold a statement that Move Kit does not write")
			}
			head = string(line)
		case bytes.HasPrefix(line, []byte("DELIMITER ")):
			if delimiter = string(line[len("DELIMITER "):]); delimiter == ";" {
				delimiter = ""
			}
		}
	}
}

// errLong says that a line is longer than was asked for.
var errLong = errors.New("the line is long")

// readLine reads a line without its newline. Of one that is longer than most
// bytes (0 stands for any length) it returns the beginning, and errLong.
func readLine(r *bufio.Reader, line []byte, most int) ([]byte, error) {
	for {
		piece, err := r.ReadSlice('\n')
		line = append(line, piece...)
		switch {
		case most > 0 && len(line) > most && err != nil:
			return line, errLong
		case err == nil:
			return line[:len(line)-1], nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return line, err
		}
	}
}

// insertedInto is the table of INSERT INTO `t` (`a`,`b`) VALUES, or "" where
// that says anything else.
func insertedInto(line []byte) string {
	rest := line[len("INSERT INTO "):]
	table, rest := cutName(rest)
	rest, ok := bytes.CutPrefix(rest, []byte(" ("))
	for ok && !bytes.Equal(rest, []byte(") VALUES")) {
		var name string
		if name, rest = cutName(rest); name == "" {
			return ""
		}
		rest = bytes.TrimPrefix(rest, []byte(","))
	}
	if !ok {
		return ""
	}
	return table
}

// cutName cuts a quoted name off. Where there is none, the name is "" and
// nothing is left.
func cutName(b []byte) (string, []byte) {
	if len(b) == 0 || b[0] != '`' {
		return "", nil
	}
	for i := 1; i < len(b); i++ {
		if b[i] != '`' {
			continue
		}
		if i+1 < len(b) && b[i+1] == '`' {
			i++
			continue
		}
		return unquoted(string(b[:i+1])), b[i+1:]
	}
	return "", nil
}

// sealedRows reads one table of a sealed database.
func sealedRows(open func() (io.ReadCloser, error), table string) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		data, err := open()
		if err != nil {
			return err
		}
		defer data.Close()
		return scan(data, nil, func(of, _ string, line []byte, _ bool) error {
			if of != table {
				return nil
			}
			return each(rowOf(line))
		})
	}
}
