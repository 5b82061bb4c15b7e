package mariadb

import (
	"bufio"
	"context"
	"database/sql/driver"
	"fmt"
	"io"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/internal/core/item/mariadb/sqltext"
)

// tablesKept limits how many tables one transaction holds, because adding a table takes longer the
// more it holds.
var tablesKept = 1000

// snapshot starts to read a snapshot of the database: one transaction for tables with row versions,
// and a read lock for the others. No table can be changed or dropped until the returned function is
// called and the transaction ends. The transaction's metadata locks prevent that or, with many
// tables, other connections do; then whoever wants to change a table makes the read fail.
func (c *conn) snapshot(ctx context.Context) (func(), error) {
	var keepers []*conn
	let := func() {
		c.pinned = false
		for _, k := range keepers {
			k.Close()
		}
	}
	fail := func(err error) (func(), error) {
		let()
		return nil, err
	}
	keep := func(statements ...string) error {
		k, err := connect(ctx, c.Server)
		if err != nil {
			return err
		}
		keepers = append(keepers, k)
		return k.Run(ctx, statements...)
	}
	tables, err := c.locked(ctx)
	if err != nil {
		return fail(err)
	}
	if len(tables) > 0 {
		if err := keep("LOCK TABLES " + strings.Join(tables, ", ")); err != nil {
			return fail(err)
		}
	}
	const all = "SELECT table_name FROM information_schema.tables WHERE table_schema = database() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') ORDER BY 1"
	names, err := c.Column(ctx, all)
	if err != nil {
		return fail(err)
	}
	begin := []string{"SET TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"}
	if len(names) <= tablesKept {
		err = c.Run(ctx, append(begin, sqltext.Locks(names)...)...)
	} else {
		for kept := range slices.Chunk(names, tablesKept) {
			if err := keep(append([]string{"START TRANSACTION READ ONLY"}, sqltext.Locks(kept)...)...); err != nil {
				return fail(err)
			}
		}
		err = c.Run(ctx, append(begin, "SAVEPOINT movekit")...)
		c.pinned = true
	}
	if err != nil {
		return fail(err)
	}
	now, err := c.Column(ctx, all)
	if err == nil && !slices.Equal(names, now) {
		err = fault.New(fault.Changed, "tables of %s were created or dropped while it was about to be read", c.Server.Address())
	}
	if err != nil {
		return fail(err)
	}
	return let, nil
}

// release releases the tables that the transaction of a snapshot has used. Other connections still
// hold them.
func (c *conn) release(ctx context.Context) error {
	if !c.pinned {
		return nil
	}
	return c.Run(ctx, "ROLLBACK TO SAVEPOINT movekit")
}

// take reads a whole database, and writes it to w, if not nil.
func (c *conn) take(ctx context.Context, d *schema.Sealed, counts []card.Count, w *bufio.Writer, progress func(int64)) error {
	if err := c.schema(ctx, d); err != nil {
		return err
	}
	if w != nil {
		schema.WriteTables(w, c.Server.Database, d)
	}
	for _, m := range d.Make {
		if m.Table == nil {
			continue
		}
		if err := c.rows(ctx, m.Table, d, w, progress); err != nil {
			return err
		}
		if err := c.release(ctx); err != nil {
			return err
		}
		d.Tables = append(d.Tables, m.Table.Table)
	}
	if w != nil {
		schema.WriteRest(w, d)
	}
	d.Sort()
	return d.RunCounts(counts, func(query string) (int64, error) { return c.number(ctx, query) })
}

// maxStatement limits the length of a statement with several rows, in bytes.
const maxStatement = 1 << 19

// rows reads a table's rows, computes their fingerprint, and writes them.
func (c *conn) rows(ctx context.Context, t *schema.Table, d *schema.Sealed, w *bufio.Writer, progress func(int64)) error {
	var sum dbprint.Multiset
	var names []string
	for _, col := range t.Cols {
		names = append(names, sqltext.Quoted(col.Name))
	}
	head := fmt.Sprintf("INSERT INTO %s (%s) VALUES\n", sqltext.Quoted(t.Name), strings.Join(names, ","))
	if w == nil {
		w = bufio.NewWriter(io.Discard)
	}
	written := int64(0) // bytes of the statement
	before := func(n int64) {
		switch {
		case written == 0:
			w.WriteString(head)
		case written+n > maxStatement:
			w.WriteString(";\n")
			w.WriteString(head)
			written = 0
		default:
			w.WriteString(",\n")
		}
	}
	after := func(h digest.Sum, n int64) {
		sum.Add(h)
		written += n + 2
		d.Longest = max(d.Longest, n+int64(len(head))+2)
		if progress != nil {
			progress(n + 2)
		}
	}
	where, keys, err := c.longKeys(ctx, t)
	if err != nil {
		return err
	}
	err = c.each(ctx, t, where, func(line []byte) error {
		before(int64(len(line)))
		after(digest.Of(line), int64(len(line)))
		_, err := w.Write(line)
		return err
	})
	if err != nil {
		return err
	}
	for _, key := range keys {
		before(sqltext.LongRow)
		h, n, err := c.long(ctx, t, key, w)
		if err != nil {
			return err
		}
		after(h, n)
	}
	if len(keys) > 0 { // otherwise one query read everything
		there, err := c.One(ctx, "SELECT count(*) FROM "+sqltext.Quoted(t.Name))
		if err != nil {
			return err
		}
		if there[0] != fmt.Sprint(sum.N) {
			return fault.New(fault.Internal, "the table %s has %s rows, but %d were read", t.Name, there[0], sum.N)
		}
	}
	if written > 0 {
		w.WriteString(";\n")
	}
	t.Rows, t.Digest = int64(sum.N), sum.Digest()
	return nil
}

// each reads a table row by row, as SQL. where selects rows.
func (c *conn) each(ctx context.Context, t *schema.Table, where string, each func(line []byte) error) error {
	reads := []string{}
	for _, col := range t.Cols {
		reads = append(reads, col.Read())
	}
	if len(reads) == 0 {
		reads = []string{"1"} // only generated columns: read just the number of rows
	}
	var line []byte
	return c.Each(ctx, "SELECT "+strings.Join(reads, ",")+" FROM "+sqltext.Quoted(t.Name)+where, func(cells []driver.Value) (err error) {
		if line, err = sqltext.AppendRow(line[:0], t.Cols, cells[:len(t.Cols)]); err != nil {
			return err
		}
		return each(line)
	})
}

// readTable reads one table of the database.
func (c *conn) readTable(ctx context.Context, t dbprint.Table, each func(dbprint.Row) error) error {
	columns, err := c.columns(ctx)
	if err != nil {
		return err
	}
	own := columns[t.Name]
	if own == nil {
		return fault.New(fault.BadDatabase, "the table is missing")
	}
	return c.each(ctx, &schema.Table{Table: t, Cols: own.moved}, "", func(line []byte) error { return each(sqltext.RowOf(line)) })
}
