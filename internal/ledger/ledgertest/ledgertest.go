// Package ledgertest makes small ledgers for tests: one message, and what witnesses found of
// it.
package ledgertest

import (
	"time"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// Start is when the run began.
var Start = time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)

// Book is a ledger of one stream, buoy-1 state, with an ear and a store, both
// heard to the end.
func Book(messages ...ledger.Message) *ledger.Book {
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Start: Start, Ended: true,
		Streams: []ledger.Stream{{Device: "buoy-1", Kind: "buoy", Reading: "state", MayRepeat: true,
			Tolerances: map[string]float64{"t": 0.1}},
			{Device: "buoy-2", Kind: "buoy", Reading: "state"}},
		Rounds: []ledger.Round{{N: 1, Begin: Start, End: Start.Add(time.Minute)}},
		Witnesses: []ledger.Witness{
			{Name: "ear", Proof: "received", Within: time.Second, WatchCopies: time.Second, Listens: true,
				Heard: map[int]ledger.Hearing{1: {Complete: true}}},
			{Name: "store", Proof: "stored", Heard: map[int]ledger.Hearing{1: {Complete: true}}}}},
		Messages: [][]ledger.Message{messages, nil}}
	return b
}

// Carried is what a message carries.
const Carried = `{"wave_m":47.8,"t":1,"site":"outer"}`

// Message is the first of the stream: sent once, acknowledged.
func Message(change func(*ledger.Message)) ledger.Message {
	m := ledger.Message{Seq: 1, Round: 1, Due: Start, Sent: Start.Add(time.Millisecond), Attempts: 1,
		Outcome: outcome.Accepted,
		At:      Start.Add(2 * time.Millisecond), Carried: []byte(Carried)}
	if change != nil {
		change(&m)
	}
	return m
}

// Ended gives a message an outcome.
func Ended(o outcome.Outcome) func(*ledger.Message) {
	return func(m *ledger.Message) { m.Outcome = o }
}

// Seen is a right sighting of the first Message.
func Seen(witness int, change func(*ledger.Sighting)) ledger.Sighting {
	s := ledger.Sighting{Witness: witness, Seen: Start.Add(5 * time.Millisecond), Seq: 1, Asked: witness == 1,
		Values: []byte(`{"mark":"x",` + Carried[1:])}
	if change != nil {
		change(&s)
	}
	return s
}

// Values gives a sighting other values.
func Values(v string) func(*ledger.Sighting) {
	return func(s *ledger.Sighting) { s.Values = []byte(v) }
}

// Filed gives a sighting a place.
func Filed(device, reading string) func(*ledger.Sighting) {
	return func(s *ledger.Sighting) { s.FiledDevice, s.FiledReading = device, reading }
}

// Stored is a sighting of the ear with the platform's own time, both after the Start.
func Stored(at, seenAt time.Duration) ledger.Sighting {
	return Seen(0, func(s *ledger.Sighting) { s.Stored, s.Seen = Start.Add(at), Start.Add(seenAt) })
}

// ClockOf gives the ear a platform that tells its clock: by how much it is ahead.
func ClockOf(least, most time.Duration) func(*ledger.Book) {
	return func(b *ledger.Book) { b.Witnesses[0].Clock = &ledger.Offset{Least: least, Most: most} }
}

// Again makes a sighting one that may be the copy before once more.
func Again(s *ledger.Sighting) { s.Again = true }

// Row gives a sighting the identity of a row.
func Row(id uint64) func(*ledger.Sighting) { return func(s *ledger.Sighting) { s.Row = id } }

// Lag is a time, after the start, in which the ear heard late.
func Lag(from, to time.Duration) func(*ledger.Book) {
	return func(b *ledger.Book) {
		b.Witnesses[0].Gaps = []ledger.Gap{{From: Start.Add(from), To: Start.Add(to), Lag: true, Why: "slow"}}
	}
}

// LagWhole is a time, after the start, in which the ear heard late, and nothing was dropped.
func LagWhole(from, to time.Duration) func(*ledger.Book) {
	return func(b *ledger.Book) {
		Lag(from, to)(b)
		b.Witnesses[0].Gaps[0].Whole = true
	}
}

// Gap is a time, after the start, in which the ear could not listen; kept: the broker kept
// messages for it.
func Gap(from, to time.Duration, kept bool) func(*ledger.Book) {
	return func(b *ledger.Book) {
		b.Witnesses[0].Gaps = []ledger.Gap{{From: Start.Add(from), To: Start.Add(to), Kept: kept, Why: "cut"}}
	}
}
