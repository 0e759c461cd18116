package verdict_test

import (
	"flag"
	"fmt"
	"strings"
	"testing"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger/ledgertest"
	"runcrowd/internal/verdict"
)

var _ = flag.Bool("update", false, "write what is pinned anew")

// What is said of each message of runs in which everything happens that can: a change of any of it
// is noticed.
func TestWholeRulings(t *testing.T) {
	ledgertest.PinnedBy(t, "testdata/rulings.txt", 40, 600, func(seed uint64) string {
		var b strings.Builder
		book := ledgertest.Random(seed)
		each(book, func(j *verdict.Judge, c *evidence.Case) {
			r := j.Rule(c, !c.Known)
			fmt.Fprintf(&b, "%s #%d %s:", book.Streams[c.Stream].Reading, c.Seq, r.Verdict)
			for w, s := range r.States {
				if s != verdict.Unasked {
					fmt.Fprintf(&b, " %s %s", book.Witnesses[w].Name, s)
					if d := r.Delays[w]; d.Took >= 0 {
						fmt.Fprintf(&b, " %s-%s-%s", d.Least, d.Took, d.Most)
					}
				}
			}
			fmt.Fprintf(&b, "; answer %s, gone %t\n", r.Answer, j.MayBeGone(c))
			if f := j.Finding(c, !c.Known); r.Verdict != verdict.Proven {
				for _, x := range f.Testimony {
					fmt.Fprintf(&b, "  %s: %s", x.Witness, x.Says)
					for _, d := range x.Differences {
						fmt.Fprintf(&b, " {%s: %s, %s%s %s}", d.Field, d.Sent, d.Found, d.Unit, d.Note)
					}
					b.WriteByte('\n')
				}
			}
		})
		return b.String()
	})
}
