package fleet_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
)

func TestParsePart(t *testing.T) {
	for text, want := range map[string]fleet.Part{"3/8": {N: 3, Of: 8}, "1/1": {N: 1, Of: 1}, "10000/10000": {N: 10_000, Of: 10_000}} {
		p, err := fleet.ParsePart(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, p)
		assert.Equal(t, text, p.String())
	}
	for _, text := range []string{"", "3", "3/", "/8", "0/8", "9/8", "-1/8", "3/0", "a/8", "3/b", "1/10001", "3/8/1"} {
		_, err := fleet.ParsePart(text)
		assert.ErrorContains(t, err, "is no part; the third of eight is 3/8", text)
	}
}

// Each device is played by one part, those behind a gateway by its own; a witness sees what it saw, of that part.
func TestShare(t *testing.T) {
	const text = `
crowd: skerry-roads
links: {sea: {mqtt: "mqtt://127.0.0.1:1"}}
kinds:
  hub: {readings: {load: {every: 1s, topic: "h/${device}", fields: {a: 1}}}}
  lamp: {presence: {through: hub}, readings: {lit: {every: 1s, topic: "l/${device}", fields: {a: 1}}}}
  buoy: {readings: {state: {every: 1s, topic: "b/${device}", fields: {a: 1}}}}
devices: [{kind: hub, count: 2}, {kind: lamp, count: 5}, {kind: buoy, count: 7}]
plan: {for: 10s}
witnesses: {all: {proves: received, subscribe: "#"}, some: {proves: received, subscribe: "b/#", who: buoy}}
`
	for of := 1; of <= 9; of++ {
		played := map[string]int{}
		for n := 1; n <= of; n++ {
			c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{})
			require.NoError(t, err)
			f, err := fleet.Build(c, nil)
			require.NoError(t, err)
			own := map[string]bool{}
			for _, d := range f.Share(fleet.Part{N: n, Of: of}) {
				own[d.Name] = true
				played[d.Name] = n
			}
			for _, d := range f.Devices {
				at := fmt.Sprintf("%s in %d/%d", d.Name, n, of)
				assert.Equal(t, own[d.Name], !d.Elsewhere, at)
				assert.Equal(t, own[d.Name], f.Sees(0, d), at)
				assert.Equal(t, own[d.Name] && d.Cast.Kind.Name == "buoy", f.Sees(1, d), at)
				if d.Gateway != nil {
					assert.Equal(t, d.Gateway.Elsewhere, d.Elsewhere, at)
				}
			}
			least := 9 / of // hubs and buoys go in turn
			assert.GreaterOrEqual(t, len(own), least, "%d/%d", n, of)
		}
		assert.Len(t, played, 14, of)
	}
	c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, nil)
	require.NoError(t, err)
	assert.Len(t, f.Share(fleet.Part{}), 14, "the whole")
	assert.True(t, f.Sees(0, f.Devices[0]))
}
