//go:build unix

package run_test

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

var tellsWhich = regexp.MustCompile(`"c": ?(\d+), ?"d": ?"([^"]+)"`)

// orderWitnesses look for messages without a mark; the store's rows tell no time.
var orderWitnesses = map[string]string{
	"heard": "{proves: received, subscribe: harbour/#, link: sea, wait: WAIT, watch_copies: 300ms}",
	"asked": `{proves: stored, get: "http://HTTP/stored/${device}", rows: ".rows[]", values: .content, wait: WAIT, watch_copies: 300ms}`,
	"asked, with times": `{proves: stored, get: "http://HTTP/stored/${device}", rows: ".rows[]", values: .content, time: .stored_at,
  wait: WAIT, watch_copies: 300ms}`,
}

// Messages without a mark, heard by a subscription or found by a query: their values and order tell which is lost,
// came twice or was changed; where values are alike, nothing is said that is not known.
func TestValuesInOrderAreHeard(t *testing.T) {
	t.Parallel()
	for _, c := range []orderCase{
		{"", "{c: {formula: seq}, d: \"${device}\"}", verdict.Proven},
		{"lose", "{c: {formula: seq}, d: \"${device}\"}", verdict.Lost},
		{"repeat", "{c: {formula: seq}, d: \"${device}\"}", verdict.Repeated},
		{"alter", "{c: {formula: seq}, d: \"${device}\", w: {signal: swell, round: 2}}", verdict.Altered},
		{"", "{lamp: {signal: choice, of: [on, off]}}", verdict.Proven},
		{"lose", "{lamp: {signal: choice, of: [on, off]}}", verdict.Unknown},
		{"repeat", "{lamp: {signal: choice, of: [on, off]}}", verdict.Unknown},
	} {
		for name, witness := range orderWitnesses {
			t.Run(name+"/"+c.flaw+"/"+c.expected.String(), func(t *testing.T) {
				t.Parallel()
				valuesInOrder(t, c, witness)
			})
		}
	}
}

// orderCase is a flaw of the stand-in, and what it must be found to be.
type orderCase struct {
	flaw     string
	fields   string // beside the number of the message, where there is one
	expected verdict.Verdict
}

func valuesInOrder(t *testing.T, c orderCase, witness string) {
	var flaws []standin.Flaw
	if c.flaw != "" {
		flaws = flawsOf(t, c.flaw+"=3")
	}
	var p *played
	var hits []string
	inWorld(t, standin.Config{Flaws: flaws}, func(t *testing.T, w *world) {
		wait := "60s"
		if c.flaw == "lose" {
			wait = "6s"
		}
		cr, err := file.Parse("order.yaml", []byte(strings.NewReplacer("HTTP", w.HTTPAddr, "MQTT", w.MQTTAddr, "FIELDS", c.fields, "WAIT", wait).Replace(strings.Replace(`
crowd: order
links: {sea: {mqtt: mqtt://MQTT}}
kinds: {buoy: {mark: none, link: sea, readings: {state: {every: 150ms, topic: "harbour/${device}/state", qos: 1, fields: FIELDS}}}}
devices: [{kind: buoy, count: 4}]
plan: {for: 2s, settle: 60s, rounds: {count: 2}}
witnesses: {ear: WITNESS}
`, "WITNESS", witness, 1))), file.Sources{})
		require.NoError(t, err)
		p = playCrowd(t, cr, w.options())
		for _, h := range w.Hits() {
			for _, m := range tellsWhich.FindAllSubmatch(h.Payload, -1) {
				hits = append(hits, fmt.Sprintf("%s/state/%s", m[2], m[1]))
			}
		}
	})
	sort.Strings(hits)
	due := p.result.Total.Due()
	assert.Greater(t, due, 80)
	switch {
	case c.expected == verdict.Proven:
		assert.Equal(t, due, p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	case c.expected == verdict.Unknown:
		assert.GreaterOrEqual(t, p.result.Total[verdict.Unknown], 3, "%v", p.result.Total)
		assert.Equal(t, due, p.result.Total[verdict.Proven]+p.result.Total[verdict.Unknown], "%v", p.result.Total)
		assert.Zero(t, p.result.OutOfOrder)
	default:
		assert.Len(t, hits, 3)
		assert.Equal(t, hits, p.found(c.expected), "%v", p.result.Total)
		assert.Equal(t, due-len(hits), p.result.Total[verdict.Proven], "%v", p.result.Total)
	}
}
