package served

import (
	"encoding/json"
	"strconv"

	"movekit/internal/core/fault"
)

// FactsOf reads what an engine's Seal returned.
func FactsOf[T any](text []byte) (*T, error) {
	d := new(T)
	if err := json.Unmarshal(text, d); err != nil {
		return nil, fault.Wrap(fault.Damaged, err, "what is known of the sealed database cannot be read")
	}
	return d, nil
}

// WholeNumber is the one whole number that a query gives.
func WholeNumber(rows [][]string, query string) (int64, error) {
	if len(rows) == 1 && len(rows[0]) == 1 {
		if n, err := strconv.ParseInt(rows[0][0], 10, 64); err == nil {
			return n, nil
		}
	}
	return 0, fault.New(fault.BadCard, "the query does not give one whole number: %s", query)
}
