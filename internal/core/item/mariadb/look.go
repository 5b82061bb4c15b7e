package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/sqltext"
	"movekit/internal/core/item/served"
)

// look inspects the database.
func (c *conn) look(ctx context.Context) (*served.Look, error) {
	v, err := c.Version(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.whole(ctx); err != nil {
		return nil, err
	}
	l := &served.Look{Engine: v.String()}
	sums, err := c.One(ctx, "SELECT coalesce(sum(data_length + index_length), 0), count(*), coalesce(max(update_time), '') FROM information_schema.tables WHERE table_schema = database() AND table_type <> 'VIEW'")
	if err != nil {
		return nil, err
	}
	l.Bytes, _ = strconv.ParseInt(sums[0], 10, 64)
	l.Tables, _ = strconv.ParseInt(sums[1], 10, 64)
	if l.Sessions, err = c.Column(ctx, "SELECT DISTINCT concat('a program as ', user, ' from ', substring_index(host, ':', 1)) FROM information_schema.processlist WHERE db = database() AND id <> connection_id() ORDER BY 1 LIMIT 20"); err != nil {
		return nil, err
	}
	// The server does not record the last change of a database. The log position changes with every
	// change.
	lsn, err := c.One(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('Innodb_lsn_current', 'Innodb_redo_log_current_lsn')")
	if err != nil {
		return nil, err
	}
	defined, err := c.defined(ctx)
	if err != nil {
		return nil, err
	}
	l.Stamp = lsn[1] + " " + sums[2] + " " + defined
	if lsn[1] == "" {
		l.Stamp = time.Now().UTC().String()
	}
	if l.Left, err = c.unsupported(ctx); err != nil {
		return nil, err
	}
	views, err := c.Column(ctx, "SELECT table_name FROM information_schema.views WHERE table_schema = database()")
	for _, v := range views {
		var broken bool
		if broken, err = c.broken(ctx, v); err != nil {
			break
		}
		if broken {
			l.Left = append(l.Left, "view "+v+": it uses an object that no longer exists, and does not work here either")
		}
	}
	return l, err
}

// defined returns a digest of views, routines, triggers and events, whose changes the storage
// engine does not count.
func (c *conn) defined(ctx context.Context) (string, error) {
	rows, err := c.Table(ctx, `SELECT 'routine', routine_name, routine_type, concat_ws('|', last_altered, definer, sql_mode, routine_comment, md5(routine_definition)) FROM information_schema.routines WHERE routine_schema = database()
		UNION ALL SELECT 'trigger', trigger_name, action_order, concat_ws('|', created, definer, sql_mode, md5(action_statement)) FROM information_schema.triggers WHERE trigger_schema = database()
		UNION ALL SELECT 'event', event_name, status, concat_ws('|', last_altered, definer, sql_mode, md5(event_definition)) FROM information_schema.events WHERE event_schema = database()
		UNION ALL SELECT 'view', table_name, security_type, concat_ws('|', definer, md5(view_definition)) FROM information_schema.views WHERE table_schema = database()
		UNION ALL SELECT 'right', grantee, privilege_type, is_grantable FROM information_schema.schema_privileges WHERE table_schema = database()
		UNION ALL SELECT 'right', grantee, privilege_type, concat_ws('|', table_name, is_grantable) FROM information_schema.table_privileges WHERE table_schema = database()
		UNION ALL SELECT 'right', grantee, privilege_type, concat_ws('|', table_name, column_name, is_grantable) FROM information_schema.column_privileges WHERE table_schema = database()
		UNION ALL SELECT 'database', default_character_set_name, default_collation_name, '' FROM information_schema.schemata WHERE schema_name = database()
		ORDER BY 1, 2, 3, 4`)
	return digest.Of(fmt.Append(nil, rows)).String()[:16], err
}

// unsupported lists content of the database that cannot be moved.
func (c *conn) unsupported(ctx context.Context) ([]string, error) {
	return c.Column(ctx, `SELECT concat('row history of ', table_name, ': only its current rows are moved') FROM information_schema.tables WHERE table_schema = database() AND table_type = 'SYSTEM VERSIONED'
		UNION ALL SELECT concat('rows of ', table_name, ': stored on another server, or only in memory') FROM information_schema.tables WHERE table_schema = database() AND engine IN ('FEDERATED', 'CONNECT', 'SPIDER', 'BLACKHOLE')
		UNION ALL SELECT concat('data folder of ', table_name, ': the data goes to the default folder') FROM information_schema.tables WHERE table_schema = database() AND create_options LIKE '%DATA DIRECTORY%'
		ORDER BY 1 LIMIT 20`)
}

// number runs a card's query. The server does not notice that the client stopped waiting, so it gets a
// time limit: each vendor's syntax is a comment for the other.
func (c *conn) number(ctx context.Context, query string) (int64, error) {
	names, err := served.CheckQuery(query)
	if err == nil {
		err = c.checkViews(ctx, names)
	}
	if err != nil {
		return 0, err
	}
	asked := fmt.Sprintf("/*M! SET STATEMENT max_statement_time=%d FOR */ SELECT /*+ MAX_EXECUTION_TIME(%d) */ * FROM (\n%s\n) movekit",
		int(dbprint.QueryTime.Seconds()), dbprint.QueryTime.Milliseconds(), strings.TrimRight(strings.TrimSpace(query), ";"))
	return dbprint.Limited(ctx, query, func(ctx context.Context) (int64, error) {
		rows, err := c.Table(ctx, asked)
		if err != nil {
			return 0, err
		}
		return served.WholeNumber(rows, query)
	})
}

// checkViews returns an error if a name is a view that calls a function of the database, which could do
// anything. The server writes such calls with a quoted name.
func (c *conn) checkViews(ctx context.Context, names []string) error {
	views, err := c.Table(ctx, "SELECT table_name, view_definition FROM information_schema.views WHERE table_schema = database()")
	if err != nil {
		return err
	}
	for left := names; len(left) > 0; left = left[1:] {
		for i, v := range views {
			if !strings.EqualFold(v[0], left[0]) {
				continue
			}
			if strings.Contains(v[1], "`(") {
				return fault.New(fault.BadCard, "the card's query reads the view %s, which calls a function of the database: let the query read a table", v[0])
			}
			for _, other := range views {
				if strings.Contains(v[1], sqltext.Quoted(other[0])) {
					left = append(left, other[0])
				}
			}
			views = slices.Delete(slices.Clone(views), i, i+1)
			break
		}
	}
	return nil
}
