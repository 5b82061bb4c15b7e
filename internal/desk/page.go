package desk

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"html/template"
	"net/http"
	"strconv"
	"sync"
	"time"

	"movekit/internal/core/licence"
)

//go:embed page.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })

// maxChanges limits the changes on the page, newest first.
const maxChanges = 50

// pageful is the number of licences on one page, and maxShown the number of computers for each.
const (
	pageful  = 100
	maxShown = 10
)

type shownLicence struct {
	Licence
	Masked string
	Rules  []string
}

// Shown returns the first computers that it is active on, and More the number of others.
func (l shownLicence) Shown() []string { return l.Active[:min(len(l.Active), maxShown)] }
func (l shownLicence) More() int       { return len(l.Active) - len(l.Shown()) }

type shownChange struct {
	Changed
	Masked string
}

// When returns the time of the change for display.
func (c shownChange) When() string {
	at, err := time.Parse(time.RFC3339, c.At)
	if err != nil {
		return c.At
	}
	return at.Format("2 Jan 2006 15:04:05")
}

// Changed is one change of a licence.
type Changed struct {
	licence.Answer
	At string `json:"at"` // RFC 3339, UTC
}

// Changes returns the newest changes of one licence, or of all, newest first.
func (s *Store) Changes(ctx context.Context, id string, most int) ([]Changed, error) {
	s.open.RLock()
	defer s.open.RUnlock()
	rows, err := s.db.QueryContext(ctx, "SELECT document, at FROM outcome WHERE ? IN ('', json_extract(document, '$.licence')) ORDER BY rowid DESC LIMIT ?", id, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Changed{}
	for rows.Next() {
		var document string
		var c Changed
		if err := rows.Scan(&document, &c.At); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(document), &c.Answer); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// page writes a web page with the licences, without serials and codes, and the latest changes. The
// query parameter from selects the first licence.
func (s *Store) page(w http.ResponseWriter, r *http.Request) {
	from, _ := strconv.Atoi(r.FormValue("from")) // anything but a number means the first
	text, err := s.render(r.Context(), max(from, 0))
	if err != nil {
		refuse(w, problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk could not read its licences", ""))
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.Header().Set("Cache-Control", "no-store")
	w.Write(text)
}

func (s *Store) render(ctx context.Context, from int) ([]byte, error) {
	faults, err := s.Faults(ctx)
	if err != nil {
		return nil, err
	}
	now, err := s.Now(ctx)
	if err != nil {
		return nil, err
	}
	all, err := s.List(ctx)
	if err != nil {
		return nil, err
	}
	data := struct {
		Key      string
		Now      string
		Broken   bool
		Licences []shownLicence
		Changes  []shownChange
		Next     int
	}{Key: s.PublicKey(), Now: now.UTC().Format("2 Jan 2006 15:04"), Broken: faults != Faults{}}
	masked := map[string]string{}
	for i, l := range all {
		masked[licence.LicenceID(l.Serial)] = licence.Mask(l.Serial)
		if i >= from && i < from+pageful {
			data.Licences = append(data.Licences, shownLicence{l, licence.Mask(l.Serial), l.Rules(now)})
		}
	}
	if from+pageful < len(all) {
		data.Next = from + pageful
	}
	changes, err := s.Changes(ctx, "", maxChanges)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		data.Changes = append(data.Changes, shownChange{c, masked[c.Licence]})
	}
	var b bytes.Buffer
	err = page().Execute(&b, data)
	return b.Bytes(), err
}
