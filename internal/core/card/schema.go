package card

import (
	"encoding/json"

	"github.com/invopop/jsonschema"
)

// Schema returns the JSON Schema (draft 2020-12) of a card, made from the
// types of this package, for editors that check YAML while it is written.
func Schema() ([]byte, error) {
	r := &jsonschema.Reflector{
		FieldNameTag:               "yaml",
		RequiredFromJSONSchemaTags: true,
		ExpandedStruct:             true,
		Anonymous:                  true,
	}
	s := r.Reflect(&Card{})
	s.Title = "Move Kit app card"
	s.Description = "One application: where it keeps its data and how its licence is held."
	out, err := json.MarshalIndent(s, "", "  ")
	return append(out, '\n'), err
}
