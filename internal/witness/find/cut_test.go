package find

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is missing lies at one end, beyond what chance would put there.
func TestMissingAtOneEnd(t *testing.T) {
	for list, is := range map[string]bool{
		"...xx":            true, // by two standard deviations, exactly
		"xx...":            true,
		"..x.x":            false,
		"....x":            true,
		"..x..":            false,
		"xxx":              true,
		"...":              false,
		".x.x.x.x":         false,
		"....xxxx":         true,
		"...x.xxx":         false,
		"........x.xxxxxx": true,
		"x......xx.xx.xxx": false,
	} {
		var l []place
		for _, c := range list {
			l = append(l, place{missing: c == 'x'})
		}
		assert.Equal(t, is, cutOff(l, lacking(l)), list)
	}
}
