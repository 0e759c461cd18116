package listen

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

// Messages without a mark are known by their values and order, when the round is over.
func TestMessagesWithoutMarks(t *testing.T) {
	const ear = `witnesses: {ear: {proves: received, subscribe: "#", wait: 10s, watch_copies: 1s}}`
	const named = `witnesses: {ear: {proves: received, subscribe: "#", device: .d, reading: .r, wait: 10s, watch_copies: 1s}}`
	body := func(bodies ...string) (list []message) {
		for _, b := range bodies {
			m := message{topic: "harbour/buoy-1", body: []byte(b)}
			if m.body, m.again = []byte(strings.TrimSuffix(b, "'")), strings.HasSuffix(b, "'"); b[0] == '~' {
				m.body, m.retained = m.body[1:], true
			}
			list = append(list, m)
		}
		return list
	}
	for name, c := range map[string]struct {
		witness string
		carried []string
		excused map[uint64]bool
		heard   []message
		late    string // comes after four seconds
		noted   string
		took    time.Duration
	}{
		"all, in order":  {carried: []string{`{"a":1}`, `{"a":2}`}, heard: body(`{"a":1}`, `{"a":2.0}`), noted: `1 {"a":1}|2 {"a":2.0}`, took: time.Second},
		"one is lost":    {carried: []string{`{"a":1}`, `{"a":2}`, `{"a":3}`}, heard: body(`{"a":1}`, `{"a":3}`), noted: `1 {"a":1}|3 {"a":3}`, took: 11 * time.Second},
		"one is changed": {carried: []string{`{"a":1}`, `{"a":2}`, `{"a":3}`}, heard: body(`{"a":1}`, `{"a":7}`, `{"a":3}`), noted: `1 {"a":1}|2 {"a":7}|3 {"a":3}`, took: 11 * time.Second},
		"one twice, and one late": {carried: []string{`{"a":1}`, `{"a":2}`, `{"a":3}`}, heard: body(`{"a":1}`, `{"a":1}`, `{"a":3}`), late: `{"a":2}`,
			noted: `1 {"a":1}|1 {"a":1}|3 {"a":3}|2 {"a":2}`, took: 5050 * time.Millisecond},
		"a stranger's, and one late": {carried: []string{`{"a":1}`, `{"a":2}`}, heard: body(`{"a":9}`, `{"a":1}`), late: `{"a":2}`,
			noted: `1 {"a":1}|2 {"a":2}`, took: 5050 * time.Millisecond},
		"one comes twice":   {carried: []string{`{"a":1}`, `{"a":2}`}, heard: body(`{"a":1}`, `{"a":1}`, `{"a":2}`), noted: `1 {"a":1}|1 {"a":1}|2 {"a":2}`, took: time.Second},
		"one again":         {carried: []string{`{"a":1}`, `{"a":2}`}, heard: body(`{"a":1}`, `{"a":1}'`, `{"a":2}`), noted: `1 {"a":1}|1 again {"a":1}|2 {"a":2}`, took: time.Second},
		"alike, as many":    {carried: []string{`{"a":1}`, `{"a":1}`}, heard: body(`{"a":1}`, `{"a":1}`), noted: `1 {"a":1}|2 {"a":1}`, took: time.Second},
		"alike, one less":   {carried: []string{`{"a":1}`, `{"a":1}`}, heard: body(`{"a":1}`), noted: `1 unsure {"a":1}|2 unsure {"a":1}`, took: 11 * time.Second},
		"it was there":      {carried: []string{`{"a":1}`, `{"a":2}`}, heard: body(`~{"a":1}`, `{"a":2}`), noted: `2 {"a":2}`, took: 11 * time.Second},
		"never sent":        {carried: []string{`{"a":1}`, `{"a":1}`, `{"a":2}`}, excused: map[uint64]bool{1: true}, heard: body(`{"a":1}`, `{"a":2}`), noted: `2 {"a":1}|3 {"a":2}`, took: time.Second},
		"what is no object": {carried: []string{`{"a":1}`}, heard: body(`7`, `no`, `{"a":1}`), noted: `1 {"a":1}`, took: time.Second},
		"named in it": {witness: named, carried: []string{`{"a":1}`, `{"a":2}`}, heard: []message{{topic: "x", body: []byte(`{"d":"buoy-1","r":"state","a":1}`)},
			{topic: "x", body: []byte(`{"d":"buoy-9","a":2}`)}, {topic: "x", body: []byte(`{"a":2}`)}, {topic: "x", body: []byte(`{"d":"buoy-2","a":2}`)}},
			noted: `1 {"a":1,"d":"buoy-1","r":"state"}`, took: 11 * time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			if c.witness == "" {
				c.witness = ear
			}
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				began := time.Now()
				w := witnesstest.New(t, dir, seaCrowd("none", `fields: {a: {signal: counter}}`, c.witness))
				e, err := newListener(w.Base)
				require.NoError(t, err)
				e.source = &fixed{answers: true}
				require.NoError(t, e.Start(t.Context()))
				for i, text := range c.carried {
					w.Catalog.Index.Add(0, uint64(i+1), []byte(text))
				}
				for _, m := range c.heard {
					m.at = time.Now()
					e.take(&m)
				}
				if c.late != "" {
					time.AfterFunc(4020*time.Millisecond, func() {
						e.take(&message{at: time.Now(), topic: "harbour/buoy-1", body: []byte(c.late)})
					})
				}
				assert.False(t, e.Any(), "nothing is known before")
				complete, why := e.Hear(t.Context(), hearing.Round{N: 1, Expect: witnesstest.Expect{Last: map[int]uint64{0: uint64(len(c.carried))}, Out: map[int]map[uint64]bool{0: c.excused}}})
				assert.True(t, complete, why)
				assert.Equal(t, c.took, time.Since(began))
				got := strings.ReplaceAll(strings.Join(w.Noted(), "|"), "buoy-1/state/", "")
				assert.Equal(t, c.noted, got)
				e.Stop()
			})
		})
	}
}

// Of a device's readings it is the one whose fields the message has, but where its topic or its
// own word tells the reading.
func TestWhichReadingWithoutAMark(t *testing.T) {
	const readings = `fields: {a: {signal: counter}}}, other: {every: 1s, topic: "harbour/TOPIC", qos: 1, fields: {b: {signal: counter}}`
	const named = `witnesses: {ear: {proves: received, subscribe: "#", device: .d, reading: .r, wait: 1s, watch_copies: 1s}}`
	const ear = `witnesses: {ear: {proves: received, subscribe: "#", wait: 1s, watch_copies: 1s}}`
	for name, c := range map[string]struct{ witness, topic, heard, on, noted string }{
		"by its fields":                 {named, "${device}", `{"d":"buoy-1","b":1}`, "x", `buoy-1/other/1 {"b":1,"d":"buoy-1"}`},
		"by its own word":               {named, "${device}", `{"d":"buoy-1","r":"other","b":1}`, "x", `buoy-1/other/1 {"b":1,"d":"buoy-1","r":"other"}`},
		"by its topic":                  {ear, "${device}/b", `{"b":1}`, "harbour/buoy-1/b", `buoy-1/other/1 {"b":1}`},
		"its topic is stronger":         {ear, "${device}/b", `{"b":1}`, "harbour/buoy-1", `buoy-1/state/1 {"b":1}`},
		"its own word is stronger":      {named, "${device}/b", `{"d":"buoy-1","r":"other","b":1}`, "harbour/buoy-1", `buoy-1/other/1 {"b":1,"d":"buoy-1","r":"other"}`},
		"the fields of neither":         {named, "${device}", `{"d":"buoy-1","c":1}`, "x", ``},
		"of another device, by its own": {named, "${device}/b", `{"d":"buoy-2","a":1}`, "x", ``},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := witnesstest.New(t, dir, seaCrowd("none", strings.Replace(readings, "TOPIC", c.topic, 1), c.witness))
				e, err := newListener(w.Base)
				require.NoError(t, err)
				e.source = &fixed{answers: true}
				require.NoError(t, e.Start(t.Context()))
				w.Catalog.Index.Add(0, 1, []byte(`{"a":1}`))
				w.Catalog.Index.Add(1, 1, []byte(`{"b":1}`))
				e.take(&message{at: time.Now(), topic: c.on, body: []byte(c.heard)})
				complete, why := e.Hear(t.Context(), hearing.Round{N: 1, Expect: witnesstest.Expect{Last: map[int]uint64{0: 1, 1: 1}}})
				assert.True(t, complete, why)
				assert.Equal(t, c.noted, strings.Join(w.Noted(), "|"))
				e.Stop()
			})
		})
	}
}

// What comes a round late is of the round before: surely where its values came there once. What is
// of this round is never taken for one of that.
func TestALateMessageWithoutAMark(t *testing.T) {
	for name, c := range map[string]struct {
		before, now []string
		heard       []string
		noted       string
	}{
		"once":                {[]string{`{"a":1}`, `{"a":2}`}, []string{`{"a":3}`}, []string{`{"a":2}`, `{"a":3}`}, `2 {"a":2}|3 {"a":3}`},
		"two of one value":    {[]string{`{"a":2}`, `{"a":2}`}, []string{`{"a":3}`}, []string{`{"a":2}`, `{"a":3}`}, `1 unsure {"a":2}|2 unsure {"a":2}|3 {"a":3}`},
		"of this one as well": {[]string{`{"a":1}`, `{"a":2}`}, []string{`{"a":2}`}, []string{`{"a":2}`}, `3 {"a":2}`},
		"heard there already": {[]string{`{"a":1}`, `{"a":2}`}, []string{`{"a":3}`}, []string{`{"a":2}`, `{"a":2}`, `{"a":3}`}, `2 {"a":2}|3 {"a":3}`},
		"of no round":         {[]string{`{"a":1}`}, []string{`{"a":2}`, `{"a":3}`}, []string{`{"a":7}`, `{"a":3}`}, `2 {"a":7}|3 {"a":3}`},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := witnesstest.New(t, dir, seaCrowd("none", `fields: {a: {signal: counter}}`,
					`witnesses: {ear: {proves: received, subscribe: "#", wait: 1s, watch_copies: 1s}}`))
				e, err := newListener(w.Base)
				require.NoError(t, err)
				e.source = &fixed{answers: true}
				require.NoError(t, e.Start(t.Context()))
				for i, text := range append(append([]string{}, c.before...), c.now...) {
					w.Catalog.Index.Add(0, uint64(i+1), []byte(text))
				}
				for _, text := range c.heard {
					e.take(&message{at: time.Now(), topic: "harbour/buoy-1", body: []byte(text)})
				}
				first, last := uint64(len(c.before)+1), uint64(len(c.before)+len(c.now))
				e.Hear(t.Context(), hearing.Round{N: 2, Expect: witnesstest.Expect{First: map[int]uint64{0: first}, Last: map[int]uint64{0: last}}})
				assert.Equal(t, c.noted, strings.ReplaceAll(strings.Join(w.Noted(), "|"), "buoy-1/state/", ""))
				e.Stop()
			})
		})
	}
}
