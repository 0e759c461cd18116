package verdict_test

import (
	"fmt"
	"time"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/verdict"
)

// Two messages were acknowledged, and the witness found one of them.
func ExampleJudge() {
	at := time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)
	sent := func(seq uint64) ledger.Message {
		return ledger.Message{Seq: seq, Round: 1, Due: at, Sent: at, Attempts: 1, Outcome: outcome.Accepted, At: at.Add(time.Millisecond), Carried: []byte(`{"wave_m":0.4}`)}
	}
	book := &ledger.Book{Run: "k3f9a2xy", Start: at, Ended: true, Rounds: []ledger.Round{{N: 1, Begin: at, End: at.Add(time.Second)}},
		Streams:   []ledger.Stream{{Device: "buoy-1", Kind: "buoy", Reading: "state"}},
		Messages:  [][]ledger.Message{{sent(1), sent(2)}},
		Witnesses: []ledger.Witness{{Name: "store", Proof: "stored", Heard: map[int]ledger.Hearing{1: {Complete: true}}}},
		Sightings: []ledger.Sighting{{Seen: at.Add(time.Second), Mark: ledger.Mark{Run: "k3f9a2xy", Device: "buoy-1", Reading: "state", Seq: 1}, Values: []byte(`{"wave_m":0.4}`)}}}
	result := verdict.Judge(book, verdict.Options{})
	for _, v := range verdict.All() {
		if n := result.Total[v]; n > 0 {
			fmt.Println(n, v)
		}
	}
	// Output:
	// 1 lost
	// 1 proven
}
