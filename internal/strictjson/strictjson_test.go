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
	assert.Equal(t, map[string]any{"a": []any{json.Number("1.50"), json.Number("-0"), nil, true, "x"},
		"b": map[string]any{"a": map[string]any{}}, "c": []any{}}, v)
	many := ""
	for i := range 40 {
		many += fmt.Sprintf(`"k%d": %d, `, i, i)
	}
	list, err := strictjson.Members([]byte(`{` + many + `"k": 1}`))
	require.NoError(t, err)
	assert.Len(t, list, 41)
	assert.Equal(t, "k39", list[39].Name)
	for body, want := range map[string]string{
		``: "it is empty", ` `: "it is empty", `{"a": 1`: "ends in the middle", `{"a": 1}}`: "stands after",
		`{"a": 1}2`:        "stands after",
		`{"a": 1}{"a": 2}`: "stands after", `[1,]`: "invalid character", `{"a" 1}`: "invalid character",
		`{"a": 1$"b": 2}`: "invalid character", `{"a": 01}`: "invalid character",
		`{"a": 1, "b": 2, "a": 1}`: `the name "a" stands twice`, `{"a": 1, "\u0061": 2}`: `the name "a" stands twice`,
		`[{"x": {"a": 1, "a": 1}}]`:    `the name "a" stands twice`,
		`{` + many + `"k3": 1}`:        `the name "k3" stands twice`,
		`{` + many + `"z": 1, "z": 1}`: `the name "z" stands twice`,
		"{\"a\": \"\xff\"}":            "not UTF-8", strings.Repeat("[", 20000): "exceeded max depth",
		"NaN": "invalid character",
	} {
		_, err := strictjson.Decode([]byte(body))
		require.Error(t, err, body)
		assert.Contains(t, err.Error(), want, body)
		_, err = strictjson.Members([]byte(body))
		assert.Error(t, err, body)
	}
}

// What stands at a place is found, and taken out with the objects that it leaves empty.
func TestPlaces(t *testing.T) {
	v, err := strictjson.Decode([]byte(`{"a": {"b": {"c": 1}, "d.e": 2, "l": [3, {"m": 4}]}, "f.g": 5, "h": null}`))
	require.NoError(t, err)
	for place, want := range map[string]any{"a.b.c": json.Number("1"), "a.d.e": json.Number("2"),
		"a.l.0": json.Number("3"), "a.l.1.m": json.Number("4"), "f.g": json.Number("5"), "h": nil} {
		got, has := strictjson.At(v, place)
		assert.True(t, has, place)
		assert.Equal(t, want, got, place)
	}
	for _, place := range []string{"", "a.x", "a.l.2", "a.l.-1", "a.l.x", "h.x", "f", "a.b.c.d", "."} {
		_, has := strictjson.At(v, place)
		assert.False(t, has, place)
	}
	object := v.(map[string]any)
	_, has := strictjson.Take(object, "a.l.0")
	assert.False(t, has, "a list keeps its places")
	got, has := strictjson.Take(object, "a.b.c")
	assert.True(t, has)
	assert.Equal(t, json.Number("1"), got)
	_, has = strictjson.Take(object, "a.d.e")
	assert.True(t, has)
	rest, err := json.Marshal(object)
	require.NoError(t, err)
	assert.JSONEq(t, `{"a": {"l": [3, {"m": 4}]}, "f.g": 5, "h": null}`, string(rest))
}
