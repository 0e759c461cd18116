package file

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What an event does is read for the devices that it befalls, and for no others; what is wrong
// for all of them is said once.
func TestAnEventIsReadForThoseThatItBefalls(t *testing.T) {
	const text = `
crowd: harbour
links: {sea: {mqtt: "mqtt://h"}, shore: {http: "http://h"}}
kinds:
  buoy: {link: sea, properties: {rate: 2s}, readings: {state: {every: 1s, topic: "h/${device}", fields: {wave_m: 1}}}}
  lamp: {link: sea, properties: {rate: 3s, watts: 5}, readings: {light: {every: 1s, topic: "l/${device}", fields: {on: true}}}}
  gauge: {link: shore, readings: {level: {every: 1s, path: "/in/${device}", fields: {level_m: 1}}}}
devices: [{kind: buoy, count: 2}, {kind: lamp, count: 2}, {kind: gauge, count: 2}]
plan: {for: 10s, events: [{at: 1s, WHO, do: DO}]}
`
	for _, c := range []struct{ who, do, says string }{
		{`who: buoy`, `{every: "${rate}"}`, ""},
		{`who: "kind != 'gauge'"`, `{every: "${rate}"}`, ""},
		{`who: buoy`, `{stuck: wave_m}`, ""},
		{`who: buoy`, `{every: "${rat}"}`, `"rat" is not known here; did you mean "rate"?`},
		{`who: "kind != 'gauge'"`, `{every: "${rat}"}`, `"rat" is not known here`},
		{`who: gauge`, `{every: "${rate}"}`,
			`"rate" is not known here; known are crowd, device, env, kind, n, reading, tags`},
		{`name: x`, `{every: "${rate}"}`, `"rate" is not known here`},
	} {
		_, err := Parse("c.yaml", []byte(strings.NewReplacer("WHO", c.who, "DO", c.do).Replace(text)), Sources{})
		if c.says == "" {
			assert.NoError(t, err, "%s %s", c.who, c.do)
			continue
		}
		require.Error(t, err, "%s %s", c.who, c.do)
		assert.Contains(t, err.Error(), c.says)
		assert.Contains(t, err.Error(), "\n1 mistake in c.yaml", err.Error())
	}
}
