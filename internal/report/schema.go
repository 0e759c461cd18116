package report

import _ "embed" // the schema

// Schema is the JSON Schema (draft 2020-12) of Document. It is made of the type, by a test:
// go test ./internal/report -update
//
//go:embed report.schema.json
var Schema []byte
