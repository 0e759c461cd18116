package ledger

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// When an event lasts for some device: each occurrence is told apart, what touches is one, and
// what lasts to the end of a round ends with it.
func TestStretches(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(s), 0) }
	rounds := []Round{{N: 1, Begin: at(0), Over: at(100)}, {N: 2, Begin: at(200)}, {N: 3, Begin: at(300)}}
	did := func(stream, round, s int) *Done {
		return &Done{Stream: stream, Round: round, Event: "e", At: at(s), Lasts: true, Action: Action{Kind: "offline"}}
	}
	over := func(stream, round, s int) *Done {
		d := did(stream, round, s)
		d.Lasts, d.Over = false, true
		return d
	}
	once := func(s int) *Done {
		d := did(0, 1, s)
		d.Lasts = false
		return d
	}
	failed := did(0, 1, 5)
	failed.Why = "no link"
	for name, c := range map[string]struct {
		done []*Done
		want string
	}{
		"twice":                          {[]*Done{did(0, 1, 1), over(0, 1, 3), did(0, 1, 7), over(0, 1, 9)}, "1-3 7-9"},
		"two devices that overlap":       {[]*Done{did(0, 1, 1), did(2, 1, 2), over(0, 1, 3), over(2, 1, 6)}, "1-6"},
		"two devices, page after page":   {[]*Done{did(2, 1, 4), over(2, 1, 8), did(0, 1, 1), over(0, 1, 5)}, "1-8"},
		"one that lies between":          {[]*Done{did(0, 1, 1), over(0, 1, 2), did(2, 1, 8), over(2, 1, 9), did(4, 1, 4), over(4, 1, 5)}, "1-2 4-5 8-9"},
		"at once":                        {[]*Done{once(4), once(2), once(4)}, "2-2 4-4"},
		"to the end of a round":          {[]*Done{did(0, 1, 50)}, "50-100"},
		"to the end, which is not known": {[]*Done{did(0, 2, 250)}, "250-300"},
		"to the end of the last":         {[]*Done{did(0, 3, 310)}, "310-999"},
		"in each round anew":             {[]*Done{did(0, 1, 50), did(0, 2, 250), over(0, 2, 260)}, "50-100 250-260"},
		"done again while it lasts":      {[]*Done{did(0, 1, 1), did(0, 1, 4), over(0, 1, 6)}, "1-6"},
		"it could not be done":           {[]*Done{failed}, ""},
		"its end alone":                  {[]*Done{over(0, 1, 4), did(0, 1, 5), over(0, 1, 6)}, "5-6"},
		"its end before its beginning":   {[]*Done{did(0, 1, 5), over(0, 1, 4)}, "5-5"},
	} {
		var l Actions
		for _, d := range c.done {
			l.add(d)
		}
		for range 2 { // it may be asked while the run plays
			var got []string
			for _, x := range l.Done(rounds, at(999))[0].Stretches {
				got = append(got, fmt.Sprintf("%d-%d", x.From.Unix(), x.To.Unix()))
			}
			assert.Equal(t, c.want, strings.Join(got, " "), name)
		}
	}
	var l Actions
	for i := range 3 * mostStretches {
		l.add(did(0, 1, 10*i+i%2))
		l.add(over(0, 1, 10*i+5))
	}
	list := l.Done(rounds, at(99_999))[0].Stretches
	assert.Len(t, list, mostStretches)
	assert.Equal(t, at(0), list[0].From)
	assert.Equal(t, at(10*(3*mostStretches-1)+5), list[mostStretches-1].To)
}
