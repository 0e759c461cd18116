// Package outcome names what became of a message on its way: the protocol's own
// answer to it. Links tell it, the ledger records it, the judge reads it.
package outcome

import "fmt"

// Outcome is what became of a message. Its numbers stand in ledgers.
type Outcome uint8

// The outcomes.
const (
	Open     Outcome = iota // no answer yet
	Accepted                // the protocol's acknowledgement came
	Refused                 // the platform said no
	NotAsked                // written; the protocol gives no answer (QoS 0)
	NoAnswer                // sent, and given up: time-out, connection lost, end of the run
	Unsent                  // never sent before the end
	Dropped                 // the device dropped it, as the plan says: it was never sent
)

var names = [...]string{"open", "accepted", "refused", "not asked", "no answer", "unsent", "dropped"}

func (o Outcome) String() string {
	if int(o) < len(names) {
		return names[o]
	}
	return fmt.Sprintf("outcome %d", uint8(o))
}
