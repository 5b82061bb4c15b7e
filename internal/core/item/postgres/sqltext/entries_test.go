package sqltext

import (
	"io"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
)

// dump is output of pg_restore in which a function contains a text that looks like the start of an entry.
const dump = `SET default_tablespace = '';

SET default_table_access_method = heap;

--
-- Name: boat; Type: TABLE; Schema: public; Owner: maren
--

CREATE TABLE public.boat (
    name text
);


ALTER TABLE public.boat OWNER TO maren;

SET default_table_access_method = columns;

--
-- Name: stored; Type: TABLE; Schema: public; Owner: maren
--

CREATE TABLE public.stored (
    name text
);


SET default_table_access_method = heap;

--
-- Name: f(); Type: FUNCTION; Schema: public; Owner: maren
--

CREATE FUNCTION public.f() RETURNS text LANGUAGE sql AS $_$
--
-- Name: trap; Type: TABLE; Schema: public; Owner: maren
--
SELECT 'a''
--'$_$;


ALTER FUNCTION public.f() OWNER TO maren;

--
-- Name: TABLE boat; Type: ACL; Schema: public; Owner: maren
--

GRANT SELECT ON TABLE public.boat TO tobias;

--
-- Name: DATABASE quay; Type: COMMENT; Schema: -; Owner: maren
--

COMMENT ON DATABASE quay IS 'the $1 harbour';

--
-- PostgreSQL database dump complete
--
`

// TestCut splits a dump into entries, and takes owners and rights out of them.
func TestCut(t *testing.T) {
	entries := Cut(dump)
	var names []string
	for _, e := range entries {
		names = append(names, e.Sort+" "+e.Name)
	}
	if want := []string{"table public.boat", "table public.stored", "function public.f()", "acl public.TABLE boat", "comment DATABASE quay"}; !slices.Equal(names, want) {
		t.Fatalf("%q", names)
	}
	if entries[1].SQL != "SET default_table_access_method = columns;\nCREATE TABLE public.stored (\n    name text\n);\nSET default_table_access_method = heap;\n" || strings.Contains(entries[0].SQL, "SET") || !strings.Contains(entries[2].SQL, "trap") {
		t.Errorf("%q", entries)
	}
	if got := entries[4].For(`"other$1"`); got != "COMMENT ON DATABASE \"other$1\" IS 'the $1 harbour';\n" || entries[0].For("x") != entries[0].SQL {
		t.Errorf("for another database: %q", got)
	}
	now, statements := Later(entries)
	if want := []string{"ALTER TABLE public.boat OWNER TO maren;", "ALTER FUNCTION public.f() OWNER TO maren;", "GRANT SELECT ON TABLE public.boat TO tobias;"}; !slices.Equal(statements, want) {
		t.Errorf("later: %q", statements)
	}
	if len(now) != 4 || strings.Contains(now[0].SQL, "OWNER") || now[3].Sort != "comment" {
		t.Errorf("now: %q", now)
	}
	if o := entries[3].Object(); o.Sort != "grant" {
		t.Errorf("%+v", o)
	}
}

// TestScan reads sealed rows, and stops at statements that Move Kit does not write.
func TestScan(t *testing.T) {
	read := func(text string) (said []string, err error) {
		add := func(kind string) func(string) error {
			return func(line string) error { said = append(said, kind+" "+line); return nil }
		}
		err = Scan(strings.NewReader(text), add("comment"), add("run"), func(sql string, rows io.Reader) error {
			data, err := io.ReadAll(rows)
			said = append(said, sql+": "+string(data))
			return err
		})
		return said, err
	}
	said, err := read("-- rows\nSET client_encoding = 'UTF8';\nCOPY public.boat (name) FROM stdin;\na\n\\\\.\n\\.\nSELECT pg_catalog.setval('public.s', 4, true);\n")
	if want := []string{"comment -- rows", "run SET client_encoding = 'UTF8'", "COPY public.boat (name) FROM stdin: a\n\\\\.\n", "run SELECT pg_catalog.setval('public.s', 4, true)"}; err != nil || !slices.Equal(said, want) {
		t.Errorf("%q %v", said, err)
	}
	for text, kind := range map[string]fault.Kind{"DROP TABLE public.boat;\n": fault.Hostile, "COPY public.boat FROM PROGRAM 'x';\n": fault.Hostile, "COPY public.boat FROM stdin;\na\n": fault.Damaged, "-- rows": fault.Damaged, strings.Repeat("x", MaxStatement+1<<20): fault.Hostile} {
		if _, err := read(text); fault.KindOf(err) != kind {
			t.Errorf("%.40q: %v", text, err)
		}
	}
}
