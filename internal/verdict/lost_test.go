package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
)

// Which messages a damaged place held is known where their digests tell.
func TestWhatADamagedPlaceHeld(t *testing.T) {
	sum := func(seqs ...uint64) (x uint64) {
		for _, n := range seqs {
			x += ledger.Digest(0, n)
		}
		return x
	}
	range64 := func(from, to uint64) (list []uint64) {
		for n := from; n < to; n++ {
			list = append(list, n)
		}
		return list
	}
	for name, c := range map[string]struct {
		lost   []uint64 // sightings that were lost
		unseen []uint64 // messages of which none was read
		held   []uint64 // nil: all of the part
	}{
		"all that were not seen":            {[]uint64{70, 71, 90}, []uint64{70, 71, 90}, []uint64{70, 71, 90}},
		"some of them":                      {[]uint64{71, 90}, []uint64{70, 71, 72, 90}, []uint64{71, 90}},
		"another copy":                      {[]uint64{80}, []uint64{70}, []uint64{80}},
		"one, and another copy":             {[]uint64{70, 80}, []uint64{70}, []uint64{70, 80}},
		"the same twice":                    {[]uint64{70, 70}, []uint64{70}, []uint64{70}},
		"many":                              {range64(64, 100), range64(64, 100), range64(64, 100)},
		"many, and one is not there":        {range64(65, 100), range64(64, 100), range64(65, 100)},
		"many, and copies: it is not known": {append(range64(64, 90), 100), range64(64, 90), nil},
		"many of many: too many ways to guess": {[]uint64{65, 67, 71, 80, 81, 84, 90, 95, 97, 99, 101, 103, 110, 111, 117, 127},
			range64(64, 128), nil},
	} {
		f := &ledger.Facts{Witnesses: []ledger.Witness{{}, {Lost: []ledger.Lost{{Stream: 0, Part: 1, N: uint64(len(c.lost)),
			Sum: sum(c.lost...)}}}}}
		l := newLosses(f)
		unseen := map[uint64]bool{}
		for _, n := range c.unseen {
			unseen[n] = true
		}
		for n := range uint64(200) {
			x := &evidence.Case{Seq: n}
			if !unseen[n] {
				x.Sightings = []evidence.Sighting{{Witness: 1}}
			}
			l.add(f, x)
		}
		l.finish()
		held := map[uint64]bool{}
		for _, n := range c.held {
			held[n] = true
		}
		for n := range uint64(200) {
			want := held[n] || c.held == nil && n/ledger.SeenSpan == 1
			assert.Equal(t, want, l.of(1, &evidence.Case{Seq: n}).held(n), "%s: #%d", name, n)
			assert.False(t, l.of(0, &evidence.Case{Seq: n}).held(n), name)
		}
	}
	assert.Nil(t, newLosses(&ledger.Facts{Witnesses: make([]ledger.Witness, 2)}))
}
