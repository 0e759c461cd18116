package unit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/unit"
)

func TestConversions(t *testing.T) {
	for text, want := range map[string][2]float64{
		"Cel to degF": {100, 212}, "°F to °C": {-40, -40}, "K to Cel": {0, -273.15}, "kn to m/s": {10, 5.144444444},
		"m to ft":    {0.3048, 1},
		"mbar to Pa": {1013.25, 101325}, "kWh to J": {1, 3.6e6}, "deg to rad": {180, 3.141592654}, "nmi to km": {1, 1.852},
		"% to /": {50, 0.5}, "dBm to dBW": {30, 0},
	} {
		c, err := unit.ParseConversion(text)
		require.NoError(t, err, text)
		assert.InDelta(t, want[1], c.Apply(want[0]), 1e-6*max(1, want[1]), text)
	}
	for text, says := range map[string]string{
		"Cel": "write one such as m/s to kn", "Cel to m": "a unit of temperature and m one of length",
		"Cel to degX": "units of temperature are Cel, K, degF", "furlong to m": `"furlong" is not known`,
	} {
		_, err := unit.ParseConversion(text)
		assert.ErrorContains(t, err, says, text)
	}
}

// Every conversion has its way back.
func TestThereAndBack(t *testing.T) {
	for _, a := range unit.Names("") {
		u, ok := unit.Find(a)
		require.True(t, ok)
		for _, b := range unit.Names(u.Dimension) {
			there, err := unit.ParseConversion(a + " to " + b)
			require.NoError(t, err)
			back, err := unit.ParseConversion(b + " to " + a)
			require.NoError(t, err)
			assert.InDelta(t, 12.5, back.Apply(there.Apply(12.5)), 1e-9, "%s %s", a, b)
		}
	}
}
