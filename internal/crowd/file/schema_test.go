package file_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/signal"
)

// What the reader takes, the schema takes: the examples, the base of the mistakes,
// and the example of every signal.
func TestSchemaTakesWhatIsRight(t *testing.T) {
	s := file.CompiledSchema(t)
	require.NoError(t, s.Validate(file.AsJSON(t, base)))
	for _, pattern := range []string{"../../../examples/*.yaml", "../../../examples/small/*/crowd.yaml"} {
		list, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, path := range list {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			text = []byte(strings.NewReplacer("mqtt: ADDRESS", "mqtt: mqtt://h", "http: ADDRESS", "http: http://h").Replace(
				string(text)))
			assert.NoError(t, s.Validate(file.AsJSON(t, string(text))), path)
		}
	}
	for _, spec := range signal.All() {
		text := strings.Replace(base, `water_c: {signal: daily, low: 8, high: 12, peak: "15:00"}`, "water_c: 1", 1)
		text = strings.Replace(text, `wave_m: {signal: swell, height: 1.2, period: 9s, round: 2}`, "x_"+spec.Example, 1)
		assert.NoError(t, s.Validate(file.AsJSON(t, text)), spec.Name)
	}
}

// What can be seen to be wrong without knowing names and formulas, the schema
// does not take: every unknown key and word, every measure without its unit.
func TestSchemaSeesMistakes(t *testing.T) {
	s := file.CompiledSchema(t)
	text, err := os.ReadFile(filepath.Join("testdata", "mistakes.txt"))
	require.NoError(t, err)
	visible := regexp.MustCompile(
		`has no key|lacks "|has no unit|is not known; (did you mean|it is one of|write)|is not a percentage|must be true or false|is not a whole number|must be a mapping|[0-9] is outside [0-9-]+ to [0-9]`)
	// Names are not for a schema to know, nor is what goes with a protocol.
	hidden := regexp.MustCompile(
		`there is no|in place of|inside a text|payload \(form|settings|"within"|payload: json|QoS|latitude|longitude|position: |lacks "link"|lacks "row"|outside 0%|is not a position|client id|address|version: 3 is outside|method: "POTS"|hmac:|the command "`)
	n := 0
	for _, block := range strings.Split(string(text), "\n=== ")[1:] {
		title, rest, _ := strings.Cut(block, "\n")
		edits, says, _ := strings.Cut(rest, "\n--- says\n")
		if !visible.MatchString(says) || hidden.MatchString(says) {
			continue
		}
		var v any
		text := edited(t, title, edits)
		if yaml.Unmarshal([]byte(text), &v) != nil {
			continue
		}
		n++
		assert.Error(t, s.Validate(file.AsJSON(t, text)), title)
	}
	assert.GreaterOrEqual(t, n, 25)
}

// What editors show where a pattern does not fit is a sentence, not the pattern.
func TestEditorsShowSentences(t *testing.T) {
	var doc any
	require.NoError(t, json.Unmarshal(file.Schema(), &doc))
	n := 0
	var look func(path string, v any)
	look = func(path string, v any) {
		switch x := v.(type) {
		case map[string]any:
			if _, is := x["pattern"].(string); is {
				n++
				require.Regexp(t, `^Expected: [^\\^]+\.$`, x["patternErrorMessage"], path)
			}
			for k, inner := range x {
				look(path+"/"+k, inner)
			}
		case []any:
			for i, inner := range x {
				look(fmt.Sprint(path, "/", i), inner)
			}
		}
	}
	look("", doc)
	require.Greater(t, n, 100)
	require.Contains(t, string(file.Schema()), `"patternErrorMessage": "Expected: duration, 1ms to 366d, such as 5s, 250ms or 12h25m."`)
}
