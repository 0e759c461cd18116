package traffic_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/recording"
	"runcrowd/internal/traffic"
)

func TestTopicsAreFolded(t *testing.T) {
	for name, c := range map[string]struct{ topics, patterns string }{
		"numbered devices":             {"harbour/buoy-1/state harbour/buoy-2/state harbour/buoy-10/state", "harbour/+/state"},
		"two readings":                 {"h/b1/state h/b1/light h/b2/state h/b2/light", "h/+/light h/+/state"},
		"a branch of its own":          {"h/b1/state h/b2/state h/status", "h/+/state h/status"},
		"places with the same below":   {"home/kitchen/temp home/bath/temp home/hall/temp", "home/+/temp"},
		"two are not many":             {"home/kitchen/temp home/bath/temp", "home/bath/temp home/kitchen/temp"},
		"names of values":              {"s/temp s/hum s/co2", "s/co2 s/hum s/temp"},
		"many leaves":                  {"s/a s/b s/c s/d s/e s/f s/g s/h s/i", "s/+"},
		"identifiers":                  {"t/9f8e/x t/01ab/x", "t/+/x"},
		"devices that differ in shape": {"h/b1/a h/b2/b h/b3/a", "h/+/a h/b2/b"},
		"one alone":                    {"a/b/c", "a/b/c"},
		"empty levels":                 {"/a //a", "//a /a"},
		"a topic that is a branch":     {"h/b1 h/b1/x h/b2 h/b2/x", "h/+ h/+/x"},
	} {
		x := &traffic.Traffic{}
		for _, topic := range strings.Fields(c.topics) {
			x.Add(&recording.Line{Topic: topic, Body: []byte("1")})
		}
		var got []string
		list := x.Patterns()
		topics := 0
		for _, p := range list {
			got = append(got, p.Filter)
			topics += p.Topics
		}
		assert.ElementsMatch(t, strings.Fields(c.patterns), got, name)
		assert.Equal(t, len(strings.Fields(c.topics)), topics, name)
	}
}

func TestWhatIsSummedUp(t *testing.T) {
	x, at := &traffic.Traffic{}, time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC)
	add := func(after time.Duration, topic, body string, qos byte, retained bool) {
		x.Add(&recording.Line{At: at.Add(after), Topic: topic, Body: []byte(body), QoS: qos, Retained: retained})
	}
	add(0, "h/b1/state", `{"a":1}`, 0, true)
	add(time.Second, "h/b1/state", `{"a":2, "b": 3}`, 1, false)
	add(2*time.Second, "h/b2/state", `on`, 2, false)
	add(3*time.Second, "h/b1/state", `{"a":4}`, 1, false)
	add(4*time.Second, "other", ``, 0, false)
	list := x.Patterns()
	require.Len(t, list, 2)
	p := list[0]
	assert.Equal(t, "h/+/state 2 4 1 0.75 31 2 15 2 JSON object, text h/b1/state {\"a\":4}", fmt.Sprint(p.Filter, " ", p.Topics, p.Messages, p.Retained,
		p.PerSecond, p.Bytes, p.Least, p.Most, p.QoS, " ", p.Forms, " ", p.Topic, " ", string(p.Value)))
	assert.True(t, p.Has("h/x/state") && !p.Has("h/x/light"))
	assert.Equal(t, 5, x.Messages)
	for n := range 30_000 {
		x.Add(&recording.Line{At: at, Topic: fmt.Sprint("many/", n, "/x"), Body: make([]byte, 5000)})
	}
	list = x.Patterns()
	assert.Equal(t, 30_005, x.Messages)
	assert.Equal(t, 30_005-x.Others, list[0].Messages+list[1].Messages+list[2].Messages)
	assert.Less(t, len(list[0].Value), 5000)
}

func TestForms(t *testing.T) {
	for body, form := range map[string]string{`{"a":1}`: "JSON object", ` [1] `: "JSON list", "12.5": "number", "true": "truth", `"on"`: "JSON text",
		"null": "JSON text", "on": "text", "a\nb": "text", "\x00\x01": "bytes", "\xff": "bytes", "": "nothing", "  ": "nothing", `{"a":1,"a":2}`: "text"} {
		assert.Equal(t, form, traffic.Form([]byte(body)), body)
	}
}
