package sqltext

import (
	"bytes"
	"database/sql/driver"
	"math/rand/v2"
	"strings"
	"testing"

	"movekit/internal/core/fault"
)

// FuzzScan checks that no rows make the reader panic, and that it passes on only literals.
func FuzzScan(f *testing.F) {
	f.Add([]byte("INSERT INTO `a` (`b`,`c`) VALUES\n(1,'x\\'y'),\n(NULL,x'00');\nDELIMITER //\nCREATE x\n//\nDELIMITER ;\n"))
	f.Add([]byte("INSERT INTO `a` () VALUES\n(),\n(-1.5e-7);\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		Scan(bytes.NewReader(data), nil, func(table, head string, line []byte, last bool) error {
			if bytes.ContainsRune(line, '\n') || !bytes.HasPrefix(line, []byte("(")) || !strings.HasPrefix(head, "INSERT INTO `") {
				t.Errorf("%q: %q", head, line)
			}
			row := RowOf(line)
			row.Cells()
			return nil
		})
	})
}

// FuzzLongRow checks that a long row is loaded as written and that anything but literals is
// rejected, for any piece length.
func FuzzLongRow(f *testing.F) {
	f.Add([]byte("(1,'x\\'y',NULL,x'00ff');\n"))
	f.Add([]byte("('" + strings.Repeat("é\\n", 50) + "',-1.5e-7),\n"))
	f.Add([]byte("((SELECT 1));\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		whole := "INSERT INTO `a` (`b`,`c`,`d`,`e`) VALUES\n" + string(data)
		var runs []string
		loaded := 0
		err := Scan(strings.NewReader(whole), func(_, head string, l *LongLine) (bool, error) {
			last, err := l.Insert(head, map[string]Sort{"e": Binary}, func(sql string) error {
				runs = append(runs, sql)
				return nil
			})
			return last, err
		}, func(_, _ string, line []byte, _ bool) error {
			loaded++
			if _, err := skipRow(line, nil); err != nil {
				t.Errorf("%q is no row: %v", line, err)
			}
			return nil
		})
		if err != nil && fault.KindOf(err) != fault.Hostile && fault.KindOf(err) != fault.Damaged {
			t.Errorf("%q: %v", data, err)
		}
		for _, sql := range runs {
			if !strings.HasPrefix(sql, "INSERT INTO `a`") && !strings.HasPrefix(sql, "SET @movekit_") {
				t.Errorf("runs %q", sql)
			}
		}
	})
}

// TestLongRowIsTheSame loads a row in pieces, and joins them as the server would.
func TestLongRowIsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	long := make([]byte, Piece+100)
	for i := range long {
		long[i] = "ab'\\\n,(é"[r.IntN(9)]
	}
	cols := []Column{{Name: "a", Sort: Text, Large: true}, {Name: "b", Sort: Binary, Large: true}, {Name: "c", Sort: Number}}
	row, err := AppendRow(nil, cols, []driver.Value{long, long, int64(7)})
	if err != nil {
		t.Fatal(err)
	}
	var last string
	joined := map[string]string{} // pieces by cell
	sql := "INSERT INTO `t` (`a`,`b`,`c`) VALUES\n" + string(row) + ";\n"
	err = Scan(strings.NewReader(sql), func(_, head string, l *LongLine) (bool, error) {
		return l.Insert(head, map[string]Sort{"a": Text, "b": Binary, "c": Number}, func(sql string) error {
			if name, piece, ok := strings.Cut(sql, " = _binary '"); ok {
				if len(sql) > Piece+1000 {
					t.Errorf("a statement of %d bytes", len(sql))
				}
				joined[name[:len("SET @movekit_0")]] += strings.TrimSuffix(piece, "'")
			} else if strings.HasPrefix(sql, "INSERT") {
				last = sql
			}
			return nil
		})
	}, func(string, string, []byte, bool) error { t.Error("it is read whole"); return nil })
	want := strings.Trim(string(AppendText(nil, long)), "'")
	if err != nil || joined["SET @movekit_0"] != want || joined["SET @movekit_1"] != want || last != "INSERT INTO `t` (`a`,`b`,`c`) VALUES (convert(concat(@movekit_0_0, @movekit_0_1) USING utf8mb4),concat(@movekit_1_0, @movekit_1_1, @movekit_1_2),7)" {
		t.Errorf("%v: %.200s, and %d and %d of %d bytes", err, last, len(joined["SET @movekit_0"]), len(joined["SET @movekit_1"]), len(want))
	}
	got, n := RowOf(row), 0
	for _, cell := range got.Cells() {
		n += len(cell)
	}
	if n == 0 || got.Hash != RowOf(bytes.Clone(row)).Hash {
		t.Error("the row has no cells")
	}
}
