package evidence

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/ledger"
)

// What few sightings have is counted as it is: each text, and what holds it.
func TestNamesTakeMemory(t *testing.T) {
	assert.EqualValues(t, 4*20+1+2+3+4, (&names{"a", "bb", "ccc", "dddd", 7}).size())
	c := chunk{cases: make([]open, 2), seen: make([]seen, 3), arena: make([]byte, 5), names: 7}
	assert.EqualValues(t, 2*132+3*72+5+7, c.size())
}

// Of a message that is found without end, no more is kept in memory than is looked at.
func TestWhatIsFoundWithoutEndTakesNoMemory(t *testing.T) {
	b := &ledger.Book{Facts: ledger.Facts{Streams: make([]ledger.Stream, 1)}}
	for range MostSightings + 50 {
		b.Sightings = append(b.Sightings, ledger.Sighting{Seq: 1})
	}
	b.Sightings = append(b.Sightings, ledger.Sighting{Seq: 1, Witness: 1}, ledger.Sighting{Seq: 1, Witness: 1}, ledger.Sighting{Seq: 2})
	assert.Len(t, Of(b, nil).chunk.seen, MostSightings+2)
}

// An error of a part says of which; that of a run that has none says nothing of parts.
func TestErrorsOfParts(t *testing.T) {
	err := errors.New("it is damaged")
	assert.Equal(t, err, (&Part{}).error(err))
	assert.NoError(t, (&Part{Name: "part 1 of 2"}).error(nil))
	assert.EqualError(t, (&Part{Name: "part 1 of 2"}).error(err), "of part 1 of 2: it is damaged")
}
