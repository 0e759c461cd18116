package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What few sightings have is counted as it is: each text, and what holds it.
func TestNamesTakeMemory(t *testing.T) {
	assert.EqualValues(t, 4*20+1+2+3+4, (&names{"a", "bb", "ccc", "dddd", 7}).size())
	c := chunk{cases: make([]open, 2), seen: make([]seen, 3), arena: make([]byte, 5), names: 7}
	assert.EqualValues(t, 2*132+3*72+5+7, c.size())
}
