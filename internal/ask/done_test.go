package ask

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/formula"
)

func TestDenies(t *testing.T) {
	env := formula.Env{"done": true, "why": "", "lamp_w": 4.0}
	for name, c := range map[string]struct {
		body, told string
		denied     bool
	}{
		"done":               {`{"ok": ${done}}`, `{"ok": true}`, false},
		"not done":           {`{"ok": ${json(done)}, "why": ${json(why)}}`, `{"why": "no", "ok": false}`, true},
		"deep":               {`{"result": [{"ok": ${done}}, 2]}`, `{"result": [{"ok": false}, 2]}`, true},
		"of another shape":   {`{"result": [{"ok": ${done}}]}`, `{"ok": false}`, false},
		"another false":      {`{"ok": ${done}, "lamp_w": ${lamp_w}}`, `{"ok": true, "lamp_w": false}`, false},
		"not JSON":           {`done: ${done}`, `done: false`, false},
		"an answer of bytes": {`{"ok": ${done}}`, "\xff", false},
	} {
		text, err := formula.ParseText(c.body, env)
		require.NoError(t, err, name)
		assert.Equal(t, c.denied, denies(text, []byte(c.told)), name)
	}
	assert.False(t, denies(nil, []byte(`{"ok": false}`)), "a command without an answer")
}
