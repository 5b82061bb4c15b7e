package card

import (
	"encoding/json"

	"github.com/invopop/jsonschema"
)

// Schema returns the JSON Schema (draft 2020-12) of a card for editors. It is generated from the
// types of this package.
func Schema() ([]byte, error) {
	r := &jsonschema.Reflector{
		FieldNameTag:               "yaml",
		RequiredFromJSONSchemaTags: true,
		ExpandedStruct:             true,
		Anonymous:                  true,
	}
	s := r.Reflect(&Card{})
	s.Title = "Move Kit app card"
	s.Description = "One application: where it keeps its data and how it is licensed."
	for _, i := range Kinds {
		only(s.Definitions["Item"], "kind", string(i.Kind), i.takes)
	}
	for _, i := range Methods {
		only(s.Definitions["Licence"], "method", string(i.Method), i.takes)
	}
	out, err := json.MarshalIndent(s, "", "  ")
	return append(out, '\n'), err
}

// only forbids fields that a kind or method does not take.
func only(s *jsonschema.Schema, field, value string, takes func(string) bool) {
	is, not := jsonschema.NewProperties(), jsonschema.NewProperties()
	is.Set(field, &jsonschema.Schema{Const: value})
	for p := s.Properties.Oldest(); p != nil; p = p.Next() {
		if !takes(p.Key) {
			not.Set(p.Key, jsonschema.FalseSchema)
		}
	}
	s.AllOf = append(s.AllOf, &jsonschema.Schema{If: &jsonschema.Schema{Properties: is}, Then: &jsonschema.Schema{Properties: not}})
}
