package find

import (
	"cmp"
	"fmt"
	"math/big"
	"regexp"
	"slices"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
)

// place is where a message stands among those that were asked about, and whether it is missing.
type place struct {
	at      uint64
	missing bool
}

// lacking counts the missing.
func lacking(list []place) (n int) {
	for _, x := range list {
		if x.missing {
			n++
		}
	}
	return n
}

// roundLimits are numbers of rows at which platforms cut answers off.
var roundLimits = []int{10, 20, 25, 50, 100, 200, 250, 500, 1000, 1024, 2000, 2500, 5000, 10_000, 20_000,
	50_000, 100_000}

// limitsRows is a query that has a limit of its own.
var limitsRows = regexp.MustCompile(`(?i)\b(limit|top|fetch\s+(first|next))\b`)

// capped tells why answers look as if the platform had cut them off; empty: they do not. One
// has as many rows as the file says that an answer can have; or, where it says nothing, it lacks
// messages, or has copies of some, and as many rows as limits have; or all have the same number,
// and what is missing is the oldest or the newest.
func (q *messages) capped(e hearing.Expect, pages int) string {
	spec := q.Spec
	if spec.Latest || !q.marked || pages > len(q.answers) || len(q.answers) == 0 ||
		spec.Limit == crowd.NoLimit || spec.File != "" || spec.SQL != nil && !limitsRows.MatchString(spec.SQL.Query) {
		return ""
	}
	n := slices.MaxFunc(q.answers, func(a, b ask.Answer) int { return cmp.Compare(a.Rows, b.Rows) }).Rows
	same := len(q.answers) > 1 && !slices.ContainsFunc(q.answers, func(a ask.Answer) bool { return a.Rows != n })
	full := slices.Contains(roundLimits, n)
	if spec.Limit > 0 {
		full, same = int64(n) >= spec.Limit, false
	}
	if n < 3 || !full && !same {
		return ""
	}
	of := map[*fleet.Device][]int{}
	for i, s := range q.Catalog.Fleet.Streams {
		of[s.Device] = append(of[s.Device], i)
	}
	whole, missing, list := true, 0, []place(nil)
	for _, a := range q.answers {
		if a.Rows < n {
			continue
		}
		list = list[:0]
		if len(q.answers) == 1 { // asked for all of them at once
			a.Devices = q.Catalog.Fleet.Devices
		}
		for _, d := range a.Devices {
			for _, i := range of[d] {
				from, to := q.Window(e, i)
				for seq := from; q.Sees(d) && seq < to; seq++ {
					if !e.Excused(i, seq) && !q.Corrupted(i, seq) {
						list = append(list, place{(seq - from) << 20 / (to - from), !q.Has(i, seq)})
					}
				}
			}
		}
		slices.SortStableFunc(list, func(a, b place) int { return cmp.Compare(a.at, b.at) })
		lacks := lacking(list)
		switch {
		case full && (spec.Limit > 0 || lacks > 0 || a.Own > len(list)):
			whole = false
		case lacks > 1 && cutOff(list, lacks):
			missing += lacks
		}
	}
	if whole && missing < 4 {
		return ""
	}
	return fmt.Sprintf("an answer has %d rows at most: the platform seems to cut its answers off. Ask for more "+
		"at once (a limit in the address), for less time (${from} and ${to}), or say how the next "+
		"page is asked for (next, page). If it has no limit, write limit: none", n)
}

// cutOff tells whether so many that are missing of a list lie at one end of it that chance does
// not explain it: two standard deviations more than it would put there (of a hypergeometric
// distribution, of which the mean is lacks*lacks/n).
func cutOff(list []place, lacks int) bool {
	n := len(list)
	end := max(lacking(list[:lacks]), lacking(list[n-lacks:]))
	if lacks == 0 || lacks == n {
		return lacks > 0
	}
	above, spread := big.NewInt(int64(end*n-lacks*lacks)), big.NewInt(int64(lacks*(n-lacks)))
	if above.Sign() <= 0 {
		return false
	}
	above.Mul(above, above).Mul(above, big.NewInt(int64(n-1)))
	return above.Cmp(spread.Mul(spread, spread).Mul(spread, big.NewInt(4))) >= 0
}
