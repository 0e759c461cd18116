package report

import (
	"reflect"
	"time"

	"github.com/invopop/jsonschema"

	"runcrowd/internal/proof"
)

// Schema is the JSON Schema (draft 2020-12) of Document.
func Schema() *jsonschema.Schema {
	r := jsonschema.Reflector{ExpandedStruct: true, AllowAdditionalProperties: true, Mapper: func(t reflect.Type) *jsonschema.Schema {
		switch t {
		case reflect.TypeFor[time.Duration]():
			return &jsonschema.Schema{Type: "integer", Description: "nanoseconds"}
		case reflect.TypeFor[proof.State]():
			return &jsonschema.Schema{Type: "string", Enum: []any{proof.Met, proof.NotMet, proof.Undecided}}
		}
		return nil
	}}
	s := r.Reflect(&Document{})
	s.ID, s.Title = "", "The report of a run"
	s.Description = "What runcrowd writes with --format json, and as report.json. Times are RFC 3339, delays milliseconds. The member format grows when a member changes its meaning or goes away."
	return s
}
