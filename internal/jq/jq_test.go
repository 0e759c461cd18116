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
	for source, want := range map[string]string{".rows[].v": "[1.50,null]", ".rows[0].id": "[12345678901234567890]",
		".none[]": "null", ".missing": "[null]"} {
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
	require.Error(t, err)
	assert.Regexp(t, "gives more than 1000000 values|takes longer than 2s", err.Error()) // whichever comes first
}

// Whatever an expression says, and whatever a platform puts into it, it ends, and takes no
// more than it may.
func TestBounds(t *testing.T) {
	for source, says := range map[string]string{
		"[range(infinite)] | length":                           "takes ",
		"reduce range(60) as $i (\"x\"; . + .)":                "takes more than 128 MiB of memory",
		"def f: [., .] | f; f":                                 "takes ",
		"[limit(1e12; repeat(1))]":                             "takes ",
		"last(range(1e12))":                                    "takes longer than 2s",
		".text * 1000000000":                                   "a text cannot be multiplied",
		"1000000 * (.list | map(.text * 3000))":                "a text cannot be multiplied",
		"{a: [.list[] | if true then .text * 9e8 else 1 end]}": "a text cannot be multiplied",
	} {
		q, err := jq.Parse(source)
		require.NoError(t, err, source)
		_, err = q.One(map[string]any{"text": "xx", "list": []any{map[string]any{"text": "y"}}})
		assert.ErrorContains(t, err, says, source)
	}
	for _, source := range []string{".a[536870000] = 1", "setpath([536870000]; 1)", ".a |= 1", "{a: (.b += 1)}"} {
		_, err := jq.Parse(source)
		assert.ErrorContains(t, err, "assigns; to pick, make a new object", source)
	}
	for source, want := range map[string]any{".n * 3": 6, "[.n, 2.5] | .[0] * .[1]": 5.0, "[range(3)] | length": 3,
		"({a: 1} * {b: 2}) | length": 2} {
		q, err := jq.Parse(source)
		require.NoError(t, err, source)
		got, err := q.One(map[string]any{"n": 2})
		require.NoError(t, err, source)
		assert.EqualValues(t, want, got, source)
	}
}

// What is deep ends no program: it is refused, or read.
func TestDeepExpressions(t *testing.T) {
	for _, c := range []string{"-", "(", "[", ".[", "if . then ", ".|", "try "} {
		_, err := jq.Parse(strings.Repeat(c, 1_000_000) + "1")
		require.ErrorContains(t, err, "at most 10000 characters")
		jq.Parse(strings.Repeat(c, 9999/len(c)) + "1")
	}
}
