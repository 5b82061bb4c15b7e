package dbcases

import (
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"movekit/test/fatal"
)

// schema is the database of an open-source application, as its Debian package creates it.
type schema struct {
	pack   string   // the package
	files  []string // in it, in this order
	before string   // what its installation does first
}

var schemas = map[Engine][]schema{
	PostgreSQL: {
		{"zabbix-server-pgsql", []string{"usr/share/zabbix-server-pgsql/schema.sql.gz", "usr/share/zabbix-server-pgsql/images.sql.gz"}, ""},
		{"icinga2-ido-pgsql", []string{"usr/share/icinga2-ido-pgsql/schema/pgsql.sql"}, ""},
		{"kea-admin", []string{"usr/share/kea/scripts/pgsql/dhcpdb_create.pgsql"}, ""},
		{"ledgersmb", []string{"usr/share/ledgersmb/sql/Pg-database.sql"}, "CREATE EXTENSION pg_trgm; CREATE EXTENSION btree_gist; CREATE EXTENSION tablefunc;"},
		{"davical", []string{"usr/share/awl/dba/awl-tables.sql", "usr/share/awl/dba/schema-management.sql", "usr/share/davical/dba/davical.sql", "usr/share/davical/dba/rrule_functions.sql"}, ""},
		{"ejabberd", []string{"usr/share/ejabberd/sql/pg.sql"}, ""},
		{"roundcube-core", []string{"usr/share/roundcube/SQL/postgres.initial.sql"}, ""},
		{"tt-rss", []string{"usr/share/tt-rss/schema/ttrss_schema_pgsql.sql"}, ""},
		{"pdns-backend-pgsql", []string{"usr/share/pdns-backend-pgsql/schema/schema.pgsql.sql"}, ""},
		{"kamailio-postgres-modules", []string{"usr/share/kamailio/postgres/*-create.sql"}, ""},
		{"bacula-director-pgsql", []string{"usr/share/dbconfig-common/data/bacula-director-pgsql/install/pgsql"}, ""},
	},
	MariaDB: {
		{"zabbix-server-mysql", []string{"usr/share/zabbix-server-mysql/schema.sql.gz", "usr/share/zabbix-server-mysql/images.sql.gz"}, ""},
		{"icinga2-ido-mysql", []string{"usr/share/icinga2-ido-mysql/schema/mysql.sql"}, ""},
		{"kea-admin", []string{"usr/share/kea/scripts/mysql/dhcpdb_create.mysql"}, ""},
		{"cacti", []string{"usr/share/cacti/conf_templates/cacti.sql"}, ""},
		{"ejabberd", []string{"usr/share/ejabberd/sql/mysql.sql"}, ""},
		{"roundcube-core", []string{"usr/share/roundcube/SQL/mysql.initial.sql"}, ""},
		{"tt-rss", []string{"usr/share/tt-rss/schema/ttrss_schema_mysql.sql"}, ""},
		{"pdns-backend-mysql", []string{"usr/share/pdns-backend-mysql/schema/schema.mysql.sql"}, ""},
		{"kamailio-mysql-modules", []string{"usr/share/kamailio/mysql/standard-create.sql", "usr/share/kamailio/mysql/[ap]*-create.sql", "usr/share/kamailio/mysql/usrloc-create.sql", "usr/share/kamailio/mysql/lcr-create.sql", "usr/share/kamailio/mysql/msilo-create.sql"}, ""},
		{"bacula-director-mysql", []string{"usr/share/dbconfig-common/data/bacula-director-mysql/install/mysql"}, ""},
		{"zoneminder", []string{"usr/share/zoneminder/db/zm_create.sql"}, ""},
	},
	SQLite: {
		{"zabbix-proxy-sqlite3", []string{"usr/share/zabbix-proxy-sqlite3/schema.sql.gz"}, ""},
		{"ejabberd", []string{"usr/share/ejabberd/sql/lite.sql"}, ""},
		{"roundcube-core", []string{"usr/share/roundcube/SQL/sqlite.initial.sql"}, ""},
		{"pdns-backend-sqlite3", []string{"usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql"}, ""},
		{"kamailio-sqlite-modules", []string{"usr/share/kamailio/db_sqlite/*-create.sql"}, ""},
	},
	Firebird: {{"firebird3.0-examples", []string{"usr/share/doc/firebird3.0-common-doc/examples/employee.sql.gz"}, ""}},
}

// Schemas runs a function with the databases of real applications. If a package cannot be
// downloaded, its database is skipped with a message.
func Schemas(t *testing.T, e Engine, try func(t *testing.T, sql string)) {
	for _, s := range schemas[e] {
		t.Run(s.pack, func(t *testing.T) { try(t, s.before+"\n"+s.read(t)) })
	}
}

// read downloads the package, unless an earlier run has.
func (s schema) read(t *testing.T) string {
	t.Helper()
	cache, err := os.UserCacheDir()
	fatal.If(t, err)
	dir := filepath.Join(cache, "movekit-test", "packages", s.pack)
	if _, err := os.Stat(dir); err != nil {
		fatal.If(t, os.MkdirAll(filepath.Dir(dir), 0o755))
		fetched, err := os.MkdirTemp(filepath.Dir(dir), "fetched-")
		fatal.If(t, err)
		defer os.RemoveAll(fetched)
		packs := []string{s.pack}
		if s.pack == "davical" {
			packs = append(packs, "libawl-php")
		}
		fetch := exec.Command("apt-get", append([]string{"download"}, packs...)...)
		fetch.Dir = fetched
		if said, err := fetch.CombinedOutput(); err != nil {
			t.Skipf("left out: the package %s cannot be had here: %v\n%s", s.pack, err, said)
		}
		found, _ := filepath.Glob(filepath.Join(fetched, "*.deb"))
		for _, f := range found {
			if said, err := exec.Command("dpkg-deb", "-x", f, filepath.Join(fetched, "content")).CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, said)
			}
		}
		if err := os.Rename(filepath.Join(fetched, "content"), dir); err != nil && !os.IsExist(err) {
			t.Fatal(err)
		}
	}
	var text strings.Builder
	for _, pattern := range s.files {
		found, _ := filepath.Glob(filepath.Join(dir, pattern))
		if len(found) == 0 {
			t.Fatalf("the package %s has no %s", s.pack, pattern)
		}
		slices.Sort(found)
		for i, f := range found { // what others refer to comes first
			if filepath.Base(f) == "standard-create.sql" {
				found = append([]string{f}, slices.Delete(found, i, i+1)...)
				break
			}
		}
		for _, name := range found {
			f, err := os.Open(name)
			fatal.If(t, err)
			r := io.Reader(f)
			if strings.HasSuffix(name, ".gz") {
				if r, err = gzip.NewReader(f); err != nil {
					t.Fatal(err)
				}
			}
			_, err = io.Copy(&text, r)
			fatal.If(t, err)
			f.Close()
			text.WriteString("\n")
		}
	}
	// Files that a script reads are in the package. Comments are left out.
	plain := strings.ReplaceAll(text.String(), "/usr/share/", dir+"/usr/share/")
	if head, rest, found := strings.Cut(plain, "*/"); found && strings.HasPrefix(strings.TrimSpace(head), "/*") {
		plain = rest
	}
	return comment.ReplaceAllString(plain, "")
}

var comment = regexp.MustCompile(`(?m)^--.*\n`)
