package count

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is missing is missing of a device: copies of another do not make up for it.
func TestWhatACountLacks(t *testing.T) {
	for name, c := range map[string]struct {
		before, now map[int]int64
		ours        map[int]map[int]int64
		lacks       int64
	}{
		"all is there":             {nil, map[int]int64{0: 5, 1: 5}, map[int]map[int]int64{1: {0: 5, 1: 5}}, 0},
		"copies of another device": {nil, map[int]int64{0: 9, 1: 3}, map[int]map[int]int64{1: {0: 5, 1: 5}}, 2},
		"a device is not there":    {nil, map[int]int64{0: 10}, map[int]map[int]int64{1: {0: 5, 1: 5}}, 5},
		"some were there before": {map[int]int64{0: 4}, map[int]int64{0: 5, 1: 5}, map[int]map[int]int64{1: {0: 5, 1: 5}},
			4},
		"two rounds":       {nil, map[int]int64{0: 9}, map[int]map[int]int64{1: {0: 5}, 2: {0: 5}}, 1},
		"all together":     {map[int]int64{-1: 3}, map[int]int64{-1: 12}, map[int]map[int]int64{1: {-1: 10}}, 1},
		"nothing was told": {nil, nil, map[int]map[int]int64{1: {0: 5}}, 5},
		"nothing went out": {nil, map[int]int64{7: 5}, map[int]map[int]int64{1: {}}, 0},
	} {
		x := &witness{before: c.before, now: c.now, ours: c.ours}
		assert.Equal(t, c.lacks, x.lacking(), name)
	}
}
