package listen

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

// Of messages of one time and the same values, what was heard before another was made is the one that there
// was; what is left open is so for the others alone; one that was never sent is not waited for.
func TestTwinsThatAreHeardApart(t *testing.T) {
	const body = `{"at":"«@1s»","a":2}`
	for name, c := range map[string]struct {
		does  string // m: one is made, h: one is heard
		out   []uint64
		noted string
	}{
		"one after the other":              {does: "mhmh", noted: "1|2"},
		"the last is missing":              {does: "mhm", noted: "1"},
		"one of the two others":            {does: "mhmmh", noted: "1|2?|3?"},
		"both others":                      {does: "mhmmhh", noted: "1|2|3"},
		"one more than there are":          {does: "mhmmhhh", noted: "1|2|3|1?|2?|3?"},
		"one was never sent":               {does: "mmh", out: []uint64{1}, noted: "2"},
		"one of three was never sent":      {does: "mmmhh", out: []uint64{2}, noted: "1|3"},
		"one was never sent, none is told": {does: "mmmh", out: []uint64{2}, noted: "1?|3?"},
	} {
		w := witnesstest.New(t, t.TempDir(), seaCrowd("{time: at}", `fields: {at: {signal: clock}, a: 1}`,
			`witnesses: {ear: {proves: received, subscribe: "harbour/#", wait: 10s, watch_copies: 1s}}`))
		e, err := newListener(w.Base)
		require.NoError(t, err)
		n := uint64(0)
		for _, what := range c.does {
			if what == 'm' {
				n++
				w.Catalog.Index.Add(0, n, []byte(w.Text(body)))
				continue
			}
			e.take(&message{topic: "harbour/buoy-1", at: time.Now(), body: []byte(w.Text(body))})
		}
		expect := witnesstest.Expect{Last: map[int]uint64{0: n}, Out: map[int]map[uint64]bool{0: {}}}
		for _, seq := range c.out {
			expect.Out[0][seq] = true
		}
		e.separate(hearing.Round{Expect: expect})
		var got []string
		for _, line := range w.Noted() {
			seq, rest, _ := strings.Cut(strings.TrimPrefix(line, "buoy-1/state/"), " ")
			if strings.HasPrefix(rest, "unsure") {
				seq += "?"
			}
			got = append(got, seq)
		}
		assert.Equal(t, c.noted, strings.Join(got, "|"), name)
	}
}
