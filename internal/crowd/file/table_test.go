package file

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/quantity"
)

// places says for each mapping where it stands: a crowd file in which KEY is where one
// more key can be put. A * in a name stands for all mappings that begin so.
var places = map[string]string{
	"crowd file": "KEY\ncrowd: c\nlinks: {sea: {mqtt: \"mqtt://h\"}}\nkinds: {buoy: {readings: {state: {every: " +
		"1s, topic: t, fields: {a: 1}}}}}\ndevices: [{kind: buoy, name: b}]\nplan: {for: 1s}\n",
	"link":         inMQTT("links", "KEY"),
	"link HTTP":    inHTTP("KEY", ""),
	"tls":          strings.Replace(inMQTT("links", "tls: {KEY}"), "mqtt://", "mqtts://", 1),
	"access_token": inMQTT("links", `access_token: {KEY, text: "x"}`),
	"jwt":          inMQTT("links", `access_token: {jwt: {KEY, algorithm: HS256, secret: abcdef}}`),
	"oauth": inMQTT("links",
		`access_token: {oauth: {KEY, url: "http://h", client_id: c, client_secret: secret-1}}`),
	"presence":       inMQTT("kind", "presence: {KEY, sleeps: true}"),
	"sleep":          inMQTT("kind", "presence: {sleeps: {KEY}}"),
	"kind":           inMQTT("kind", "KEY"),
	"drawn property": inMQTT("kind", "properties: {p: {KEY, uniform: 1 to 2}}"),
	"normal":         inMQTT("kind", "properties: {p: {normal: {KEY, mean: 1, spread: 1}}}"),
	"sequence":       inMQTT("kind", "properties: {p: {sequence: {KEY}}}"),
	"reading":        inMQTT("reading", "KEY"),
	"reading HTTP":   inHTTP("", "KEY"),
	"field":          inMQTT("fields", "f: {signal: swell, KEY}"),
	"stuck":          inMQTT("fields", "f: {signal: swell, stuck: {KEY, chance: 1%, for: 1s}}"),
	"spike":          inMQTT("fields", "f: {signal: swell, spike: {KEY, chance: 1%, by: 1}}"),
	"drop":           inMQTT("fields", "f: {signal: swell, drop: {KEY, chance: 1%}}"),
	"payload *":      inMQTT("reading", "payload: {form: FORM, KEY}"),
	"payload bytes": inMQTT("reading", "payload: {form: bytes, layout: [{field: mark, as: text, width: 60}, "+
		"{field: a, as: i16}], KEY}"),
	"payload protobuf": inMQTT("reading", "payload: {form: protobuf, descriptors: d.binpb, message: m, KEY}"),
	"slot": inMQTT("reading", "payload: {form: bytes, layout: [{field: mark, as: text, width: 60}, {KEY, "+
		"field: a, as: text, width: 8}]}"),
	"bits": inMQTT("reading", "payload: {form: bytes, layout: [{field: mark, as: text, width: 60}, "+
		"{bits: [{KEY, field: a, width: 8}]}]}"),
	"will":             inMQTT("kind", "will: {KEY, topic: t, body: b}"),
	"command":          inMQTT("kind", "commands: {go: {KEY, topic: t}}"),
	"command HTTP":     inHTTP("", "", "commands: {go: {KEY, path: /p}}"),
	"do":               inMQTT("plan", "events: [{at: 10ms, do: {KEY}}]"),
	"reply":            inMQTT("kind", "commands: {go: {topic: t, reply: {KEY}}}"),
	"reply HTTP":       inHTTP("", "", "commands: {go: {path: /p, reply: {KEY, path: /a}}}"),
	"wrong":            inMQTT("kind", "commands: {go: {topic: t, reply: {wrong: {KEY, chance: 1%, body: b}}}}"),
	"read_reply":       inMQTT("kind", "commands: {go: {topic: t, read_reply: {KEY, get: \"http://h\"}}}"),
	"request":          inMQTT("kind", "commands: {go: {topic: t, request: {KEY, url: \"http://h\"}}}"),
	"group":            inMQTT("group", "KEY"),
	"recording":        inMQTT("group", "recording: {KEY, file: w.jsonl}"),
	"change":           inMQTT("change", "- {KEY, who: all, tags: [x]}"),
	"register":         inMQTT("root", "register: {KEY, request: {url: \"http://h/d\"}}"),
	"register request": inMQTT("root", "register: {request: {KEY, url: \"http://h\"}}"),
	"saved value":      inMQTT("root", "register: {request: {url: \"http://h\", save: {id: {KEY, take: .id}}}}"),
	"names":            inMQTT("root", "register: {request: {url: \"http://h\"}, names: {KEY}}"),
	"list":             inMQTT("root", "register: {request: {url: \"http://h\"}, list: {KEY, get: \"http://h\", names: .}}"),
	"plan":             inMQTT("plan", "KEY"),
	"event":            inMQTT("plan", "events: [{KEY, at: 10ms, do: restart}]"),
	"offline":          inMQTT("plan", "events: [{at: 10ms, do: {offline: {KEY}}}]"),
	"restart":          inMQTT("plan", "events: [{at: 10ms, do: {restart: {KEY}}}]"),
	"clock":            inMQTT("plan", "events: [{at: 10ms, do: {clock: {KEY, off: 1s}}}]"),
	"network":          inMQTT("plan", "events: [{at: 10ms, do: {network: {KEY, delay: 1s}}}]"),
	"corrupt":          inMQTT("plan", "events: [{at: 10ms, expect: discarded, do: {corrupt: {KEY, how: cut off}}}]"),
	"given command":    inMQTT("plan", "events: [{at: 10ms, do: {command: {KEY, name: go}}}]"),
	"rounds":           inMQTT("plan", "rounds: {KEY, count: 2}"),
	"mark":             inMQTT("root", "mark: {KEY}"),
	"witness":          inMQTT("root", "witnesses: {w: {KEY, proves: received, subscribe: t}}"),
	"witness HTTP":     inMQTT("root", "witnesses: {w: {KEY, proves: stored, get: \"http://h/${device}\", rows: .}}"),
	"witness callback": inMQTT("root", "witnesses: {w: {KEY, proves: received, callback: \"https://127.0.0.1:9\", "+
		"cert: c.pem, key: k.pem}}"),
	"time of a row": inMQTT("root", "witnesses: {w: {proves: stored, get: \"http://h/${device}\", rows: ., time: "+
		"{KEY, at: .t}}}"),
	"respond": inMQTT("root", "witnesses: {w: {proves: received, callback: \"http://127.0.0.1:9\", respond: {KEY}}}"),
	"alert": inMQTT("root", "witnesses: {w: {proves: alerts, subscribe: t}}\nalerts: {n: {KEY, heard_by: "+
		"w, about: ., when: a < 1}}"),
	"field rule": inMQTT("root", "witnesses: {w: {proves: received, subscribe: t, fields: {a: {KEY}}}}"),
	"require": inMQTT("root", "witnesses: {w: {proves: received, subscribe: t}, v: {proves: stored, get: "+
		"\"http://h/${device}\", rows: ., time: .}, x: {proves: alerts, subscribe: t}, y: {proves: counts, get: "+
		"\"http://h/n\", rows: .}}\nalerts: {n: {heard_by: x, about: ., when: a < 1}}\nrequire: {KEY}"),
	"required of a round": inMQTT("root", "witnesses: {w: {proves: received, subscribe: t}, v: {proves: stored, get: "+
		"\"http://h/${device}\", rows: ., time: .}}\nrequire: {rounds: {each: {KEY}}}"),
}

func inMQTT(where, what string) string {
	at := map[string]string{"links": "", "kind": "", "reading": "", "fields": "", "group": "", "change": "", "root": "",
		"plan": ""}
	at[where] = what
	sep := func(name string) string {
		if at[name] == "" {
			return ""
		}
		return ", " + at[name]
	}
	return "crowd: c\nlinks: {sea: {mqtt: \"mqtt://h\"" + sep("links") + "}}\nkinds:\n  buoy: {readings: {state: " +
		"{every: 1s, topic: t, fields: {a: 1" + sep("fields") + "}" + sep("reading") + "}}" + sep("kind") +
		"}\ndevices:\n  - {kind: buoy" + sep("group") + "}\n  " + at["change"] + "\n" + at["root"] + "\nplan: {for: 1s" +
		sep("plan") + "}\n"
}

func inHTTP(link, reading string, kind ...string) string {
	sep := func(s string) string {
		if s == "" {
			return ""
		}
		return ", " + s
	}
	return "crowd: c\nlinks: {shore: {http: \"http://h\"" + sep(link) + "}}\nkinds: {gauge: {readings: {level: {every: " +
		"1s, path: /p, fields: {a: 1}" + sep(reading) + "}}" + sep(strings.Join(kind, "")) +
		"}}\ndevices: [{kind: gauge}]\nplan: {for: 1s}\n"
}

// place is where a key of a mapping can be put.
func place(m *mapping, k *key) string {
	if form, is := strings.CutPrefix(m.name, "payload "); is && places[m.name] == "" {
		return strings.Replace(places["payload *"], "FORM", form, 1)
	}
	if m == kindMap && k.name == "readings" {
		return "crowd: c\nlinks: {sea: {mqtt: \"mqtt://h\"}}\nkinds: {buoy: {KEY}}\ndevices: [{kind: buoy}]\nplan: {for: " +
			"1s}\n"
	}
	if m == witnessMap && slices.Contains([]string{"callback", "require_headers", "respond", "cert", "key"}, k.name) {
		return places["witness callback"]
	}
	if k.goes == "HTTP" && places[m.name+" HTTP"] != "" {
		return places[m.name+" HTTP"]
	}
	return places[m.name]
}

// with puts a key with a value in its place, instead of the one that stands there.
func with(t *testing.T, m *mapping, k *key, value string) string {
	t.Helper()
	text := place(m, k)
	require.NotEmpty(t, text, "the test does not know where the mapping %q stands", m.name)
	at := strings.Index(text, "KEY")
	if m == rootMap {
		lines := regexp.MustCompile(`(?m)^` + k.name + `: .*\n`)
		return strings.Replace(lines.ReplaceAllString(text, ""), "KEY", k.name+": "+value, 1)
	}
	from, to := at, at
	for depth := 1; depth > 0; {
		from--
		depth += strings.Count(text[from:from+1], "{")*-1 + strings.Count(text[from:from+1], "}")
	}
	for depth := 1; depth > 0; to++ {
		depth += strings.Count(text[to:to+1], "{") - strings.Count(text[to:to+1], "}")
	}
	var entries []string
	depth, begin := 0, from+1
	for n := from + 1; n < to; n++ {
		switch c := text[n]; {
		case c == '{' || c == '[':
			depth++
		case (c == '}' || c == ']') && n < to-1:
			depth--
		case c == ',' && depth == 0 || n == to-1:
			entries = append(entries, strings.TrimSpace(text[begin:n]))
			begin = n + 1
		}
	}
	entries = slices.DeleteFunc(entries, func(e string) bool { return e == "KEY" || strings.HasPrefix(e, k.name+":") })
	entries = append(entries, k.name+": "+value)
	return text[:from] + "{" + strings.Join(entries, ", ") + "}" + text[to:]
}

// CompiledSchema is the schema as a validator has it.
func CompiledSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("crowd.schema.json", doc))
	s, err := c.Compile("crowd.schema.json")
	require.NoError(t, err)
	return s
}

// AsJSON is a YAML text as an editor hands it to a schema.
func AsJSON(t *testing.T, text string) any {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v), text)
	b, err := json.Marshal(v)
	require.NoError(t, err)
	v, err = jsonschema.UnmarshalJSON(bytes.NewReader(b))
	require.NoError(t, err)
	return v
}

func read(text string) error {
	_, err := Parse("crowd.yaml", []byte(text), Sources{Open: func(string) ([]byte, error) { return nil, os.ErrNotExist }})
	return err
}

// anything may stand in these: a mapping, a list, whatever is sent as JSON.
var anything = map[string]bool{"body": true, "pick": true}

// Every key of every mapping is read: a value of a shape that no key takes is told where
// it stands, by the reader and by the schema.
func TestEveryKeyIsRead(t *testing.T) {
	s := CompiledSchema(t)
	for _, m := range mappings() {
		for i := range m.keys {
			k := &m.keys[i]
			if anything[k.name] {
				continue
			}
			text := with(t, m, k, "[[{zz: [[1]]}]]")
			err := read(text)
			require.Error(t, err, "%s: %s is not read\n%s", m.name, k.name, text)
			assert.Contains(t, err.Error(), "[[{zz", "%s: %s: the mistake is told elsewhere:\n%s", m.name, k.name, err)
			assert.Error(t, s.Validate(AsJSON(t, text)), "%s: %s: the schema lets it pass", m.name, k.name)
		}
	}
}

// Where reader and schema both speak they agree: at the bounds of numbers and durations,
// beyond them, quoted, in hexadecimal, in words.
func TestReaderAndSchemaAgree(t *testing.T) {
	s := CompiledSchema(t)
	agree := func(m *mapping, k *key, value string) {
		text := with(t, m, k, value)
		var mine []string
		if err := read(text); err != nil {
			for _, p := range err.(*crowd.Problems).List {
				// What else is wrong in this place is not the question.
				if strings.Contains(p.Text, k.name+": ") {
					mine = append(mine, p.Text)
				}
			}
		}
		schema := s.Validate(AsJSON(t, text))
		for _, beyond := range []string{"too long", "too short", "longer than", "before its end", "does not go with",
			"has no events", "would overlap", "due", "the file does not say"} {
			if strings.Contains(fmt.Sprint(mine), beyond) { // a schema cannot know that
				return
			}
		}
		assert.Equal(t, mine == nil, schema == nil, "%s: %s: %s\nthe reader says %q\nthe schema says %v\n%s", m.name, k.name,
			value, mine, schema, text)
	}
	for _, m := range mappings() {
		for i := range m.keys {
			k := &m.keys[i]
			if k.name == "form" || k.name == "as" { // another one wants other keys
				continue
			}
			switch k.typ.sort {
			case durationValue:
				for _, v := range []string{quantity.FormatDuration(duringDefault(k)), "5", "soon", "5 parsecs", "-3s", "1.5h",
					`"90s"`} {
					if k.def == "" && v == "0s" {
						continue
					}
					agree(m, k, v)
				}
				if k.typ.low > 0 {
					agree(m, k, "0s")
					agree(m, k, "0h0m")
				}
			case wholeValue:
				for _, v := range []string{fmt.Sprint(k.typ.low), fmt.Sprint(k.typ.low - 1), fmt.Sprint(k.typ.high),
					fmt.Sprint(k.typ.high + 1), fmt.Sprintf(`"%d"`, max(1, k.typ.low)), "0x1", "1.5", "many", "true"} {
					if k.typ.high > 1<<30 && (strings.HasPrefix(v, fmt.Sprint(k.typ.high))) {
						continue // beyond what JSON numbers hold exactly
					}
					if k.name == "count" && m == groupMap && v == fmt.Sprint(k.typ.high) ||
						k.name == "batch" && v == fmt.Sprint(k.typ.high) {
						continue // right, and a million devices
					}
					agree(m, k, v)
				}
			case truthValue:
				for _, v := range []string{"true", "false", `"true"`, "True", "yes", "1"} {
					agree(m, k, v)
				}
			case wordValue:
				for _, v := range append([]string{"nonsense", `""`}, k.typ.list...) {
					agree(m, k, v)
				}
			case shareValue:
				for _, v := range []string{"0%", "100%", "101%", "50", "12.5 %", "-1%", `"7%"`, "half"} {
					agree(m, k, v)
				}
			}
		}
	}
}

// Keys that exclude each other do so in both.
func TestExclusiveKeys(t *testing.T) {
	s := CompiledSchema(t)
	for title, text := range map[string]string{
		"an HTTP key on an MQTT link":      strings.Replace(places["link"], "KEY", "retries: 5", 1),
		"two protocols":                    strings.Replace(places["link"], "KEY", `http: "http://h"`, 1),
		"key and secret":                   strings.Replace(places["jwt"], "KEY", "key: k.pem", 1),
		"round and digits":                 strings.Replace(places["field"], "KEY", "round: 1, digits: 2", 1),
		"an address of no scheme":          strings.Replace(places["link"], "mqtt://h\", KEY", "amqp://h\"", 1),
		"an option of another form":        strings.Replace(places["payload *"], "FORM, KEY", "cbor, head: true", 1),
		"a signal's parameter for another": strings.Replace(places["field"], "KEY", "peak: 3", 1),
		"jitter above a half":              strings.Replace(places["reading"], "KEY", "jitter: 51%", 1),
		"nobody at random":                 strings.Replace(places["reading"], "KEY", "turns: 0 at random", 1),
		"a query without rows": strings.Replace(places["witness HTTP"], "KEY, "+
			"proves: stored, get: \"http://h/${device}\", rows: .", "proves: stored, get: \"http://h/${device}\"", 1),
		"a share above all": strings.Replace(places["require"], "KEY", "proven: 100.1%", 1),
		"count and roster":  strings.Replace(places["group"], "KEY", "count: 2, roster: r.csv", 1),
	} {
		assert.Error(t, read(text), "%s\n%s", title, text)
		assert.Error(t, s.Validate(AsJSON(t, text)), "%s\n%s", title, text)
	}
}
