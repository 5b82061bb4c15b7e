package desk

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"html/template"
	"net/http"

	"movekit/internal/core/licence"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// maxChanges is how many changes the page shows, newest first.
const maxChanges = 50

type shownLicence struct {
	Licence
	Masked string
}

type shownChange struct {
	licence.Answer
	At, Masked string
}

// page answers with a page for a person: the licences, without serials and
// codes, and what was changed.
func (s *Store) page(w http.ResponseWriter, r *http.Request) {
	text, err := s.render(r.Context())
	if err != nil {
		refuse(w, problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk could not show its licences", ""))
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.Header().Set("Cache-Control", "no-store")
	w.Write(text)
}

func (s *Store) render(ctx context.Context) ([]byte, error) {
	all, err := s.List(ctx)
	if err != nil {
		return nil, err
	}
	data := struct {
		Key      string
		Licences []shownLicence
		Changes  []shownChange
	}{Key: s.PublicKey()}
	masked := map[string]string{}
	for _, l := range all {
		masked[licence.LicenceID(l.Serial)] = licence.Mask(l.Serial)
		data.Licences = append(data.Licences, shownLicence{l, licence.Mask(l.Serial)})
	}
	rows, err := s.db.QueryContext(ctx, "SELECT document, at FROM outcome ORDER BY rowid DESC LIMIT ?", maxChanges)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var document, at string
		if err := rows.Scan(&document, &at); err != nil {
			return nil, err
		}
		c := shownChange{At: at}
		if err := json.Unmarshal([]byte(document), &c.Answer); err != nil {
			return nil, err
		}
		c.Masked = masked[c.Licence]
		data.Changes = append(data.Changes, c)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = page.Execute(&b, data)
	return b.Bytes(), err
}
