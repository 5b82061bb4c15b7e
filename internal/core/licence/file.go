package licence

import (
	"context"
	"encoding/json"
	"time"

	"movekit/internal/core/fault"
)

// RequestFile carries requests from a computer without network to another one.
type RequestFile struct {
	Format   int           `json:"movekit_licence_request"` // 1
	Kit      string        `json:"kit"`
	Computer string        `json:"computer"` // its name, for display
	Made     time.Time     `json:"made"`
	Requests []FileRequest `json:"requests"`
}

// FileRequest is one request in a file.
type FileRequest struct {
	App     string  `json:"app"` // its title, for display
	Licence string  `json:"licence"`
	Action  Action  `json:"action"`
	Desk    string  `json:"desk"` // its address
	Key     string  `json:"desk_key"`
	Pin     string  `json:"desk_certificate,omitempty"`
	Once    string  `json:"idempotency_key"`
	Request Request `json:"request"`
	Spoken  string  `json:"-"` // the same for the telephone, if possible
}

// AnswerFile carries the desks' signed answers back.
type AnswerFile struct {
	Format  int      `json:"movekit_licence_answer"` // 1
	Kit     string   `json:"kit"`
	Answers []string `json:"answers"` // compact JWS
}

// maxFile limits the size of a file of requests or answers, in bytes.
const maxFile = 1 << 20

// ReadFile parses a file of requests or answers.
func ReadFile[T RequestFile | AnswerFile](data []byte) (*T, error) {
	f := new(T)
	format := 0
	var err error
	if len(data) <= maxFile {
		err = json.Unmarshal(data, f)
	}
	switch f := any(f).(type) {
	case *RequestFile:
		format = f.Format
	case *AnswerFile:
		format = f.Format
	}
	if err != nil || format != 1 {
		return nil, fault.New(fault.Usage, "this is not a file of licence %s", map[bool]string{true: "requests", false: "answers"}[isRequest(f)])
	}
	return f, nil
}

func isRequest(f any) bool {
	_, ok := f.(*RequestFile)
	return ok
}

// Exchange sends a file's requests to their desks. A request that was sent before is answered
// again, but carried out only once. Exchange returns the answers it got even if other requests
// failed.
func Exchange(ctx context.Context, f *RequestFile, service func(FileRequest) (Service, error)) (*AnswerFile, []error) {
	out := &AnswerFile{Format: 1, Kit: f.Kit}
	var failed []error
	for _, t := range f.Requests {
		s, err := service(t)
		if err == nil {
			var a *Answer
			a, err = retry(ctx, 0, 0, func() (*Answer, error) { return s.Ask(ctx, t.Action, t.Request, t.Once) })
			if err == nil {
				out.Answers = append(out.Answers, a.Signed)
			}
		}
		if err != nil {
			failed = append(failed, fault.Wrap(fault.DeskDown, err, "%s, licence %s: no answer", t.App, t.Licence))
		}
	}
	return out, failed
}
