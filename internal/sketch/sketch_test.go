package sketch_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/sketch"
)

func TestFields(t *testing.T) {
	for text, want := range map[string]string{
		"temp=20..25":     "temp: {signal: walk, low: 20, high: 25, step: 0.25, round: 2}",
		"t=-1.5..1000":    "t: {signal: walk, low: -1.5, high: 1000, step: 50.1, round: 1}",
		"t=0..1000":       "t: {signal: walk, low: 0, high: 1000, step: 50, round: 0}",
		"t=0..0.001":      "t: {signal: walk, low: 0, high: 0.001, step: 5e-05, round: 5}",
		"lamp=on, off":    `lamp: {signal: choice, of: ["on", "off"]}`,
		"n=1,2":           "n: {signal: choice, of: [1, 2]}",
		"n=5":             "n: 5",
		"ok=true":         "ok: true",
		`site=a "b": {c}`: `site: "a \"b\": {c}"`,
		"deep.er=x":       `deep.er: "x"`,
		"":                "no field",
		"temp":            "no field",
		"=5":              "no field",
		"a b=5":           "no field",
		"temp=":           "no field",
		"temp=5..1":       "temp: 5 is not below 1",
		"temp=cold..warm": "is no range of numbers; write, for example, temp=20..25",
		"temp=1..2..3":    "is no range of numbers",
	} {
		line, err := sketch.Field(text)
		if err != nil {
			assert.ErrorContains(t, err, want, text)
			continue
		}
		assert.Equal(t, want, line)
	}
}

// What is sketched is a crowd file that can be read, whatever is said.
func TestCrowds(t *testing.T) {
	for name, c := range map[string]struct {
		o   sketch.Options
		has []string // lines that stand in it
		err string
	}{
		"a broker": {sketch.Options{Address: "mqtt://127.0.0.1"}, []string{`mqtt: "mqtt://127.0.0.1"`, `topic: "runcrowd/${device}/state"`,
			`subscribe: "runcrowd/+/state"`, "value: {signal: walk, low: 0, high: 100"}, ""},
		"a topic": {sketch.Options{Address: "mqtt://h:1", Target: "a/+/b/${device}/{device}", QoS: 2}, []string{`topic: "a/${device}/b/${device}/${device}"`, "qos: 2",
			`subscribe: "a/+/b/+/+"`}, ""},
		"a topic of none":              {sketch.Options{Address: "mqtt://h:1", Target: "a/b"}, []string{`topic: "a/b"`, `subscribe: "a/b"`}, ""},
		"an intake":                    {sketch.Options{Address: "http://h/in/{device}?x=1"}, []string{`http: "http://h"`, `path: "/in/${device}?x=1"`}, ""},
		"a path":                       {sketch.Options{Address: "https://h:8443", Target: "in/+"}, []string{`path: "/in/+"`}, ""},
		"a file of rows":               {sketch.Options{Address: "http://h/in", ReadBack: "http://h/rows", Rows: `.x[] | select(.a != "it's")`}, []string{`rows: '.x[] | select(.a != "it''s")'`, "device: "}, ""},
		"credentials":                  {sketch.Options{Address: "mqtt://h", User: "{device}", Password: "PW", Watcher: "watch", Watch: "WPW"}, []string{`username: "${device}"`, `password: "${env.PW}"`, `username: "watch"`, `password: "${env.WPW}"`}, ""},
		"credentials of devices alone": {sketch.Options{Address: "mqtt://h", User: "{device}", Password: "PW"}, []string{`username: "${device}"`}, ""},
		"authorities":                  {sketch.Options{Address: "mqtts://h", CA: "ca.pem"}, []string{`tls: {ca: "ca.pem"}`}, ""},
		"a header":                     {sketch.Options{Address: "http://h/in", Headers: []string{"X-A: b: c"}}, []string{`"X-A": "b: c"`}, ""},
		"a secret":                     {sketch.Options{Address: "http://h/in", Headers: []string{"Cookie: abc"}}, nil, "the header Cookie holds a secret"},
		"no header":                    {sketch.Options{Address: "http://h/in", Headers: []string{"X-A"}}, nil, "is no header"},
		"a header of a broker":         {sketch.Options{Address: "mqtt://h", Headers: []string{"X: a"}}, nil, "headers go with HTTP"},
		"two paths":                    {sketch.Options{Address: "http://h/in", Target: "/x"}, nil, "the address has a path already (/in)"},
		"a path at a broker":           {sketch.Options{Address: "mqtt://h/x"}, nil, "an MQTT address has no path"},
		"no scheme":                    {sketch.Options{Address: "h:1883"}, nil, "is no address"},
		"an odd one":                   {sketch.Options{Address: "http://%zz"}, nil, "is no address"},
		"too often":                    {sketch.Options{Address: "mqtt://h", QoS: 3}, nil, "qos: 3 is outside 0 to 2"},
	} {
		t.Run(name, func(t *testing.T) {
			c.o.Name, c.o.Devices, c.o.Every, c.o.For = "harbour", 12, "1s", "10s"
			text, err := sketch.Crowd(c.o)
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err, text)
			for _, line := range c.has {
				assert.Contains(t, text, line)
			}
			_, err = file.Parse("x", []byte(text), file.Sources{OnlyRead: true})
			assert.NoError(t, err, text)
			assert.False(t, strings.Contains(text, "{device}") && !strings.Contains(text, "${device}"))
		})
	}
}

func FuzzField(f *testing.F) {
	f.Add("temp=20..25")
	f.Add("lamp=on,off")
	f.Add("a=\x00é\"")
	f.Fuzz(func(t *testing.T, field string) {
		if _, err := sketch.Field(field); err != nil {
			return
		}
		text, err := sketch.Crowd(sketch.Options{Name: "x", Address: "mqtt://h", Devices: 1, Every: "1s", For: "1s", Fields: []string{field}})
		if err != nil && !strings.Contains(err.Error(), "field") && !strings.Contains(err.Error(), "mistake") {
			t.Fatalf("%v\n%s", err, text)
		}
	})
}
