// Package hearing is what all witnesses have in common: what is expected of a hearing, what of it
// was found, and how that is noted in the ledger.
package hearing

import (
	"context"
	"time"

	"runcrowd/internal/ledger"
)

// Expect says which messages of a round a witness should find. Its methods may be called
// from several goroutines at once, and do not block.
type Expect interface {
	// Range is a stream's sequence numbers in the round: from the first to before the
	// second; the same number twice where it had none.
	Range(stream int) (from, to uint64)
	// Excused tells whether a message need not be found: it was refused or never sent.
	Excused(stream int, seq uint64) bool
	// Calls tells whether a message of the round may have called for an alert.
	Calls() bool
}

// Context is the context of a hearing.
type Context = context.Context

// Round is the round that a witness is heard for.
type Round struct {
	N          int
	Begin, End time.Time
	Expect     Expect
}

// Witness is one place where we look.
//
// Start comes first, once; then Hear, once for each round and never twice at the same
// time; Stop comes last, once, also after an error of Start. Awaited may be called at any
// time between, from any goroutine. A witness writes its sightings through the page that
// it was made with; it owns nothing else of the run.
type Witness interface {
	// Start begins to listen, where that is done before messages are sent, or asks
	// once. It blocks until the witness stands, at most as long as its link takes to
	// connect. The error is why the run cannot begin: a *link.ReachError where the
	// platform could not be reached. Listening goes on when ctx is done, until Stop.
	Start(ctx Context) error
	// Hear blocks until everything expected was found and the time for repeats is
	// over, or until the witness's wait is, or until ctx is done. Complete says that
	// the witness was heard to the end; if not, why says what was in the way.
	Hear(ctx Context, r Round) (complete bool, why string)
	// Awaited is how many messages of the round that is being heard were not found yet.
	// It does not block.
	Awaited() int
	// StayOut is how many of these must not be found. It does not block.
	StayOut() int
	// Seen is how many messages were found so far, or of what it hears, how often. It does
	// not block.
	Seen() int
	// Stop ends listening, and returns when all goroutines of the witness are gone.
	// Nothing is written to its page afterwards.
	Stop()
}

// Knower is a witness that can be told what an earlier hearing found, so that
// it does not note it again.
type Knower interface{ Know(s *ledger.Sighting) }

// AlertKnower is a witness of alerts that can be told what an earlier hearing noted.
type AlertKnower interface{ KnowSaid(x *ledger.Said) }

// CountKnower is a witness that asked what was there before the run, and can be told. It is
// told before it starts. The error is why it cannot be asked again.
type CountKnower interface {
	KnowCounts(from time.Time, before map[int]int64) error
}
