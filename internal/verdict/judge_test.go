package verdict_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/ledger/ledgertest"
	"runcrowd/internal/outcome"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/verdict"
)

// The small ledgers that tests are made of.
var (
	start   = ledgertest.Start
	book    = ledgertest.Book
	message = ledgertest.Message
	ended   = ledgertest.Ended
	seen    = ledgertest.Seen
	values  = ledgertest.Values
	filed   = ledgertest.Filed
	stored  = ledgertest.Stored
	clockOf = ledgertest.ClockOf
	again   = ledgertest.Again
	row     = ledgertest.Row
	lag     = ledgertest.Lag
	lagged  = ledgertest.LagWhole
	gap     = ledgertest.Gap
)

const carried = ledgertest.Carried

func perhaps(s *ledger.Sighting) { s.Perhaps = true }

// judge judges the messages of a book, and tells each in words.
func judge(b *ledger.Book) (list []verdict.Finding) {
	each(b, func(j *verdict.Judge, c *evidence.Case) {
		j.Rule(c, !c.Known)
		list = append(list, j.Finding(c, !c.Known))
	})
	return list
}

// each hands each message of a book to see, with who judges it.
func each(b *ledger.Book, see func(*verdict.Judge, *evidence.Case)) {
	b.Last = nil
	e := evidence.Of(b, verdict.Same(&b.Facts))
	survey := verdict.NewSurvey(&b.Facts)
	all := func(f func(*evidence.Case)) {
		if err := e.Cases(func(c *evidence.Case) error { f(c); return nil }); err != nil {
			panic(err)
		}
	}
	all(survey.Add)
	survey.Finish()
	j := verdict.NewJudge(survey)
	all(func(c *evidence.Case) {
		if c.Stream >= 0 {
			see(j, c)
		}
	})
}

// TestVerdicts: what is known of a message, and the one verdict that follows.
func TestVerdicts(t *testing.T) {
	ear, store := seen(0, nil), seen(1, nil)
	late := seen(0, func(s *ledger.Sighting) { s.Seen = start.Add(1500 * time.Millisecond) })
	resent := func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 }
	unsent := func(m *ledger.Message) { m.Attempts, m.Sent, m.Outcome = 0, time.Time{}, outcome.Unsent }
	for name, c := range map[string]struct {
		message func(*ledger.Message)
		seen    []ledger.Sighting
		book    func(*ledger.Book)
		want    verdict.Verdict
		says    string
	}{
		"all is well":       {nil, []ledger.Sighting{ear, store}, nil, verdict.Proven, ""},
		"refused, not kept": {ended(outcome.Refused), nil, nil, verdict.Refused, "not found"},
		"refused, yet kept": {ended(outcome.Refused), []ledger.Sighting{store}, nil,
			verdict.Unacknowledged, "not found"},
		"the store lacks it": {nil, []ledger.Sighting{ear}, nil, verdict.Lost, "not found"},
		"the ear lacks it":   {nil, []ledger.Sighting{store}, nil, verdict.Lost, "not found"},
		"QoS 0, the store lacks it": {ended(outcome.NotAsked), []ledger.Sighting{ear}, nil, verdict.Lost,
			"not found"},
		"QoS 0, all is well": {ended(outcome.NotAsked), []ledger.Sighting{ear, store}, nil,
			verdict.Proven, ""},
		"no answer, nowhere": {ended(outcome.NoAnswer), nil, nil, verdict.Unanswered, "not found"},
		"no answer, found": {ended(outcome.NoAnswer), []ledger.Sighting{ear, store}, nil,
			verdict.Unacknowledged, ""},
		"no answer, found by one": {ended(outcome.NoAnswer), []ledger.Sighting{store}, nil,
			verdict.Unacknowledged, "not found"},
		"still open at the end": {ended(outcome.Open), nil, nil, verdict.Unanswered, "not found"},
		"altered": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"wave_m":48,"t":1,"site":"outer"}`))}, nil, verdict.Altered, "found with other values"},
		"within the tolerance": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"site":"outer","t":1.05,"wave_m":47.80}`))}, nil, verdict.Proven, ""},
		"beyond the tolerance": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"site":"outer","t":1.2,"wave_m":47.8}`))}, nil, verdict.Altered, ""},
		"a field the platform adds": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"id":7,"site":"outer","t":1,"wave_m":47.8}`))}, nil, verdict.Proven, ""},
		"altered and lost": {nil, []ledger.Sighting{seen(0, values(`{}`))}, nil, verdict.Lost, ""},
		"another device": {nil, []ledger.Sighting{ear, seen(1, filed("buoy-2", ""))}, nil,
			verdict.Misfiled, "found under buoy-2"},
		"another reading": {nil, []ledger.Sighting{ear, seen(1, filed("", "level"))}, nil,
			verdict.Misfiled, "found under the reading level"},
		"right and wrong place": {nil, []ledger.Sighting{ear, store, seen(1, filed("buoy-2", ""))}, nil,
			verdict.Misfiled, "found under buoy-2"},
		"the witness cannot tell where": {nil, []ledger.Sighting{ear, seen(1, filed("", ""))}, nil,
			verdict.Proven, ""},
		"twice": {nil, []ledger.Sighting{ear, store, store}, nil, verdict.Repeated,
			"found twice"},
		"three times": {nil, []ledger.Sighting{ear, ear, ear, store}, nil, verdict.Repeated,
			"found 3 times"},
		"twice, as it was sent": {resent, []ledger.Sighting{ear, ear, store, store}, nil, verdict.Proven,
			""},
		"twice, sent twice as one": {func(m *ledger.Message) { m.Attempts = 2 },
			[]ledger.Sighting{ear, ear, store}, nil, verdict.Repeated, "found twice"},
		"twice, sent again over HTTP": {func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 },
			[]ledger.Sighting{ear, ear, store}, func(b *ledger.Book) { b.Streams[0].MayRepeat = false }, verdict.Unknown,
			"whether it did, or stored it twice, is not known"},
		"three times, sent again over HTTP": {func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 },
			[]ledger.Sighting{ear, ear, ear, store}, func(b *ledger.Book) { b.Streams[0].MayRepeat = false }, verdict.Repeated,
			"found 3 times"},
		"three times, sent twice": {resent, []ledger.Sighting{ear, ear, ear, store}, nil, verdict.Repeated,
			""},
		"a second delivery to the witness": {nil, []ledger.Sighting{ear,
			seen(0, func(s *ledger.Sighting) { s.Again = true }), store}, nil, verdict.Proven, ""},
		"only a second delivery": {nil, []ledger.Sighting{seen(0,
			func(s *ledger.Sighting) { s.Again = true }), store}, nil, verdict.Proven, ""},
		"a second delivery before the first": {nil, []ledger.Sighting{seen(0, again), ear, store}, nil,
			verdict.Repeated, "found twice"},
		"twice, its sendings in a lost block": {nil, []ledger.Sighting{ear, ear, store},
			func(b *ledger.Book) { b.Lost = true }, verdict.Unknown, "how often it was sent is not known"},
		"late": {nil, []ledger.Sighting{late, store}, nil, verdict.Late, "found 1.5s after it was sent; allowed are 1s"},
		"late by the platform's clock": {nil, []ledger.Sighting{stored(3*time.Second, 4*time.Second), store},
			clockOf(-time.Millisecond, time.Millisecond), verdict.Late, "found 3s after"},
		"late, if its clock were ours": {nil, []ledger.Sighting{stored(3*time.Second, 4*time.Second), store},
			nil, verdict.Unknown, "clock and ours do not agree"},
		"late by a clock that is ahead": {nil, []ledger.Sighting{stored(13*time.Second, 4*time.Second), store},
			clockOf(10*time.Second, 10*time.Second), verdict.Late, "found 3s after"},
		"in time by a clock that is ahead": {nil, []ledger.Sighting{stored(10500*time.Millisecond, 4*time.Second),
			store}, clockOf(10*time.Second, 10*time.Second), verdict.Proven, ""},
		"perhaps late, as far as clocks allow": {nil, []ledger.Sighting{stored(1200*time.Millisecond, 4*time.Second),
			store}, clockOf(-time.Second, time.Second), verdict.Unknown, "clock and ours do not agree"},
		"stored after it was seen, in time": {nil, []ledger.Sighting{stored(3*time.Second, 5*time.Millisecond),
			store}, nil, verdict.Proven, ""},
		"stored after it was seen, too late": {nil, []ledger.Sighting{stored(3*time.Second, 2*time.Second), store},
			nil, verdict.Unknown, "clock and ours do not agree"},
		"stored before it was sent": {nil, []ledger.Sighting{stored(-10*time.Second, 2*time.Second), store},
			nil, verdict.Unknown, "clock and ours do not agree"},
		"stored in the second it was sent": {nil, []ledger.Sighting{stored(0, 2*time.Second), store},
			func(b *ledger.Book) { clockOf(0, 0)(b); b.Witnesses[0].TimeOf = ledger.TimeOfPlatform }, verdict.Proven, ""},
		"filed under the time it was due": {nil, []ledger.Sighting{stored(0, 2*time.Second), store}, clockOf(0, 0),
			verdict.Unknown, "the time that it tells is the device's own"},
		"filed under that time, seen in time": {nil, []ledger.Sighting{stored(0, 500*time.Millisecond), store},
			clockOf(0, 0), verdict.Proven, ""},
		"late, if the time were the platform's": {nil, []ledger.Sighting{stored(3*time.Second, 4*time.Second), store},
			func(b *ledger.Book) { clockOf(0, 0)(b); b.Witnesses[0].TimeOf = ledger.TimeOfDevice }, verdict.Unknown, "the " +
				"time that it tells is the device's own"},
		"heard, and the ear was deaf behind": {nil, []ledger.Sighting{ear, store},
			gap(500*time.Millisecond, time.Second, false), verdict.Unknown, "whether once is not known"},
		"heard late, and deaf meanwhile": {nil, []ledger.Sighting{late, store},
			gap(100*time.Millisecond, time.Second, true), verdict.Unknown, "whether within 1s is not known"},
		"heard late, and deaf before it": {nil, []ledger.Sighting{late, store}, gap(-time.Second, 0, false),
			verdict.Late, "found 1.5s after"},
		"heard, and deaf before that": {nil, []ledger.Sighting{ear, store},
			gap(2*time.Millisecond, 3*time.Millisecond, false), verdict.Unknown, "whether once is not known"},
		"heard, and deaf after the watching": {nil, []ledger.Sighting{ear, store},
			gap(1100*time.Millisecond, time.Hour, false), verdict.Proven, ""},
		"heard, and the ear lagged behind": {nil, []ledger.Sighting{ear, store}, lag(0, time.Second), verdict.Proven,
			""},
		"not heard by an ear that lagged": {nil, []ledger.Sighting{store}, lag(0, time.Second), verdict.Unknown,
			"the witness lagged just then"},
		"not heard by an ear that lagged a little": {nil, []ledger.Sighting{store}, lagged(0, time.Second), verdict.Lost, ""},
		"late, and the ear lagged a little": {nil, []ledger.Sighting{late, store}, lagged(0, time.Second),
			verdict.Unknown, "whether within 1s is not known"},
		"heard, and the ear lagged a little": {nil, []ledger.Sighting{ear, store}, lagged(0, time.Second),
			verdict.Proven, ""},
		"delivered again, perhaps a copy": {nil, []ledger.Sighting{ear, seen(0, perhaps), store}, nil,
			verdict.Unknown, "delivered it again after a cut, and it may be a copy"},
		"delivered again, and heard once": {nil, []ledger.Sighting{seen(0, perhaps), store}, nil, verdict.Proven,
			""},
		"delivered again with other values": {nil, []ledger.Sighting{ear,
			seen(0, func(s *ledger.Sighting) { perhaps(s); s.Values = []byte("{}") }), store}, nil, verdict.Altered, ""},
		"one row that changed": {nil, []ledger.Sighting{ear, seen(1, values("{}")), seen(1, again)}, nil,
			verdict.Proven, ""},
		"one row that was changed for worse": {nil, []ledger.Sighting{ear, store,
			seen(1, func(s *ledger.Sighting) { again(s); s.Values = []byte("{}") })}, nil, verdict.Altered, ""},
		"two rows, by their identity": {nil, []ledger.Sighting{ear, seen(1, row(1)), seen(1, row(2))}, nil,
			verdict.Repeated, "found twice"},
		"one row, by its identity": {nil, []ledger.Sighting{ear, seen(1, row(1)), seen(1, row(1))}, nil,
			verdict.Proven, ""},
		"a row that changed for the better": {nil, []ledger.Sighting{ear,
			seen(1, func(s *ledger.Sighting) { s.Row, s.Values = 1, []byte("{}") }),
			seen(0, func(s *ledger.Sighting) { s.Row = 1 }), seen(1, row(1))},
			func(b *ledger.Book) { b.Streams[0].QoS0 = true; b.Messages[0][0].Anew = 1 }, verdict.Proven, ""},
		"a row that changed for the worse": {nil, []ledger.Sighting{ear, seen(1, row(1)),
			seen(1, func(s *ledger.Sighting) { s.Row, s.Values = 1, []byte("{}") })}, nil, verdict.Altered, ""},
		"two rows, of which one is wrong": {nil, []ledger.Sighting{ear,
			seen(1, func(s *ledger.Sighting) { s.Row, s.Values = 1, []byte("{}") }), seen(1, row(2))}, nil, verdict.Altered, ""},
		"its own reading, by name": {nil, []ledger.Sighting{ear, seen(1, filed("buoy-1", "state"))}, nil,
			verdict.Proven, ""},
		"another device, and its own reading": {nil, []ledger.Sighting{ear, seen(1, filed("buoy-2", "state"))}, nil,
			verdict.Misfiled, "found under buoy-2"},
		"one copy more, as the plan says": {func(m *ledger.Message) { m.Copies = 1 },
			[]ledger.Sighting{ear, ear, store, store}, nil, verdict.Proven, ""},
		"two copies more than the plan says": {func(m *ledger.Message) { m.Copies = 1 },
			[]ledger.Sighting{ear, ear, ear, store}, nil, verdict.Repeated, "found 3 times"},
		"a copy, where one was to be kept": {func(m *ledger.Message) { m.Copies, m.Meant = 1, ledger.ToKeepOne },
			[]ledger.Sighting{ear, ear, store}, nil, verdict.Repeated, "found twice"},
		"one of two copies, as it should be": {func(m *ledger.Message) { m.Copies, m.Meant = 1, ledger.ToKeepOne },
			[]ledger.Sighting{ear, store}, nil, verdict.Proven, ""},
		"QoS 0 twice, and the ledger is damaged": {ended(outcome.NotAsked), []ledger.Sighting{ear, ear, store},
			func(b *ledger.Book) { b.Lost, b.Streams[0].QoS0 = true, true }, verdict.Repeated, "found twice"},
		"twice, and killed before its answer": {ended(outcome.Open), []ledger.Sighting{ear, ear, store},
			func(b *ledger.Book) { b.Ended = false }, verdict.Unknown, "how often it was sent is not known"},
		"twice, and killed after its answer": {nil, []ledger.Sighting{ear, ear, store},
			func(b *ledger.Book) { b.Ended = false }, verdict.Repeated, "found twice"},
		"it may be another message": {nil, []ledger.Sighting{ear,
			seen(1, func(s *ledger.Sighting) { s.Unsure = true })}, nil, verdict.Unknown, "nothing tells which"},
		"found, and perhaps once more": {nil, []ledger.Sighting{ear, store,
			seen(1, func(s *ledger.Sighting) { s.Unsure = true })}, nil, verdict.Unknown, "may " +
			"be another copy of it or another message"},
		"perhaps altered, and nothing surely": {nil, []ledger.Sighting{ear,
			seen(1, func(s *ledger.Sighting) { s.Unsure, s.Values = true, []byte("{}") })}, nil, verdict.Unknown, ""},
		"stored late, by no time that is told": {nil, []ledger.Sighting{ear,
			seen(1, func(s *ledger.Sighting) { s.Seen = start.Add(time.Hour) })},
			func(b *ledger.Book) { b.Witnesses[1].Within = time.Second }, verdict.Proven, ""},
		"to be refused, refused": {func(m *ledger.Message) { m.Meant, m.Outcome = ledger.ToRefuse, outcome.Refused }, nil,
			nil, verdict.Proven, "not found, as it must be"},
		"to be refused, taken": {func(m *ledger.Message) { m.Meant = ledger.ToRefuse }, nil, nil,
			verdict.LetIn, "not found, as it must be"},
		"to be refused, refused and found":     {func(m *ledger.Message) { m.Meant, m.Outcome = ledger.ToRefuse, outcome.Refused }, []ledger.Sighting{store}, nil, verdict.LetIn, "found, and must not be"},
		"to be refused, a witness not heard":   {func(m *ledger.Message) { m.Meant, m.Outcome = ledger.ToRefuse, outcome.Refused }, nil, func(b *ledger.Book) { clear(b.Witnesses[1].Heard) }, verdict.Unknown, "could not be heard to the end"},
		"to be refused, never sent, not heard": {func(m *ledger.Message) { m.Meant, m.Outcome, m.Attempts = ledger.ToRefuse, outcome.Refused, 0 }, nil, func(b *ledger.Book) { clear(b.Witnesses[1].Heard) }, verdict.Proven, ""},
		"twice, and the first was altered": {nil, []ledger.Sighting{ear, seen(1, values("{}")), store}, nil,
			verdict.Altered, "found with other values"},
		"heard twice, and the first altered": {nil, []ledger.Sighting{seen(0, values("{}")), ear, store}, nil,
			verdict.Altered, "found with other values"},
		"on two pages, no identity": {nil, []ledger.Sighting{ear, store,
			seen(1, func(s *ledger.Sighting) { s.Perhaps = true })}, nil, verdict.Unknown, "on more than one page"},
		"asked for late, stored no one knows": {nil, []ledger.Sighting{seen(0,
			func(s *ledger.Sighting) { s.Seen, s.Asked = start.Add(time.Hour), true }), store}, nil, verdict.Proven, ""},
		"unsent": {unsent, nil, nil, verdict.Unsent, ""},
		"the store was not heard": {nil, []ledger.Sighting{ear},
			func(b *ledger.Book) { b.Witnesses[1].Heard[1] = ledger.Hearing{Why: "no route"} }, verdict.Unknown, "not " +
				"known: the witness was not heard to the end"},
		"the store was not heard, yet it says": {nil, []ledger.Sighting{ear, seen(1, values(`{}`))},
			func(b *ledger.Book) { delete(b.Witnesses[1].Heard, 1) }, verdict.Altered, ""},
		"found, but not heard to the end": {nil, []ledger.Sighting{ear, store},
			func(b *ledger.Book) { b.Witnesses[0].Heard[1] = ledger.Hearing{} }, verdict.Unknown, "whether once is not known"},
		"found, and its round never ended": {nil, []ledger.Sighting{ear, store},
			func(b *ledger.Book) { delete(b.Witnesses[1].Heard, 1) }, verdict.Unknown, "whether once is not known"},
		"what was sent is not known": {func(m *ledger.Message) { m.Carried = []byte("null") },
			[]ledger.Sighting{ear, store}, nil, verdict.Unknown, "nothing to compare it with"},
		"rubbish behind the end": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"mark":"x",`+carried[1:]+`}`))}, nil, verdict.Altered, "stands after"},
		"rubbish in front": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"mark":"x"$`+carried[1:]))}, nil, verdict.Altered, "invalid character"},
		"two bodies": {nil, []ledger.Sighting{ear, seen(1, values(carried+carried))}, nil,
			verdict.Altered, "stands after"},
		"a value of two": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"mark":"x","wave_m":9,`+carried[1:]))}, nil, verdict.Altered, `"wave_m" stands twice`},
		"a value of two, in other letters": {nil, []ledger.Sighting{ear,
			seen(1, values(`{"wave\u005fm":"x",`+carried[1:]))}, nil, verdict.Altered, `"wave_m" stands twice`},
		"no answer, and nobody was heard": {ended(outcome.NoAnswer), nil,
			func(b *ledger.Book) { clear(b.Witnesses[0].Heard); clear(b.Witnesses[1].Heard) }, verdict.Unknown, "not known"},
		"the ear did not listen then": {nil, []ledger.Sighting{store}, gap(0, 5*time.Second, false),
			verdict.Unknown, "could not listen just then: cut"},
		"the ear did not listen later": {nil, []ledger.Sighting{store},
			gap(10*time.Second, 20*time.Second, false), verdict.Lost, "not found"},
		"the broker kept messages for the ear": {nil, []ledger.Sighting{store}, gap(0, 5*time.Second, true),
			verdict.Unknown, "could not listen just then"},
		"heard, and kept for the ear": {nil, []ledger.Sighting{ear, store}, gap(0, time.Second, true),
			verdict.Proven, ""},
		"QoS 0 heard, of which none is kept": {ended(outcome.NotAsked), []ledger.Sighting{ear, store},
			func(b *ledger.Book) { gap(0, time.Second, true)(b); b.Streams[0].QoS0 = true }, verdict.Unknown,
			"whether once is not known"},
		"QoS 0 with nobody who looks": {ended(outcome.NotAsked), nil,
			func(b *ledger.Book) { b.Witnesses = nil }, verdict.Unknown, ""},
		"acknowledged, with nobody who looks": {nil, nil, func(b *ledger.Book) { b.Witnesses = nil }, verdict.Proven,
			""},
		"nobody looks at this kind": {nil, nil, func(b *ledger.Book) {
			b.Streams[0].Unseen = []int{0, 1}
		}, verdict.Proven, ""},
		"killed before the answer was written": {ended(outcome.Open), []ledger.Sighting{ear, store},
			func(b *ledger.Book) { b.Ended = false }, verdict.Unknown, ""},
		"killed, and altered": {ended(outcome.Open), []ledger.Sighting{ear, seen(1, values(`{}`))},
			func(b *ledger.Book) { b.Ended = false }, verdict.Altered, ""},
	} {
		t.Run(name, func(t *testing.T) {
			b := book(message(c.message))
			b.Sightings = c.seen
			if c.book != nil {
				c.book(b)
			}
			list := judge(b)
			require.Len(t, list, 1)
			assert.Equal(t, c.want.String(), list[0].Verdict, "%v", list[0].Testimony)
			if c.says != "" {
				assert.Contains(t, fmt.Sprint(list[0].Testimony), c.says)
			}
		})
	}
}

// Where a broker dropped a message that it kept for a witness, it may have dropped copies.
func TestWhatABrokerDropped(t *testing.T) {
	for name, dropped := range map[string]bool{"a message is missing": true, "none is missing": false} {
		b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
		gap(0, time.Second, true)(b)
		b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil), seen(1, func(s *ledger.Sighting) { s.Seq = 2 })}
		if !dropped {
			b.Sightings = append(b.Sightings, seen(0, func(s *ledger.Sighting) { s.Seq = 2 }))
		}
		want := verdict.Proven
		if dropped {
			want = verdict.Unknown
		}
		for _, f := range judge(b) {
			assert.Equal(t, want.String(), f.Verdict, "%s: %+v", name, f)
		}
	}
}

// How a value was changed has a name where there is one.
func TestDifferences(t *testing.T) {
	for _, c := range []struct{ sent, found, want string }{
		{`47.8`, `48`, "47.8 -> 48 rounded"}, {`62.7`, `62`, "62.7 -> 62 cut off"},
		{`1.234`, `1.23`, "1.234 -> 1.23 rounded"},
		{`47.8`, `"47.8"`, `47.8 -> "47.8" text in place of a number`}, {`0.1`, `0.10000000149011612`, "0.1 -> " +
			"0.10000000149011612 kept as a 32-bit number"},
		{`1`, `null`, "1 -> null null"}, {`"a"`, `null`, `"a" -> null null`}, {`true`, `false`, "true -> false "},
		{`1`, `1.0`, ""}, {`1e2`, `100`, ""},
		{`9007199254740993`, `9007199254740992`, "9007199254740993 -> 9007199254740992 kept as a 64-bit floating point " +
			"number"}, {`9007199254740993`, `9007199254740992.0`,
			"9007199254740993 -> 9007199254740992.0 kept as a 64-bit floating point number"},
		{`0.1`, `0.10000000000000001`, ""}, {`9007199254740993`, `9007199254740993.0`, ""},
		{`9007199254740994`, `9.007199254740994e15`, ""},
		{`-1.5`, `-2`, "-1.5 -> -2 rounded"}, {`-1.2`, `-2`, "-1.2 -> -2 rounded down"},
		{`-1.7`, `-1`, "-1.7 -> -1 cut off"}, {`1.2`, `2`, "1.2 -> 2 rounded up"},
		{`1.5`, `-1.5`, "1.5 -> -1.5 the sign turned"},
		{`1.25`, `125`, "1.25 -> 125 100 times as much"}, {`47.3`, `4.73`, "47.3 -> 4.73 divided by 10"},
		{`9.5`, `49.1`, "9.5 -> 49.1 converted: °C to °F"}, {`2.5`, `9`, "2.5 -> 9 converted: m/s to km/h"},
		{`"2030-01-01T00:00:00Z"`, `"2030-01-01T02:00:00+02:00"`, ""}, {`"2030-01-01T00:00:00Z"`, `1893456000000`, ""},
		{`1893456000000`, `"2030-01-01 00:00:00Z"`, ""},
		{`"2030-01-01T00:00:00.75Z"`, `"2030-01-01T00:00:00Z"`,
			`"2030-01-01T00:00:00.75Z" -> "2030-01-01T00:00:00Z" cut off to whole seconds`},
		{`"2030-01-01T00:00:00Z"`, `"2030-01-01T02:00:00Z"`,
			`"2030-01-01T00:00:00Z" -> "2030-01-01T02:00:00Z" moved by 2h0m0s: another time zone`},
		{`"2030-01-01T00:00:00Z"`, `"2030-01-01T00:00:07Z"`,
			`"2030-01-01T00:00:00Z" -> "2030-01-01T00:00:07Z" another time, 7s later`},
		{`"Skerry Roads"`, `"Skerry"`, `"Skerry Roads" -> "Skerry" cut off after 6 letters`},
		{`"Skerry"`, `"SKERRY"`, `"Skerry" -> "SKERRY" upper and lower case changed`}, {`"1"`, `1`, `"1" -> 1 `},
		{`{"lat":1,"lon":2}`, `{"lat":1}`, `{"lat":1,"lon":2} -> {"lat":1} lon is missing`},
		{`{"lat":1}`, `{"lat":1,"alt":3}`, ""},
		{`[1,2]`, `[1,3]`, "2 -> 3 "}, {`[1,2]`, `[1,2]`, ""}, {`"a"`, `"a"`, ""}, {`{"a":1}`, `5`, `{"a":1} -> 5 `},
	} {
		b := book(message(func(m *ledger.Message) { m.Carried = []byte(`{"x":` + c.sent + `}`) }))
		b.Sightings = []ledger.Sighting{seen(0, values(`{"x":`+c.found+`,"mark":1}`)),
			seen(1, values(`{"x":`+c.found+`,"mark":1}`))}
		got := ""
		if list := judge(b)[0].Testimony[0].Differences; len(list) > 0 {
			got = fmt.Sprintf("%s -> %s %s", list[0].Sent, list[0].Found, list[0].Note)
		}
		assert.Equal(t, c.want, got, "%s found as %s", c.sent, c.found)
	}
	b := book(message(nil))
	b.Sightings = []ledger.Sighting{seen(0, values(`{"t":1,"site":"outer"}`)), seen(1, values(`"x"`))}
	f := judge(b)[0]
	assert.Equal(t, verdict.Difference{Field: "wave_m", Sent: "47.8", Note: "missing"}, f.Testimony[0].Differences[0])
	assert.Equal(t, "not an object of fields", f.Testimony[1].Differences[0].Note)
}

// What is nested is compared part by part, each with the tolerance and the unit of
// its own field.
func TestNestedDifferences(t *testing.T) {
	b := book(message(func(m *ledger.Message) {
		m.Carried = []byte(`{"sea":{"wave_m":1.25,"temp":{"c":9}},"axis":[1,2],"at":{"lat":58,"lon":-6}}`)
	}))
	b.Streams[0].Tolerances = map[string]float64{"sea.wave_m": 0.1, "axis.1": 1}
	b.Streams[0].Units = map[string]string{"sea.temp.c": "Cel"}
	b.Sightings = []ledger.Sighting{seen(0, values(
		`{"mark":"x","sea":{"wave_m":1.3,"temp":{"c":9.5}},"axis":[1,2.5],"at":{"lat":58.1,"lon":-6}}`)),
		seen(1, values(`{"sea":{"wave_m":1.25},"axis":[1],"at":{"lat":58,"lon":-6}}`))}
	list := judge(b)
	require.Len(t, list, 1)
	assert.Equal(t, []verdict.Difference{{Field: "sea.temp.c", Sent: "9", Found: "9.5", Unit: "Cel"},
		{Field: "at", Sent: `{"lat":58,"lon":-6}`, Found: `{"lat":58.1,"lon":-6}`, Note: "lat"}},
		list[0].Testimony[0].Differences)
	assert.Equal(t, []verdict.Difference{{Field: "sea.temp", Sent: `{"c":9}`, Note: "missing"},
		{Field: "axis", Sent: "[1,2]", Found: "[1]"}}, list[0].Testimony[1].Differences)
}

// What is found equal to what was sent is so for a strict reader as well, and what is
// found is never lost.
func FuzzFound(f *testing.F) {
	f.Add([]byte(`{"x":1}`), []byte(`{"x":"1"}`))
	f.Add([]byte(`{"x":1,"y":[2]}`), []byte(`{"mark":"a/b/1","x":1,"y":[2]}`))
	f.Add([]byte(`{"x":1}`), []byte(`{"x":2,"x":1}`))
	f.Add([]byte(`{"x":1}`), []byte(`{"x":"2","x":1}`))
	f.Add([]byte(`{"x":"2030-01-01T00:00:00Z","y":1893456000}`),
		[]byte(`{"x":1893456000000,"y":"2030-01-01T01:00:00+01:00"}`))
	f.Add([]byte(`{"x":"\\u0061"}`), []byte(`{"mark":"1"$"x":"\\u0061"}`))
	f.Fuzz(func(t *testing.T, sent, found []byte) {
		want, err := strictjson.Members(sent)
		if err != nil && bytes.HasPrefix(sent, []byte("{")) {
			t.Skip("our writer makes objects that can be read, or null")
		}
		b := book(message(func(m *ledger.Message) { m.Carried = sent }))
		b.Sightings = []ledger.Sighting{seen(0, func(s *ledger.Sighting) { s.Values = found }),
			seen(1, func(s *ledger.Sighting) { s.Values = sent })}
		got := judge(b)[0]
		require.NotEqual(t, verdict.Lost.String(), got.Verdict)
		if got.Verdict != verdict.Proven.String() {
			require.False(t, err == nil && string(sent) == string(found))
			return
		}
		require.NoError(t, err, "proven, though what was sent is not known")
		have, err := strictjson.Decode(found)
		require.NoError(t, err)
		for _, m := range want {
			require.Contains(t, have, m.Name)
			require.True(t, alike(m.Value, have.(map[string]any)[m.Name]), "%s was sent, %s is proven", sent, found)
		}
	})
}

// alike compares two values by itself: numbers by their value, times by their instant.
func alike(sent, found any) bool {
	instant := func(v any) (time.Time, bool) {
		if n, is := v.(json.Number); is {
			i, err := n.Int64()
			for _, per := range []int64{1, 1e3, 1e6, 1e9} {
				if err == nil && i >= 1e9 && i/per < 1e11 {
					return time.Unix(0, i*(1e9/per)), true
				}
			}
		}
		s, _ := v.(string)
		t, err := time.Parse(time.RFC3339Nano, strings.Replace(s, " ", "T", 1))
		return t, err == nil
	}
	switch x := sent.(type) {
	case json.Number:
		if y, is := found.(json.Number); is {
			a, okA := new(big.Float).SetPrec(4000).SetString(x.String())
			b, okB := new(big.Float).SetPrec(4000).SetString(y.String())
			if !okA || !okB {
				return x == y
			}
			p, _ := a.Float64()
			q, _ := b.Float64()
			return a.Cmp(b) == 0 || p == q && math.Abs(p) < 1<<53
		}
	case map[string]any:
		y, is := found.(map[string]any)
		for name, v := range x {
			w, there := y[name]
			if !is || !there || !alike(v, w) {
				return false
			}
		}
		return is
	case []any:
		y, is := found.([]any)
		if !is || len(x) != len(y) {
			return false
		}
		for i := range x {
			if !alike(x[i], y[i]) {
				return false
			}
		}
		return true
	}
	if sent == found {
		return true
	}
	a, okA := instant(sent)
	b, okB := instant(found)
	return okA && okB && a.Equal(b)
}

// A broker that keeps messages for a witness is under suspicion only where one is missing that
// the witness should have.
func TestWhatABrokerDidNotDrop(t *testing.T) {
	for name, change := range map[string]func(*ledger.Book){
		"refused":              func(b *ledger.Book) { b.Messages[0][1].Outcome = outcome.Refused },
		"without an answer":    func(b *ledger.Book) { b.Messages[0][1].Outcome = outcome.NoAnswer },
		"never sent":           func(b *ledger.Book) { b.Messages[0][1].Sent = time.Time{} },
		"not for this witness": func(b *ledger.Book) { b.Streams[0].Unseen = []int{0} },
		"not known to be due":  func(b *ledger.Book) { b.Messages[0][1].Hole = true },
		"long after":           func(b *ledger.Book) { b.Messages[0][1].Sent = start.Add(30 * time.Second) },
	} {
		b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
		gap(0, time.Second, true)(b)
		b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil)}
		change(b)
		assert.Equal(t, verdict.Proven.String(), judge(b)[0].Verdict, name)
	}
}

// What a finding tells beside its verdict.
func TestFinding(t *testing.T) {
	for name, c := range map[string]struct {
		message       func(*ledger.Message)
		book          func(*ledger.Book)
		outcome, said string
	}{
		"acknowledged": {nil, nil, "accepted", ""},
		"refused, with a reason": {func(m *ledger.Message) { m.Outcome, m.Text = outcome.Refused, "no room" }, nil,
			"refused", "no room"},
		"open, in a whole run": {ended(outcome.Open), nil, outcome.Open.String(), ""},
		"open, and damaged": {ended(outcome.Open), func(b *ledger.Book) { b.Lost = true }, "unknown", "its " +
			"answer may be in the damaged part of the ledger"},
		"open, and killed": {ended(outcome.Open), func(b *ledger.Book) { b.Ended = false }, "unknown", "the " +
			"run was killed before its answer was written"},
		"acknowledged, damaged elsewhere": {nil, func(b *ledger.Book) { b.Lost, b.Ended = true, false }, "accepted", ""},
		"only a witness knows it": {func(m *ledger.Message) { m.Hole = true },
			func(b *ledger.Book) { b.Ended = false }, "unknown", "sent " +
				"in the last moment before the run was killed; the ledger does not tell of it"},
		"what the ledger says is damaged": {func(m *ledger.Message) { m.Hole = true },
			func(b *ledger.Book) { b.Lost = true }, "unknown", "what the ledger tells of it is damaged"},
	} {
		b := book(message(c.message))
		b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil)}
		if c.book != nil {
			c.book(b)
		}
		f := judge(b)[0]
		assert.Equal(t, c.outcome, f.Outcome, name)
		assert.Equal(t, c.said, f.Said, name)
	}
	b := book(message(nil))
	b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil)}
	f := judge(b)[0]
	assert.True(t, start.Add(time.Millisecond).Equal(*f.Sent))
	assert.Equal(t, time.Millisecond, f.Took)
	assert.Equal(t, []verdict.Testimony{{Witness: "ear", Says: "found, as it was sent, after 4ms", State: verdict.Found},
		{Witness: "store", Says: "found, as it was sent", State: verdict.Found}}, f.Testimony)
	b.Messages[0][0].Sent, b.Messages[0][0].At = time.Time{}, time.Time{}
	f = judge(b)[0]
	assert.Nil(t, f.Sent)
	assert.Equal(t, "found", f.Testimony[0].Says)
	b = book(message(func(m *ledger.Message) { m.At = time.Time{} }))
	assert.Zero(t, judge(b)[0].Took)
	each(b, func(j *verdict.Judge, c *evidence.Case) {
		r := j.Rule(c, false)
		assert.Equal(t, []verdict.State{verdict.NotFound, verdict.NotFound}, r.States)
		assert.Equal(t, verdict.Found, r.Answer)
	})
	b = book(message(func(m *ledger.Message) { m.Meant, m.Outcome = ledger.ToRefuse, outcome.Refused }))
	b.Sightings = []ledger.Sighting{seen(1, nil)}
	assert.Equal(t, []verdict.Testimony{{Witness: "ear", Says: "not found, as it must be"},
		{Witness: "store", Says: "found, and must not be", State: verdict.FoundLetIn}}, judge(b)[0].Testimony)
	b = book(message(func(m *ledger.Message) { m.Meant = ledger.ToRefuse }))
	each(b, func(j *verdict.Judge, c *evidence.Case) {
		assert.Equal(t, verdict.NotFound, j.Rule(c, false).Answer, "it had to say no")
		c.Outcome = outcome.Refused
		assert.Equal(t, verdict.Unasked, j.Rule(c, false).Answer)
	})
}

// Of a store that shows the latest alone only the newest message is asked, and only where
// nothing else may have taken its place.
func TestTheLatestAlone(t *testing.T) {
	of := func(seq uint64, change func(*ledger.Message)) ledger.Message {
		return message(func(m *ledger.Message) {
			m.Seq, m.Sent = seq, start.Add(time.Duration(seq)*time.Second)
			if m.At = m.Sent.Add(time.Millisecond); change != nil {
				change(m)
			}
		})
	}
	shows := func(seqs ...uint64) (list []ledger.Sighting) {
		for _, n := range seqs {
			list = append(list, seen(1, func(s *ledger.Sighting) { s.Seq = n }))
		}
		return list
	}
	unsent := func(m *ledger.Message) { m.Attempts, m.Sent, m.Outcome = 0, time.Time{}, outcome.Unsent }
	discard := func(m *ledger.Message) { m.Meant = ledger.ToDiscard }
	for name, c := range map[string]struct {
		third func(*ledger.Message) // of three
		shown []ledger.Sighting
		says  string // of the second
		want  verdict.Verdict
	}{
		"the newest is shown":                {nil, shows(3), "[]", verdict.Proven},
		"none is shown":                      {nil, nil, "[]", verdict.Proven},
		"it was seen before":                 {nil, shows(2, 3), "found, as it was sent", verdict.Proven},
		"the newest was refused":             {ended(outcome.Refused), nil, "not found", verdict.Lost},
		"the newest was refused, and stored": {ended(outcome.Refused), shows(3), "may have taken its place", verdict.Unknown},
		"the newest had no answer":           {ended(outcome.NoAnswer), nil, "may have taken its place", verdict.Unknown},
		"the newest had none, this is shown": {ended(outcome.NoAnswer), shows(2), "found", verdict.Proven},
		"the newest did not go out":          {unsent, nil, "not found", verdict.Lost},
		"the newest had to be discarded":     {discard, nil, "not found", verdict.Lost},
		"it was not discarded":               {discard, shows(3), "may have taken its place", verdict.Unknown},
	} {
		b := book(of(1, nil), of(2, nil), of(3, c.third))
		b.Witnesses = b.Witnesses[1:]
		for i := range c.shown {
			c.shown[i].Witness = 0
		}
		b.Witnesses[0].Latest, b.Sightings = true, c.shown
		f := judge(b)[1]
		assert.Equal(t, c.want.String(), f.Verdict, name)
		assert.Contains(t, fmt.Sprint(f.Testimony), c.says, name)
	}
	// The record of the newest is lost in damage, and the store shows it.
	b := book(of(1, nil), of(2, nil))
	b.Witnesses, b.Lost = b.Witnesses[1:], true
	b.Witnesses[0].Latest, b.Sightings = true, []ledger.Sighting{seen(0, func(s *ledger.Sighting) { s.Seq = 3 })}
	assert.Contains(t, fmt.Sprint(judge(b)[1].Testimony), "a newer message (#3) went out")
}
