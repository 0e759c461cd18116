package tally_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// lines is a book of messages a second apart; each letter is one: o is found by both witnesses, l
// lost at the store, e at the ear, r refused, d altered, k kept out, i let in, q not known to be kept out, u not
// sent, 2 sent twice. A digit before it is its round.
func lines(text string, change func(*ledger.Book)) *ledger.Book {
	b := book()
	round := 1
	for _, c := range text {
		if c >= '1' && c <= '9' {
			round = int(c - '0')
			continue
		}
		seq := uint64(len(b.Messages[0]) + 1)
		due := start.Add(time.Duration(seq) * time.Second)
		m := message(func(m *ledger.Message) {
			m.Seq, m.Round, m.Due, m.Sent, m.At = seq, round, due, due.Add(time.Millisecond), due.Add(time.Duration(seq)*time.Millisecond)
		})
		ear, store := true, true
		values := carried
		switch c {
		case 'l':
			store = false
		case 'e':
			ear = false
		case 'r':
			m.Outcome, ear, store = outcome.Refused, false, false
		case 'd':
			values = `{"wave_m":1,"t":1,"site":"outer"}`
		case 'k':
			m.Meant, m.Outcome, ear, store = ledger.ToRefuse, outcome.Refused, false, false
		case 'i':
			m.Meant = ledger.ToRefuse
		case 'q':
			m.Meant, m.Outcome, ear, store = ledger.ToRefuse, outcome.NoAnswer, false, false
		case 'u':
			m.Outcome, m.Sent, m.At, m.Attempts, ear, store = outcome.Unsent, time.Time{}, time.Time{}, 0, false, false
		case 't':
			m.Attempts = 2
		}
		b.Messages[0] = append(b.Messages[0], m)
		for w, found := range []bool{ear, store} {
			if found {
				b.Sightings = append(b.Sightings, seen(w, func(s *ledger.Sighting) {
					s.Seq, s.Seen, s.Values = seq, due.Add(time.Duration(5+seq)*time.Millisecond), []byte(values)
				}))
			}
		}
	}
	for i := range b.Rounds[0].N - 1 + round {
		r := ledger.Round{N: i + 1, Begin: start, End: start.Add(time.Hour)}
		if b.Rounds = append(b.Rounds[:min(i, len(b.Rounds))], r); i > 0 {
			for w := range b.Witnesses {
				b.Witnesses[w].Heard[i+1] = ledger.Hearing{Complete: true}
			}
		}
	}
	if change != nil {
		change(b)
	}
	return b
}

// What each requirement asks for, and when that is not known.
func TestWhatRequirementsAsk(t *testing.T) {
	deaf := func(b *ledger.Book) { b.Witnesses[1].Heard[1] = ledger.Hearing{Why: "cut"} }
	gap := func(n int) func(*ledger.Book) { // the ear did not hear when the n-th message was sent
		return func(b *ledger.Book) {
			at := start.Add(time.Duration(n) * time.Second)
			b.Witnesses[0].WatchCopies = 100 * time.Millisecond
			b.Witnesses[0].Gaps = []ledger.Gap{{From: at.Add(-100 * time.Millisecond), To: at.Add(500 * time.Millisecond), Why: "cut"}}
		}
	}
	killed := func(b *ledger.Book) { b.Ended = false }
	acted := func(list ...ledger.EventActions) func(*ledger.Book) {
		return func(b *ledger.Book) { b.Actions.Events = list }
	}
	share := func(p proof.Proof, percent float64) proof.Requirement {
		return proof.Requirement{Measure: proof.Share, Proof: p, Percent: percent}
	}
	proven := func(percent float64) proof.Requirement {
		return proof.Requirement{Measure: proof.Share, Proven: true, Percent: percent}
	}
	limit := func(m proof.Measure, p proof.Proof, d time.Duration) proof.Requirement {
		return proof.Requirement{Measure: m, Proof: p, Limit: d}
	}
	most := func(m proof.Measure, n int, events ...string) proof.Requirement {
		return proof.Requirement{Measure: m, Most: n, Events: events}
	}
	in := func(name string, from, to int, percent float64) proof.Requirement {
		q := proven(percent)
		q.Rounds = proof.Rounds{Name: name, From: from, To: to}
		return q
	}
	const ms = time.Millisecond
	for name, c := range map[string]struct {
		book *ledger.Book
		q    proof.Requirement
		is   string
	}{
		"all":                                   {lines("oooo", nil), proven(100), "met: 100% (4 of 4)"},
		"three of four":                         {lines("oool", nil), proven(100), "not met: 75% (3 of 4)"},
		"exactly as many":                       {lines("oool", nil), proven(75), "met: 75% (3 of 4)"},
		"a little less":                         {lines("oool", nil), proven(75.1), "not met: 75% (3 of 4)"},
		"one is not known":                      {lines("oooe", gap(4)), proven(100), "undecided: 75% (3 of 4)"},
		"one is not known, and it would not do": {lines("oore", gap(4)), proven(100), "not met: 50% (2 of 4)"},
		"one is not known, and it does not matter": {lines("oooe", gap(4)), proven(75), "met: 75% (3 of 4)"},
		"stored":                              {lines("oold", nil), share(proof.Stored, 50), "met: 50% (2 of 4)"},
		"stored, not received":                {lines("oool", nil), share(proof.Received, 100), "met: 100% (4 of 4)"},
		"acknowledged":                        {lines("ooor", nil), share(proof.Acknowledged, 75), "met: 75% (3 of 4)"},
		"stored is not known":                 {lines("oool", deaf), share(proof.Stored, 1), "undecided: 0% (0 of 4)"},
		"received is not known":               {lines("oooe", gap(4)), share(proof.Received, 100), "undecided: 75% (3 of 4)"},
		"what was kept out is proven":         {lines("oook", nil), proven(100), "met: 100% (4 of 4)"},
		"but it is no message that is stored": {lines("oook", nil), share(proof.Acknowledged, 100), "met: 100% (3 of 3)"},
		"nothing was due":                     {lines("", nil), proven(1), "not met: none of none"},

		"no stray":            {lines("oo", nil), most(proof.Unmatched, 0), "met: 0"},
		"no stray so far":     {lines("oo", deaf), most(proof.Unmatched, 0), "undecided: 0; the witness store was not heard to the end"},
		"in order":            {lines("oo", nil), most(proof.OutOfOrder, 0), "met: 0"},
		"in order so far":     {lines("oo", deaf), most(proof.OutOfOrder, 0), "undecided: 0; the witness store was not heard to the end"},
		"a stray":             {lines("oo", func(b *ledger.Book) { b.Sightings[0].Seq = 99 }), most(proof.Unmatched, 0), "not met: 1"},
		"a stray that may be": {lines("oo", func(b *ledger.Book) { b.Sightings[0].Seq = 99 }), most(proof.Unmatched, 1), "met: 1"},
		"out of order":        {lines("oo", func(b *ledger.Book) { b.Sightings[0].Seen = b.Sightings[0].Seen.Add(time.Minute) }), most(proof.OutOfOrder, 0), "not met: 1"},

		"no action failed":        {lines("oo", acted(ledger.EventActions{Event: "a", Times: 2})), most(proof.Failed, 0), "met: 0"},
		"an action failed":        {lines("oo", acted(ledger.EventActions{Event: "a", Failed: 1, Why: "no"}, ledger.EventActions{Event: "b", Failed: 2, Why: "never"})), most(proof.Failed, 2), "not met: 3: no"},
		"as many as may":          {lines("oo", acted(ledger.EventActions{Event: "a", Failed: 2, Why: "no"})), most(proof.Failed, 2), "met: 2: no"},
		"no action failed so far": {lines("oo", killed), most(proof.Failed, 0), "undecided: 0 so far"},
		"actions failed so far":   {lines("oo", func(b *ledger.Book) { killed(b); acted(ledger.EventActions{Event: "a", Failed: 1, Why: "no"})(b) }), most(proof.Failed, 0), "not met: 1: no"},

		"kept out":                          {lines("ook", nil), most(proof.LetIn, 0), "met: 0"},
		"let in":                            {lines("ooi", nil), most(proof.LetIn, 0), "not met: 1"},
		"let in as may be":                  {lines("ooi", nil), most(proof.LetIn, 1), "met: 1"},
		"nothing to keep out":               {lines("oo", nil), most(proof.LetIn, 0), "undecided: nothing of the sort was sent"},
		"not known":                         {lines("okq", deaf), most(proof.LetIn, 0), "undecided: 0; of 2 more it is not known"},
		"not known, and it does not matter": {lines("okq", deaf), most(proof.LetIn, 2), "met: 0"},
		"an event that did not come":        {lines("ok", nil), most(proof.LetIn, 0, "wrong-key"), `undecided: 0; the event "wrong-key" was not carried out`},
		"an event that came":                {lines("ok", acted(ledger.EventActions{Event: "wrong-key", Kind: "credential", Times: 1})), most(proof.LetIn, 0, "wrong-key"), "met: 0"},
		"an event that did something else":  {lines("ok", acted(ledger.EventActions{Event: "wrong-key", Kind: "set", Times: 1})), most(proof.LetIn, 0, "wrong-key"), `undecided: 0; the event "wrong-key" was not carried out`},
		"corruption, and unregistering":     {lines("ok", acted(ledger.EventActions{Event: "a", Kind: "corrupt", Times: 1}, ledger.EventActions{Event: "b", Kind: "unregister", Times: 1})), most(proof.LetIn, 0, "a", "b"), "met: 0"},
		"an event that failed":              {lines("ok", acted(ledger.EventActions{Event: "wrong-key", Kind: "credential", Times: 3, Failed: 1, Why: "no"})), most(proof.LetIn, 0, "wrong-key"), `undecided: 0; the event "wrong-key" could not be carried out for every device: no`},

		"events":                {lines("o", acted(ledger.EventActions{Event: "a", Kind: "set", Times: 1})), most(proof.Events, 0, "a"), "met: done"},
		"an event failed":       {lines("o", acted(ledger.EventActions{Event: "a", Kind: "set", Times: 1, Failed: 1, Why: "no"})), most(proof.Events, 0, "a"), `not met: the event "a" could not be carried out for every device: no`},
		"one of two":            {lines("o", acted(ledger.EventActions{Event: "a", Kind: "set", Times: 1})), most(proof.Events, 0, "a", "b"), `not met: the event "b" was not carried out`},
		"it may have come":      {lines("o", killed), most(proof.Events, 0, "a"), `undecided: the event "a" was not carried out`},
		"it was interrupted":    {lines("o", func(b *ledger.Book) { b.Interrupted = true }), most(proof.Events, 0, "a"), `undecided: the event "a" was not carried out`},
		"an action of no times": {lines("o", acted(ledger.EventActions{Event: "a"})), most(proof.Events, 0, "a"), `not met: the event "a" was not carried out`},

		// The n-th is acknowledged after n-1 ms and seen after 4+n ms.
		"soon":                                 {lines("oooo", nil), limit(proof.Worst, proof.Acknowledged, 3*ms), "met: 3ms"},
		"not so soon":                          {lines("oooo", nil), limit(proof.Worst, proof.Acknowledged, 2900*time.Microsecond), "not met: 3ms"},
		"half of them":                         {lines("oooo", nil), limit(proof.P50, proof.Acknowledged, 1*ms), "met: 1ms"},
		"received soon":                        {lines("oooo", nil), limit(proof.Worst, proof.Received, 9*ms), "met: 8ms"},
		"nothing to measure":                   {lines("rr", nil), limit(proof.Worst, proof.Stored, time.Hour), "not met: nothing to measure"},
		"lost ones are late":                   {lines("oeo", nil), limit(proof.Worst, proof.Received, time.Hour), "not met: 7ms of those that came; 1 did not, and count as later than all"},
		"lost ones are late, and half are not": {lines("oeoo", nil), limit(proof.P50, proof.Received, time.Hour), "met: 7ms of those that came; 1 did not, and count as later than all"},
		"some are not known":                   {lines("oeo", gap(2)), limit(proof.Worst, proof.Received, time.Hour), "undecided: 7ms; how long 1 more took is not known"},
		"lag":                                  {lines("oooo", nil), limit(proof.LagP99, 0, 2*ms), "met: 1ms"},
		"lag, too much":                        {lines("oooo", nil), limit(proof.LagP99, 0, 900*time.Microsecond), "not met: 1ms"},
		"lag of none":                          {lines("uu", nil), limit(proof.LagP99, 0, time.Hour), "not met: nothing to measure"},

		"each round":                  {lines("1oo2oo3oo", nil), in("each", 1, 0, 100), "met: in each of 3"},
		"the first":                   {lines("1oo2ol3oo", nil), in("first", 1, 1, 100), "met: in that round"},
		"the last":                    {lines("1oo2ol3oo", nil), in("last", -1, 0, 100), "met: in that round"},
		"the worst tells":             {lines("1oo2ol3oo", nil), in("each", 1, 0, 100), "not met: round 2: 50% (1 of 2)"},
		"a round that is not known":   {lines("1oo2oe3oo", gap(4)), in("each", 1, 0, 100), "undecided: round 2: 50% (1 of 2)"},
		"not known, and not met":      {lines("1oo2oe3oe", gap(4)), in("each", 1, 0, 100), "not met: round 3: 50% (1 of 2)"},
		"not met, and not known":      {lines("1oo2oe3oe", gap(6)), in("each", 1, 0, 100), "not met: round 2: 50% (1 of 2)"},
		"too few rounds":              {lines("1oo2oo", nil), in("1 to 3", 1, 3, 100), "not met: 2 rounds were played"},
		"as many rounds":              {lines("1oo2oo3oo", nil), in("1 to 3", 1, 3, 100), "met: in each of 3"},
		"rounds that were not played": {lines("1oo", nil), in("2 on", 2, 0, 100), "not met: 1 rounds were played"},
	} {
		t.Run(name, func(t *testing.T) {
			c.q.Key, c.q.Text = "key", "text"
			checks := judge(c.book).Check([]proof.Requirement{c.q})
			require.Len(t, checks, 1)
			x := checks[0]
			assert.Equal(t, c.is, string(x.State)+": "+x.Got)
			key := "key"
			if c.q.Rounds.Name != "" {
				key = c.q.Rounds.Name + ": key"
			}
			assert.Equal(t, []string{key, "text"}, []string{x.Key, x.Want})
		})
	}
}

// A round is good where it meets what is required of shares, and else where all of it is proven.
func TestWhatARoundMeets(t *testing.T) {
	b := lines("1oo2ol3oi4", nil)
	r := judge(b)
	share := func(percent float64, rounds proof.Rounds) []proof.Requirement {
		return []proof.Requirement{{Measure: proof.Unmatched}, {Measure: proof.Share, Proven: true, Percent: percent, Rounds: rounds}}
	}
	for name, c := range map[string]struct {
		list []proof.Requirement
		is   []bool
	}{
		"nothing":            {nil, []bool{true, false, false, false}},
		"half":               {share(50, proof.Rounds{}), []bool{true, true, false, false}},
		"more than half":     {share(51, proof.Rounds{}), []bool{true, false, false, false}},
		"half of the second": {share(50, proof.Rounds{Name: "2", From: 2, To: 2}), []bool{true, true, false, false}},
		"half of the third":  {share(50, proof.Rounds{Name: "3", From: 3, To: 3}), []bool{true, false, false, false}},
	} {
		var got []bool
		for n := range 4 {
			got = append(got, r.RoundMeets(n+1, c.list))
		}
		assert.Equal(t, c.is, got, name)
	}
}

func TestSharesInWords(t *testing.T) {
	for text, c := range map[string][2]int{"none of none": {0, 0}, "0% (0 of 3)": {0, 3}, "100% (3 of 3)": {3, 3}, "66.66% (2 of 3)": {2, 3},
		"99.99% (99999 of 100000)": {99_999, 100_000}, "50.5% (101 of 200)": {101, 200}} {
		assert.Equal(t, text, tally.ShareText(c[0], c[1]))
	}
}

// What became of commands is counted by their names, in the order in which they first came.
func TestWhatBecameOfCommands(t *testing.T) {
	at := func(s int) time.Time { return start.Add(time.Duration(s) * time.Second) }
	answer := func(how ledger.How, o outcome.Outcome, sent int) *ledger.Answer {
		return &ledger.Answer{How: how, Outcome: o, Sent: at(sent), Text: "it said so"}
	}
	commands := []ledger.Command{
		{Number: 6, Name: "light", At: at(0), Done: true, Answer: answer(ledger.Right, outcome.Accepted, 3)},
		{Number: 1, Name: "rate", At: at(0), Done: true, Answer: answer(ledger.Right, outcome.Accepted, 1)},
		{Number: 2, Name: "rate", At: at(0), Done: true, Answer: answer(ledger.Wrong, outcome.NotAsked, 2)},
		{Number: 3, Name: "rate", At: at(0), Done: true, Answer: answer(ledger.Never, outcome.Open, 0)},
		{Number: 4, Name: "rate", At: at(0), Why: "it is off", Answer: answer(ledger.Right, outcome.Refused, 0)},
		{Number: 5, Name: "", At: at(0), Why: "it is not known"},
		{Number: 7, Name: "rate", At: at(0), Done: true, Answer: answer(ledger.Right, outcome.NoAnswer, 0)},
		{Number: 8, Name: "light", At: at(0), Done: true},
		{Number: 9, Name: "rate", At: at(0), Why: "it is off"},
	}
	for _, most := range []int{0, 2} {
		b := book(message(nil))
		b.Commands = commands
		r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)), tally.Options{PerVerdict: most}).Judge()
		require.NoError(t, err)
		var got []string
		for _, c := range r.Commands {
			got = append(got, fmt.Sprintf("%q %d %d %d %d %d %d %d %s", c.Name, c.Came, c.Obeyed, c.Answered, c.Wrongly, c.Silent, c.Failed,
				c.Delays.N, c.Delays.Worst))
		}
		assert.Equal(t, []string{`"rate" 6 4 2 1 1 2 2 2s`, `"" 1 0 0 0 0 0 0 0s`, `"light" 2 2 1 0 0 0 1 3s`}, got)
		var mishaps []string
		for _, m := range r.Mishaps {
			mishaps = append(mishaps, m.Command+": "+m.Why)
		}
		all := []string{"rate: not obeyed: it is off; its answer: refused: it said so", ": it is not known", "rate: its answer: no answer: it said so",
			"rate: not obeyed: it is off"}
		if most > 0 {
			all = all[:most]
		}
		assert.Equal(t, all, mishaps)
	}
}
