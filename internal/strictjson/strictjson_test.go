package strictjson_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/strictjson"
)

func TestDecode(t *testing.T) {
	v, err := strictjson.Decode([]byte(` {"a": [1.50, -0, null, true, "x"], "b": {"a": {}}, "c": []} `))
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"a": []any{json.Number("1.50"), json.Number("-0"), nil, true, "x"}, "b": map[string]any{"a": map[string]any{}}, "c": []any{}}, v)
	many := ""
	for i := range 40 {
		many += fmt.Sprintf(`"k%d": %d, `, i, i)
	}
	list, err := strictjson.Members([]byte(`{` + many + `"k": 1}`))
	require.NoError(t, err)
	assert.Len(t, list, 41)
	assert.Equal(t, "k39", list[39].Name)
	for body, want := range map[string]string{
		``: "it is empty", ` `: "it is empty", `{"a": 1`: "ends in the middle", `{"a": 1}}`: "stands after", `{"a": 1}2`: "stands after",
		`{"a": 1}{"a": 2}`: "stands after", `[1,]`: "invalid character", `{"a" 1}`: "invalid character", `{"a": 1$"b": 2}`: "invalid character", `{"a": 01}`: "invalid character",
		`{"a": 1, "b": 2, "a": 1}`: `the name "a" stands twice`, `{"a": 1, "\u0061": 2}`: `the name "a" stands twice`, `[{"x": {"a": 1, "a": 1}}]`: `the name "a" stands twice`,
		`{` + many + `"k3": 1}`: `the name "k3" stands twice`, `{` + many + `"z": 1, "z": 1}`: `the name "z" stands twice`,
		"{\"a\": \"\xff\"}": "not UTF-8", strings.Repeat("[", 20000): "exceeded max depth", "NaN": "invalid character",
	} {
		_, err := strictjson.Decode([]byte(body))
		require.Error(t, err, body)
		assert.Contains(t, err.Error(), want, body)
		_, err = strictjson.Members([]byte(body))
		assert.Error(t, err, body)
	}
}
