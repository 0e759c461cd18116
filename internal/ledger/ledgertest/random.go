package ledgertest

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// Random is a ledger of a run in which everything happens that can, some of it in each: by a seed,
// and always the same.
func Random(seed uint64) *ledger.Book {
	rng := rand.New(rand.NewPCG(seed, 20300102))
	maybe := func(one int) bool { return rng.IntN(one) == 0 }
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Crowd: "skerry-roads", Start: Start, Ended: !maybe(4),
		Interrupted: maybe(8)}}
	b.Streams = []ledger.Stream{
		{Device: "buoy-1", Kind: "buoy", Reading: "state", MayRepeat: maybe(2), Tolerances: map[string]float64{"t": 0.1},
			Units: map[string]string{"wave_m": "m"}, Calls: 3},
		{Device: "buoy-1", Kind: "buoy", Reading: "light", QoS0: true},
		{Device: "gauge-1", Kind: "gauge", Reading: "level", MayRepeat: true, List: maybe(3)}}
	if maybe(4) {
		b.Streams[2].Unseen = []int{0}
	}
	for i := range b.Streams {
		b.Streams[i].Unseen = append(b.Streams[i].Unseen, 3) // what hears alerts sees no messages
	}
	rounds := 1 + rng.IntN(3)
	for n := range rounds {
		begin := Start.Add(time.Duration(n) * 20 * time.Second)
		r := ledger.Round{N: n + 1, Begin: begin, End: begin.Add(10 * time.Second), Over: begin.Add(11 * time.Second)}
		if maybe(4) {
			r.Over, r.Open = begin.Add(14*time.Second), rng.IntN(3)
		}
		b.Rounds = append(b.Rounds, r)
	}
	if !b.Ended && maybe(2) {
		b.Rounds[rounds-1].Over, b.Rounds[rounds-1].End = time.Time{}, time.Time{}
	}
	heard := func() map[int]ledger.Hearing {
		m := map[int]ledger.Hearing{}
		for n := range rounds {
			if !maybe(6) {
				m[n+1] = ledger.Hearing{Complete: true}
			} else if maybe(2) {
				m[n+1] = ledger.Hearing{Why: "it broke"}
			}
		}
		return m
	}
	b.Witnesses = []ledger.Witness{
		{Name: "ear", Proof: "received", Within: ms(rng.IntN(3) * 50), WatchCopies: ms(500), Listens: true, Heard: heard()},
		{Name: "store", Proof: "stored", Within: ms(rng.IntN(2) * 400), WatchCopies: ms(500), Heard: heard(), Latest: maybe(4),
			Types: ledger.Types(rng.IntN(3)), TimeOf: ledger.TimeOf(rng.IntN(3))},
		{Name: "many", Proof: ledger.Counts, Heard: heard()},
		{Name: "alarm", Proof: "alerts", Listens: !maybe(3), Heard: heard()}}
	for i := range b.Witnesses {
		if w := &b.Witnesses[i]; i != 1 && i != 3 {
			continue
		} else if maybe(3) {
			w.Clock = &ledger.Offset{Least: ms(rng.IntN(40) - 20), Most: ms(20 + rng.IntN(40))}
		}
	}
	if maybe(3) {
		b.Witnesses[1].Fields = map[string]ledger.FieldRule{"t": {As: "temp", Factor: 10}, "note": {Ignored: true}}
	}
	for i := range b.Witnesses {
		for maybe(3) {
			from := Start.Add(ms(rng.IntN(60_000)))
			g := ledger.Gap{From: from, To: from.Add(ms(rng.IntN(4000))), Why: "cut"}
			switch rng.IntN(5) {
			case 0:
				g.Kept = true
			case 1:
				g.Lag, g.Whole = true, maybe(2)
			case 2:
				if g.To = from.Add(ms(rng.IntN(900))); maybe(3) {
					g.To = time.Time{}
				}
			}
			b.Witnesses[i].Gaps = append(b.Witnesses[i].Gaps, g)
		}
	}
	if maybe(2) {
		b.Witnesses[2].Before, b.Witnesses[2].Now = map[int]int64{-1: 3}, map[int]int64{-1: int64(3 + rng.IntN(60))}
		if maybe(2) {
			b.Witnesses[2].Before, b.Witnesses[2].Now = map[int]int64{0: 1}, map[int]int64{0: int64(rng.IntN(50)), 2: int64(rng.IntN(30))}
		}
	}
	messages(b, rng, maybe, ms)
	happenings(b, rng, maybe, ms)
	return b
}

// messages are those of all streams, and what was found of them.
func messages(b *ledger.Book, rng *rand.Rand, maybe func(int) bool, ms func(int) time.Duration) {
	lossy, off := 3+rng.IntN(20), ms(rng.IntN(30))
	if maybe(3) { // a platform's clock
		off += ms(rng.IntN(3000) - 1500)
	}
	most, echo := 14, maybe(5)
	if maybe(8) {
		most = 90
	}
	for stream := range b.Streams {
		var list []ledger.Message
		for round := range b.Rounds {
			for range rng.IntN(most) {
				seq := uint64(len(list) + 1)
				due := b.Rounds[round].Begin.Add(ms(len(list) % 20 * 500))
				carried := fmt.Sprintf(`{"wave_m":%d.%d,"t":%d,"note":"calm","ok":%t,"deep":{"x":%d}}`, rng.IntN(5), rng.IntN(10), seq,
					maybe(2), rng.IntN(3))
				m := ledger.Message{Seq: seq, Round: round + 1, Due: due, Sent: due.Add(ms(rng.IntN(5))), Attempts: 1,
					Outcome: outcome.Accepted, Carried: []byte(carried), Calls: uint64(rng.IntN(4))}
				m.At = m.Sent.Add(ms(1 + rng.IntN(20)))
				if maybe(lossy) { // perhaps after the answer to a newer one
					m.At = m.Sent.Add(ms(rng.IntN(4000)))
				}
				if b.Streams[stream].QoS0 {
					m.Outcome, m.At = outcome.NotAsked, m.Sent
				}
				if maybe(lossy) {
					m.Outcome, m.Text = outcome.Outcome(rng.IntN(7)), "it said so"
					if m.Outcome == outcome.Unsent || m.Outcome == outcome.Dropped {
						m.Sent, m.Attempts = time.Time{}, 0
					}
				}
				if maybe(lossy) {
					m.Attempts, m.Anew = 2+rng.IntN(2), rng.IntN(2)
				}
				if maybe(2 * lossy) {
					m.Meant = ledger.Meant(1 + rng.IntN(3))
					if m.Meant != ledger.ToKeepOne && maybe(2) {
						m.Outcome = outcome.Refused
					} else if m.Meant == ledger.ToKeepOne {
						m.Copies = 1
					}
				}
				if !b.Ended && maybe(15) {
					m.Hole, m.Carried = true, []byte("null")
				}
				list = append(list, m)
				found(b, stream, &list[len(list)-1], rng, lossy, off, echo, maybe, ms)
			}
		}
		b.Messages = append(b.Messages, list)
	}
	for range rng.IntN(3) { // of no message, or past the end
		b.Sightings = append(b.Sightings, ledger.Sighting{Witness: rng.IntN(2), Seen: Start.Add(time.Minute), Stream: rng.IntN(4) - 1,
			Seq: uint64(rng.IntN(60)), Device: "tug-1", Reading: "place", Values: []byte(`{"a":1}`)})
	}
}

// found are sightings of a message.
func found(b *ledger.Book, stream int, m *ledger.Message, rng *rand.Rand, lossy int, off time.Duration, echo bool,
	maybe func(int) bool, ms func(int) time.Duration) {
	kept := m.Outcome == outcome.Accepted || m.Outcome == outcome.NotAsked || maybe(3)
	if m.Meant == ledger.ToRefuse || m.Meant == ledger.ToDiscard {
		kept = maybe(4)
	}
	for w := range 2 {
		if !kept || m.Sent.IsZero() || maybe(lossy) || slices.Contains(b.Streams[stream].Unseen, w) {
			continue
		}
		times := 1
		if maybe(lossy) {
			times = 2
		}
		for k := range times {
			delay := ms(rng.IntN(30))
			if maybe(lossy) {
				delay += ms(rng.IntN(2000))
			}
			x := ledger.Sighting{Witness: w, Seen: m.Sent.Add(delay), Stream: stream, Seq: m.Seq, Asked: w == 1, Values: m.Carried,
				Again: k > 0 && maybe(3), Perhaps: k > 0 && maybe(3), Unsure: maybe(6 * lossy)}
			if w == 1 {
				x.Seen = b.Rounds[m.Round-1].Begin.Add(12*time.Second + delay)
				if x.Row = rng.Uint64() >> 20; maybe(2) {
					if x.Stored = m.Sent.Add(delay/2 + off); echo { // the device's own time
						x.Stored = m.Due
					}
					if maybe(3 * lossy) { // a wrong one
						x.Stored = x.Stored.Add(ms(rng.IntN(20_000) - 10_000))
					}
				}
				if b.Witnesses[1].Fields != nil {
					x.Values = []byte(strings.Replace(string(m.Carried), fmt.Sprintf(`"t":%d`, m.Seq), fmt.Sprintf(`"temp":%d`,
						10*m.Seq), 1))
				}
			}
			if maybe(lossy) {
				x.Values = altered(x.Values, rng)
			}
			if maybe(3 * lossy) {
				x.FiledDevice = "gauge-1"
			}
			if maybe(3 * lossy) {
				x.FiledReading = "light"
			}
			b.Sightings = append(b.Sightings, x)
		}
	}
}

// altered is what platforms make of values.
func altered(values []byte, rng *rand.Rand) []byte {
	s := string(values)
	switch rng.IntN(8) {
	case 0:
		return []byte(strings.Replace(s, "calm", "rough", 1))
	case 1:
		return []byte(strings.Replace(s, `"note":"calm",`, "", 1))
	case 2:
		return []byte(strings.Replace(s, `"t":`, `"t":0.0`, 1))
	case 3:
		return []byte(strings.Replace(s, `"t":`, `"t":1`, 1))
	case 4:
		return []byte(strings.NewReplacer("true", `"true"`, "false", "0").Replace(s))
	case 5:
		return []byte(strings.Replace(s, `{"x":`, `{"y":1,"x":`, 1))
	case 6:
		return []byte("null")
	}
	return []byte(s[:len(s)-1] + `,"more":1}`)
}

// happenings are what happened beside messages.
func happenings(b *ledger.Book, rng *rand.Rand, maybe func(int) bool, ms func(int) time.Duration) {
	at := func() time.Time { return Start.Add(ms(rng.IntN(50_000))) }
	if maybe(2) {
		n := ledger.Alert{Name: "low", Witness: 3, Within: ms(500), Fields: []string{"t"}}
		for range rng.IntN(24) {
			x := ledger.Said{Stream: 0, Device: "buoy-1", Seen: at(), Perhaps: maybe(5), Text: "low"}
			if list := b.Messages[0]; len(list) > 0 && !maybe(4) {
				x.Seen = list[rng.IntN(len(list))].Due.Add(ms(rng.IntN(900)))
			}
			if maybe(9) {
				x.Stream, x.Device = -1, "tug-9"
			}
			if !b.Witnesses[3].Listens && maybe(2) {
				x.Stored = x.Seen.Add(-ms(rng.IntN(300)))
			}
			n.Said = append(n.Said, x)
		}
		slices.SortFunc(n.Said, func(x, y ledger.Said) int { return x.Seen.Compare(y.Seen) })
		b.Alerts = []ledger.Alert{n}
	}
	for maybe(2) {
		from := at()
		if b.Actions.Breaks == nil {
			b.Actions.Breaks = map[int][]ledger.Break{}
		}
		b.Actions.Breaks[0] = append(b.Actions.Breaks[0], ledger.Break{From: from, To: from.Add(ms(rng.IntN(3000))), Deaf: maybe(2)})
	}
	for _, kind := range []string{"offline", "credential", "set"} {
		if maybe(2) {
			b.Actions.Events = append(b.Actions.Events, ledger.EventActions{Event: "event-" + kind, Kind: kind, Times: rng.IntN(3),
				Devices: 1, First: at(), Last: at(), Failed: rng.IntN(2), Why: "it is away"})
		}
	}
	for maybe(3) {
		from := at()
		b.Still = append(b.Still, ledger.Still{From: from, To: from.Add(ms(rng.IntN(2000)))})
	}
	b.Turns = clock.Turns{Looks: 1000, Late: [4]int{rng.IntN(400), rng.IntN(300), rng.IntN(9), 0}}
	if maybe(5) {
		b.Damage, b.Lost = []ledger.Damage{{At: 500, Bytes: 90}}, maybe(2)
		if w := &b.Witnesses[0]; maybe(2) {
			w.Lost = []ledger.Lost{{Stream: 0, N: 1, Sum: ledger.Digest(0, uint64(1+rng.IntN(9)))}}
		}
	}
	if maybe(3) {
		b.Links = ledger.Links{Drops: 2, Why: map[string]int{"cut": 2}, Remarks: map[string]int{"it is odd": 1},
			Devices: map[int]*ledger.DeviceLinks{0: {Ups: 2, Why: "cut", Outages: []ledger.Outage{
				{From: at(), To: at(), Why: "cut", After: ledger.Entry{Seq: 2}, Times: 3}}}},
			Closings: map[ledger.Entry]int{{Seq: 2}: 3}}
	}
	b.LastWrite, b.Played = Start.Add(time.Duration(len(b.Rounds))*20*time.Second), Start.Add(ms(rng.IntN(60_000)))
}

// PinnedBy is Pinned for what is told of random runs: of the first ones as it is, of the others its
// digest. The short tier (go test -short) plays a fifth of them.
func PinnedBy(t testing.TB, path string, whole, seeds uint64, tell func(seed uint64) string) {
	t.Helper()
	all := seeds
	if testing.Short() {
		seeds = max(whole, seeds/5)
	}
	var b strings.Builder
	for seed := range seeds {
		text := tell(seed)
		if seed >= whole {
			text = fmt.Sprintf("%x\n", sha256.Sum256([]byte(text)))[48:]
		}
		fmt.Fprintf(&b, "== %d\n%s", seed, text)
	}
	pinned(t, path, b.String(), seeds < all)
}

// Pinned holds a text against a file that was read by somebody once. With -update, a flag of the
// test's, it is written anew: what changed in it has to be read.
func Pinned(t testing.TB, path, text string) {
	t.Helper()
	pinned(t, path, text, false)
}

// pinned holds a text against a file, or where some is true against its beginning.
func pinned(t testing.TB, path, text string, some bool) {
	t.Helper()
	if f := flag.Lookup("update"); f != nil && f.Value.String() == "true" {
		require.False(t, some, "-update needs all of them, without -short")
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return
	}
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	want, got := strings.Split(string(b), "\n"), strings.Split(text, "\n")
	if some { // nothing follows the last line
		got = got[:len(got)-1]
	}
	for i := range min(len(want), len(got)) {
		require.Equal(t, want[i], got[i], "%s:%d; go test -update writes it anew", path, i+1)
	}
	if !some {
		require.Len(t, got, len(want), path)
	}
}

// Dump is a value in lines, for tests that hold all of it: what is zero is left out, times are those
// after Start.
func Dump(v any) string {
	var b strings.Builder
	dump(&b, "", reflect.ValueOf(v))
	return b.String()
}

// words is a value in one line; false: it takes several.
func words(v reflect.Value) (text string, is bool) {
	if v.CanInterface() {
		switch x := v.Interface().(type) {
		case time.Time:
			return x.Sub(Start).String(), true
		case []byte:
			return string(x), true
		case fmt.Stringer:
			if v.Kind() != reflect.Struct && v.Kind() != reflect.Pointer {
				return x.String(), true
			}
		}
	}
	var parts []string
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if !f.IsExported() || v.Field(i).IsZero() || v.Field(i).Kind() == reflect.Func {
				continue
			}
			text, is := words(v.Field(i))
			if !is {
				return "", false
			}
			parts = append(parts, f.Name+"="+text)
		}
		return strings.Join(parts, " "), true
	case reflect.Array, reflect.Slice:
		for i := range v.Len() {
			if k := v.Index(i).Kind(); k == reflect.Struct || k == reflect.Slice || k == reflect.Pointer || k == reflect.Interface {
				return "", false
			}
			text, _ := words(v.Index(i))
			parts = append(parts, text)
		}
		return "[" + strings.Join(parts, " ") + "]", true
	case reflect.Pointer, reflect.Interface, reflect.Map:
		return "", false
	}
	return fmt.Sprint(v), true
}

func dump(b *strings.Builder, path string, v reflect.Value) {
	if !v.IsValid() || v.IsZero() || v.Kind() == reflect.Func {
		return
	}
	if text, is := words(v); is {
		fmt.Fprintf(b, "%s %s\n", path, text)
		return
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		dump(b, path, v.Elem())
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() {
				dump(b, strings.TrimPrefix(path+"."+f.Name, "."), v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			dump(b, fmt.Sprintf("%s[%d]", path, i), v.Index(i))
		}
	case reflect.Map:
		keys := v.MapKeys()
		slices.SortFunc(keys, func(x, y reflect.Value) int { return strings.Compare(fmt.Sprint(x), fmt.Sprint(y)) })
		for _, k := range keys {
			dump(b, fmt.Sprintf("%s[%v]", path, k), v.MapIndex(k))
		}
	}
}
