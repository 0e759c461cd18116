package check_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/check"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
)

const base = `
crowd: harbour
links:
  sea: {mqtt: mqtt://127.0.0.1:1883}
  shore: {http: http://127.0.0.1:8080}
kinds:
  buoy:
    link: sea
    properties: {site: outer}
    readings: {state: {every: 1s, topic: "harbour/${device}/state", fields: {wave_m: {signal: swell, unit: m}}}}
  gauge:
    link: shore
    readings: {level: {every: 2s, path: "/in/${device}/level", fields: {level_m: {signal: tide}}}}
    commands: {zero: {path: "/commands/${device}", every: 500ms}}
devices: [{kind: buoy, count: 12, name: "buoy-${pad(n, 2)}"}, {kind: gauge, count: 3}]
plan: {for: 1m, join: 10/s}
witnesses: {ear: {proves: received, subscribe: "harbour/#", who: buoy}, store: {proves: stored, get: "http://127.0.0.1:8080/${device}", rows: ".rows[]"}}
`

// look checks the base after edits, "old => new".
func look(t *testing.T, opt check.Options, edits ...string) ([]check.Warning, check.Load) {
	t.Helper()
	text := base
	for _, e := range edits {
		from, to, ok := strings.Cut(e, " => ")
		require.True(t, ok && strings.Contains(text, from), e)
		text = strings.Replace(text, from, to, 1)
	}
	c, err := file.Parse("harbour.yaml", []byte(text),
		file.Sources{Getenv: func(string) (string, bool) { return "a-secret-value", true }})
	require.NoError(t, err, edits)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err, edits)
	return check.Check(f, opt)
}

// The time of a row that is a field of the device's says nothing about when it was stored.
func TestTheTimeOfARowIsTheDevices(t *testing.T) {
	clock := `fields: {level_m: {signal: tide}}}} => fields: {level_m: {signal: tide}, at: {signal: clock}}}}`
	for edit, warned := range map[string]bool{
		`time: .body.at, values: .body`:                     true,
		`time: .at`:                                         true,
		`time: .stored_at, values: .body`:                   false,
		`time: {at: .body.at, of: device}, values: .body`:   false,
		`time: {at: .body.at, of: platform}, values: .body`: false,
		`time: .body.level_m, values: .body`:                false,
	} {
		list, _ := look(t, check.Options{}, clock, `rows: ".rows[]" => rows: ".rows[]", `+edit)
		if !warned {
			assert.Empty(t, list, edit)
		} else if assert.Len(t, list, 1, edit) {
			assert.Contains(t, list[0].Text, `which is the field "at" that the device sends`)
		}
	}
}

// What is allowed and probably not meant, each with the one warning that it gets.
func TestWarnings(t *testing.T) {
	list, _ := look(t, check.Options{})
	require.Empty(t, list)
	for _, c := range []struct{ edit, says string }{
		{`store: {proves: stored, get: "http://127.0.0.1:8080/${device}", rows: ".rows[]"} => store: {proves: stored, callback: "http://0.0.0.0:9099/x", rows: ".rows[]"}`,
			"listens at 0.0.0.0:9099, where others reach it, and takes every call for the platform's"},
		{`store: {proves: stored, get: "http://127.0.0.1:8080/${device}", rows: ".rows[]"} => store: {proves: stored, sql: "postgres://h/d", query: "select mark from r where d = @device"}`, "asks for rows of all times"},
		{`store: {proves: stored, get: "http://127.0.0.1:8080/${device}", rows: ".rows[]"} => store: {proves: stored, sql: "sqlite:nowhere.db", query: "select mark from r where d = @device and at > @from"}`, "there is no database nowhere.db"},
		{`store: {proves: stored, get: "http://127.0.0.1:8080/${device}", rows: ".rows[]"} => store: {proves: stored, file: "nowhere/*.csv", device: device}`, "looks " +
			"for files in nowhere, and there is no such folder"},
		{`store: {proves: stored, get: "http://127.0.0.1:8080/${device}", rows: ".rows[]"} => store: {proves: stored, program: [./nowhere.sh], device: device}`, "runs ./nowhere.sh, which is not there"},
		{`plan: {for: 1m, => plan: {events: [{at: 1s, who: buoy, do: {every: "${site}"}}], for: 1m,`,
			`every cannot be done to buoy-01: "outer" is not a duration`},
		{`plan: {for: 1m, => plan: {events: [{at: 1s, who: buoy, do: {corrupt: {topic: "harbour/#"}}, expect: discarded}], for: 1m,`, `corrupt cannot be done to buoy-01: the topic "harbour/#" holds a wildcard`},
		{`plan: {for: 1m, => plan: {events: [{at: 1s, who: buoy, do: {set: {site: "${1 / 0}"}}}], for: 1m,`,
			`set cannot be done to buoy-01: the formula 1 / 0: division by zero`},
		{`topic: "harbour/ => topic: "$SYS/harbour/`, "begins with $: such topics belong to the broker"},
		{`topic: "harbour/${device} => topic: "harbour//${device}`, "has an empty level; is a property empty?"},
		{`topic: "harbour/${device}/state" => topic: "harbour/${device}/state/"`, "has an empty level; is a property empty?"},
		{`topic: "harbour/${device}/state" => topic: "harbour/${device}/sea state"`, "holds a blank; many platforms refuse " +
			"it"},
		{`topic: "harbour/${device}/state" => topic: "harbour/state"`, "buoy-01 and buoy-02 send to the same topic"},
		{`path: "/in/${device}/level", fields: {level_m: {signal: tide}}} => path: "/in", fields: {a: 1}}, other: {every: 2s, path: "/in", fields: {a: 1}}`, `the readings "level" and "other" of gauge-001 send to the same path "/in"`},
		{`every: 2s => every: 2m`, "due every 2m, and the plan lasts 1m"},
		{`every: 1s => every: 10s, turns: in order`, "in turn by 12 devices, one every 10s: the plan of 1m is over before " +
			"all have had their turn"},
		{`join: 10/s => join: 0.1/s`, "the last would come after 2m20s; the plan lasts 1m"},
		{`subscribe: "harbour/#" => subscribe: "harbor/#"`, `does not match the topic "harbour/buoy-01/state" of buoy-01`},
		{`mqtt: mqtt://127.0.0.1:1883 => mqtt: mqtt://broker.example:1883`, "goes to another machine (broker.example:1883) " +
			"without TLS"},
		{`mqtt: mqtt://127.0.0.1:1883 => mqtt: mqtts://127.0.0.1:8883, tls: {verify: false}`,
			"does not check who it talks to"},
		{`http: http://127.0.0.1:8080 => http: http://shore.example`, "goes to another machine (shore.example) without TLS"},
		{`get: "http://127.0.0.1:8080 => get: "http://store.example`,
			`the witness "store" goes to another machine (store.example) without TLS`},
		{`fields: {wave_m: {signal: swell, unit: m}} => payload: senml, fields: {wave_m: {signal: swell, unit: metre}}`,
			`the unit "metre" of the field "wave_m" has no entry in SenML's registry`},
		{`mqtt: mqtt://127.0.0.1:1883 => mqtt: mqtt://127.0.0.1:1883, access_token: {text: "${device}"}`, "access tokens " +
			"of buoy are made and never shown"},
		{`mqtt: mqtt://127.0.0.1:1883 => mqtt: mqtt://127.0.0.1:1883, password: plain-secret`,
			"a secret stands here in plain text"},
		{`devices: => register: {request: {url: "http://h/d"}, save: {token: .token}}` + "\ndevices:", "15 of 15 devices " +
			"are not registered yet, and have no token"},
		{`fields: {wave_m: {signal: swell, unit: m}} => fields: {a: {formula: 1 / (seq - 1)}}`, "a value cannot be made; " +
			"null is sent in its place"},
		{`fields: {wave_m: {signal: swell, unit: m}} => fields: {a: {formula: 'repeat("x", 300000)'}}`, "makes messages of " +
			"300042 bytes; many brokers take 256 KiB at most"},
	} {
		list, _ := look(t, check.Options{}, c.edit)
		require.NotEmpty(t, list, c.edit)
		assert.Contains(t, list[0].Text, c.says)
		if !strings.Contains(c.edit, "$SYS") { // which the witness does not hear either
			assert.Len(t, list, 1, c.edit)
		}
	}
	list, _ = look(t, check.Options{MaxFiles: 60})
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Text,
		`it needs about 67 open files in a process, and this machine allows 60; play it in 3 parts (run --part), or raise the limit`)
	list, _ = look(t, check.Options{MaxFiles: 60, Parts: 3})
	assert.Empty(t, list)
	list, _ = look(t, check.Options{MaxFiles: 30})
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Text, "this machine allows 30; raise the limit (ulimit -Hn 67, as root)", "no parts are small enough")
	list, _ = look(t, check.Options{},
		`mqtt: mqtt://127.0.0.1:1883 => mqtt: mqtt://127.0.0.1:1883, password: "${access_token}", access_token: {text: "${device}"}`)
	assert.Empty(t, list)
}

// What a process needs grows with the devices that it plays, with their connections, and with what is sent.
func TestNeeds(t *testing.T) {
	need := func(parts int, edits ...string) check.Needs {
		_, l := look(t, check.Options{Parts: parts}, edits...)
		return l.Needs
	}
	one, many, tls := need(1), need(1, "count: 12 => count: 5000"), need(1, "count: 12 => count: 5000", "mqtt: mqtt:// => mqtt: mqtts://")
	assert.Equal(t, 15, one.Devices)
	assert.Equal(t, 4988, many.Files-one.Files)
	assert.InDelta(t, 4988*16e3, many.Memory-one.Memory, 250e6)
	assert.InDelta(t, 5000*28e3, tls.Memory-many.Memory, 1)
	assert.Greater(t, many.Cores, 100*one.Cores)
	assert.Greater(t, many.Ledger, 100*one.Ledger)
	eight := need(8, "count: 12 => count: 5000")
	assert.Equal(t, 626, eight.Devices)
	assert.Less(t, eight.Memory, many.Memory/2)
	assert.InDelta(t, many.Cores/8, eight.Cores, many.Cores/100)
	assert.Equal(t, 15, need(1).MostParts)
	assert.Zero(t, need(1, "for: 1m => for: 1m, rounds: {every: 2m}").Ledger)
}

func TestLoad(t *testing.T) {
	_, l := look(t, check.Options{})
	assert.Equal(t, 15, l.Devices)
	assert.InDelta(t, 12+1.5, l.PerSecond, 1e-9)
	require.Len(t, l.Links, 2)
	assert.Equal(t, 12, l.Links[0].Connections)
	assert.InDelta(t, 8, l.Links[0].JoinsPerSecond, 1e-9)
	assert.Zero(t, l.Links[0].AsksPerSecond)
	assert.InDelta(t, 6, l.Links[1].AsksPerSecond, 1e-9)
	small := l.Links[0].BytesPerSecond
	_, l = look(t, check.Options{}, `every: 1s => every: 1s, expires: 30s, user_properties: {unit: metre}`)
	// MQTT 5, sections 3.3.2.3.3 and 3.3.2.3.7; a packet's length may take a byte more.
	assert.InDelta(t, small+12*(5+14), l.Links[0].BytesPerSecond, 12)
	_, l = look(t, check.Options{}, `every: 1s => every: 1s, turns: 3 at random`)
	assert.InDelta(t, 3, l.Links[0].PerSecond, 1e-9)
	_, l = look(t, check.Options{}, `every: 1s => every: 1s, turns: in order`)
	assert.InDelta(t, 1, l.Links[0].PerSecond, 1e-9)
	_, l = look(t, check.Options{}, `every: 1s => every: 1s, batch: 10`, `join: 10/s => rounds: {count: 3, every: 5m}`)
	assert.InDelta(t, 12, l.Links[0].PerSecond, 1e-9, "samples, not packets")
	assert.InDelta(t, 3*60*(12+1.5), l.Messages, 1e-6)
}

// A field that min or max holds at one value is told; one that they hold for a while is not.
func TestFrozenFields(t *testing.T) {
	for field, says := range map[string]string{
		`{signal: uniform, min: 20}`:                           `the field "wave_m" is always 20`,
		`{signal: counter, max: 1}`:                            `the field "wave_m" is always 1`,
		`{formula: "seq * 2 + 100", max: 50}`:                  `the field "wave_m" is always 50`,
		`{signal: uniform, min: 20, max: 25}`:                  "",
		`{signal: daily, low: -10, high: 20, min: 0}`:          "",
		`{signal: constant, value: 3, min: 1}`:                 "",
		`{signal: swell, min: 1, max: 2}`:                      "",
		`{signal: uniform, low: 0, high: 1, min: 20, max: 25}`: `the field "wave_m" is always 20`,
	} {
		list, _ := look(t, check.Options{}, "{signal: swell, unit: m} => "+field)
		if says == "" {
			assert.Empty(t, list, field)
		} else if assert.Len(t, list, 1, field) {
			assert.Contains(t, list[0].Text, says)
		}
	}
}
