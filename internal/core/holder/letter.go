package holder

import (
	"context"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/steps"
)

// Letter is the information for a letter to an app's vendor about one licence.
type Letter struct {
	App     string        `json:"app"`
	Title   string        `json:"title"`
	Vendor  string        `json:"vendor"`
	Licence string        `json:"licence"`
	Method  card.Method   `json:"method"`
	Version string        `json:"version"` // on the old computer; "" if unknown
	Edition string        `json:"edition,omitempty"`
	Serial  string        `json:"serial,omitempty"` // masked, unless requested
	Code    string        `json:"code,omitempty"`
	OldName string        `json:"old"`
	OldID   string        `json:"old_id"`
	Old     licence.State `json:"old_state"`
	OldAt   time.Time     `json:"old_at,omitzero"`
	NewName string        `json:"new"`
	NewID   string        `json:"new_id,omitempty"`
	New     licence.State `json:"new_state"`
	NewAt   time.Time     `json:"new_at,omitzero"`
	Left    int           `json:"transfers_left"` // -1 if unknown
	Used    int           `json:"transfers_used"`
	By      string        `json:"seen_by"`
	Lost    string        `json:"lost,omitempty"` // why the old computer cannot start
	Please  Please        `json:"please"`
}

// Please is a request to a vendor.
type Please string

// Requests to vendors.
const (
	PleaseFree    Please = "free"    // deactivate the licence on a computer that cannot start
	PleaseIssue   Please = "issue"   // issue another file, for the new computer
	PleaseCorrect Please = "correct" // update their records; nothing else is needed
)

// Letters collects the facts that the vendors of the selected apps will ask for. Serials and codes
// are masked, unless open is true.
func (r *Session) Letters(ctx context.Context, open bool) ([]Letter, error) {
	cards, err := r.SelectedCards()
	if err != nil {
		return nil, err
	}
	statuses, err := r.Statuses(ctx)
	if err != nil {
		return nil, err
	}
	st := r.State
	out := []Letter{}
	for _, c := range cards {
		for _, l := range c.Licences {
			s, known := statuses[len(out)], st.Licence(c.Name, l.Name)
			w := Letter{App: c.Name, Title: c.Title, Vendor: c.Vendor, Licence: l.Name, Method: l.Method, Old: s.Old, New: s.New, Left: s.Left, By: s.By,
				OldName: known.From.Name, OldID: known.From.ID, NewName: st.New.Name, NewID: st.New.ID, OldAt: known.OldAt, NewAt: known.NewAt, Used: known.Used, Please: PleaseCorrect}
			if r.Side() == steps.NewSide {
				w.NewName, w.NewID = r.Computer.Name(), r.Self().ID
			}
			if p := st.Packed[c.Name]; p != nil {
				w.Version, w.Edition = p.Version, p.Edition
			}
			for _, o := range st.Overrides {
				if o.App == c.Name && o.Gate == "old-computer" {
					w.Lost = o.Because
				}
			}
			if err := r.tellSerial(c, l.Name, &w, open); err != nil {
				return nil, err
			}
			switch {
			case l.Bound && s.New != licence.Active:
				w.Please = PleaseIssue
			case !steps.CanActivateElsewhere(s.Old):
				w.Please = PleaseFree
			}
			out = append(out, w)
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Usage, "no app in the kit has a licence to write about")
	}
	return out, nil
}

// tellSerial fills in the serial.
func (r *Session) tellSerial(c *card.Card, name string, w *Letter, open bool) error {
	st := r.State.Licence(c.Name, name)
	if st.Sealed == nil {
		return nil
	}
	var s licence.Secrets
	if err := r.OpenJSON(c.Name, st.Sealed.Parts, &s); err != nil {
		return err
	}
	w.Serial, w.Code = masked(s.Serial), masked(s.Code)
	if open {
		w.Serial, w.Code = s.Serial, s.Code
	}
	return nil
}
