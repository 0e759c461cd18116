package crowd

import (
	"time"

	"runcrowd/internal/formula"
)

// MostNotices is how many notices a crowd may have: what each message calls for stands in
// the ledger as two bits for each.
const MostNotices = 32

// Notice is what the platform must say by itself when the values of a device call for it.
type Notice struct {
	Name    string
	Pos     Pos
	HeardBy *Witness
	About   string // jq: what the platform says that it is about
	Match   string // jq: whether what was heard is this notice; empty: all is
	Within  time.Duration
	// Called is what the platform calls the devices of a group; nil: by their name.
	Called map[*Cast]*formula.Text
	// Calls are the readings whose values call for it.
	Calls map[*Reading]*Call
}

// Call is how the values of one reading call for a notice.
type Call struct {
	When  *formula.Formula // becoming true, it calls for the notice
	Until *formula.Formula // becoming true, it arms it again; nil: when When is false
	// Fields are the fields that both use.
	Fields []string
}

// Notices are those that a witness hears.
func (c *Crowd) NoticesOf(w *Witness) (list []*Notice) {
	for _, n := range c.Notices {
		if n.HeardBy == w {
			list = append(list, n)
		}
	}
	return list
}
