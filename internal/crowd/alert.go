package crowd

import (
	"time"

	"runcrowd/internal/formula"
)

// MostAlerts is how many alerts a crowd may have: what each message calls for stands in
// the ledger as two bits for each.
const MostAlerts = 32

// Alert is what the platform must say by itself when the values of a device call for it.
type Alert struct {
	Name    string
	Pos     Pos
	HeardBy *Witness
	About   string // jq: what the platform says that it is about
	Match   string // jq: whether what was heard is this alert; empty: all is
	Within  time.Duration
	// DeviceName is what the platform calls the devices of a group; nil: by their name.
	DeviceName map[*Cast]*formula.Text
	// Calls are the readings whose values call for it.
	Calls map[*Reading]*Call
}

// Call is how the values of one reading call for an alert.
type Call struct {
	When  *formula.Formula // becoming true, it calls for the alert
	Until *formula.Formula // becoming true, it arms it again; nil: when When is false
	// Fields are the fields that both use.
	Fields []string
}

// Alerts are those that a witness hears.
func (c *Crowd) AlertsOf(w *Witness) (list []*Alert) {
	for _, n := range c.Alerts {
		if n.HeardBy == w {
			list = append(list, n)
		}
	}
	return list
}
