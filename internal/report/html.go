package report

import (
	"bytes"
	_ "embed"
	"html/template"
	"time"

	"github.com/dustin/go-humanize"
)

//go:embed handover.html
var page string

var handover = template.Must(template.New("handover").Funcs(template.FuncMap{
	"bytes":  func(n int64) string { return humanize.Bytes(uint64(max(n, 0))) },
	"date":   date,
	"result": resultText,
}).Parse(page))

// HTML returns the hand-over as one page that needs no script and no other
// file, and prints on A4.
func (r *Report) HTML() ([]byte, error) {
	var b bytes.Buffer
	err := handover.Execute(&b, r)
	return b.Bytes(), err
}

// date writes a time, or nothing for none.
func date(v any) string {
	switch t := v.(type) {
	case time.Time:
		return t.Local().Format("2 January 2006, 15:04")
	case *time.Time:
		if t != nil {
			return date(*t)
		}
	}
	return ""
}
