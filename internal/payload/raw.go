package payload

import (
	"encoding/base64"
	"errors"
)

// Raw is the form of bodies that are sent as they are: recorded ones that are no JSON objects.
// What they carry is their bytes, in base64; the mark rides beside them.
type Raw struct{}

// RawField is the name under which the bytes stand in what such a message carries.
const RawField = "bytes"

// ContentType implements Form.
func (Raw) ContentType() string { return "application/octet-stream" }

// Append implements Form: such bodies are not made of values.
func (Raw) Append(dst []byte, _ []Sample) ([]byte, error) {
	return dst, errors.New("a recorded body is not made of values")
}

// Read implements Form.
func (Raw) Read(body []byte) ([]Found, error) {
	return []Found{{Values: map[string]any{RawField: base64.StdEncoding.EncodeToString(body)}}}, nil
}
