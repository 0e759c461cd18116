package match

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// However a store writes them, the same values have the same digest.
func TestDigestsOfValues(t *testing.T) {
	t.Parallel()
	names := []string{"a", "b", "c"}
	of := func(text string) uint64 {
		var v map[string]any
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		assert.NoError(t, d.Decode(&v))
		return DigestOf(v, names)
	}
	same := of(`{"a": 0, "b": true, "c": {"lat": 1.50, "lon": "x"}}`)
	for _, text := range []string{`{"a": -0, "b": 1, "c": {"lon": "x", "lat": 1.5}}`,
		`{"a": "0.0", "b": "true", "c": {"lat": "1.5", "lon": "x"}, "more": 1}`,
		`{"c": {"lat": 15e-1, "lon": "x"}, "b": "1", "a": 0e5}`} {
		assert.Equal(t, same, of(text), text)
	}
	assert.Equal(t, of(`{"a": null}`), of(`{}`))
	for _, text := range []string{`{"a": 0.1, "b": true, "c": {"lat": 1.5, "lon": "x"}}`,
		`{"a": 0, "b": false, "c": {"lat": 1.5, "lon": "x"}}`, `{"a": 0, "b": true, "c": {"lat": 1.5}}`,
		`{"a": 0, "b": true}`} {
		assert.NotEqual(t, same, of(text), text)
	}
}
