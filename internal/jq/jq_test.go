package jq_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/jq"
)

func TestQueries(t *testing.T) {
	d := json.NewDecoder(strings.NewReader(`{"rows": [{"id": 12345678901234567890, "v": 1.50}, {"v": null}], "none": []}`))
	d.UseNumber()
	var answer any
	require.NoError(t, d.Decode(&answer))
	for source, want := range map[string]string{".rows[].v": "[1.50,null]", ".rows[0].id": "[12345678901234567890]", ".none[]": "null", ".missing": "[null]"} {
		q, err := jq.Parse(source)
		require.NoError(t, err)
		list, err := q.All(answer)
		require.NoError(t, err)
		got, err := json.Marshal(list)
		require.NoError(t, err)
		assert.Equal(t, want, string(got), source)
	}
	for source, want := range map[string]any{".rows[].v": json.Number("1.50"), ".none[]": nil, ".missing": nil} {
		q, err := jq.Parse(source)
		require.NoError(t, err)
		got, err := q.One(answer)
		require.NoError(t, err)
		assert.Equal(t, want, got, source)
	}
}

func TestQueriesThatFail(t *testing.T) {
	for _, source := range []string{".rows[", "nothing_of_the_kind"} {
		_, err := jq.Parse(source)
		assert.ErrorContains(t, err, "is not a jq expression: ")
	}
	q, err := jq.Parse(".a.b")
	require.NoError(t, err)
	_, err = q.All(map[string]any{"a": 3})
	assert.ErrorContains(t, err, ".a.b: ")
	_, err = q.One(map[string]any{"a": 3})
	assert.ErrorContains(t, err, ".a.b: ")
	q, err = jq.Parse("range(infinite)")
	require.NoError(t, err)
	_, err = q.All(nil)
	assert.ErrorContains(t, err, "gives more than 1000000 values")
}
