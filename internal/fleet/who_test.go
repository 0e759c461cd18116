package fleet_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
)

const roster = "device;site;lamp_w;mooring;code;token\nnorth;outer;12;\"58.02,-6.41\";007;tok-north-1\nsouth;inner;;\"58.03,-6.40\";008;tok-south-2\neast;outer;35.5;;012;\n"

const mixed = `
crowd: harbour
seed: 1907
links:
  sea: {mqtt: mqtt://127.0.0.1:1883, username: "${device}", password: "${token}"}
  old: {mqtt: mqtt://127.0.0.1:1884, version: 3.1.1}
  shore: {http: http://127.0.0.1:8080}
kinds:
  buoy:
    link: sea
    tags: [floating]
    properties: {site: quay, lamp_w: 20, mooring: {position: "58.05,-6.35"}, token: none}
    readings:
      state: {every: 5s, topic: "h/${site}/${device}", fields: {wave_m: {signal: swell}, lamp_w: "${lamp_w}"}}
  gauge:
    link: shore
    readings: {level: {every: 5s, path: "/in/${device}", fields: {level_m: {signal: tide}}}}
devices:
  - {kind: buoy, roster: gauges.csv, tags: [listed]}
  - {kind: buoy, count: 20, name: "buoy-${pad(n, 2)}", properties: {site: inner, lamp_w: 30}}
  - {kind: gauge, count: 4}
`

func buildMixed(t *testing.T, more string) *fleet.Fleet {
	t.Helper()
	c, err := file.Parse("harbour.yaml", []byte(mixed+more+"plan: {for: 1m}\n"),
		file.Sources{Open: func(string) ([]byte, error) { return []byte(roster), nil }})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return f
}

func byName(f *fleet.Fleet, name string) *fleet.Device {
	for _, d := range f.Devices {
		if d.Name == name {
			return d
		}
	}
	return nil
}

// A roster's columns have types; an empty cell takes what the kind says; secrets
// are known as such.
func TestRoster(t *testing.T) {
	f := buildMixed(t, "")
	require.Len(t, f.Devices, 27)
	north, south, east := byName(f, "north"), byName(f, "south"), byName(f, "east")
	assert.Equal(t, []any{12.0, 20.0, 35.5}, []any{north.Env["lamp_w"], south.Env["lamp_w"], east.Env["lamp_w"]})
	assert.Equal(t, "007", north.Env["code"], "what begins with a zero is a text")
	assert.Equal(t, "58.05,-6.35", fmt.Sprint(east.Env["mooring"]))
	assert.Equal(t, "tok-north-1", north.Password)
	assert.Equal(t, "none", east.Password, "an empty secret takes the default")
	assert.Equal(t, "h/outer/north", north.Streams[0].Target)
	assert.Equal(t, []string{"floating", "listed"}, north.Tags)
	assert.Equal(t, "the token «secret» is wrong", f.Crowd.Redact("the token tok-south-2 is wrong"))
	assert.NotContains(t, string(f.Crowd.Files[0].Copy), "tok-")
	assert.Contains(t, string(f.Crowd.Files[0].Copy), "north")
}

func names(devices []*fleet.Device) string {
	var list []string
	for _, d := range devices {
		list = append(list, d.Name)
	}
	return strings.Join(list, " ")
}

func TestSelections(t *testing.T) {
	f := buildMixed(t, "")
	for text, want := range map[string]string{
		"north":                              "north",
		"tag listed":                         "north south east",
		"kind gauge":                         "gauge-001 gauge-002 gauge-003 gauge-004",
		"gauge":                              "gauge-001 gauge-002 gauge-003 gauge-004",
		"buoy-0[1-3]":                        "buoy-01 buoy-02 buoy-03",
		"buoy-?9":                            "buoy-09 buoy-19",
		`site == "outer"`:                    "north east",
		`lamp_w > 20 and n < 4`:              "east buoy-01 buoy-02 buoy-03",
		"every 10th":                         "buoy-07 buoy-17",
		"every 2nd of gauge":                 "gauge-002 gauge-004",
		"first 2 of buoy":                    "north south",
		"first 2 of buoy where lamp_w == 30": "buoy-01 buoy-02",
		`kind gauge where ends_with(device, "3")`: "gauge-003",
		`"listed" in tags`:                        "north south east",
	} {
		who, err := crowd.ParseSelection(text)
		require.NoError(t, err, text)
		devices, err := f.Select(who)
		require.NoError(t, err, text)
		assert.Equal(t, want, names(devices), text)
	}
	pick := func(text string) string {
		who, err := crowd.ParseSelection(text)
		require.NoError(t, err)
		devices, err := f.Select(who)
		require.NoError(t, err)
		return names(devices)
	}
	five := pick("5 of buoy")
	assert.Len(t, strings.Fields(five), 5)
	assert.Equal(t, five, pick("5 of buoy"), "drawn from the seed: the same again")
	assert.Len(t, strings.Fields(pick("25% of buoy-*")), 5)
	assert.NotEqual(t, pick("10 of buoy-*"), pick("50% of buoy-*"), "another selection, another draw")
}

// What is nearer wins, and null goes back to what the kind says.
func TestChanges(t *testing.T) {
	f := buildMixed(t, `
  - {who: buoy-07, properties: {lamp_w: 99, site: null}, tags: [bright]}
  - {who: tag bright, readings: {state: {every: 1s, topic: "bright/${device}", fields: {glare: true, wave_m: null}}}}
  - {who: north, properties: {lamp_w: 1}}
  - {who: first 2 of buoy-*, link: old}
  - {who: buoy-03, settings: {mqtt: "mqtt://127.0.0.1:9999", keep_alive: 5s, password: null}}
  - {who: "lamp_w == 99", properties: {extra: "${lamp_w}!"}}
`)
	d := byName(f, "buoy-07")
	assert.Equal(t, []any{99, "quay", "99!"}, []any{d.Env["lamp_w"], d.Env["site"], d.Env["extra"]})
	assert.Equal(t, []string{"floating", "bright"}, d.Tags)
	assert.Equal(t, time.Second, d.Streams[0].Reading.Every)
	assert.Equal(t, "bright/buoy-07", d.Streams[0].Target)
	assert.Equal(t, []string{"lamp_w", "glare"}, d.Streams[0].Names)
	assert.Equal(t, 1, byName(f, "north").Env["lamp_w"], "a change is nearer than a column")
	assert.Equal(t, "old", byName(f, "buoy-01").Cast.Link.Name)
	assert.Equal(t, "sea", byName(f, "buoy-03").Cast.Link.Name)
	assert.Equal(t, "127.0.0.1:9999", byName(f, "buoy-03").Cast.Link.Address)
	assert.Equal(t, 5*time.Second, byName(f, "buoy-03").Cast.Link.KeepAlive)
	assert.Empty(t, byName(f, "buoy-03").Password)
	assert.Len(t, f.Crowd.AllLinks(), 4)
	plain := buildMixed(t, "")
	assert.Equal(t, plain.Devices[12].Env["lamp_w"], byName(f, plain.Devices[12].Name).Env["lamp_w"])
	assert.Equal(t, plain.Devices[12].Streams[0].Phase, byName(f, plain.Devices[12].Name).Streams[0].Phase,
		"others do not change")
}

func TestDrawnProperties(t *testing.T) {
	c, err := file.Parse("x", []byte(`
crowd: drawn
seed: 5
links: {sea: {mqtt: mqtt://127.0.0.1}}
kinds:
  buoy:
    properties:
      serial: LB-${pad(n, 6)}${luhn(pad(n, 6))}
      iban: ${mod97("WEST12345698765432GB")}
      site: {pick: [a, b], weights: [9, 1]}
      low: {uniform: 3 to 8}
      high: {uniform: 3.0 to 8.0, round: 1}
      draught: {normal: {mean: 10, spread: 2}, min: 6, round: 2}
      berth: {sequence: {from: 100, step: 10}}
      share: {sequence: {from: 0, step: 0.1}}
      watch: {sequence: [red, green, white]}
      ring: {position: "within 500m of 58.04,-6.38"}
      line: {position: "evenly along 58.02,-6.40 to 58.04,-6.40 to 58.04,-6.36"}
      mac: {mac: "02:5E:10"}
      eui: {eui64: "02-5e-10-ff"}
      ip: {ipv4: 10.20.0.0/16}
      ip6: {ipv6: "2001:db8::/64"}
      id: {uuid: 4}
      firmware: {pattern: "2\\.[0-4]"}
    readings: {state: {every: 5s, topic: "t/${device}", fields: {a: 1}}}
devices: [{kind: buoy, count: 2000}]
plan: {for: 1m}`), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	env := f.Devices[299].Env
	assert.Equal(t, "LB-0003004", env["serial"])
	assert.Equal(t, "82", env["iban"], "the check digits of GB82 WEST 1234 5698 7654 32")
	assert.Equal(t, []any{3090, 29.9, "white", "02:5E:10:00:01:2C", "02-5e-10-ff-00-00-01-2c", "10.20.1.44",
		"2001:db8::12c"},
		[]any{env["berth"], env["share"], env["watch"], env["mac"], env["eui"], env["ip"], env["ip6"]})
	assert.Regexp(t, `^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`, env["id"])
	assert.Equal(t, "58.04,-6.36", fmt.Sprint(f.Devices[1999].Env["line"]))
	sites, lows, ids, mean := map[any]int{}, map[any]int{}, map[any]bool{}, 0.0
	for _, d := range f.Devices {
		sites[d.Env["site"]]++
		lows[d.Env["low"]]++
		ids[d.Env["id"]] = true
		x := d.Env["draught"].(float64)
		assert.GreaterOrEqual(t, x, 6.0)
		mean += x / 2000
		assert.Regexp(t, `^2\.[0-4]$`, d.Env["firmware"])
	}
	assert.InDelta(t, 1800, sites["a"], 70)
	assert.Len(t, lows, 6, "3 to 8, both ends included")
	assert.Len(t, ids, 2000)
	assert.InDelta(t, 10, mean, 0.25)
}

// due lists when the streams of a reading are due in a round: device@seconds.
func due(f *fleet.Fleet, reading string) []string {
	var streams []*fleet.Stream
	for _, s := range f.Streams {
		if s.Reading.Name == reading {
			streams = append(streams, s)
		}
	}
	begin := time.Unix(1_900_000_000, 0)
	var list []string
	engine.Rehearse(f, streams, begin, func(r *engine.Rehearsed) bool {
		list = append(list, fmt.Sprintf("%s@%g", r.Stream.Device.Name, r.Due.Sub(begin).Seconds()))
		return true
	})
	return list
}

// Who speaks at each tick: all at once, one after another, or some at random.
func TestTurns(t *testing.T) {
	c, err := file.Parse("x", []byte(`
crowd: turns
links: {sea: {mqtt: mqtt://127.0.0.1}}
kinds:
  b:
    readings:
      all: {every: 1s, turns: together, topic: "a/${device}", fields: {a: 1}}
      turn: {every: 1s, turns: in order, topic: "t/${device}", fields: {a: 1}}
      some: {every: 1s, turns: 3 at random, topic: "s/${device}", fields: {a: 1}}
      share: {every: 1s, turns: 50% at random, topic: "p/${device}", fields: {a: 1}}
devices: [{kind: b, count: 8, name: "b${n}"}]
plan: {for: 20s, join: spread over 4s}`), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	assert.Equal(t, "b1@0 b1@1 b2@1 b3@1 b1@2 b2@2 b3@2 b4@2 b5@2", strings.Join(due(f, "all")[:9], " "),
		"those that have joined")
	assert.Equal(t, "b1@0 b2@1 b3@2 b4@3 b5@4 b6@5 b7@6 b8@7 b1@8", strings.Join(due(f, "turn")[:9], " "))
	ticks, spoke := map[string]int{}, map[string]int{}
	for _, x := range due(f, "some") {
		name, at, _ := strings.Cut(x, "@")
		ticks[at]++
		spoke[name]++
	}
	for tick := 4; tick < 20; tick++ {
		assert.Equal(t, 3, ticks[fmt.Sprint(tick)], "exactly three at each tick")
	}
	assert.Len(t, spoke, 8)
	assert.Equal(t, due(f, "some"), due(f, "some"))
	assert.InDelta(t, 4*18, len(due(f, "share")), 8)
}

// What a formula knows of the message before, a lag, and what is stuck: the same
// values in a run from the first message as alone from the middle.
func TestFieldsOfOtherMoments(t *testing.T) {
	c, err := file.Parse("x", []byte(`
crowd: moments
seed: 3
links: {sea: {mqtt: mqtt://127.0.0.1}}
kinds:
  b:
    properties: {base: 5}
    readings:
      state:
        every: 1s
        jitter: 30%
        topic: t
        fields:
          x: {signal: swell}
          y: {formula: x * 2 + base}
          late: {signal: derived, field: y, lag: 3s}
          stuck: {formula: y + 1, stuck: {chance: 30%, for: 4s}}
      sum:
        every: 1s
        topic: s
        fields:
          step: {signal: counter}
          total: {formula: "(previous.total ?? 0) + step"}
          gone: {signal: counter, drop: {chance: 50%}}
          seen: {formula: gone}
devices: [{kind: b}]
plan: {for: 5m}`), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	begin := time.Unix(1_900_000_000, 0)
	values := func(c *fleet.Composer, s *fleet.Stream, seq uint64) map[string]any {
		at := time.Duration(seq) * time.Second
		list, err := c.Values(s, fleet.Occasion{Seq: seq, Tick: seq - 1, Due: begin.Add(at), Elapsed: at})
		require.NoError(t, err)
		m := map[string]any{}
		for i, n := range s.Names {
			m[n] = list[i].Any()
		}
		return m
	}
	var composer fleet.Composer
	var all []map[string]any
	stuck := 0
	for seq := uint64(1); seq <= 200; seq++ {
		v := values(&composer, f.Streams[0], seq)
		all = append(all, v)
		if seq > 4 {
			assert.InDelta(t, all[seq-4]["y"].(float64), v["late"].(float64), 1e-9, "three messages back")
		}
		if seq > 1 && v["stuck"] == all[seq-2]["stuck"] {
			stuck++
		}
	}
	assert.InDelta(t, 200*0.3*3/4, stuck, 25)
	for seq := uint64(200); seq > 13; seq -= 13 {
		var alone fleet.Composer
		require.Equal(t, all[seq-1], values(&alone, f.Streams[0], seq))
	}
	gone := 0
	for seq := uint64(1); seq <= 100; seq++ {
		v := values(&composer, f.Streams[1], seq)
		assert.EqualValues(t, seq*(seq+1)/2, v["total"])
		assert.EqualValues(t, seq, v["seen"], "a formula sees what dropped out")
		if v["gone"] == nil {
			gone++
		}
	}
	assert.InDelta(t, 50, gone, 20)
}
