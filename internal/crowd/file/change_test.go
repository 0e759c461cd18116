package file

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// A change puts one value in and leaves all others, comments and forms as they are.
func TestChange(t *testing.T) {
	const source = "# head\ncrowd: a # name\nplan: {for: 1m}\nlist:\n- {kind: buoy, name: x.y, n: 1}\n- {kind: buoy, n: 2}\n" +
		"text: |\n  two\n  lines\nbase: &b {q: 1}\nuse: *b\nmore: {<<: *b}\none: [{a: 1}]\na.b: {c: 1}\n"
	for name, c := range map[string]struct {
		change   string
		old, new string // of the text
		err      string
	}{
		"a value":               {change: "plan.for=3s", old: "for: 1m", new: "for: 3s"},
		"its comment stays":     {change: "crowd=b", old: "crowd: a # name", new: "crowd: b # name"},
		"a new key":             {change: "plan.join={x: [1, 2]}", old: "{for: 1m}", new: "{for: 1m, join: {x: [1, 2]}}"},
		"an entry by name":      {change: "list.x.y.n=5", old: "n: 1", new: "n: 5"},
		"an entry by number":    {change: "list.2.n=5", old: "n: 2", new: "n: 5"},
		"the only entry":        {change: "one.a=2", old: "a: 1}]", new: "a: 2}]"},
		"a key with a dot":      {change: "a.b.c=2", old: "{c: 1}", new: "{c: 2}"},
		"a sign of equality":    {change: "crowd=x=y", old: "a # name", new: "x=y # name"},
		"lines become one":      {change: "text=\"two\\n\"", old: "text: |\n  two\n  lines", new: `text: "two\n"`},
		"over what is merged":   {change: "more.q=2", old: "{<<: *b}", new: "{<<: *b, q: 2}"},
		"two entries of a kind": {change: "list.buoy.n=5", err: `list.buoy.n: "buoy" is several entries of the list; name one by its number, from 1`},
		"no such entry":         {change: "list.3.n=5", err: `list.3.n: there is no "3"; name an entry of the list: buoy, 2`},
		"no such key":           {change: "plan.events.a=5", err: `plan.events.a: there is no "events"; there is: for`},
		"below a value":         {change: "crowd.a=5", err: `crowd.a: there is no "a": what should have it is "a"`},
		"below several places":  {change: "use.q=5", err: `use.q: use stands at several places of the file (*b); change it there`},
		"at several places":     {change: "base=5", err: `base: base stands at several places of the file; change it there`},
		"another's place":       {change: "use=5", err: `use: use stands at several places of the file; change it there`},
		"no value":              {change: "plan", err: `plan: write KEY=VALUE, such as plan.for=30s`},
		"no key":                {change: "=5", err: `: write KEY=VALUE, such as plan.for=30s`},
		"an empty value":        {change: "plan.for=", err: `plan.for: the value is not YAML on one line, such as 30s, [a, b] or {low: 1, high: 2}`},
		"two lines":             {change: "plan.for=a\nb", err: `plan.for: the value is not YAML on one line, such as 30s, [a, b] or {low: 1, high: 2}`},
		"a key of two lines":    {change: "a\nb.c=5", err: `a\nb.c: there is no "a\nb"; there is: crowd, plan, list, text, base, use, more, one, a.b`},
		"an empty key":          {change: "plan.=1", err: `plan.: write KEY=VALUE, such as plan.for=30s`},
	} {
		t.Run(name, func(t *testing.T) {
			plain, err := Change("x", []byte(source), nil)
			require.NoError(t, err)
			changed, err := Change("x", []byte(source), []string{c.change})
			if c.err != "" {
				require.EqualError(t, err, "--set "+c.err)
				return
			}
			require.NoError(t, err)
			_, before, _ := strings.Cut(string(plain), "\n")
			head, after, _ := strings.Cut(string(changed), "\n")
			key, _, _ := strings.Cut(c.change, "=")
			assert.Equal(t, "# Changed for this run: "+key+".", head)
			require.Equal(t, 1, strings.Count(before, c.old), before)
			assert.Equal(t, strings.Replace(before, c.old, c.new, 1), after)
		})
	}
}

// A platform that is elsewhere is elsewhere for all that asks it.
func TestAddress(t *testing.T) {
	const links = "links: {sea: {mqtt: mqtt://a:1}, shore: {http: \"http://${env.H}/\"}}\n"
	const both = links + "w:\n- http://${env.H}/x?from=http://${env.H}/y\n- http://${env.H}1/x\n- mqtt://a:11\n"
	for address, want := range map[string]string{
		"https://b/":     "links: {sea: {mqtt: mqtt://a:1}, shore: {http: \"https://b/\"}}\nw:\n- https://b/x?from=http://${env.H}/y\n- http://${env.H}1/x\n- mqtt://a:11\n",
		"wss://b:2/mqtt": strings.Replace(both, "mqtt://a:1}", "wss://b:2/mqtt}", 1),
	} {
		changed, err := Change("x", []byte(both), []string{"address=" + address})
		require.NoError(t, err)
		var got, meant any
		require.NoError(t, yaml.Load(changed, &got))
		require.NoError(t, yaml.Load([]byte(want), &meant))
		assert.Equal(t, meant, got, "%s", changed)
	}
	for source, want := range map[string]string{
		"links: {a: {mqtt: mqtt://a}, b: {mqtt: mqtt://b}}": "there are several links over MQTT (a, b); write --set links.a.mqtt=ADDRESS",
		"links: {a: {http: http://a}}":                      "no link of this file is over MQTT",
		"crowd: a":                                          "no link of this file is over MQTT",
	} {
		_, err := Change("x", []byte(source), []string{"address=mqtt://c"})
		require.EqualError(t, err, "--address: "+want)
	}
	for _, address := range []string{"", "b:1883", "coap://b", "mqtt://", "mqtt://a b"} {
		_, err := Change("x", []byte(links), []string{"address=" + address})
		require.ErrorContains(t, err, "write an address with its protocol")
	}
}

// Whatever is changed: the text reads, and a value that was put in stands there.
func FuzzChange(f *testing.F) {
	f.Add("crowd: a\nplan: {for: 1m}\n", "plan.for=3s")
	f.Add("a: [{kind: b, n: 1}, {name: c}]\n# end", "a.c.x={y: [z]}")
	f.Add("a: &b {q: 1}\nc: *b\nd: {<<: *b}", "d.q=2")
	f.Fuzz(func(t *testing.T, source, change string) {
		changed, err := Change("x", []byte(source), []string{change})
		if err != nil {
			return
		}
		var before, after, value any
		require.NoError(t, yaml.Load([]byte(source), &before))
		require.NoError(t, yaml.Load(changed, &after), "%s", changed)
		_, text, _ := strings.Cut(change, "=")
		require.NoError(t, yaml.Load([]byte(text), &value))
		again, err := Change("x", changed, []string{change})
		require.NoError(t, err, "%s", changed)
		var twice any
		require.NoError(t, yaml.Load(again, &twice))
		assert.Equal(t, after, twice)
	})
}
