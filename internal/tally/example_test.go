package tally_test

import (
	"fmt"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// Two messages were acknowledged, and the witness found one of them.
func ExampleWatch() {
	at := time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)
	sent := func(seq uint64) ledger.Message {
		return ledger.Message{Seq: seq, Round: 1, Due: at, Sent: at, Attempts: 1, Outcome: outcome.Accepted,
			At: at.Add(time.Millisecond), Carried: []byte(`{"wave_m":0.4}`)}
	}
	book := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Start: at, Ended: true,
		Rounds:  []ledger.Round{{N: 1, Begin: at, End: at.Add(time.Second)}},
		Streams: []ledger.Stream{{Device: "buoy-1", Kind: "buoy", Reading: "state"}}, Last: []uint64{2},
		Witnesses: []ledger.Witness{{Name: "store", Proof: "stored", Heard: map[int]ledger.Hearing{1: {Complete: true}}}}},
		Messages:  [][]ledger.Message{{sent(1), sent(2)}},
		Sightings: []ledger.Sighting{{Seen: at.Add(time.Second), Seq: 1, Values: []byte(`{"wave_m":0.4}`)}}}
	result, err := tally.Watch(evidence.Of(book, verdict.Same(&book.Facts)), tally.Options{}).Judge()
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, v := range verdict.All() {
		if n := result.Total[v]; n > 0 {
			fmt.Println(n, v)
		}
	}
	// Output:
	// 1 lost
	// 1 proven
}
