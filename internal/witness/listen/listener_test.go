package listen

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

// fixed is a source whose state is told.
type fixed struct {
	answers    bool
	last, down time.Time
	why        string
}

func (s *fixed) start(hearing.Context, *listener) error    { return nil }
func (s *fixed) fence(hearing.Context) bool                { return s.answers }
func (s *fixed) state() (last, down time.Time, why string) { return s.last, s.down, s.why }
func (s *fixed) lost() string                              { return "it was lost: " }
func (s *fixed) stop()                                     {}

func seaCrowd(mark, reading, witness string) string {
	return `
crowd: skerry-roads
links: {sea: {mqtt: "mqtt://127.0.0.1:1"}}
kinds: {buoy: {link: sea, mark: ` + mark + `, readings: {state: {every: 1s, topic: "harbour/${device}", qos: 1, ` + reading + `}}}}
devices: [{kind: buoy, count: 2, name: "buoy-${n}"}]
plan: {for: 10s}
` + witness
}

const plainReading = `fields: {a: 1}`

func TestWhatAListenerNotes(t *testing.T) {
	const ear = `witnesses: {ear: {proves: received, subscribe: "harbour/#"}}`
	const picks = `witnesses: {ear: {proves: received, subscribe: "out/#", mark: .m, device: .d, reading: .r, time: .t, values: .v}}`
	const bridge = `witnesses: {ear: {proves: received, subscribe: "out/#", topic: "out/${device}/${reading}"}}`
	const both = `witnesses: {ear: {proves: [received, alerts], subscribe: "harbour/#"}}
alerts: {low: {heard_by: ear, about: .d, match: .rule == "low", when: a < 1}}`
	const alarms = `witnesses: {ear: {proves: alerts, subscribe: "harbour/#"}}
alerts: {low: {heard_by: ear, about: .d, when: a < 1}}`
	property := func(mark string) func(string) (string, bool) {
		return func(name string) (string, bool) { return mark, name == "x-mark" }
	}
	field, timed := "{field: mark}", "{time: at}"
	for name, c := range map[string]struct {
		mark, reading, witness string
		messages               []message
		bodies                 []string
		noted                  []string
		corrupted              bool
		carried                []string
	}{
		"its own": {witness: ear, messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"mark":"«1»","a":1}`},
			noted: []string{`buoy-1/state/1 {"mark":"«1»","a":1}`}},
		"a mark that stands later": {witness: ear, messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"a":1,"mark":"«1»"}`},
			noted: []string{`buoy-1/state/1 {"a":1,"mark":"«1»"}`}},
		"a mark with an escape": {witness: ear, messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"\u006b` + witnesstest.Run[1:] + `/buoy-1/state/1"}`}, noted: []string{`buoy-1/state/1 {"mark":"«1»"}`}},
		"a topic of another": {witness: ear, messages: []message{{topic: "harbour/buoy-2"}}, bodies: []string{`{"mark":"«1»"}`},
			noted: []string{`buoy-1/state/1 at buoy-2/ {"mark":"«1»"}`}},
		"a topic of the first": {witness: ear, messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"mark":"«1.1»"}`},
			noted: []string{`buoy-2/state/1 at buoy-1/ {"mark":"«1.1»"}`}},
		"its mark in front, and a time": {witness: strings.Replace(ear, "subscribe", "time: .t, subscribe", 1), messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"«1»","t":"«@3s»"}`}, noted: []string{`buoy-1/state/1 stored 3s {"mark":"«1»","t":"«@3s»"}`}},
		"its mark in front, and values": {witness: strings.Replace(ear, "subscribe", "values: .v, subscribe", 1), messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"«1»","v":{"a":2}}`}, noted: []string{`buoy-1/state/1 {"a":2}`}},
		"its mark in front, and a device": {witness: strings.Replace(ear, "subscribe", "device: .d, subscribe", 1), messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"«1»","d":"buoy-2"}`}, noted: []string{`buoy-1/state/1 at buoy-2/ {"d":"buoy-2","mark":"«1»"}`}},
		"its mark in front, and a reading": {witness: strings.Replace(ear, "subscribe", "reading: .r, subscribe", 1), messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"«1»","r":"other"}`}, noted: []string{`buoy-1/state/1 at /other {"mark":"«1»","r":"other"}`}},
		"another's mark in front": {witness: strings.Replace(ear, "subscribe", "mark: .m, subscribe", 1), messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"«1»","m":"«2»"}`}, noted: []string{`buoy-1/state/2 {"m":"«2»","mark":"«1»"}`}},
		"a topic of none": {witness: ear, messages: []message{{topic: "harbour/x"}}, bodies: []string{`{"mark":"«1»"}`},
			noted: []string{`buoy-1/state/1 at topic harbour/x/ {"mark":"«1»"}`}},
		"of no device": {witness: ear, messages: []message{{topic: "harbour/x"}}, bodies: []string{`{"mark":"` + witnesstest.Run + `/tug/state/1"}`},
			noted: []string{`stray tug/state/1 {"mark":"` + witnesstest.Run + `/tug/state/1"}`}},
		"another run's, and none": {witness: ear, messages: []message{{topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1"}},
			bodies: []string{`{"mark":"otherrun/buoy-1/state/1"}`, `{"a":1}`}},
		"again, and perhaps": {witness: ear, messages: []message{{topic: "harbour/buoy-1", again: true}, {topic: "harbour/buoy-1", perhaps: true}},
			bodies: []string{`{"mark":"«1»"}`, `{"mark":"«2»"}`},
			noted:  []string{`buoy-1/state/1 again {"mark":"«1»"}`, `buoy-1/state/2 perhaps {"mark":"«2»"}`}},
		"a corrupted one": {witness: ear, corrupted: true, messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"mark":"«1»","a"`},
			noted: []string{`buoy-1/state/1 {"mark":"«1»","a"`}},
		"a corrupted one, its mark behind": {witness: ear, corrupted: true, messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"a":1,"mark":"«1»"`},
			noted: []string{`buoy-1/state/1 {"a":1,"mark":"«1»"`}},
		"what cannot be read": {witness: ear, messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"mark":"«1`}},
		"what is picked": {witness: picks, messages: []message{{topic: "out/1"}},
			bodies: []string{`{"m":"«1»","d":"buoy-2","r":"state","t":"«@3s»","v":{"a":1}}`}, noted: []string{`buoy-1/state/1 at buoy-2/ stored 3s {"a":1}`}},
		"what is picked, and is not there": {witness: picks, messages: []message{{topic: "out/1"}, {topic: "out/2"}},
			bodies: []string{`{"m":"«1»"}`, `no JSON «1»`}, noted: []string{`buoy-1/state/1 at topic out/1/ null`}},
		"out of a bridge": {witness: bridge, messages: []message{{topic: "out/buoy-1/state"}, {topic: "out/buoy-2/state"}},
			bodies: []string{`{"mark":"«1»"}`, `{"mark":"«2»"}`}, noted: []string{`buoy-1/state/1 {"mark":"«1»"}`, `buoy-1/state/2 at buoy-2/ {"mark":"«2»"}`}},
		"a property": {mark: "{user_property: x-mark}", witness: ear, messages: []message{{topic: "harbour/buoy-1", beside: property(witnesstest.Run + "/buoy-1/state/1")},
			{topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1", beside: func(string) (string, bool) { return "", false }}},
			bodies: []string{`{"a":1}`, `{"a":2}`, `{"a":3}`}, noted: []string{`buoy-1/state/1 {"a":1}`}},
		"a batch": {reading: `batch: 2, fields: {a: 1}`, witness: ear, messages: []message{{topic: "harbour/buoy-1"}},
			bodies: []string{`[{"mark":"«1»","a":1},{"mark":"«2»","a":2}]`}, noted: []string{`buoy-1/state/1 {"a":1}`, `buoy-1/state/2 {"a":2}`}},
		"an alert that quotes a message": {witness: both, messages: []message{{topic: "harbour/buoy-1"}, {topic: "harbour/x", perhaps: true}, {topic: "harbour/x", retained: true}},
			bodies: []string{`{"mark":"«1»"}`, `{"mark":"«1»","rule":"low","d":"buoy-1"}`, `{"mark":"«1»","rule":"low","d":"buoy-1"}`},
			noted:  []string{`buoy-1/state/1 {"mark":"«1»"}`, `low of buoy-1 perhaps {"d":"buoy-1","mark":"«1»","rule":"low"}`}},
		"alerts alone": {witness: alarms, messages: []message{{topic: "harbour/buoy-1", again: true}}, bodies: []string{`{"mark":"«1»","d":"buoy-1"}`},
			noted: []string{`low of buoy-1 perhaps {"d":"buoy-1","mark":"«1»"}`}},
		"by its time": {mark: timed, witness: ear, carried: []string{`{"at":"«@1s»","a":1}`, `{"at":"«@2s»","a":2}`},
			messages: []message{{topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1"}, {topic: "harbour/x"}, {topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1"}},
			bodies:   []string{`{"at":"«@2s»","a":2}`, `{"at":"«@9s»","a":2}`, `{"at":"«@1s»","a":1}`, `{"a":1}`, `7`},
			noted:    []string{`buoy-1/state/2 {"a":2,"at":"«@2s»"}`}},
		"by one time, and their values": {mark: timed, witness: ear, carried: []string{`{"at":"«@1s»","a":1}`, `{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`},
			messages: []message{{topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1", again: true}, {topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1"}},
			bodies:   []string{`{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":1}`},
			noted:    []string{`buoy-1/state/2 {"a":2,"at":"«@1s»"}`, `buoy-1/state/3 {"a":2,"at":"«@1s»"}`, `buoy-1/state/1 {"a":1,"at":"«@1s»"}`}},
		"by one time, and alike: one is missing": {mark: timed, witness: ear, carried: []string{`{"at":"«@1s»","a":1}`, `{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`},
			messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"at":"«@1s»","a":2}`},
			noted: []string{`buoy-1/state/2 unsure {"a":2,"at":"«@1s»"}`, `buoy-1/state/3 unsure {"a":2,"at":"«@1s»"}`}},
		"by one time, and alike: one came twice": {mark: timed, witness: ear, carried: []string{`{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`},
			messages: []message{{topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1"}},
			bodies:   []string{`{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`},
			noted: []string{`buoy-1/state/1 {"a":2,"at":"«@1s»"}`, `buoy-1/state/2 {"a":2,"at":"«@1s»"}`,
				`buoy-1/state/1 unsure {"a":2,"at":"«@1s»"}`, `buoy-1/state/2 unsure {"a":2,"at":"«@1s»"}`}},
		"by one time, and alike: one perhaps twice": {mark: timed, witness: ear, carried: []string{`{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`},
			messages: []message{{topic: "harbour/buoy-1"}, {topic: "harbour/buoy-1", perhaps: true}},
			bodies:   []string{`{"at":"«@1s»","a":2}`, `{"at":"«@1s»","a":2}`},
			noted:    []string{`buoy-1/state/1 unsure {"a":2,"at":"«@1s»"}`, `buoy-1/state/2 unsure {"a":2,"at":"«@1s»"}`}},
		"by one time, with values of none": {mark: timed, witness: ear, carried: []string{`{"at":"«@1s»","a":1}`, `{"at":"«@1s»","a":2}`},
			messages: []message{{topic: "harbour/buoy-1"}}, bodies: []string{`{"at":"«@1s»","a":7}`},
			noted: []string{`buoy-1/state/1 unsure {"a":7,"at":"«@1s»"}`, `buoy-1/state/2 unsure {"a":7,"at":"«@1s»"}`}},
		"by its time, where a device is named": {mark: timed, witness: `witnesses: {ear: {proves: received, subscribe: "out/#", device: .d, mark: .t, shift: 1h, cut: s}}`,
			carried: []string{`{"at":"«@1s»","a":1}`}, messages: []message{{topic: "out/1"}, {topic: "out/1"}, {topic: "out/1"}},
			bodies: []string{`{"d":"buoy-1","t":"«@3601s»","a":1}`, `{"d":"buoy-2","t":"«@3601s»","a":1}`, `{"d":"buoy-9","t":"«@3601s»","a":1}`},
			noted:  []string{`buoy-1/state/1 {"a":1,"d":"buoy-1","t":"«@3601s»"}`}},
	} {
		t.Run(name, func(t *testing.T) {
			if c.mark == "" {
				c.mark = field
			}
			if c.reading == "" {
				c.reading = plainReading
			}
			if c.mark == timed {
				c.reading = `fields: {at: {signal: clock}, a: 1}`
			}
			w := witnesstest.New(t, t.TempDir(), seaCrowd(c.mark, c.reading, c.witness))
			if c.corrupted {
				w.Catalog.Corrupted = func(stream int, seq uint64) bool { return stream == 0 && seq == 1 }
			}
			e, err := newListener(w.Base)
			require.NoError(t, err)
			for i, text := range c.carried {
				w.Catalog.Index.Add(0, uint64(i+1), []byte(w.Text(text)))
			}
			for i, m := range c.messages {
				m.at, m.body = time.Now(), []byte(w.Text(c.bodies[i]))
				e.take(&m)
			}
			e.separate(hearing.Round{Expect: witnesstest.Messages(3)})
			assert.Equal(t, w.Text(strings.Join(c.noted, "\n")), strings.Join(w.Noted(), "\n"))
		})
	}
}

// How a hearing ends.
func TestHowListeningEnds(t *testing.T) {
	const ear = `witnesses: {ear: {proves: received, subscribe: "harbour/#", wait: 10s, watch_copies: 1s}}`
	const alarms = `witnesses: {ear: {proves: [received, alerts], subscribe: "harbour/#", wait: 3s, watch_copies: 1s}}
alerts: {low: {heard_by: ear, about: .d, match: .rule == "low", when: a < 1, within: 1s}}`
	began := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		witness string
		source  fixed
		heard   []string
		after   time.Duration // that it comes
		expect  witnesstest.Expect
		why     string
		took    time.Duration
		gaps    []string
		carried []string // told apart by their time, else by a mark
		none    bool     // or by nothing
	}{
		"one of a time of none": {source: fixed{answers: true}, carried: []string{`{"at":"«@1s»","a":1}`}, heard: []string{`{"at":"«@9s»","a":1}`}, expect: witnesstest.Messages(1), took: 11 * time.Second},
		"one without its time":  {source: fixed{answers: true}, carried: []string{`{"at":"«@1s»","a":1}`}, heard: []string{`{"a":1}`}, expect: witnesstest.Messages(1), took: 11 * time.Second},
		"one of two alike":      {source: fixed{answers: true}, carried: []string{`{"at":"«@1s»","a":1}`, `{"at":"«@1s»","a":1}`}, heard: []string{`{"at":"«@1s»","a":1}`}, expect: witnesstest.Messages(2), took: 11 * time.Second},
		"one with other values": {source: fixed{answers: true}, carried: []string{`{"at":"«@1s»","a":1}`, `{"at":"«@1s»","a":2}`}, heard: []string{`{"at":"«@1s»","a":7}`}, expect: witnesstest.Messages(2), took: 11 * time.Second},
		"no object, by time":    {source: fixed{answers: true}, carried: []string{`{"at":"«@1s»","a":1}`}, heard: []string{`7`}, expect: witnesstest.Messages(1), took: 11 * time.Second},
		"one without a mark":    {source: fixed{answers: true}, none: true, carried: []string{`{"a":1}`}, heard: []string{`{"a":7}`}, expect: witnesstest.Messages(1), took: 11 * time.Second},
		"all came":              {source: fixed{answers: true}, heard: []string{`{"mark":"«1»"}`}, expect: witnesstest.Messages(1), took: time.Second},
		"it comes late":         {source: fixed{answers: true}, heard: []string{`{"mark":"«1»"}`}, after: 5020 * time.Millisecond, expect: witnesstest.Messages(1), took: 6050 * time.Millisecond},
		"it does not come":      {source: fixed{answers: true}, expect: witnesstest.Messages(1), took: 11 * time.Second},
		"nothing is due":        {source: fixed{answers: true}, took: time.Second},
		"it calls":              {witness: alarms, source: fixed{answers: true}, expect: witnesstest.Expect{Alarm: true}, took: 4 * time.Second},
		"it does not call":      {witness: alarms, source: fixed{answers: true}, took: time.Second},
		"a nameless alert":      {witness: alarms, source: fixed{answers: true}, heard: []string{`{"rule":"low"}`}, took: time.Second, why: `1 came for the alert "low", but in none of them about: .d gives the name of a device; the first was {"rule":"low"}`},
		"no answer":             {source: fixed{last: began.Add(300 * time.Millisecond)}, took: time.Second, why: "the platform no longer answers the witness; it was heard last at 00:00:00.300", gaps: []string{"gap 300ms to the end the platform no longer answers the witness"}},
		"it is down":            {source: fixed{answers: true, down: began.Add(time.Second), why: "it broke"}, took: time.Second, why: "it was lost: it broke", gaps: []string{"gap 1s to the end it broke"}},
		"no marks":              {source: fixed{answers: true}, heard: []string{`{"a":1}`, `{"a":2}`}, expect: witnesstest.Messages(1), took: 11 * time.Second, why: `messages came (2), but none carried a mark; the first was “harbour/buoy-1 {"a":1}”`},
		"marks of others":       {source: fixed{answers: true}, heard: []string{`{"a":1}`, `{"mark":"otherrun/buoy-1/state/1"}`}, expect: witnesstest.Messages(1), took: 11 * time.Second},
		"marks of some":         {source: fixed{answers: true}, heard: []string{`{"a":1}`, `{"mark":"«1»"}`}, expect: witnesstest.Messages(2), took: 11 * time.Second},
		"shared":                {witness: strings.Replace(ear, "harbour/#", "$share/x/harbour/#", 1), source: fixed{answers: true}, expect: witnesstest.Messages(1), took: 11 * time.Second, why: "a shared subscription ($share) hears only its share, and nothing where the broker does not know it (MQTT 3.1.1 has none); subscribe without $share"},
		"shared, all came":      {witness: strings.Replace(ear, "harbour/#", "$share/x/harbour/#", 1), source: fixed{answers: true}, heard: []string{`{"mark":"«1»"}`}, expect: witnesstest.Messages(1), took: time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			if c.witness == "" {
				c.witness = ear
			}
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				mark, reading := "{field: mark}", plainReading
				switch {
				case c.none:
					mark, reading = "none", `fields: {a: {signal: counter}}`
				case c.carried != nil:
					mark, reading = "{time: at}", `fields: {at: {signal: clock}, a: 1}`
				}
				w := witnesstest.New(t, dir, seaCrowd(mark, reading, c.witness))
				e, err := newListener(w.Base)
				require.NoError(t, err)
				e.source = &c.source
				for i, text := range c.carried {
					w.Catalog.Index.Add(0, uint64(i+1), []byte(w.Text(text)))
				}
				require.NoError(t, e.Start(t.Context()))
				say := func() {
					for _, body := range c.heard {
						e.take(&message{at: time.Now(), topic: "harbour/buoy-1", body: []byte(w.Text(body))})
					}
				}
				if c.after == 0 {
					say()
				} else {
					time.AfterFunc(c.after, say)
				}
				complete, why := e.Hear(t.Context(), hearing.Round{N: 1, Expect: c.expect})
				assert.Equal(t, c.why, why)
				assert.Equal(t, c.why == "", complete)
				assert.Equal(t, c.took, time.Since(began))
				e.Stop()
				var gaps []string
				for _, line := range w.Noted() {
					if strings.HasPrefix(line, "gap ") {
						gaps = append(gaps, line)
					}
				}
				assert.Equal(t, c.gaps, gaps)
			})
		})
	}
}

// What cuts a hearing short, and what a source remarks.
func TestAListenersRemarks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := witnesstest.New(t, t.TempDir(), seaCrowd("{field: mark}", plainReading, `witnesses: {ear: {proves: received, subscribe: "harbour/#"}}`))
		var told []string
		w.Catalog.Tell = func(text string) { told = append(told, text) }
		e, err := newListener(w.Base)
		require.NoError(t, err)
		e.source = &fixed{answers: true}
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		complete, why := e.Hear(ctx, hearing.Round{N: 1, Expect: witnesstest.Messages(1)})
		assert.False(t, complete)
		assert.Equal(t, "the hearing was cut short", why)
		e.remark("it is odd")
		assert.Equal(t, []string{"it is odd"}, told)
		assert.Equal(t, []string{"remark it is odd"}, w.Noted())
	})
	w := witnesstest.New(t, t.TempDir(), seaCrowd("{field: mark}", plainReading, `witnesses: {ear: {proves: received, subscribe: "harbour/#"}}`))
	w.Page = nil // of listen and record, which write no ledger
	e, err := newListener(w.Base)
	require.NoError(t, err)
	e.remark("it is odd")
	e.gap(&ledger.Gap{})
}

// What listen shows of a message: whose it is, by its mark or its topic.
func TestWhoseAMessageIs(t *testing.T) {
	for name, c := range map[string]struct {
		mark, witness, topic, body string
		is                         string
	}{
		"by its mark":                 {"{field: mark}", "", "harbour/buoy-2", `{"mark":"«1»","a":1}`, `buoy-1 state 1 {"a":1}`},
		"by its topic":                {"{field: mark}", "", "harbour/buoy-2", `{"a":1}`, `buoy-2 state - {"a":1}`},
		"of another run":              {"{field: mark}", "", "harbour/x", `{"mark":"otherrun/tug/place/7"}`, `tug place 7 {}`},
		"of nobody":                   {"{field: mark}", "", "harbour/x", `{"a":1}`, `  - {"a":1}`},
		"no JSON":                     {"{field: mark}", "", "harbour/buoy-1", `oh`, `buoy-1 state - `},
		"a list":                      {"{field: mark}", "", "harbour/buoy-1", `[1]`, `buoy-1 state - [1]`},
		"a number":                    {"{sequence: n}", "", "harbour/buoy-1", `{"n":21}`, `buoy-1 state 10 {}`},
		"a number of nobody":          {"{sequence: n}", "", "harbour/x", `{"n":21}`, `  - {}`},
		"no number":                   {"{sequence: n}", "", "harbour/buoy-1", `{"n":0}`, `buoy-1 state - {}`},
		"what it names":               {"{field: mark}", `, device: .d, values: .v`, "harbour/x", `{"d":"B7","v":{"a":1}}`, `B7  - {"a":1}`},
		"what it names, and its mark": {"{field: mark}", `, device: .d`, "harbour/x", `{"mark":"«1»","d":"B7"}`, `buoy-1 state 1 {"d":"B7"}`},
		"values of no object":         {"{field: mark}", `, values: ".v[0]"`, "harbour/x", `{"v":7}`, `  - {"v":7}`},
	} {
		t.Run(name, func(t *testing.T) {
			w := witnesstest.New(t, t.TempDir(), seaCrowd(c.mark, plainReading, `witnesses: {ear: {proves: received, subscribe: "harbour/#"`+c.witness+`}}`))
			e, err := newListener(w.Base)
			require.NoError(t, err)
			var got []Overheard
			e.tap = func(o Overheard) { got = append(got, o) }
			e.take(&message{topic: c.topic, body: []byte(w.Text(c.body)), qos: 1, retained: true, kind: "text/plain"})
			require.Len(t, got, 1)
			o, seq := got[0], "-"
			if o.Mark != nil {
				seq = o.Mark.String()[strings.LastIndexByte(o.Mark.String(), '/')+1:]
			}
			assert.Equal(t, c.is, o.Device+" "+o.Reading+" "+seq+" "+string(o.Values))
			assert.Equal(t, []any{"ear", c.topic, byte(1), true, "text/plain", w.Text(c.body)}, []any{o.Witness, o.Topic, o.QoS, o.Retained, o.Kind, string(o.Body)})
		})
	}
	w := witnesstest.New(t, t.TempDir(), seaCrowd("{field: mark}", plainReading, `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/${device}", rows: ".[]"}}`))
	_, err := To(t.Context(), 0, w.Fleet, w.Fleet.Crowd.Witnesses[0], nil)
	assert.EqualError(t, err, "it asks, and does not listen")
}

func TestTheFirstMember(t *testing.T) {
	for body, is := range map[string]string{
		`{"m":"x","a":1}`: "x", `{"m":""}`: "", `{"m":"x"`: "x", `{ "m":"x"}`: "-", `{"mm":"x"}`: "-", `{"m":7}`: "-", `{"m":"x`: "-",
		`{"m":"\"x"}`: "-", `{"m":"x\n"}`: "-", ``: "-", `{"m"`: "-",
	} {
		got, ok := firstText([]byte(body), "m")
		if !ok {
			got = "-"
		}
		assert.Equal(t, is, got, body)
	}
}
