package file_test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/signal"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(file.Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("crowd.schema.json", doc))
	s, err := c.Compile("crowd.schema.json")
	require.NoError(t, err)
	return s
}

// asJSON is a YAML text as an editor hands it to a schema.
func asJSON(t *testing.T, text string) any {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v), text)
	return plainMaps(v)
}

func plainMaps(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k := range x {
			x[k] = plainMaps(x[k])
		}
	case map[any]any:
		m := map[string]any{}
		for k, v := range x {
			m[toText(k)] = plainMaps(v)
		}
		return m
	case []any:
		for i := range x {
			x[i] = plainMaps(x[i])
		}
	}
	return v
}

func toText(k any) string {
	b, _ := yaml.Marshal(k)
	return strings.Trim(strings.TrimSpace(string(b)), `"'`)
}

// What the reader takes, the schema takes: the examples, the base of the mistakes,
// and the example of every signal.
func TestSchemaTakesWhatIsRight(t *testing.T) {
	s := schema(t)
	require.NoError(t, s.Validate(asJSON(t, base)))
	for _, pattern := range []string{"../../../examples/*.yaml", "../../../examples/small/*/crowd.yaml"} {
		list, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, path := range list {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			text = []byte(strings.NewReplacer("mqtt: ADDRESS", "mqtt: mqtt://h", "http: ADDRESS", "http: http://h").Replace(string(text)))
			assert.NoError(t, s.Validate(asJSON(t, string(text))), path)
		}
	}
	for _, spec := range signal.All() {
		text := strings.Replace(base, `water_c: {signal: daily, low: 8, high: 12, peak: "15:00"}`, "water_c: 1", 1)
		text = strings.Replace(text, `wave_m: {signal: swell, height: 1.2, period: 9s, round: 2}`, "x_"+spec.Example, 1)
		assert.NoError(t, s.Validate(asJSON(t, text)), spec.Name)
	}
}

// What can be seen to be wrong without knowing names and formulas, the schema
// does not take: every unknown key and word, every measure without its unit.
func TestSchemaSeesMistakes(t *testing.T) {
	s := schema(t)
	text, err := os.ReadFile(filepath.Join("testdata", "mistakes.txt"))
	require.NoError(t, err)
	visible := regexp.MustCompile(`has no key|lacks "|has no unit|is not known; (did you mean|it is one of|write)|is not a percentage|must be true or false|is not a whole number|must be a mapping|[0-9] is outside [0-9-]+ to [0-9]`)
	// Names are not for a schema to know, nor is what goes with a protocol.
	hidden := regexp.MustCompile(`there is no|in place of|inside a text|payload \(form|settings|"within"|payload: json|QoS|latitude|longitude|position: |lacks "link"|outside 0%|is not a position|client id|address|version: 3 is outside|method: "POTS"|hmac:|the command "`)
	n := 0
	for _, block := range strings.Split(string(text), "\n=== ")[1:] {
		title, rest, _ := strings.Cut(block, "\n")
		edits, says, _ := strings.Cut(rest, "\n--- says\n")
		if !visible.MatchString(says) || hidden.MatchString(says) {
			continue
		}
		var v any
		if yaml.Unmarshal([]byte(edited(t, title, edits)), &v) != nil {
			continue
		}
		n++
		assert.Error(t, s.Validate(plainMaps(v)), title)
	}
	assert.GreaterOrEqual(t, n, 25)
}
